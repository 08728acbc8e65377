// SqliteIndexScan.cs: the entries of an index in their order, straight from the pages of its b-tree.
// Source: "The SQLite Database File Format", section 1.6 (b-tree pages): unlike a table's, the inner pages of an index hold entries, each
// between those of the page on its left and those behind it.
// Holds: (1) what is not laid out exactly as that document says is not interpreted here: the scan gives up.
namespace Transferra.Stores.Sqlite;

/// <param name="pages">The file.</param>
/// <param name="rootPage">Of the index's tree.</param>
internal sealed class SqliteIndexScan(SqlitePageFile pages, long rootPage)
{
    // The engine itself follows no deeper tree.
    private const int DeepestTree = 20;

    private sealed class Level(int pageBytes)
    {
        public readonly byte[] Page = new byte[pageBytes];
        public int Cells, Next;
    }

    private readonly List<Level> _levels = [];
    private readonly SqliteBtreePages _btree = new(pages);
    private readonly byte[] _leaf = new byte[pages.PageBytes];
    private int _depth = -1, _cells, _next;
    private long? _below;
    private bool _begun;

    /// <summary>Goes to the next entry.</summary>
    /// <param name="entry">Its header and values; valid until the next call.</param>
    public SqliteTableScan.Step Next(out ReadOnlySpan<byte> entry)
    {
        entry = default;
        if (!_begun) (_below, _begun) = (rootPage, true);
        if (_below is { } page && !Descend(page)) return SqliteTableScan.Step.GaveUp;
        _below = null;
        if (_next < _cells) return Given(_btree.TryEntry(_leaf, _next++, out entry));
        while (_depth >= 0 && _levels[_depth].Next == _levels[_depth].Cells) _depth--;
        if (_depth < 0) return SqliteTableScan.Step.End;
        Level level = _levels[_depth];
        int cell = level.Next++;
        _below = SqliteBtreePages.Child(level.Page, level.Cells, level.Next);
        return Given(_btree.TryEntry(level.Page, cell, out entry));
    }

    private static SqliteTableScan.Step Given(bool isThere) => isThere ? SqliteTableScan.Step.Record : SqliteTableScan.Step.GaveUp;

    // Down to the first leaf below a page.
    private bool Descend(long page)
    {
        while (true)
        {
            if (page <= 1 || !pages.TryGet(page, out ReadOnlySpan<byte> content)) return false;
            int cells = SqliteBtreePages.CellsOf(content);
            if (content[0] == SqliteBtreePages.LeafOfIndex)
            {
                if (cells == 0 && page != rootPage) return false; // only an empty index has an empty page
                content.CopyTo(_leaf);
                (_cells, _next) = (cells, 0);
                return true;
            }
            if (content[0] != SqliteBtreePages.InteriorOfIndex || cells == 0 || _depth + 1 == DeepestTree
                || !_btree.ArePointersWithin(content, cells)) return false;
            _depth++;
            if (_depth == _levels.Count) _levels.Add(new Level(pages.PageBytes));
            Level level = _levels[_depth];
            content.CopyTo(level.Page);
            (level.Cells, level.Next) = (cells, 0);
            page = SqliteBtreePages.Child(content, cells, 0);
        }
    }
}
