// PickedRows.cs: those records of a table that may differ, as a reader, so that they can be put in order.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Rows of one table for a <see cref="RecordSorter"/>.</summary>
/// <param name="Vectors">The table's columns.</param>
/// <param name="Rows">Which of their rows.</param>
/// <param name="Faults">Cells that could not be read; any rows.</param>
internal readonly record struct PickedRows(IReadOnlyList<Vector> Vectors, IEnumerable<int> Rows, IReadOnlyList<RowFault> Faults);

/// <summary>Delivers picked rows as a reader.</summary>
internal sealed class PickedReader(IEnumerable<PickedRows> source) : IRecordReader
{
    private readonly IEnumerator<PickedRows> _source = source.GetEnumerator();
    private IEnumerator<int>? _rows;
    private ILookup<int, RowFault>? _faults;

    public bool Fill(RecordBatch batch)
    {
        while (!batch.IsFull)
        {
            if (_rows is null)
            {
                if (!_source.MoveNext()) return false;
                _rows = _source.Current.Rows.GetEnumerator();
                _faults = _source.Current.Faults.Count == 0 ? null : _source.Current.Faults.ToLookup(fault => fault.Row);
            }
            if (!_rows.MoveNext())
            {
                _rows.Dispose();
                _rows = null;
                continue;
            }
            int row = _rows.Current, at = batch.RowCount;
            for (int column = 0; column < batch.Vectors.Length; column++)
                batch.Vectors[column].AppendFrom(_source.Current.Vectors[column], row);
            foreach (RowFault fault in _faults?[row] ?? []) batch.Faults.Add(fault with { Row = at });
        }
        return true;
    }

    public void Dispose()
    {
        _rows?.Dispose();
        _source.Dispose();
    }
}
