// SqliteTreeWalk.cs: all pages of b-trees, those with what does not fit a record's page among them.
// Source: "The SQLite Database File Format", sections 1.6 (b-tree pages), 1.7 (overflow pages).
// Holds: (1) a page is given once; where one comes up twice, or anything else is not as that document says, the walk ends with false.
using System.Buffers.Binary;

namespace Transferra.Stores.Sqlite;

/// <summary>Takes a page of a tree.</summary>
/// <param name="page">Its number.</param>
/// <param name="content">Valid during the call.</param>
internal delegate void TakePage(long page, ReadOnlySpan<byte> content);

/// <param name="pages">The file, for this walk alone.</param>
/// <param name="take">Is given each page, in the order of the tree.</param>
internal sealed class SqliteTreeWalk(SqlitePageFile pages, TakePage take)
{
    // Of page 1, the root of the schema, in front of which the file's header lies (section 1.3).
    private const int FileHeaderBytes = 100;

    private readonly SqliteBtreePages _btree = new(pages);
    private readonly ulong[] _seen = new ulong[(pages.Pages / 64) + 1];
    private readonly Stack<long> _below = [];
    private readonly List<(long First, long Pages)> _chains = [];

    /// <summary>Whether a page was given, or is spoken for.</summary>
    public bool Has(long page) => (_seen[page / 64] & (1UL << (int)(page % 64))) != 0;

    /// <summary>Takes a page for one that no tree may have.</summary>
    /// <returns>False when one has it already.</returns>
    public bool Reserve(long page)
    {
        if (page < 1 || page > pages.Pages || Has(page)) return false;
        _seen[page / 64] |= 1UL << (int)(page % 64);
        return true;
    }

    /// <summary>Gives all pages of a tree.</summary>
    /// <param name="root">Its root.</param>
    /// <returns>False when the tree is not as it should be.</returns>
    public bool Walk(long root)
    {
        _below.Clear();
        _below.Push(root);
        while (_below.TryPop(out long page))
        {
            if (!TryTake(page, out ReadOnlySpan<byte> content)) return false;
            _chains.Clear();
            if (!TryRead(content[..pages.UsableBytes], page == 1 ? FileHeaderBytes : 0)) return false;
            foreach ((long first, long count) in _chains)
                if (!TryChain(first, count)) return false;
        }
        return true;
    }

    private bool TryTake(long page, out ReadOnlySpan<byte> content)
    {
        content = default;
        if (!Reserve(page) || !pages.TryGet(page, out content)) return false;
        take(page, content);
        return true;
    }

    // Notes what a page points at: the pages below it, and those on which records go on.
    private bool TryRead(ReadOnlySpan<byte> page, int header)
    {
        byte kind = page[header];
        bool isInterior = kind is SqliteBtreePages.InteriorOfTable or SqliteBtreePages.InteriorOfIndex;
        if (!isInterior && kind is not (SqliteBtreePages.LeafOfTable or SqliteBtreePages.LeafOfIndex)) return false;
        int cells = BinaryPrimitives.ReadUInt16BigEndian(page[(header + 3)..]), first = header + (isInterior ? 12 : 8),
            end = first + (2 * cells);
        if (end > page.Length) return false;
        if (isInterior) _below.Push(BinaryPrimitives.ReadUInt32BigEndian(page[(header + 8)..]));
        // The last one first, so that the first is on top.
        for (int pointer = end - 2; pointer >= first; pointer -= 2)
        {
            int at = BinaryPrimitives.ReadUInt16BigEndian(page[pointer..]);
            if (at < end || at > page.Length - 4) return false;
            ReadOnlySpan<byte> cell = page[at..];
            if (isInterior)
            {
                _below.Push(BinaryPrimitives.ReadUInt32BigEndian(cell));
                cell = cell[4..];
            }
            if (kind != SqliteBtreePages.InteriorOfTable && !TryRecord(cell, kind == SqliteBtreePages.LeafOfTable)) return false;
        }
        return true;
    }

    private bool TryRecord(ReadOnlySpan<byte> cell, bool isNumbered)
    {
        if (!SqliteBtreePages.TryVarint(ref cell, out long bytes) || (isNumbered && !SqliteBtreePages.TryVarint(ref cell, out _))
            || bytes is < 0 or > SqliteBtreePages.LargestRecord) return false;
        int most = isNumbered ? _btree.MostInTable : _btree.MostInIndex;
        if (bytes <= most) return bytes <= cell.Length;
        int here = _btree.LocalBytes(bytes, most), part = pages.UsableBytes - 4;
        if (cell.Length < here + 4) return false;
        _chains.Add((BinaryPrimitives.ReadUInt32BigEndian(cell[here..]), (bytes - here + part - 1) / part));
        return true;
    }

    private bool TryChain(long first, long count)
    {
        for (long page = first; ; count--)
        {
            if (count == 0) return page == 0;
            if (!TryTake(page, out ReadOnlySpan<byte> content)) return false;
            page = BinaryPrimitives.ReadUInt32BigEndian(content);
        }
    }
}
