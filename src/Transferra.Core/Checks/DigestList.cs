// DigestList.cs: any number of digests: which of them are there more than once, and which a set has that others have not.
// Holds: (1) all that was added is given back, as often as it was added; (2) memory does not grow with their number: they are spread over
// parts by their upper bits, whose blocks go to disk when they are full.
using System.Buffers;
using System.Collections.Concurrent;
using System.Numerics;
using System.Runtime.InteropServices;
using Transferra.Core.Machine;

namespace Transferra.Core.Checks;

/// <summary>Any number of digests, to be gone through in order. Spread over parts by their upper bits, so that each part is sorted by
/// itself in memory.</summary>
internal sealed class DigestList : IDisposable
{
    private const int PartBits = 8, Parts = 1 << PartBits, BlockItems = 512;
    private const ulong Spreading = 0x9E3779B97F4A7C15;

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
        var free = new ConcurrentBag<ulong[]>();
        foreach ((ulong[] items, int count) in PartsAhead.Of(Parts, part => SortedPart(part, free)))
        {
            for (int i = 0; i < count; i++) yield return items[i];
            free.Add(items);
        }
    }

    private (ulong[] Items, int Count) SortedPart(int part, ConcurrentBag<ulong[]> free)
    {
        (ulong[] items, int count) = ReadPart(part, free);
        Array.Sort(items, 0, count);
        return (items, count);
    }

    private (ulong[] Items, int Count) ReadPart(int part, ConcurrentBag<ulong[]> free)
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
        return (items, count);
    }

    /// <summary>The digests that are there more than once, in order, each with how often.</summary>
    public IEnumerable<(ulong Digest, int Count)> Repeated()
    {
        if (_few is not null) return RepeatedIn(_few.AsSpan(0, _fewCount));
        var free = new ConcurrentBag<ulong[]>();
        return PartsAhead.Of(Parts, part =>
        {
            (ulong[] items, int count) = ReadPart(part, free);
            (ulong, int)[] repeated = RepeatedIn(items.AsSpan(0, count));
            free.Add(items);
            return repeated;
        }).SelectMany(repeated => repeated);
    }

    // Most are there once; to find that out they need not be sorted, but only be put down where they say.
    private static (ulong Digest, int Count)[] RepeatedIn(ReadOnlySpan<ulong> digests)
    {
        uint places = BitOperations.RoundUpToPowerOf2((uint)digests.Length * 2 + 1);
        ulong[] met = ArrayPool<ulong>.Shared.Rent((int)places);
        met.AsSpan(0, (int)places).Clear();
        var again = new Dictionary<ulong, int>();
        int zeros = 0;
        foreach (ulong digest in digests)
        {
            if (digest == 0)
            {
                zeros++; // which no place could tell from an empty one
                continue;
            }
            uint at = (uint)((digest * Spreading) >> 32) & (places - 1);
            while (met[at] != 0 && met[at] != digest) at = (at + 1) & (places - 1);
            if (met[at] == 0) met[at] = digest;
            else again[digest] = again.GetValueOrDefault(digest, 1) + 1;
        }
        ArrayPool<ulong>.Shared.Return(met);
        if (zeros > 1) again[0] = zeros;
        return [.. again.Select(one => (one.Key, one.Value)).Order()];
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
