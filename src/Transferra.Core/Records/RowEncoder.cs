// RowEncoder.cs: the canonical bytes of rows and keys of one table (docs/fingerprints.md).
namespace Transferra.Core.Records;

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
