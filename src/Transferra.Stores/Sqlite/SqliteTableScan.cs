// SqliteTableScan.cs: the records of a table with record numbers, in their order, straight from the leaves of its b-tree.
// Why: the engine's way of handing over cell by cell costs several times what the reading of a page does; baselines, matches, checks and restores read every record of a store.
// Source: "The SQLite Database File Format", sections 1.6 (b-tree pages), 1.7 (overflow pages), 2.1 (record format).
// Holds: (1) what is not laid out exactly as that document says is not interpreted here: the scan gives up at a record, and whoever uses it asks the engine from there on.
using System.Buffers.Binary;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteTableScan(SqlitePageFile pages, long rootPage)
{
    /// <summary>What a step came to.</summary>
    public enum Step { Record, End, GaveUp }

    // The engine itself follows no deeper tree.
    private const int DeepestTree = 20;
    private const byte LeafOfTable = 13, InteriorOfTable = 5;
    private const int LargestRecord = 1_000_000_000;

    private sealed class Level(int pageBytes)
    {
        public readonly byte[] Page = new byte[pageBytes];
        public int Cells, Next;
    }

    private readonly List<Level> _levels = [];
    private int _depth = -1;
    private bool _hasBegun;
    private long _leaf;
    private int _cells, _next;
    private byte[] _assembled = [];
    private byte[]? _overflow;

    /// <summary>The record's number.</summary>
    public long Number { get; private set; }

    /// <summary>Goes to the next record.</summary>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public Step Next(out ReadOnlySpan<byte> payload)
    {
        payload = default;
        if (!_hasBegun)
        {
            _hasBegun = true;
            if (!Descend(rootPage)) return Step.GaveUp;
        }
        while (_next >= _cells)
        {
            while (_depth >= 0 && _levels[_depth].Next > _levels[_depth].Cells) _depth--;
            if (_depth < 0) return Step.End;
            if (!Descend(Child(_levels[_depth], _levels[_depth].Next++))) return Step.GaveUp;
        }
        return pages.TryGet(_leaf, out ReadOnlySpan<byte> page) && TryCell(page, _next++, out payload) ? Step.Record : Step.GaveUp;
    }

    /// <summary>Counts the records of a table from the number of cells of its pages; to be asked before the first step.</summary>
    /// <returns>Null when the scan gave up.</returns>
    public long? Count()
    {
        long records = 0;
        _hasBegun = true;
        for (long page = rootPage; ;)
        {
            if (!Descend(page)) return null;
            records += _cells;
            while (_depth >= 0 && _levels[_depth].Next > _levels[_depth].Cells) _depth--;
            if (_depth < 0) return records;
            page = Child(_levels[_depth], _levels[_depth].Next++);
        }
    }

    // The page that a cell of an interior page points at; behind the last cell, the one on the right.
    private long Child(Level level, int cell)
    {
        ReadOnlySpan<byte> page = level.Page;
        if (cell == level.Cells) return BinaryPrimitives.ReadUInt32BigEndian(page[8..]);
        return BinaryPrimitives.ReadUInt32BigEndian(page[BinaryPrimitives.ReadUInt16BigEndian(page[(12 + (2 * cell))..])..]);
    }

    // Down to the first leaf below a page. Page 1 holds the schema and has another beginning; it belongs to no table of a user.
    private bool Descend(long page)
    {
        while (true)
        {
            if (page <= 1 || !pages.TryGet(page, out ReadOnlySpan<byte> content)) return false;
            int cells = BinaryPrimitives.ReadUInt16BigEndian(content[3..]);
            if (cells == 0 && (page != rootPage || content[0] != LeafOfTable)) return false; // only an empty table has an empty page
            if (content[0] == LeafOfTable)
            {
                (_leaf, _cells, _next) = (page, cells, 0);
                return AreWithin(content, 8, cells, isLeaf: true);
            }
            if (content[0] != InteriorOfTable || _depth + 1 == DeepestTree || !AreWithin(content, 12, cells, isLeaf: false)) return false;
            _depth++;
            if (_depth == _levels.Count) _levels.Add(new Level(pages.PageBytes));
            Level level = _levels[_depth];
            content.CopyTo(level.Page);
            (level.Cells, level.Next) = (cells, 1);
            page = Child(level, 0);
        }
    }

    // Whether all cells of a page lie within it; none of a page where one does not is trusted, as the engine trusts none.
    private bool AreWithin(ReadOnlySpan<byte> page, int headerBytes, int cells, bool isLeaf)
    {
        int usable = pages.UsableBytes, first = headerBytes + (2 * cells), last = usable - (isLeaf ? 4 : 5);
        if (first > usable) return false;
        for (int pointer = headerBytes; pointer < first; pointer += 2)
        {
            int at = BinaryPrimitives.ReadUInt16BigEndian(page[pointer..]);
            if (at < first || at > last) return false;
            ReadOnlySpan<byte> rest = page[at..usable];
            if (isLeaf)
            {
                if (!TryVarint(ref rest, out long bytes) || !TryVarint(ref rest, out _) || bytes is < 0 or > LargestRecord
                    || (bytes <= usable - 35 ? bytes : LocalBytes(bytes) + 4) > rest.Length)
                    return false;
            }
            else
            {
                rest = rest[4..];
                if (!TryVarint(ref rest, out _)) return false;
            }
        }
        return true;
    }

    // How much of a record that does not fit its page is kept in it (section 1.6: K, or M where that is too much).
    private int LocalBytes(long bytes)
    {
        int usable = pages.UsableBytes, least = ((usable - 12) * 32 / 255) - 23, here = least + (int)((bytes - least) % (usable - 4));
        return here > usable - 35 ? least : here;
    }

    private bool TryCell(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> payload)
    {
        payload = default;
        int usable = pages.UsableBytes, at = BinaryPrimitives.ReadUInt16BigEndian(page[(8 + (2 * cell))..]);
        ReadOnlySpan<byte> rest = page[at..usable];
        if (!TryVarint(ref rest, out long bytes) || !TryVarint(ref rest, out long number) || bytes is < 1 or > LargestRecord) return false;
        Number = number;
        if (bytes <= usable - 35)
        {
            if (bytes > rest.Length) return false;
            payload = rest[..(int)bytes];
            return true;
        }
        int here = LocalBytes(bytes);
        return rest.Length >= here + 4 && TryFollow(rest[..(here + 4)], (int)bytes, out payload);
    }

    // A record that does not fit its page: what is there, then page after page, each with the number of the next one before its part.
    private bool TryFollow(ReadOnlySpan<byte> beginning, int bytes, out ReadOnlySpan<byte> payload)
    {
        payload = default;
        int part = pages.UsableBytes - 4, filled = beginning.Length - 4;
        if (bytes / part > pages.Pages) return false;
        if (_assembled.Length < bytes) _assembled = new byte[Math.Max(bytes, 2 * Math.Min(_assembled.Length, LargestRecord / 2))];
        _overflow ??= new byte[pages.PageBytes];
        beginning[..filled].CopyTo(_assembled);
        long next = BinaryPrimitives.ReadUInt32BigEndian(beginning[filled..]);
        while (filled < bytes)
        {
            if (next <= 1 || !pages.TryRead(next, _overflow)) return false;
            next = BinaryPrimitives.ReadUInt32BigEndian(_overflow);
            int some = Math.Min(part, bytes - filled);
            _overflow.AsSpan(4, some).CopyTo(_assembled.AsSpan(filled));
            filled += some;
        }
        payload = _assembled.AsSpan(0, bytes);
        return next == 0;
    }

    /// <summary>Reads a number of one to nine bytes: seven bits in each, the highest first, eight in the ninth.</summary>
    public static bool TryVarint(ref ReadOnlySpan<byte> from, out long value)
    {
        value = 0;
        for (int i = 0; i < 9 && i < from.Length; i++)
        {
            byte b = from[i];
            if (i == 8 || b < 0x80)
            {
                value = i == 8 ? (value << 8) | b : (value << 7) | b;
                from = from[(i + 1)..];
                return true;
            }
            value = (value << 7) | (uint)(b & 0x7f);
        }
        return false;
    }
}
