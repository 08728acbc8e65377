// StoreDeclaration.cs: one thing that a store has beside its records, in the engine's own words, so that two stores of an engine can be
// compared.
namespace Transferra.Core.Records;

/// <summary>A declaration.</summary>
/// <param name="Kind">What it is, in one or two lower-case words: index, foreign key, default, trigger.</param>
/// <param name="Name">Its name, with its schema where there is more than one; of a part of a table, the table's with the part's.</param>
/// <param name="Of">The table it belongs to; "" when it is of none.</param>
/// <param name="Text">How the engine would make it again, or what it says of it.</param>
public sealed record StoreDeclaration(string Kind, string Name, string Of, string Text)
{
    /// <summary>Whether it belongs to the place, and stays there when the store is set aside and another put in its place.</summary>
    public bool IsOfPlace { get; init; }
}
