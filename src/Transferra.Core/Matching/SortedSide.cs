// SortedSide.cs: one side's records of a table in order, one at a time, on disk where memory does not hold them.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>A record of one side, with what could not be read of it.</summary>
/// <param name="Batch">Where it is.</param>
/// <param name="Row">Its row there.</param>
/// <param name="Faults">Of the batch's rows; null when there are none.</param>
internal readonly record struct ComparedRow(RecordBatch Batch, int Row, ILookup<int, RowFault>? Faults)
{
    /// <summary>Why a column could not be read; null when it could.</summary>
    public RowFault? FaultOf(string column)
    {
        if (Faults is null) return null;
        foreach (RowFault fault in Faults[Row])
            if (fault.Column == column) return fault;
        return null;
    }

    /// <summary>Whether another record has the same value in a column.</summary>
    public bool SameAt(int column, ComparedRow other, int otherColumn) =>
        Batch.Vectors[column].SameAt(Row, other.Batch.Vectors[otherColumn], other.Row);
}

/// <summary>One side.</summary>
internal sealed class SortedSide : IDisposable
{
    private readonly RecordSorter _sorter;
    private readonly CancellationToken _cancel;
    private readonly RecordBatch _batch;
    private ILookup<int, RowFault>? _faults;
    private int _row;
    private bool _more = true;

    /// <summary>Reads and sorts all of it.</summary>
    /// <param name="rows">The records.</param>
    /// <param name="columns">Their columns.</param>
    /// <param name="order">Ordinals to order by.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public SortedSide(IEnumerable<PickedRows> rows, IReadOnlyList<ColumnShape> columns, int[] order, CancellationToken cancel)
    {
        _sorter = new RecordSorter(new PickedReader(rows), columns, order);
        _cancel = cancel;
        _batch = new RecordBatch(columns);
        try { Fill(); }
        catch
        {
            _sorter.Dispose();
            throw;
        }
    }

    /// <summary>Whether there is one more record.</summary>
    public bool HasRow => _row < _batch.RowCount;

    /// <summary>It; until <see cref="Next"/>.</summary>
    public ComparedRow Current => new(_batch, _row, _faults);

    /// <summary>Goes to the next one.</summary>
    public void Next()
    {
        if (++_row == _batch.RowCount) Fill();
    }

    private void Fill()
    {
        _batch.Reset();
        _row = 0;
        while (_more && _batch.RowCount == 0)
        {
            _cancel.ThrowIfCancellationRequested();
            _more = _sorter.Fill(_batch);
        }
        _faults = _batch.Faults.Count == 0 ? null : _batch.Faults.ToLookup(fault => fault.Row);
    }

    public void Dispose() => _sorter.Dispose();
}
