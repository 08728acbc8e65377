// IStoreJudge.cs: what an engine will not take, known without the engine, so that it is found before anybody is sent home and not while
// the office is closed.
namespace Transferra.Core.Records;

/// <summary>Judges tables and rows for a new store that is not made.</summary>
public interface IStoreJudge
{
    /// <summary>Whether the engine refuses a second record with the same key.</summary>
    bool KeepsKeys { get; }

    /// <summary>Whether two texts are the same key there when they differ in blanks at their end.</summary>
    bool IgnoresTrailingBlanks { get; }

    /// <summary>What of some tables the engine cannot make, one line each.</summary>
    IReadOnlyList<string> Complaints(IReadOnlyList<TableShape> tables);

    /// <summary>Finds rows that the engine would not take, or not exactly.</summary>
    /// <param name="outputs">What is to be written; all from the same source batch.</param>
    /// <param name="rows">Which rows of it.</param>
    /// <param name="rejects">Receives those, in no particular order.</param>
    void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects);
}

/// <summary>Takes everything.</summary>
internal sealed class TakesAll : IStoreJudge
{
    /// <inheritdoc/>
    public bool KeepsKeys => false;

    /// <inheritdoc/>
    public bool IgnoresTrailingBlanks => false;

    /// <inheritdoc/>
    public IReadOnlyList<string> Complaints(IReadOnlyList<TableShape> tables) => [];

    /// <inheritdoc/>
    public void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects) { }
}
