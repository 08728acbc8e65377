// Digests.cs: digests of values, by which keys, links and groups are told apart without keeping the values.
// Why 64 bits: of ten million different keys, two share a digest in one of 370,000 tables (n squared over 2 to the 65th); a record that is
// reported for it is there to be looked at, and none is ever passed over for it.
using System.IO.Hashing;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>The digest of some columns of a row; reused from row to row.</summary>
internal sealed class RowDigest(int[] ordinals)
{
    private readonly CanonicalWriter _bytes = new();

    /// <summary>The digest of a row's values.</summary>
    public ulong Of(RecordBatch batch, int row)
    {
        _bytes.Clear();
        foreach (int ordinal in ordinals) batch.Vectors[ordinal].Encode(row, _bytes);
        return XxHash3.HashToUInt64(_bytes.Written);
    }

    /// <summary>Whether the row has a value in each of the columns.</summary>
    public bool IsWhole(RecordBatch batch, int row)
    {
        foreach (int ordinal in ordinals)
            if (batch.Vectors[ordinal].IsNull(row)) return false;
        return true;
    }
}

/// <summary>The digest of some computed values of a row.</summary>
internal sealed class ValueDigest
{
    private readonly CanonicalWriter _bytes = new();

    public ulong Of(ReadOnlySpan<Vector> values, int row)
    {
        _bytes.Clear();
        foreach (Vector value in values) value.Encode(row, _bytes);
        return XxHash3.HashToUInt64(_bytes.Written);
    }
}

/// <summary>A set of digests of any size.</summary>
internal sealed class DigestSet : IDisposable
{
    // Most links point to few records, again and again; those are met here and never reach the sorter.
    private readonly ulong[] _lately = new ulong[1 << 14];
    private readonly SpillSorter<ulong> _all = new((first, _) => first);

    public void Add(ulong digest)
    {
        ref ulong slot = ref _lately[digest & (ulong)(_lately.Length - 1)];
        if (slot == digest && digest != 0) return;
        slot = digest;
        _all.Add(digest);
    }

    public void Park() => _all.Park();

    /// <summary>The digests of this set that another has not, in order.</summary>
    public IEnumerable<ulong> NotIn(DigestSet other)
    {
        using IEnumerator<ulong> theirs = other._all.Sorted().GetEnumerator();
        bool more = theirs.MoveNext();
        foreach (ulong mine in _all.Sorted())
        {
            while (more && theirs.Current < mine) more = theirs.MoveNext();
            if (!more || theirs.Current != mine) yield return mine;
        }
    }

    public void Dispose() => _all.Dispose();
}
