// BucketedFingerprint.cs: a table's fingerprint, kept by key bucket, so that of two tables only the buckets that differ are read again.
// Why so many buckets: with 4,096 of them, a thousand scattered differences made a quarter of all records be read and sorted once more.
// Why the first records are kept one by one: how many a table has is not known before it is read, and a thousand small tables must not
// cost what a thousand large ones do. Buckets can be joined later, never split.
// Why buckets are sums of half digests: they are added to in no order, so what counts is how much memory that is. That two tables are the
// same is told by whole ones, of the table; buckets only tell where they are not.
// Holds: (1) the order of Add and Fold calls does not matter; (2) two tables are compared in the buckets that both are kept by; (3) tables
// of which any group differs have a differing bucket.
using System.IO.Hashing;

namespace Transferra.Core.Records;

/// <summary>A table's fingerprint by key bucket. Not thread-safe.</summary>
internal sealed class BucketedFingerprint
{
    /// <summary>Most buckets that keys are spread over; a power of two. 2 MB while such a table is read.</summary>
    public const int MostBuckets = 1 << 18;

    /// <summary>Most groups that whole fingerprints are kept of; a power of two.</summary>
    public const int MostGroups = 256;

    private const int FewestBuckets = 16, RowsOfABucket = 4;

    private readonly int _keptSingly;

    // Until there are too many: the widest bucket number and the digest of each record.
    private List<(int Bucket, UInt128 Digest)>? _single = [];
    private ulong[] _buckets = []; // of the lower halves of digests
    private Fingerprint[] _groups = []; // by the lower bits of the widest bucket number

    /// <summary>An empty one.</summary>
    /// <param name="keptSingly">How many records are kept one by one; 24 to 32 bytes each.</param>
    public BucketedFingerprint(int keptSingly = 1 << 16) => _keptSingly = keptSingly;

    /// <summary>Adds a row by the canonical bytes of its key and of its whole content.</summary>
    public void Add(ReadOnlySpan<byte> key, ReadOnlySpan<byte> row) => Add([BucketOf(key)], [XxHash128.HashToUInt128(row)]);

    /// <summary>Adds rows by the buckets of their keys, of <see cref="MostBuckets"/>, and the digests of their whole content.</summary>
    public void Add(ReadOnlySpan<int> buckets, ReadOnlySpan<UInt128> digests)
    {
        if (_single is not null)
        {
            for (int i = 0; i < buckets.Length; i++) _single.Add((buckets[i], digests[i]));
            if (_single.Count > _keptSingly) Join(MostBuckets);
            return;
        }
        for (int i = 0; i < buckets.Length; i++) AddTo(buckets[i], digests[i]);
    }

    private void AddTo(int bucket, UInt128 digest)
    {
        _buckets[bucket & (_buckets.Length - 1)] += (ulong)digest;
        _groups[bucket & (MostGroups - 1)] += new Fingerprint(1, digest);
    }

    /// <summary>Adds all records of another; neither is folded.</summary>
    /// <returns>This.</returns>
    public BucketedFingerprint Also(BucketedFingerprint other)
    {
        if (other._single is not null)
        {
            foreach ((int bucket, UInt128 digest) in other._single) Add([bucket], [digest]);
            return this;
        }
        Join(MostBuckets);
        for (int i = 0; i < _buckets.Length; i++) _buckets[i] += other._buckets[i];
        for (int i = 0; i < _groups.Length; i++) _groups[i] += other._groups[i];
        return this;
    }

    /// <summary>The bucket of a key, from its canonical bytes, of <see cref="MostBuckets"/>; of fewer, the lower bits of it.</summary>
    public static int BucketOf(ReadOnlySpan<byte> key) => (int)(XxHash3.HashToUInt64(key) & (MostBuckets - 1));

    /// <summary>The fingerprint of the whole table.</summary>
    public Fingerprint Total()
    {
        Fingerprint total = default;
        if (_single is not null)
            foreach ((_, UInt128 digest) in _single) total += new Fingerprint(1, digest);
        foreach (Fingerprint group in _groups) total += group;
        return total;
    }

    /// <summary>The fingerprints of the records, joined to so many groups; nothing of it is changed.</summary>
    /// <param name="groups">A power of two up to <see cref="MostGroups"/>.</param>
    public Fingerprint[] Groups(int groups)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(groups, MostGroups);
        var joined = new Fingerprint[groups];
        if (_single is not null)
            foreach ((int bucket, UInt128 digest) in _single) joined[bucket & (groups - 1)] += new Fingerprint(1, digest);
        for (int i = 0; i < _groups.Length; i++) joined[i & (groups - 1)] += _groups[i];
        return joined;
    }

    /// <summary>Keeps no more buckets than so many records need; more may still be added.</summary>
    public void Fold() => Join(BucketsFor(Total().Rows));

    /// <summary>The buckets in which two tables are not the same; both are folded.</summary>
    public BucketSet DifferingFrom(BucketedFingerprint other)
    {
        int buckets = BucketsFor(Math.Max(Total().Rows, other.Total().Rows));
        buckets = Math.Min(buckets, Math.Min(_single is null ? _buckets.Length : buckets, other._single is null ? other._buckets.Length
            : buckets));
        Join(buckets);
        other.Join(buckets);
        var differing = new BucketSet(buckets);
        for (int group = 0; group < MostGroups; group++)
        {
            int before = differing.Count;
            for (int bucket = group; bucket < buckets; bucket += MostGroups)
                if (_buckets[bucket] != other._buckets[bucket]) differing.Add(bucket);
            // Half digests may come out even where whole ones do not.
            if (differing.Count == before && _groups[group] != other._groups[group])
                for (int bucket = group & (buckets - 1); bucket < buckets; bucket += MostGroups) differing.Add(bucket);
        }
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
        ulong[] wider = _buckets;
        _buckets = new ulong[buckets];
        for (int i = 0; i < wider.Length; i++) _buckets[i & (buckets - 1)] += wider[i];
        if (_single is null) return;
        _groups = new Fingerprint[MostGroups];
        foreach ((int bucket, UInt128 digest) in _single) AddTo(bucket, digest);
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

    /// <summary>Of how many.</summary>
    public int Of => _in.Length;

    /// <summary>Whether a key, by its canonical bytes, is in one of them.</summary>
    public bool Contains(ReadOnlySpan<byte> key) => Contains(BucketedFingerprint.BucketOf(key));

    /// <summary>Whether one is among them, by its number among any number of buckets not below this set's.</summary>
    public bool Contains(int bucket) => _in[bucket & (_in.Length - 1)];
}
