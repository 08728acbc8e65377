// StoreScript.cs: everything a store on a server has beside its rows, in the engine's own words, so that the same engine can make it again.
namespace Transferra.Core.Records;

/// <summary>How a store is made again by the engine it was read from.</summary>
/// <param name="Before">Statements before rows are loaded: types, sequences, tables. Some need others of them first; whoever runs them
/// tries again in rounds.</param>
/// <param name="After">Statements after it: keys, indexes, relations, views, routines, triggers, comments, where counting has come to; in
/// rounds as well.</param>
/// <param name="Rights">Statements that give objects to their owners and let others use them; those that name somebody who is not there
/// are told and left.</param>
public sealed record StoreScript(IReadOnlyList<string> Before, IReadOnlyList<string> After, IReadOnlyList<string> Rights)
{
    /// <summary>How the database itself is made, behind its name: its character set and order of texts.</summary>
    public string Database { get => field ?? ""; init; }

    /// <summary>Name of the code page of texts that the engine knows no character set of; null when there are none.</summary>
    public string? TextEncoding { get; init; }

    /// <summary>A file of the engine's own form, beside the exported rows, that holds what <see cref="Before"/> would; null when there is
    /// none.</summary>
    public string? File { get; init; }
}
