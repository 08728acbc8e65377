// IStoreMender.cs: what Core asks of a copy of a store that records are put right in; src/Transferra.Stores fills it in for each engine.
// Holds: (1) a change meets exactly the record whose place is given, or fails; (2) no trigger of the store runs for it; (3) nothing
// counts before
//        Complete has returned; without it the copy is to be thrown away.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>A position that counting has come to, before and after.</summary>
/// <param name="Name">The sequence, or the table that counts its own records.</param>
/// <param name="Before">As it was found.</param>
/// <param name="After">As it is now.</param>
public sealed record PositionChange(string Name, long Before, long After);

/// <summary>A copy of a store that is being put right.</summary>
public interface IStoreMender : IDisposable
{
    /// <summary>Whether records are found in the copy by the places they have in the original; otherwise by those that the copy itself
    /// tells.</summary>
    bool HasPlacesOfOriginal { get; }

    /// <summary>Gets ready to change records of a table, and names the column by which a reader tells where each lies.</summary>
    /// <exception cref="TransferraException">Records of this table cannot be told apart.</exception>
    ColumnShape Prepare(TableShape table);

    /// <summary>Takes a record out.</summary>
    /// <param name="table">The table.</param>
    /// <param name="places">Values of the column of places.</param>
    /// <param name="row">Which of them.</param>
    void Delete(TableShape table, Vector places, int row);

    /// <summary>Whether a column of the store can hold a value as it is.</summary>
    /// <param name="table">The table.</param>
    /// <param name="column">Which column: of text, or of whole or decimal numbers.</param>
    /// <param name="value">A text, or a number as DecimalText writes it.</param>
    bool CanHold(TableShape table, ColumnShape column, string value);

    /// <summary>Gives a record other values.</summary>
    /// <param name="table">The table.</param>
    /// <param name="places">Values of the column of places.</param>
    /// <param name="row">Which of them.</param>
    /// <param name="values">The columns with their values, which they can hold; at once, as a record may have another place
    /// afterwards.</param>
    void Update(TableShape table, Vector places, int row, IReadOnlyList<KeyValuePair<ColumnShape, string>> values);

    /// <summary>Builds all indexes anew.</summary>
    /// <returns>What was done, in words; "" when the engine has none, or keeps them itself.</returns>
    string RebuildIndexes();

    /// <summary>Has counting go on behind the highest number that is there.</summary>
    IReadOnlyList<PositionChange> SetPositions();

    /// <summary>Makes all changes count, and has them on the disk.</summary>
    void Complete();
}
