// RowDigests.cs: the fingerprints of whole batches of a table's rows.
// Holds: (1) what is added is what RowEncoder and Fingerprint give row by row.
using System.IO.Hashing;

namespace Transferra.Core.Records;

/// <summary>Digests rows of one table.</summary>
internal sealed class RowDigests
{
    private readonly Vector[] _vectors, _keyVectors;
    private readonly int[]? _key;
    private readonly EncodedRows _rows = new(), _keys = new();
    private readonly UInt128[] _digests = new UInt128[EncodedRows.MostRows];
    private readonly int[] _buckets = new int[EncodedRows.MostRows];

    /// <summary>Over a table's vectors, which may be changed for others in their array; without a key, the whole row is its key.</summary>
    public RowDigests(TableShape table, IReadOnlyList<Vector> vectors)
    {
        _vectors = vectors as Vector[] ?? [.. vectors];
        _key = table.Key.Count > 0 ? [.. table.Key.Select(table.OrdinalOf)] : null;
        _keyVectors = new Vector[_key?.Length ?? 0];
    }

    /// <summary>The fingerprint of some rows.</summary>
    public Fingerprint Of(ReadOnlySpan<int> rows)
    {
        Fingerprint sum = default;
        while (rows.Length > 0)
        {
            int count = _rows.Encode(_vectors, rows);
            for (int i = 0; i < count; i++) sum += Fingerprint.Of(_rows[i]);
            rows = rows[count..];
        }
        return sum;
    }

    /// <summary>Adds some rows to a fingerprint by bucket.</summary>
    public void Add(BucketedFingerprint into, ReadOnlySpan<int> rows)
    {
        for (int i = 0; i < _keyVectors.Length; i++) _keyVectors[i] = _vectors[_key![i]];
        while (rows.Length > 0)
        {
            int count = _rows.Encode(_vectors, rows), keyed = 0;
            for (int i = 0; i < count; i++) _digests[i] = XxHash128.HashToUInt128(_rows[i]);
            while (_key is not null && keyed < count)
            {
                int some = _keys.Encode(_keyVectors, rows[keyed..count]);
                for (int i = 0; i < some; i++) _buckets[keyed + i] = BucketedFingerprint.BucketOf(_keys[i]);
                keyed += some;
            }
            if (_key is null)
                for (int i = 0; i < count; i++) _buckets[i] = BucketedFingerprint.BucketOf(_rows[i]);
            into.Add(_buckets.AsSpan(0, count), _digests.AsSpan(0, count));
            rows = rows[count..];
        }
    }
}
