// SqliteBtreePages.cs: what is on the pages of a b-tree, of a table or an index: cells, the pages they point at, records, and what of
// them lies on overflow pages.
// Source: "The SQLite Database File Format", sections 1.6 (b-tree pages), 1.7 (overflow pages).
// Holds: (1) nothing outside of a page is read; (2) what is not laid out exactly as that document says is refused.
using System.Buffers.Binary;
using System.Runtime.CompilerServices;

namespace Transferra.Stores.Sqlite;

/// <summary>Reads b-tree pages; used by one thread at a time.</summary>
internal sealed class SqliteBtreePages(SqlitePageFile pages)
{
    public const byte LeafOfTable = 13, InteriorOfTable = 5, LeafOfIndex = 10, InteriorOfIndex = 2;

    /// <summary>Bytes of the longest record that the engine takes.</summary>
    public const int LargestRecord = 1_000_000_000;

    private byte[] _assembled = [];
    private byte[]? _overflow;

    /// <summary>The number of the record that <see cref="TryCell"/> read last.</summary>
    public long Number { get; private set; }

    /// <summary>How many cells a page has.</summary>
    public static int CellsOf(ReadOnlySpan<byte> page) => BinaryPrimitives.ReadUInt16BigEndian(page[3..]);

    /// <summary>The page that a cell of an interior page points at; behind the last cell, the one on the right.</summary>
    public static long Child(ReadOnlySpan<byte> page, int cells, int cell) =>
        BinaryPrimitives.ReadUInt32BigEndian(cell == cells ? page[8..]
            : page[BinaryPrimitives.ReadUInt16BigEndian(page[(12 + (2 * cell))..])..]);

    /// <summary>The greatest record number below the page that a cell of a table's interior page points at.</summary>
    public static long KeyOf(ReadOnlySpan<byte> page, int cell)
    {
        ReadOnlySpan<byte> rest = page[(BinaryPrimitives.ReadUInt16BigEndian(page[(12 + (2 * cell))..]) + 4)..];
        return TryVarint(ref rest, out long key) ? key : 0;
    }

    /// <summary>Whether all cells of a page lie within it; none of a page where one does not is trusted, as the engine trusts
    /// none.</summary>
    public bool AreWithin(ReadOnlySpan<byte> page, int headerBytes, int cells, bool isLeaf)
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

    /// <summary>Whether all cells of an inner page of an index begin within it.</summary>
    public bool ArePointersWithin(ReadOnlySpan<byte> page, int cells)
    {
        int first = 12 + (2 * cells);
        if (first > pages.UsableBytes) return false;
        for (int pointer = 12; pointer < first; pointer += 2)
            if (BinaryPrimitives.ReadUInt16BigEndian(page[pointer..]) is var at && (at < first || at > pages.UsableBytes - 4)) return false;
        return true;
    }

    /// <summary>Bytes of the longest record of a table that lies in its page as a whole (section 1.6: X).</summary>
    public int MostInTable => pages.UsableBytes - 35;

    /// <summary>Of an index, or of a table that is kept like one; shorter, as a page has to hold four of them.</summary>
    public int MostInIndex => ((pages.UsableBytes - 12) * 64 / 255) - 23;

    private int LocalBytes(long bytes) => LocalBytes(bytes, MostInTable);

    /// <summary>How much of a record that does not fit its page is kept in it (section 1.6: K, or M where that is too much).</summary>
    /// <param name="bytes">Of the whole record.</param>
    /// <param name="most">Bytes of the longest that would fit.</param>
    public int LocalBytes(long bytes, int most)
    {
        int usable = pages.UsableBytes, least = ((usable - 12) * 32 / 255) - 23, here = least + (int)((bytes - least) % (usable - 4));
        return here > most ? least : here;
    }

    /// <summary>The record of a cell of a leaf.</summary>
    /// <param name="page">The leaf, whose cells are within it.</param>
    /// <param name="cell">Which.</param>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public bool TryCell(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> payload)
    {
        payload = default;
        return TryHead(page, cell, out ReadOnlySpan<byte> rest, out long bytes) && TryWhole(rest, bytes, MostInTable, out payload);
    }

    /// <summary>What lies in the leaf itself of the record of a cell.</summary>
    /// <param name="page">The leaf, whose cells are within it.</param>
    /// <param name="cell">Which.</param>
    /// <param name="beginning">The record, or the beginning of one that goes on elsewhere.</param>
    /// <param name="bytes">Of the whole record.</param>
    public bool TryBeginning(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> beginning, out long bytes)
    {
        if (!TryHead(page, cell, out beginning, out bytes)) return false;
        int here = bytes <= MostInTable ? (int)bytes : LocalBytes(bytes);
        if (here > beginning.Length) return false;
        beginning = beginning[..here];
        return true;
    }

    private bool TryHead(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> rest, out long bytes)
    {
        rest = page[BinaryPrimitives.ReadUInt16BigEndian(page[(8 + (2 * cell))..])..pages.UsableBytes];
        if (!TryVarint(ref rest, out bytes) || !TryVarint(ref rest, out long number) || bytes is < 1 or > LargestRecord) return false;
        Number = number;
        return true;
    }

    /// <summary>The entry of a cell of an index's page, be it a leaf or not.</summary>
    /// <param name="page">The page.</param>
    /// <param name="cell">Which; there are that many.</param>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public bool TryEntry(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> payload)
    {
        payload = default;
        bool isLeaf = page[0] == LeafOfIndex;
        int header = isLeaf ? 8 : 12, pointer = header + (2 * cell), first = header + (2 * CellsOf(page));
        if (first > pages.UsableBytes) return false;
        int at = BinaryPrimitives.ReadUInt16BigEndian(page[pointer..]);
        if (at < first || at > pages.UsableBytes - 4) return false;
        ReadOnlySpan<byte> rest = page[(isLeaf ? at : at + 4)..pages.UsableBytes];
        return TryVarint(ref rest, out long bytes) && bytes is >= 1 and <= LargestRecord && TryWhole(rest, bytes, MostInIndex, out payload);
    }

    private bool TryWhole(ReadOnlySpan<byte> rest, long bytes, int most, out ReadOnlySpan<byte> payload)
    {
        payload = default;
        if (bytes <= most)
        {
            if (bytes > rest.Length) return false;
            payload = rest[..(int)bytes];
            return true;
        }
        int here = LocalBytes(bytes, most);
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
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static bool TryVarint(ref ReadOnlySpan<byte> from, out long value)
    {
        if (from.Length == 0 || from[0] >= 0x80) return TryLongVarint(ref from, out value);
        value = from[0];
        from = from[1..];
        return true;
    }

    private static bool TryLongVarint(ref ReadOnlySpan<byte> from, out long value)
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
