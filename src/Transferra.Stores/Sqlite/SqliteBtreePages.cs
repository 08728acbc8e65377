// SqliteBtreePages.cs: what is on the pages of a table's b-tree: cells, the pages they point at, records, and what of them lies on
// overflow pages.
// Source: "The SQLite Database File Format", sections 1.6 (b-tree pages), 1.7 (overflow pages).
// Holds: (1) nothing outside of a page is read; (2) what is not laid out exactly as that document says is refused.
using System.Buffers.Binary;
using System.Runtime.CompilerServices;

namespace Transferra.Stores.Sqlite;

/// <summary>Reads b-tree pages; used by one thread at a time.</summary>
internal sealed class SqliteBtreePages(SqlitePageFile pages)
{
    public const byte LeafOfTable = 13, InteriorOfTable = 5, LeafOfIndex = 10, InteriorOfIndex = 2;

    private const int LargestRecord = 1_000_000_000;

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

    // How much of a record that does not fit its page is kept in it (section 1.6: K, or M where that is too much).
    private int LocalBytes(long bytes)
    {
        int usable = pages.UsableBytes, least = ((usable - 12) * 32 / 255) - 23, here = least + (int)((bytes - least) % (usable - 4));
        return here > usable - 35 ? least : here;
    }

    /// <summary>The record of a cell of a leaf.</summary>
    /// <param name="page">The leaf, whose cells are within it.</param>
    /// <param name="cell">Which.</param>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public bool TryCell(ReadOnlySpan<byte> page, int cell, out ReadOnlySpan<byte> payload)
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
