// Digests.cs: digests of values, by which keys, links and groups are told apart without keeping the values.
// Why 64 bits: of ten million different keys, two share a digest in one of 370,000 tables (n squared over 2 to the 65th); a record that is
// reported for it is there to be looked at, and none is ever passed over for it.
// Why not the canonical bytes of docs/fingerprints.md: these digests never leave the process, and are computed for every record several
// times.
// Holds: equal values of one kind give equal digests whatever table, engine or scale they come from.
using System.IO.Hashing;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Digests of single values and of several.</summary>
internal static class Digest
{
    // Odd numbers with well spread bits: those of the fractional parts of the square roots of 2, 3 and 5.
    private const ulong First = 0x6A09E667F3BCC909, Second = 0xBB67AE8584CAA73B, Third = 0x3C6EF372FE94F82B;

    [ThreadStatic]
    private static CanonicalWriter? _bytes;

    /// <summary>The two halves of a product, folded: every bit of the result depends on every bit of both.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static ulong Fold(ulong a, ulong b)
    {
        ulong high = Math.BigMul(a, b, out ulong low);
        return high ^ low;
    }

    /// <summary>The digest of a value; of a missing one a value of its own.</summary>
    public static ulong Of(Vector vector, int row)
    {
        if (vector.IsNull(row)) return Third;
        switch (vector)
        {
            case LongVector longs: return Fold((ulong)longs.Values[row] ^ First, Second) ^ Third;
            case BytesVector bytes: return XxHash3.HashToUInt64(bytes[row]);
            case WideVector { Type.Kind: FieldKind.Decimal } wides when Whole(wides.Values[row],
                wides.Type.Scale) is { } whole:
                return Fold((ulong)whole ^ First, Second) ^ Third;
            default:
                CanonicalWriter writer = _bytes ??= new CanonicalWriter();
                writer.Clear();
                vector.Encode(row, writer);
                return XxHash3.HashToUInt64(writer.Written);
        }
    }

    // A decimal that is a whole number is the same as that number in a column of whole ones.
    private static long? Whole(Int128 units, int scale)
    {
        for (; scale > 0; scale--)
        {
            if (units % 10 != 0) return null;
            units /= 10;
        }
        return units >= long.MinValue && units <= long.MaxValue ? (long)units : null;
    }

    /// <summary>The digest of a value behind others, from the digest of those.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static ulong And(ulong before, Vector vector, int row) => Fold(before ^ Second, Of(vector, row) ^ First);
}

/// <summary>The digest of some columns of a row.</summary>
internal sealed class RowDigest(int[] ordinals)
{
    /// <summary>The digest of a row's values.</summary>
    public ulong Of(RecordBatch batch, int row)
    {
        if (ordinals.Length == 0) return 0;
        ulong digest = Digest.Of(batch.Vectors[ordinals[0]], row);
        for (int i = 1; i < ordinals.Length; i++) digest = Digest.And(digest, batch.Vectors[ordinals[i]], row);
        return digest;
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
internal static class ValueDigest
{
    public static ulong Of(ReadOnlySpan<Vector> values, int row)
    {
        if (values.Length == 0) return 0;
        ulong digest = Digest.Of(values[0], row);
        for (int i = 1; i < values.Length; i++) digest = Digest.And(digest, values[i], row);
        return digest;
    }
}

/// <summary>Any number of digests, to be gone through in order. Spread over parts by their upper bits, so that each part is sorted by
/// itself in memory.</summary>
internal sealed class DigestList : IDisposable
{
    private const int PartBits = 8, Parts = 1 << PartBits, BlockItems = 512;

    // Up to so many are kept as they come, without parts: a store may have a thousand small tables, each with lists of its own.
    private const int MostFew = 1 << 13;

    private ulong[]? _few = [];
    private int _fewCount;
    private ulong[] _blocks = [];
    private int[] _counts = [];
    private List<int>?[] _written = [];
    private FileStream? _file;
    private int _blocksWritten;

    public void Add(ulong digest)
    {
        if (_few is null) AddToPart(digest);
        else if (_fewCount == MostFew)
        {
            (ulong[] few, _few) = (_few, null);
            (_blocks, _counts, _written) = (new ulong[Parts * BlockItems], new int[Parts], new List<int>?[Parts]);
            foreach (ulong one in few) AddToPart(one);
            AddToPart(digest);
        }
        else
        {
            if (_fewCount == _few.Length) Array.Resize(ref _few, Math.Clamp(_fewCount * 2, 16, MostFew));
            _few[_fewCount++] = digest;
        }
    }

    private void AddToPart(ulong digest)
    {
        int part = (int)(digest >> (64 - PartBits));
        if (_counts[part] == BlockItems) Spill(part);
        _blocks[part * BlockItems + _counts[part]++] = digest;
    }

    private void Spill(int part)
    {
        _file ??= SpillFile.Create(bufferBytes: 0);
        RandomAccess.Write(_file.SafeFileHandle, MemoryMarshal.AsBytes(_blocks.AsSpan(part * BlockItems, BlockItems)),
            (long)_blocksWritten * BlockItems * sizeof(ulong));
        (_written[part] ??= []).Add(_blocksWritten++);
        _counts[part] = 0;
    }

    /// <summary>All digests, the least first, as often as they were added.</summary>
    public IEnumerable<ulong> Sorted()
    {
        if (_few is not null)
        {
            ulong[] few = _few[.._fewCount];
            Array.Sort(few);
            foreach (ulong one in few) yield return one;
            yield break;
        }
        // While one part is gone through, the next ones are sorted.
        const int ahead = 3;
        var sorting = new Queue<Task<(ulong[] Items, int Count)>>();
        var free = new System.Collections.Concurrent.ConcurrentBag<ulong[]>();
        for (int part = 0; part < Parts + ahead; part++)
        {
            if (part < Parts)
            {
                int next = part;
                sorting.Enqueue(Task.Run(() => SortedPart(next, free)));
            }
            if (part < ahead) continue;
            (ulong[] items, int count) = sorting.Dequeue().GetAwaiter().GetResult();
            for (int i = 0; i < count; i++) yield return items[i];
            free.Add(items);
        }
    }

    private (ulong[] Items, int Count) SortedPart(int part, System.Collections.Concurrent.ConcurrentBag<ulong[]> free)
    {
        List<int> written = _written[part] ?? [];
        int count = written.Count * BlockItems + _counts[part];
        if (!free.TryTake(out ulong[]? items) || items.Length < count) items = new ulong[count];
        for (int block = 0; block < written.Count; block++)
        {
            Span<byte> room = MemoryMarshal.AsBytes(items.AsSpan(block * BlockItems, BlockItems));
            if (RandomAccess.Read(_file!.SafeFileHandle, room, (long)written[block] * BlockItems * sizeof(ulong)) != room.Length)
                throw new EndOfStreamException("a file for what does not fit in memory is cut off");
        }
        _blocks.AsSpan(part * BlockItems, _counts[part]).CopyTo(items.AsSpan(written.Count * BlockItems));
        Array.Sort(items, 0, count);
        return (items, count);
    }

    /// <summary>The digests that are there more than once, each with how often.</summary>
    public IEnumerable<(ulong Digest, int Count)> Repeated()
    {
        ulong last = 0;
        int count = 0;
        foreach (ulong digest in Sorted())
        {
            if (count > 0 && digest == last)
            {
                count++;
                continue;
            }
            if (count > 1) yield return (last, count);
            (last, count) = (digest, 1);
        }
        if (count > 1) yield return (last, count);
    }

    public void Dispose() => _file?.Dispose();
}

/// <summary>A set of digests of any size.</summary>
internal sealed class DigestSet : IDisposable
{
    // Most links point to few records, again and again; those are met here and never reach the list.
    private ulong[] _lately = new ulong[1 << 8];
    private readonly DigestList _all = new();
    private long _added;

    public void Add(ulong digest)
    {
        // More room where there are many; what was met until then may be met again.
        if (++_added == 1 << 10) _lately = new ulong[1 << 14];
        ref ulong slot = ref _lately[digest & (ulong)(_lately.Length - 1)];
        if (slot == digest && digest != 0) return;
        slot = digest;
        _all.Add(digest);
    }

    /// <summary>The digests of this set that none of others has, in order, each once.</summary>
    public IEnumerable<ulong> NotIn(params IReadOnlyList<DigestSet> others) => others.Aggregate(Each(), (left, other) => Without(left,
        other));

    private IEnumerable<ulong> Each()
    {
        bool any = false;
        ulong last = 0;
        foreach (ulong mine in _all.Sorted())
        {
            if (any && mine == last) continue;
            (last, any) = (mine, true);
            yield return mine;
        }
    }

    private static IEnumerable<ulong> Without(IEnumerable<ulong> all, DigestSet other)
    {
        using IEnumerator<ulong> theirs = other._all.Sorted().GetEnumerator();
        bool more = theirs.MoveNext();
        foreach (ulong mine in all)
        {
            while (more && theirs.Current < mine) more = theirs.MoveNext();
            if (!more || theirs.Current != mine) yield return mine;
        }
    }

    public void Dispose() => _all.Dispose();
}
