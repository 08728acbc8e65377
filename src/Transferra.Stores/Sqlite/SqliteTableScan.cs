// SqliteTableScan.cs: the records of a table with record numbers, in their order, straight from the leaves of its b-tree.
// Why: the engine's way of handing over cell by cell costs several times what the reading of a page does; baselines, matches, checks and
// restores read every record of a store.
// Source: "The SQLite Database File Format", section 1.6 (b-tree pages); the pages themselves are read by SqliteBtreePages.cs.
// Holds: (1) what is not laid out exactly as that document says is not interpreted here: the scan gives up at a record, and whoever uses
// it asks the engine from there on.
using System.Buffers.Binary;

namespace Transferra.Stores.Sqlite;

/// <param name="pages">The file.</param>
/// <param name="rootPage">Of the table's tree.</param>
/// <param name="subtrees">Pages of it below which the records are to be read, from <see cref="Subtrees"/>; null for all records.</param>
internal sealed class SqliteTableScan(SqlitePageFile pages, long rootPage, IReadOnlyList<long>? subtrees = null)
{
    /// <summary>What a step came to.</summary>
    public enum Step { Record, End, GaveUp }

    // The engine itself follows no deeper tree.
    private const int DeepestTree = 20;
    private const byte LeafOfTable = SqliteBtreePages.LeafOfTable, InteriorOfTable = SqliteBtreePages.InteriorOfTable;

    private sealed class Level(int pageBytes)
    {
        public readonly byte[] Page = new byte[pageBytes];
        public int Cells, Next;
    }

    private readonly List<Level> _levels = [];
    private int _depth = -1;
    private readonly IReadOnlyList<long> _tops = subtrees ?? [rootPage];
    private int _nextTop;
    private long _leaf;
    private int _cells, _next;
    private readonly SqliteBtreePages _btree = new(pages);

    /// <summary>The record's number.</summary>
    public long Number => _btree.Number;

    /// <summary>Goes to the next record.</summary>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public Step Next(out ReadOnlySpan<byte> payload)
    {
        payload = default;
        Step step = GoOn();
        return step != Step.Record ? step : TryRecord(out payload) ? Step.Record : Step.GaveUp;
    }

    /// <summary>Goes to the next record, of which only what lies in its leaf is read.</summary>
    /// <param name="beginning">Its header and values as far as they go; valid until the next call.</param>
    /// <param name="bytes">Of the whole record.</param>
    public Step NextBeginning(out ReadOnlySpan<byte> beginning, out long bytes)
    {
        beginning = default;
        bytes = 0;
        Step step = GoOn();
        return step != Step.Record ? step : pages.TryGet(_leaf, out ReadOnlySpan<byte> leaf)
            && _btree.TryBeginning(leaf, _next - 1, out beginning, out bytes) ? Step.Record : Step.GaveUp;
    }

    /// <summary>The whole of the record to which the last step went.</summary>
    /// <param name="payload">Its header and values; valid until the next call.</param>
    public bool TryRecord(out ReadOnlySpan<byte> payload)
    {
        payload = default;
        return pages.TryGet(_leaf, out ReadOnlySpan<byte> leaf) && _btree.TryCell(leaf, _next - 1, out payload);
    }

    private Step GoOn()
    {
        while (_next >= _cells)
        {
            if (NextLeaf() is not { } page) return Step.End;
            if (!Descend(page)) return Step.GaveUp;
        }
        _next++;
        return Step.Record;
    }

    /// <summary>Counts the records of a table from the number of cells of its pages; to be asked before the first step.</summary>
    /// <returns>Null when the scan gave up.</returns>
    public long? Count()
    {
        long records = 0;
        while (NextLeaf() is { } page)
        {
            if (!Descend(page)) return null;
            records += _cells;
        }
        return records;
    }

    // The page below which the next leaf is; null behind the last one.
    private long? NextLeaf()
    {
        while (_depth >= 0 && _levels[_depth].Next > _levels[_depth].Cells) _depth--;
        if (_depth >= 0) return Child(_levels[_depth], _levels[_depth].Next++);
        return _nextTop < _tops.Count ? _tops[_nextTop++] : null;
    }

    /// <summary>Pages of a table's tree, in order, below which all its records are.</summary>
    /// <param name="pages">The file.</param>
    /// <param name="rootPage">Of the tree.</param>
    /// <param name="wanted">So many, or more; fewer of a small table.</param>
    /// <returns>Null where the tree is not as it should be.</returns>
    public static IReadOnlyList<long>? Subtrees(SqlitePageFile pages, long rootPage, int wanted)
    {
        var btree = new SqliteBtreePages(pages);
        List<long> level = [rootPage];
        for (int depth = 0; level.Count < wanted; depth++)
        {
            var below = new List<long>();
            foreach (long page in level)
            {
                if (page <= 1 || depth == DeepestTree || !pages.TryGet(page, out ReadOnlySpan<byte> content)) return null;
                if (content[0] == LeafOfTable) return level;
                int cells = SqliteBtreePages.CellsOf(content);
                if (content[0] != InteriorOfTable || cells == 0 || !btree.AreWithin(content, 12, cells, isLeaf: false)) return null;
                for (int cell = 0; cell <= cells; cell++) below.Add(SqliteBtreePages.Child(content, cells, cell));
            }
            level = below;
        }
        return level;
    }

    private static long Child(Level level, int cell) => SqliteBtreePages.Child(level.Page, level.Cells, cell);

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
                return _btree.AreWithin(content, 8, cells, isLeaf: true);
            }
            if (content[0] != InteriorOfTable || _depth + 1 == DeepestTree || !_btree.AreWithin(content, 12, cells,
                isLeaf: false)) return false;
            _depth++;
            if (_depth == _levels.Count) _levels.Add(new Level(pages.PageBytes));
            Level level = _levels[_depth];
            content.CopyTo(level.Page);
            (level.Cells, level.Next) = (cells, 1);
            page = Child(level, 0);
        }
    }
}
