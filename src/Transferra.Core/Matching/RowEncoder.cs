// RowEncoder.cs: the canonical bytes of rows and keys of one table, and the fingerprint of a table as it lies in a store.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Encodes rows of one table. What it returns is valid until the next call.</summary>
internal sealed class RowEncoder
{
    private readonly Vector[] _vectors;
    private readonly int[] _key;
    private readonly CanonicalWriter _row = new(), _keyBytes = new();

    /// <summary>An encoder over a table's vectors, which may be changed for others in their array; without a key, the whole row is its
    /// key.</summary>
    public RowEncoder(TableShape table, IReadOnlyList<Vector> vectors)
    {
        _vectors = vectors as Vector[] ?? [.. vectors];
        _key = table.Key.Count > 0 ? [.. table.Key.Select(table.OrdinalOf)] : [.. Enumerable.Range(0, vectors.Count)];
    }

    public ReadOnlySpan<byte> Row(int row)
    {
        _row.Clear();
        foreach (Vector vector in _vectors) vector.Encode(row, _row);
        return _row.Written;
    }

    public ReadOnlySpan<byte> Key(int row)
    {
        _keyBytes.Clear();
        foreach (int ordinal in _key) _vectors[ordinal].Encode(row, _keyBytes);
        return _keyBytes.Written;
    }
}

/// <summary>What was recorded of one table before anything was done.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Records">How many.</param>
/// <param name="Unreadable">Cells that are not what their column is declared for; they count as missing values in the fingerprint.</param>
/// <param name="Fingerprint">32 hexadecimal digits.</param>
public sealed record TableBaseline(string Table, long Records, long Unreadable, string Fingerprint);

/// <summary>Takes baselines.</summary>
public static class Baseline
{
    /// <summary>Reads every table of a version and fingerprints it.</summary>
    public static IReadOnlyList<TableBaseline> Of(IStore store, IReadOnlyList<TableShape> tables, Conversion.IProgressObserver observer,
        CancellationToken cancel)
    {
        var baselines = new List<TableBaseline>();
        foreach (TableShape table in tables)
        {
            long total = store.CountRows(table.Name), unreadable = 0;
            Fingerprint sum = default;
            var batch = new RecordBatch(table.Columns);
            var encoder = new RowEncoder(table, batch.Vectors);
            long rows = 0;
            foreach (RecordBatch _ in store.BatchesAhead(table, batch, cancel))
            {
                for (int row = 0; row < batch.RowCount; row++) sum += Fingerprint.Of(encoder.Row(row));
                unreadable += batch.Faults.Count;
                rows += batch.RowCount;
                observer.Progress(table.Name, rows, total);
            }
            baselines.Add(new TableBaseline(table.Name, sum.Rows, unreadable, sum.ToString()));
        }
        return baselines;
    }
}
