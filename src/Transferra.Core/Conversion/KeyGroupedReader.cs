// KeyGroupedReader.cs: wraps a reader in key order so that no batch ends between two records of the same key.
// Why: copies, conflicts and records to be combined stand side by side then, and are judged together within one batch.
// Holds: (1) every row is delivered once, in order; (2) records with the same key are in the same batch.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>Delivers whole groups of records with the same key.</summary>
/// <param name="reader">In the order of <paramref name="key"/>; disposed with this.</param>
/// <param name="table">For messages.</param>
/// <param name="columns">The batch's columns.</param>
/// <param name="key">Ordinals that make a group; none: no grouping.</param>
internal sealed class KeyGroupedReader(IRecordReader reader, string table, IReadOnlyList<ColumnShape> columns, int[] key) : IDisposable
{
    // A key that thousands of records share is none; without a limit such a table would end up in memory as a whole.
    private const int MaxGroup = 4;

    private readonly RecordBatch _carry = new(columns, new BatchLimits(int.MaxValue, long.MaxValue));
    private bool _more = true;

    /// <summary>Fills the batch with the next rows.</summary>
    /// <returns>False when there are none left.</returns>
    /// <exception cref="TransferraException">More records share one key than a batch could hold.</exception>
    public bool Fill(RecordBatch batch)
    {
        batch.Reset();
        batch.AppendRows(_carry, 0);
        _carry.Reset();
        if (_more) _more = reader.Fill(batch);
        if (!_more || key.Length == 0) return batch.RowCount > 0;
        int group = batch.RowCount - 1;
        while (group > 0 && batch.SameRows(group, group - 1, key)) group--;
        for (int widened = 1; group == 0 && _more; widened++)
        {
            if (widened > MaxGroup)
                throw new TransferraException($"more than {batch.RowCount - 1} records of {table} share the key {batch.ShowKey(0, key)}",
                    "The kit's key for this table does not tell its records apart. Correct it in the kit's version file.");
            var wide = new RecordBatch(columns, batch.Limits);
            _more = reader.Fill(wide);
            batch.AppendRows(wide, 0);
            group = batch.RowCount - 1;
            while (group > 0 && batch.SameRows(group, group - 1, key)) group--;
        }
        if (!_more) return batch.RowCount > 0;
        _carry.AppendRows(batch, group);
        batch.Truncate(group);
        return true;
    }

    /// <inheritdoc/>
    public void Dispose() => reader.Dispose();
}
