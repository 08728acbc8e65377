// BucketedFingerprint.cs: a table's fingerprint, kept by key bucket, so that of two tables only the buckets that differ are read again.
// Why so many buckets: with 4,096 of them, a thousand scattered differences made a quarter of all records be read and sorted once more.
// Why the first records are kept one by one: how many a table has is not known before it is read, and a thousand small tables must not
// cost what a thousand large ones do. Buckets can be joined later, never split.
// Holds: (1) the order of Add and Fold calls does not matter; (2) two tables are compared in the buckets that both are kept by.
using System.IO.Hashing;

namespace Transferra.Core.Records;

/// <summary>A table's fingerprint by key bucket. Not thread-safe.</summary>
internal sealed class BucketedFingerprint
{
    /// <summary>Most buckets that keys are spread over; a power of two. 8 MB while such a table is read.</summary>
    public const int MostBuckets = 1 << 18;

    private const int FewestBuckets = 16, RowsOfABucket = 4;

    private readonly int _keptSingly;

    // Until there are too many: the widest bucket number and the digest of each record.
    private List<(int Bucket, UInt128 Digest)>? _single = [];
    private Fingerprint[] _buckets = [];
    private Fingerprint _total;

    /// <summary>An empty one.</summary>
    /// <param name="keptSingly">How many records are kept one by one; 24 to 32 bytes each.</param>
    public BucketedFingerprint(int keptSingly = 1 << 16) => _keptSingly = keptSingly;

    /// <summary>Adds a row by the canonical bytes of its key and of its whole content.</summary>
    public void Add(ReadOnlySpan<byte> key, ReadOnlySpan<byte> row) => Add([BucketOf(key)], [XxHash128.HashToUInt128(row)]);

    /// <summary>Adds rows by the buckets of their keys, of <see cref="MostBuckets"/>, and the digests of their whole content.</summary>
    public void Add(ReadOnlySpan<int> buckets, ReadOnlySpan<UInt128> digests)
    {
        foreach (UInt128 digest in digests) _total += new Fingerprint(1, digest);
        if (_single is not null)
        {
            for (int i = 0; i < buckets.Length; i++) _single.Add((buckets[i], digests[i]));
            if (_single.Count > _keptSingly) Join(MostBuckets);
            return;
        }
        int mask = _buckets.Length - 1;
        for (int i = 0; i < buckets.Length; i++) _buckets[buckets[i] & mask] += new Fingerprint(1, digests[i]);
    }

    /// <summary>The bucket of a key, from its canonical bytes, of <see cref="MostBuckets"/>; of fewer, the lower bits of it.</summary>
    public static int BucketOf(ReadOnlySpan<byte> key) => (int)(XxHash3.HashToUInt64(key) & (MostBuckets - 1));

    /// <summary>The fingerprint of the whole table.</summary>
    public Fingerprint Total() => _total;

    /// <summary>The fingerprints of the buckets, joined to so many; nothing of it is changed.</summary>
    /// <param name="buckets">A power of two up to <see cref="MostBuckets"/>, and not more than there are if it was folded.</param>
    public Fingerprint[] Groups(int buckets)
    {
        var groups = new Fingerprint[buckets];
        if (_single is not null)
            foreach ((int bucket, UInt128 digest) in _single) groups[bucket & (buckets - 1)] += new Fingerprint(1, digest);
        for (int i = 0; i < _buckets.Length; i++) groups[i & (buckets - 1)] += _buckets[i];
        return groups;
    }

    /// <summary>Keeps no more buckets than so many records need; more may still be added.</summary>
    public void Fold() => Join(BucketsFor(_total.Rows));

    /// <summary>The buckets in which two tables are not the same; both are folded.</summary>
    public BucketSet DifferingFrom(BucketedFingerprint other)
    {
        int buckets = BucketsFor(Math.Max(_total.Rows, other._total.Rows));
        buckets = Math.Min(buckets, Math.Min(_single is null ? _buckets.Length : buckets, other._single is null ? other._buckets.Length
            : buckets));
        Join(buckets);
        other.Join(buckets);
        var differing = new BucketSet(buckets);
        for (int bucket = 0; bucket < buckets; bucket++)
            if (_buckets[bucket] != other._buckets[bucket]) differing.Add(bucket);
        return differing;
    }

    private static int BucketsFor(long rows)
    {
        int buckets = FewestBuckets;
        while (buckets < MostBuckets && (long)buckets * RowsOfABucket < rows) buckets <<= 1;
        return buckets;
    }

    private void Join(int buckets)
    {
        if (_single is null && _buckets.Length <= buckets) return;
        _buckets = Groups(buckets);
        _single = null;
    }
}

/// <summary>Some of a table's key buckets.</summary>
/// <param name="buckets">How many there are; a power of two up to <see cref="BucketedFingerprint.MostBuckets"/>.</param>
internal sealed class BucketSet(int buckets)
{
    private readonly bool[] _in = new bool[buckets];

    /// <summary>How many are in it.</summary>
    public int Count { get; private set; }

    /// <summary>Adds one, by its number among any number of buckets not below this set's.</summary>
    public void Add(int bucket)
    {
        ref bool isIn = ref _in[bucket & (_in.Length - 1)];
        if (!isIn) Count++;
        isIn = true;
    }

    /// <summary>Whether a key, by its canonical bytes, is in one of them.</summary>
    public bool Contains(ReadOnlySpan<byte> key) => _in[BucketedFingerprint.BucketOf(key) & (_in.Length - 1)];
}
