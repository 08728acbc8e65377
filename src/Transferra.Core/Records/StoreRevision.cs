// StoreRevision.cs: what has to be done to an exact copy of an old store so that it can take the records of the new version.
// Why in place: whatever nobody speaks of (triggers, rights, comments, checks, counters, other tables) stays as it is by itself.
namespace Transferra.Core.Records;

/// <summary>A column of a table that is filled anew.</summary>
/// <param name="Column">As the new version has it.</param>
/// <param name="From">The old column whose place it takes; null when it is a new one.</param>
/// <param name="IsSame">Whether it holds what the old one held, so that its declaration stays as the store has it.</param>
public sealed record RevisedColumn(ColumnShape Column, string? From, bool IsSame);

/// <summary>A table that is filled anew.</summary>
/// <param name="Shape">As the new version has it.</param>
/// <param name="Was">The old table whose place it takes, as the old version has it; null when it is a new one.</param>
/// <param name="Columns">One for each column of the shape, in its order.</param>
public sealed record RevisedTable(TableShape Shape, TableShape? Was, IReadOnlyList<RevisedColumn> Columns)
{
    /// <summary>Whether columns that are not named stay, as in a table that the vendor made; otherwise they go.</summary>
    public bool KeepsOtherColumns { get; init; }

    /// <summary>Whether it gets another name; another case is one, as some engines tell them apart.</summary>
    public bool IsRenamed => Was is not null && Was.Name != Shape.Name;

    /// <summary>The columns that get another name.</summary>
    public IEnumerable<RevisedColumn> Renamed =>
        Columns.Where(column => column.From is not null && column.From != column.Column.Name);

    /// <summary>What an old column is called now; null when it is gone.</summary>
    public string? NameOf(string oldColumn) =>
        Columns.FirstOrDefault(column => column.From is not null && Same(column.From, oldColumn))?.Column.Name;

    /// <summary>Whether the new version has another key.</summary>
    public bool HasOtherKey => Was is null || !NamesOf(Was.Key).SequenceEqual(Shape.Key, StringComparer.OrdinalIgnoreCase);

    private IEnumerable<string> NamesOf(IEnumerable<string> columns) => columns.Select(column => NameOf(column) ?? "");

    /// <summary>Whether two names are one, in any case.</summary>
    public static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}

/// <summary>What has to be done to a copy.</summary>
/// <param name="Tables">Tables that are filled anew.</param>
/// <param name="Kept">Tables that stay as they are, records and all, by their new version's names.</param>
/// <param name="Removed">Old tables that the new version has no more.</param>
public sealed record StoreRevision(IReadOnlyList<RevisedTable> Tables, IReadOnlyList<string> Kept, IReadOnlyList<string> Removed)
{
    /// <summary>Links from a table that is filled anew that the old version did not have.</summary>
    public IEnumerable<RelationShape> NewRelations(RevisedTable table) => table.Shape.Relations.Where(relation => table.Was is null
        || !table.Was.Relations.Any(old => RevisedTable.Same(NameOf(old.To), relation.To)
            && old.Columns.Select(column => table.NameOf(column) ?? "").SequenceEqual(relation.Columns, StringComparer.OrdinalIgnoreCase)));

    private string NameOf(string oldTable) =>
        Tables.FirstOrDefault(table => table.Was is not null && RevisedTable.Same(table.Was.Name, oldTable))?.Shape.Name ?? oldTable;
}
