// GroupSums.cs: sums by group, of as many groups as there are.
// How: groups are found by their digest in a table in memory. When that is full, it goes to disk, in parts by the upper bits of the
// digests, and a new one is begun; in the end each part is added up by itself.
// Holds: (1) each group is given once, with all that was added to it; (2) memory is bounded: the table grows only while the budget lends,
// and the few parts at a time are a small share of all groups; (3) what was written twice or more is put together before the file is
// several times what it needs.
using System.Collections.Concurrent;
using System.Numerics;
using System.Runtime.InteropServices;
using Transferra.Core.Machine;

namespace Transferra.Core.Checks;

/// <summary>Sums of one group, of both sides of a rule.</summary>
/// <param name="Group">The digest of its values.</param>
/// <param name="Side">Of the side that is judged.</param>
/// <param name="Other">Of the side that it is compared with.</param>
/// <param name="Flags">What is known of it; never 0.</param>
internal readonly record struct GroupAmounts(ulong Group, Int128 Side, Int128 Other, int Flags)
{
    public const int OnSide = 1, OnOther = 2, Unreadable = 4, TooLarge = 8;

    public static GroupAmounts Add(GroupAmounts a, GroupAmounts b)
    {
        int flags = a.Flags | b.Flags;
        return new GroupAmounts(a.Group, Sum(a.Side, b.Side, ref flags), Sum(a.Other, b.Other, ref flags), flags);
    }

    /// <summary>Adds two amounts; marks the sum as too large where it is.</summary>
    public static Int128 Sum(Int128 a, Int128 b, ref int flags)
    {
        Int128 sum = unchecked(a + b);
        if (Int128.IsNegative(a) == Int128.IsNegative(b) && Int128.IsNegative(sum) != Int128.IsNegative(a)) flags |= TooLarge;
        return sum;
    }
}

/// <summary>Adds up by group; used by one thread at a time.</summary>
internal sealed class GroupSums : IDisposable
{
    private const int PartBits = 8, Parts = 1 << PartBits, FewGroups = 1 << 11, LargePart = 1 << 15;

    private readonly GroupTable _groups;
    private readonly long _fewestToPutTogether;
    private readonly List<(long At, int Count)>[] _written = [.. Enumerable.Range(0, Parts).Select(_ => new List<(long, int)>())];
    private GroupAmounts[] _ordered = [];
    private FileStream? _file;
    private long _end, _items, _afterLast;

    /// <summary>None yet.</summary>
    /// <param name="mostPlaces">Of the table in memory, a power of two; null for what suits the budget.</param>
    /// <param name="fewestToPutTogether">From how many written sums on they are put together again.</param>
    public GroupSums(int? mostPlaces = null, long fewestToPutTogether = 1 << 22)
    {
        _groups = new GroupTable(mostPlaces ?? (int)MemoryBudget.OfProcess.Suiting(1 << 15, 1 << 13, 1 << 18), MemoryBudget.OfProcess);
        _fewestToPutTogether = fewestToPutTogether;
    }

    /// <summary>How many sums lie on disk.</summary>
    internal long Written => _items;

    /// <summary>Adds to a group.</summary>
    public void Add(in GroupAmounts item)
    {
        if (!_groups.TryAdd(item)) Spill();
    }

    /// <summary>Gives up memory, unless it is little.</summary>
    public void Park()
    {
        if (_groups.Count > FewGroups) Spill();
        _groups.Shrink();
        _ordered = [];
    }

    /// <summary>The groups that are wanted, each once, in no order. May be asked for again, and more may be added after.</summary>
    /// <param name="isWanted">Whether a group is; called by several threads.</param>
    public IEnumerable<GroupAmounts> Where(Func<GroupAmounts, bool> isWanted)
    {
        if (_file is null) return _groups.All().Where(isWanted);
        Spill();
        var free = new ConcurrentBag<PartTable>();
        GroupAmounts[] wantedOf(int part)
        {
            if (!free.TryTake(out PartTable? table)) table = new PartTable();
            GroupAmounts[] wanted = [.. PartOf(part, table).Where(isWanted)];
            free.Add(table);
            return wanted;
        }
        // Several large ones at a time would take more memory than they save time.
        bool areLarge = _written.Any(pieces => pieces.Sum(piece => (long)piece.Count) > LargePart);
        return (areLarge ? Enumerable.Range(0, Parts).Select(wantedOf) : PartsAhead.Of(Parts, wantedOf)).SelectMany(wanted => wanted);
    }

    /// <summary>All groups, each once, in no order. May be asked for again, and more may be added after.</summary>
    public IEnumerable<GroupAmounts> All() => Where(_ => true);

    private void Spill()
    {
        if (_groups.Count == 0) return;
        _file ??= SpillFile.Create(bufferBytes: 0);
        // In the order of their parts, so that all of it is written at once.
        var begins = new int[Parts + 1];
        foreach (ulong digest in _groups.Digests)
            if (digest != 0) begins[PartNumber(digest) + 1]++;
        for (int part = 0; part < Parts; part++)
        {
            if (begins[part + 1] > 0) _written[part].Add((_end + ((long)begins[part] * Marshal.SizeOf<GroupAmounts>()), begins[part + 1]));
            begins[part + 1] += begins[part];
        }
        if (_ordered.Length < _groups.Count) _ordered = new GroupAmounts[_groups.Count];
        for (int at = 0; at < _groups.Digests.Length; at++)
            if (_groups.Digests[at] is not 0 and ulong digest) _ordered[begins[PartNumber(digest)]++] = _groups.At(at);
        Write(_ordered.AsSpan(0, _groups.Count));
        _groups.Clear();
        if (_items - _afterLast > Math.Max(_fewestToPutTogether, _afterLast)) PutTogether();
    }

    private static int PartNumber(ulong digest) => (int)(digest >> (64 - PartBits));

    private void Write(ReadOnlySpan<GroupAmounts> items)
    {
        RandomAccess.Write(_file!.SafeFileHandle, MemoryMarshal.AsBytes(items), _end);
        _end += (long)items.Length * Marshal.SizeOf<GroupAmounts>();
        _items += items.Length;
    }

    private void PutTogether()
    {
        using FileStream old = _file!;
        FileStream begun = SpillFile.Create(bufferBytes: 0);
        (_end, _items) = (0, 0);
        var table = new PartTable();
        for (int part = 0; part < Parts; part++)
        {
            _file = old;
            GroupAmounts[] groups = [.. PartOf(part, table)];
            _file = begun;
            _written[part].Clear();
            if (groups.Length > 0) _written[part].Add((_end, groups.Length));
            Write(groups);
        }
        _afterLast = _items;
    }

    // What a part is added up in, one after the other.
    private sealed class PartTable
    {
        public GroupTable Groups { get; } = new(int.MaxValue, budget: null);

        public GroupAmounts[] Room { get; set; } = [];
    }

    // The groups of a part, each once.
    private IEnumerable<GroupAmounts> PartOf(int part, PartTable table)
    {
        List<(long At, int Count)> pieces = _written[part];
        table.Groups.Clear();
        table.Groups.MakeRoomFor(pieces.Sum(piece => (long)piece.Count));
        foreach ((long at, int count) in pieces)
        {
            if (table.Room.Length < count) table.Room = new GroupAmounts[count];
            Span<byte> bytes = MemoryMarshal.AsBytes(table.Room.AsSpan(0, count));
            for (int read = 0, got; read < bytes.Length; read += got)
            {
                got = RandomAccess.Read(_file!.SafeFileHandle, bytes[read..], at + read);
                if (got == 0) throw new EndOfStreamException("a file for what does not fit in memory is cut off");
            }
            for (int i = 0; i < count; i++) table.Groups.TryAdd(table.Room[i]);
        }
        return table.Groups.All();
    }

    /// <summary>Gives up memory and disk.</summary>
    public void Dispose()
    {
        _file?.Dispose();
        _groups.Shrink();
    }
}

/// <summary>Groups in memory, found by their digests: in the place that the lower bits name, or in the next free one. Digests and sums lie
/// apart, so that looking for a place goes through little memory.</summary>
/// <param name="most">Most places.</param>
/// <param name="budget">Which lends the memory of large ones; null for what is needed in any case.</param>
internal sealed class GroupTable(int most, MemoryBudget? budget)
{
    private const int Fewest = 64, Sure = 1 << 12, BytesOfAPlace = 72;

    // 0 where there is none.
    private ulong[] _digests = new ulong[Fewest];
    private GroupAmounts[] _groups = new GroupAmounts[Fewest];
    private long _lent;

    public int Count { get; private set; }

    /// <summary>The digests of the groups, and 0 in each free place.</summary>
    public ReadOnlySpan<ulong> Digests => _digests;

    /// <summary>The group in a place that has one.</summary>
    public ref readonly GroupAmounts At(int place) => ref _groups[place];

    /// <summary>Adds to a group.</summary>
    /// <returns>False when this was the last that there is room for.</returns>
    public bool TryAdd(in GroupAmounts item)
    {
        ulong digest = DigestOf(item);
        int at = PlaceOf(_digests, digest);
        if (_digests[at] == digest)
        {
            _groups[at] = GroupAmounts.Add(_groups[at], item);
            return true;
        }
        (_digests[at], _groups[at]) = (digest, item);
        return (long)++Count * 4 <= _digests.Length * 3L || Grows();
    }

    // All records are one group where nothing is summed by; its digest is 0, which stands for a free place here.
    private static ulong DigestOf(in GroupAmounts item) => item.Group == 0 ? 0x9E3779B97F4A7C15 : item.Group;

    private static int PlaceOf(ulong[] digests, ulong digest)
    {
        uint at = (uint)digest & (uint)(digests.Length - 1);
        while (digests[at] != 0 && digests[at] != digest) at = (at + 1) & (uint)(digests.Length - 1);
        return (int)at;
    }

    private bool Grows()
    {
        if (_digests.Length > most / 2) return false;
        long bytes = (long)_digests.Length * BytesOfAPlace;
        if (budget is not null && _digests.Length >= Sure)
        {
            if (!budget.TryLend(bytes)) return false;
            _lent += bytes;
        }
        Move(_digests.Length * 2);
        return true;
    }

    private void Move(int places)
    {
        (ulong[] digests, GroupAmounts[] groups) = (_digests, _groups);
        (_digests, _groups) = (new ulong[places], new GroupAmounts[places]);
        for (int i = 0; i < digests.Length; i++)
        {
            if (digests[i] == 0) continue;
            int at = PlaceOf(_digests, digests[i]);
            (_digests[at], _groups[at]) = (digests[i], groups[i]);
        }
    }

    /// <summary>All groups.</summary>
    public IEnumerable<GroupAmounts> All()
    {
        for (int i = 0; i < _digests.Length; i++)
            if (_digests[i] != 0) yield return _groups[i];
    }

    /// <summary>Grows at once to what this many groups need, or most of them where they are very many and may be the same ones.</summary>
    public void MakeRoomFor(long groups)
    {
        const long most = 1 << 16;
        int places = (int)BitOperations.RoundUpToPowerOf2((ulong)Math.Min(groups, most) * 4 / 3 + 1);
        if (places > _digests.Length) Move(places);
    }

    /// <summary>Forgets all groups.</summary>
    public void Clear()
    {
        Array.Clear(_digests);
        Count = 0;
    }

    /// <summary>Gives up the memory that its groups do not need.</summary>
    public void Shrink()
    {
        Move(Math.Max(Fewest, (int)BitOperations.RoundUpToPowerOf2((uint)Count * 2)));
        budget?.GiveBack(_lent);
        _lent = 0;
    }
}
