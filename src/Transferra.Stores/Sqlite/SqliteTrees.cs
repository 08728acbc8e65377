// SqliteTrees.cs: which b-trees of a SQLite file a revision leaves without entries, and whether that is most of the file.
// Holds: (1) a table is emptied only where the revision takes all its records out and nothing of them is asked for afterwards.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <param name="pages">The file.</param>
/// <param name="connection">To it.</param>
/// <param name="ask">Asks within the connection's read transaction.</param>
internal sealed class SqliteTrees(SqlitePageFile pages, SqliteConnection connection, Func<string, QueryAnswer> ask)
{
    // The engine itself follows no deeper tree.
    private const int DeepestTree = 20;

    private sealed record Tree(bool IsTable, string Name, string Table, long Root);

    /// <summary>Divides the file's trees.</summary>
    /// <param name="revision">What is to be done to a copy of the file.</param>
    /// <param name="kept">Roots of the trees that it leaves as they are.</param>
    /// <param name="emptied">Roots of those that it empties or removes.</param>
    /// <returns>False when those are less than half of the file: then a copy of the whole costs less.</returns>
    public bool TryDivide(StoreRevision revision, out IReadOnlyList<long> kept, out IReadOnlyList<long> emptied)
    {
        Dictionary<string, RevisedTable?> taken = TakenOut(revision);
        Tree[] trees = [.. ask("SELECT type, name, tbl_name, rootpage FROM sqlite_schema WHERE rootpage > 0").Rows.Select(row => new Tree(
            row[0] == "table", row[1]!, SqliteLayouts.Folded(row[2]!), long.Parse(row[3]!, CultureInfo.InvariantCulture)))];
        (kept, emptied) = ([], []);
        if (!IsMost([.. trees.Where(tree => taken.ContainsKey(tree.Table))])) return false;
        var numbers = new SqliteRecordNumbers(connection);
        foreach (Tree tree in trees.Where(tree => tree.IsTable && taken.GetValueOrDefault(tree.Table) is { } revised
            && numbers.NeedsRecords(revised, tree.Name)))
            taken.Remove(tree.Table);
        emptied = [.. trees.Where(tree => taken.ContainsKey(tree.Table)).Select(tree => tree.Root)];
        kept = [.. trees.Where(tree => !taken.ContainsKey(tree.Table)).Select(tree => tree.Root)];
        return IsMost([.. trees.Where(tree => taken.ContainsKey(tree.Table))]);
    }

    private static Dictionary<string, RevisedTable?> TakenOut(StoreRevision revision)
    {
        Dictionary<string, RevisedTable?> taken = revision.Removed.Select(SqliteLayouts.Folded).Distinct().ToDictionary(name => name,
            _ => (RevisedTable?)null);
        foreach (RevisedTable table in revision.Tables)
            if (table.Was is not null) taken[SqliteLayouts.Folded(table.Was.Name)] = table;
        return taken;
    }

    private bool IsMost(IReadOnlyList<Tree> trees) => trees.Count > 0 && 2 * trees.Sum(tree => AboutPages(tree.Root)) >= pages.Pages;

    // From how many pages the first page of each level leads to; what does not fit the records' pages is not counted.
    private double AboutPages(long root)
    {
        double about = 1, level = 1;
        long page = root;
        var btree = new SqliteBtreePages(pages);
        for (int depth = 0; depth < DeepestTree && page > 1 && pages.TryGet(page, out ReadOnlySpan<byte> content); depth++)
        {
            int cells = SqliteBtreePages.CellsOf(content);
            if (content[0] is not (SqliteBtreePages.InteriorOfTable or SqliteBtreePages.InteriorOfIndex) || cells == 0
                || !btree.ArePointersWithin(content, cells)) break;
            level *= cells + 1;
            about += level;
            page = SqliteBtreePages.Child(content, cells, 0);
        }
        return about;
    }
}
