// IStoreBuilder.cs: writes a new store, table by table, and says which records it would not take.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>One table of the new store to which rows are added.</summary>
/// <param name="Table">Its shape.</param>
/// <param name="Vectors">Its values, in the shape's order; all of the same count.</param>
public sealed record TableOutput(TableShape Table, IReadOnlyList<Vector> Vectors);

/// <summary>A row that the engine would not take.</summary>
/// <param name="Row">Zero-based row of the batch.</param>
/// <param name="Code">Why.</param>
/// <param name="Reason">The engine's words, lower case, one line.</param>
/// <param name="Value">The value it is about as a person reads it; "" when the engine does not say which.</param>
public readonly record struct RowReject(int Row, FaultCode Code, string Reason, string Value = "");

/// <summary>A table of a store that is being built.</summary>
/// <param name="Rows">Rows it has.</param>
/// <param name="Ends">Where its files end, in bytes; none where the engine itself goes back to what was made final.</param>
public sealed record BuiltTable(long Rows, IReadOnlyList<long> Ends);

/// <summary>What <see cref="IStoreOpener.Revise"/> left of a copy.</summary>
/// <param name="Stays">Tables, or files of a folder, that stay as they are; none where the engine itself goes back to what was made
/// final.</param>
/// <param name="TakenAway">What stood in the way of the records and is put back behind them, in the engine's own statements.</param>
public sealed record CopyRest(IReadOnlyList<string> Stays, IReadOnlyList<string> TakenAway)
{
    /// <summary>What the copy itself could not bring, one line each.</summary>
    public IReadOnlyList<string> NotBrought { get => field ?? []; init; }

    /// <summary>Tables of the new version that stand there already, records and all.</summary>
    public IReadOnlyList<string> Kept { get => field ?? []; init; }
}

/// <summary>How far a store that is being built has come.</summary>
/// <param name="Tables">The tables that were made, by name; of a copy, those that are filled anew.</param>
public sealed record BuildMark(IReadOnlyDictionary<string, BuiltTable> Tables)
{
    /// <summary>Of a store that began as a copy, what there is to know of that; null of one that began empty.</summary>
    public CopyRest? Copy { get; init; }

    /// <summary>Nothing has been made yet but the store itself.</summary>
    public static readonly BuildMark Start = new(new Dictionary<string, BuiltTable>());
}

/// <summary>A new store being built. One writer thread at a time.</summary>
public interface IStoreBuilder : IDisposable
{
    /// <summary>Creates an empty table.</summary>
    void CreateTable(TableShape table);

    /// <summary>Writes rows: each row goes to all the outputs or to none.</summary>
    /// <param name="outputs">Where to; all from the same source batch.</param>
    /// <param name="rows">Which rows of the batch.</param>
    /// <param name="rejects">Receives the rows the engine would not take.</param>
    void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects);

    /// <summary>Has everything that was written so far on the disk, so that <see cref="IStoreOpener.Continue"/> can go on from here,
    /// whatever becomes of this builder. From the first mark on, Dispose leaves the store where it is.</summary>
    /// <returns>How far the store has come.</returns>
    /// <exception cref="TransferraException">The disk or the server fails.</exception>
    BuildMark Mark();

    /// <summary>Builds keys, indexes and relations, sets header fields, proves the counts, and flushes everything to disk.</summary>
    /// <param name="headerFields">For the header of a SQLite file. Other stores have none to set, and their version is told by a
    /// record.</param>
    /// <exception cref="KeyConflictException">Records with the same key came in, and the store was not created to refuse them one by
    /// one.</exception>
    void Complete(IReadOnlyDictionary<string, string> headerFields);

    /// <summary>Whether values are written to it as the engine once wrote them out, as text, instead of as the types we have for
    /// them.</summary>
    bool TakesWritten => false;

    /// <summary>What could not be brought back of a store that is made again, or that began as a copy, one line each; nothing of the
    /// rows.</summary>
    IReadOnlyList<string> Remarks => [];
}
