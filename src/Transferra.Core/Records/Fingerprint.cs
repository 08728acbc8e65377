// Fingerprint.cs: an order-independent digest of a table's records, kept by key bucket.
// Why sums and not XOR: a record that is there twice would cancel itself under XOR. Why buckets: two stores are compared bucket
// by bucket, and only the buckets that differ are read again. Layout and definition: docs/fingerprints.md.
// Holds: (1) the order of Add calls does not matter; (2) the same records give the same sums on every engine.
using System.IO.Hashing;

namespace Transferra.Core.Records;

/// <summary>The sum of row digests (XxHash128 of the canonical bytes, modulo 2^128) with the number of rows.</summary>
public readonly record struct Fingerprint(long Rows, UInt128 Sum)
{
    /// <summary>The fingerprint of one record, from its canonical bytes.</summary>
    public static Fingerprint Of(ReadOnlySpan<byte> row) => new(1, XxHash128.HashToUInt128(row));

    /// <summary>Adds two disjoint sets of records.</summary>
    public static Fingerprint operator +(Fingerprint a, Fingerprint b) => new(checked(a.Rows + b.Rows), unchecked(a.Sum + b.Sum));

    /// <summary>The digest as 32 hexadecimal digits.</summary>
    public override string ToString() => Sum.ToString("x32", System.Globalization.CultureInfo.InvariantCulture);
}

/// <summary>A table's fingerprint, kept by key bucket.</summary>
internal sealed class BucketedFingerprint
{
    /// <summary>Buckets a table's keys are spread over; a power of two.</summary>
    public const int BucketCount = 4096;

    private readonly Fingerprint[] _buckets = new Fingerprint[BucketCount];

    /// <summary>The fingerprint of each bucket.</summary>
    public ReadOnlySpan<Fingerprint> Buckets => _buckets;

    /// <summary>Adds a row by the canonical bytes of its key and of its whole content.</summary>
    public void Add(ReadOnlySpan<byte> key, ReadOnlySpan<byte> row) =>
        _buckets[BucketOf(key)] += Fingerprint.Of(row);

    /// <summary>The bucket of a key, from its canonical bytes.</summary>
    public static int BucketOf(ReadOnlySpan<byte> key) => (int)(XxHash3.HashToUInt64(key) & (BucketCount - 1));

    /// <summary>The fingerprint of the whole table.</summary>
    public Fingerprint Total()
    {
        Fingerprint total = default;
        foreach (Fingerprint bucket in _buckets) total += bucket;
        return total;
    }

    /// <summary>The buckets in which the two tables are not the same.</summary>
    public IReadOnlyList<int> DifferingFrom(BucketedFingerprint other) =>
        [.. Enumerable.Range(0, BucketCount).Where(bucket => _buckets[bucket] != other._buckets[bucket])];
}
