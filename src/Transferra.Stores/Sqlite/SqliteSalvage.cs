// SqliteSalvage.cs: of a damaged or cut-off file, every table page that is whole, whatever led to it.
// Why pages: the engine reaches a record only by the pages above it. Where one of those is gone, what lies below is whole and nobody
// points to it.
// How: the trees are walked from their roots as far as they go, and what is missing is kept as gaps between record numbers; then each
// whole leaf that no tree reached, and that is not free, goes to the one table that has a gap for its record numbers and as many columns
// as its records. Where two could have it, neither gets it.
// Source: "The SQLite Database File Format", sections 1.5 (freelist), 1.6 (b-tree pages).
using System.Buffers.Binary;
using System.Collections;
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>A table's tree.</summary>
/// <param name="Name">Of the table.</param>
/// <param name="Layout">How its records lie.</param>
internal sealed record SqliteTree(string Name, SqliteTableLayout Layout)
{
    /// <summary>Its leaves that are whole, and those that nothing points to any more.</summary>
    public List<long> Leaves { get; } = [];

    /// <summary>Record numbers behind the first and up to the second that no whole page was found for.</summary>
    public List<(long After, long UpTo)> Gaps { get; private set; } = [];

    /// <summary>Pages that may be of this table or of another.</summary>
    public List<string> Undecided { get; } = [];

    /// <summary>Takes the numbers of a leaf out of the gaps.</summary>
    public void Fill(long first, long last) => Gaps = [.. Gaps.SelectMany(gap => gap.UpTo < first || gap.After >= last ? [gap]
        : ((long After, long UpTo)[])[(gap.After, first - 1), (last, gap.UpTo)]).Where(gap => gap.After < gap.UpTo)];
}

/// <summary>Finds the pages; once for all tables of a store.</summary>
internal sealed class SqliteSalvage
{
    private const int DeepestTree = 40, FirstFreePage = 32;

    private readonly SqlitePageFile _pages;
    private readonly SqliteBtreePages _btree;
    private readonly BitArray _seen;

    /// <param name="pages">Of the file.</param>
    /// <param name="tables">Tables with record numbers.</param>
    /// <param name="others">Roots of all other trees: indexes and tables without record numbers.</param>
    public SqliteSalvage(SqlitePageFile pages, IReadOnlyList<SqliteTree> tables, IEnumerable<long> others)
    {
        (_pages, _btree, Tables) = (pages, new SqliteBtreePages(pages), tables);
        _seen = new BitArray((int)Math.Min(int.MaxValue - 1, pages.Pages + 1));
        foreach (SqliteTree table in tables) Walk(table.Layout.RootPage, long.MinValue, long.MaxValue, 0, table);
        foreach (long root in others) Walk(root, 0, 0, 0, null);
        PassOverFreePages();
        if (tables.Any(table => table.Gaps.Count > 0)) GiveOutOrphans();
    }

    /// <summary>Its tables, with what was found of each.</summary>
    public IReadOnlyList<SqliteTree> Tables { get; }

    private void Walk(long page, long after, long upTo, int depth, SqliteTree? table)
    {
        byte[] content = new byte[_pages.PageBytes];
        bool isIndex = table is null;
        if (page <= 1 || page >= _seen.Length || _seen[(int)page] || depth > DeepestTree || !_pages.TryRead(page, content)
            || !IsWhole(content, out bool isLeaf)
            || (!isIndex && content[0] is SqliteBtreePages.LeafOfIndex or SqliteBtreePages.InteriorOfIndex))
        {
            if (table is not null && after < upTo) table.Gaps.Add((after, upTo));
            return;
        }
        _seen[(int)page] = true;
        if (isLeaf)
        {
            table?.Leaves.Add(page);
            return;
        }
        int cells = SqliteBtreePages.CellsOf(content);
        for (int cell = 0; cell <= cells; cell++)
        {
            long last = cell == cells || isIndex ? upTo : SqliteBtreePages.KeyOf(content, cell);
            Walk(SqliteBtreePages.Child(content, cells, cell), after, last, depth + 1, table);
            after = last;
        }
    }

    private bool IsWhole(ReadOnlySpan<byte> page, out bool isLeaf)
    {
        int cells = SqliteBtreePages.CellsOf(page);
        isLeaf = page[0] is SqliteBtreePages.LeafOfTable or SqliteBtreePages.LeafOfIndex;
        return page[0] switch
        {
            SqliteBtreePages.LeafOfTable => _btree.AreWithin(page, 8, cells, isLeaf: true),
            SqliteBtreePages.InteriorOfTable => _btree.AreWithin(page, 12, cells, isLeaf: false),
            // Of indexes only the pages are of interest, not their cells.
            SqliteBtreePages.LeafOfIndex => true,
            SqliteBtreePages.InteriorOfIndex => _btree.ArePointersWithin(page, cells),
            _ => false,
        };
    }

    // What lies on free pages was deleted.
    private void PassOverFreePages()
    {
        byte[] page = new byte[_pages.PageBytes];
        if (!_pages.TryRead(1, page)) return;
        for (long trunk = BinaryPrimitives.ReadUInt32BigEndian(page.AsSpan(FirstFreePage)); trunk > 1 && trunk < _seen.Length
            && !_seen[(int)trunk] && _pages.TryRead(trunk, page);
            trunk = BinaryPrimitives.ReadUInt32BigEndian(page))
        {
            _seen[(int)trunk] = true;
            int count = (int)Math.Min(BinaryPrimitives.ReadUInt32BigEndian(page.AsSpan(4)), (uint)(page.Length / 4 - 2));
            for (int i = 0; i < count; i++)
                if (BinaryPrimitives.ReadUInt32BigEndian(page.AsSpan(8 + 4 * i)) is var free
                    && free < _seen.Length) _seen[(int)free] = true;
        }
    }

    private void GiveOutOrphans()
    {
        byte[] page = new byte[_pages.PageBytes];
        for (int number = 2; number < _seen.Length; number++)
        {
            if (_seen[number] || !_pages.TryRead(number, page) || page[0] != SqliteBtreePages.LeafOfTable
                || SqliteBtreePages.CellsOf(page) == 0) continue;
            if (!IsWhole(page, out _) || Numbers(page) is not { } records) continue;
            SqliteTree[] mayHave = [.. Tables.Where(table => table.Gaps.Any(gap => gap.After < records.First && records.Last <= gap.UpTo)
                && records.Columns <= table.Layout.Columns.Count)];
            // Records have fewer columns than their table only where it was widened later.
            if (mayHave.Length > 1 && mayHave.Where(table => table.Layout.Columns.Count == records.Columns)
                .ToArray() is { Length: > 0 } same) mayHave = same;
            if (mayHave is [var only])
            {
                only.Leaves.Add(number);
                only.Fill(records.First, records.Last);
                continue;
            }
            foreach (SqliteTree table in mayHave)
                table.Undecided.Add(string.Create(CultureInfo.InvariantCulture,
                    $"page {number} with the records {records.First} to {records.Last}, which may as well be of "
                        + $"{string.Join(", ", mayHave.Where(other => other != table).Select(other => other.Name))}"));
        }
    }

    // The first and last record number of a leaf and its columns; null where its records are not in order, or not alike.
    private (long First, long Last, int Columns)? Numbers(ReadOnlySpan<byte> page)
    {
        int cells = SqliteBtreePages.CellsOf(page), most = 0;
        long first = 0, last = 0;
        for (int cell = 0; cell < cells; cell++)
        {
            // A record whose overflow pages are lost still has its number.
            if (!_btree.TryCell(page, cell, out ReadOnlySpan<byte> record)) continue;
            if (cell > 0 && _btree.Number <= last) return null;
            if (cell == 0) first = _btree.Number;
            last = _btree.Number;
            if (ColumnsOf(record) is not { } columns) return null;
            most = Math.Max(most, columns);
        }
        return most == 0 ? null : (first, last, most);
    }

    private static int? ColumnsOf(ReadOnlySpan<byte> record)
    {
        ReadOnlySpan<byte> rest = record;
        if (!SqliteBtreePages.TryVarint(ref rest, out long header) || header < record.Length - rest.Length
            || header > record.Length) return null;
        int columns = 0;
        for (rest = record[(record.Length - rest.Length)..(int)header]; !rest.IsEmpty; columns++)
            if (!SqliteBtreePages.TryVarint(ref rest, out _)) return null;
        return columns;
    }
}

/// <summary>Delivers the records of the pages that were found of a table.</summary>
internal sealed class SqliteSalvageReader(SqlitePageFile pages, SqliteTree tree, TableShape table, SqliteCells cells,
    ICollection<LostPart> lost) : IRecordReader
{
    private readonly SqliteBtreePages _btree = new(pages);
    private readonly SqliteRecordDecoder _decoder = new(tree.Layout, table, cells);
    private readonly byte[] _page = new byte[pages.PageBytes];
    private int _leaf = -1, _cell, _cells;

    public bool Fill(RecordBatch batch)
    {
        for (int rows = batch.RowCount; rows < batch.Limits.MaxRows;)
        {
            if (_cell == _cells)
            {
                if (++_leaf >= tree.Leaves.Count)
                {
                    Tell();
                    return false;
                }
                (_cell, _cells) = (0, pages.TryRead(tree.Leaves[_leaf], _page) ? SqliteBtreePages.CellsOf(_page) : 0);
                continue;
            }
            bool isThere = _btree.TryCell(_page, _cell++, out ReadOnlySpan<byte> record);
            if (isThere && _decoder.TryTake(batch, batch.Vectors, rows, record, _btree.Number))
            {
                rows++;
                if (batch.IsHeavy || (rows % 64 == 0 && batch.IsFull)) break;
                continue;
            }
            batch.Truncate(rows);
            lost.Add(new LostPart(table.Name, FormattableString.Invariant($"record {_btree.Number}"),
                isThere ? "it does not have the layout of a record" : "part of it lies on pages that are damaged or not there"));
        }
        return true;
    }

    private void Tell()
    {
        if (_leaf > tree.Leaves.Count) return;
        var gaps = new List<(long After, long UpTo)>();
        foreach ((long after, long upTo) in tree.Gaps.Order())
        {
            if (gaps.Count > 0 && gaps[^1].UpTo >= after) gaps[^1] = (gaps[^1].After, Math.Max(gaps[^1].UpTo, upTo));
            else gaps.Add((after, upTo));
        }
        foreach ((long after, long upTo) in gaps) lost.Add(new LostPart(table.Name, Words(after, upTo),
            "the pages they lie on are damaged or not there"));
        foreach (string undecided in tree.Undecided) lost.Add(new LostPart(table.Name, undecided, "nothing points to the page any more"));
    }

    private static string Words(long after, long upTo) => (after, upTo) switch
    {
        (long.MinValue, long.MaxValue) => "the whole table",
        (long.MinValue, _) => FormattableString.Invariant($"everything before record {upTo + 1}"),
        (_, long.MaxValue) => FormattableString.Invariant($"everything after record {after}"),
        _ when upTo == after + 1 => FormattableString.Invariant($"record {upTo}"),
        _ => FormattableString.Invariant($"record {after + 1} to {upTo}"),
    };

    public void Dispose() { }
}
