// Correspondence.cs: which old table and column answers to which new one. Check, trial, match, custom fields and sign-off go by it.
// Holds: (1) every old table is in it exactly once, carried or left out with a reason (HopByMaps.cs sees to it).
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>A table, or a column of one.</summary>
/// <param name="Table">The table.</param>
/// <param name="Column">The column; "" for the whole table.</param>
/// <param name="What">More about it; "" when there is none.</param>
public sealed record NamedPart(string Table, string Column, string What = "");

/// <summary>What answers to what between two versions.</summary>
/// <param name="From">Old version.</param>
/// <param name="To">New version.</param>
/// <param name="Tables">What becomes of each old table.</param>
/// <param name="TablesLeftOut">Old tables that are not carried, with the reason.</param>
/// <param name="NewRecords">Records that the new version needs and the old one has not.</param>
/// <param name="File">Where it is written, for messages.</param>
public sealed record Correspondence(KitVersion From, KitVersion To, IReadOnlyList<TableMap> Tables,
    IReadOnlyDictionary<string, string> TablesLeftOut, IReadOnlyList<NewRecord> NewRecords, string File)
{
    /// <summary>Whether the new store begins as a copy of the old one, so that tables which nothing is said of stay as they are.</summary>
    public bool IsOnCopy { get; init; }

    /// <summary>Whether the new store begins as the one that the vendor's new program made, so that tables which nothing goes into have
    /// the records that the vendor ships.</summary>
    public bool IsOnVendorMade { get; init; }

    /// <summary>What becomes of records that the vendor ships, by new table; where nothing is said, ours replace them.</summary>
    public IReadOnlyDictionary<string, ShippedPolicy> Shipped { get; init; } = new Dictionary<string, ShippedPolicy>();

    /// <summary>The same as it came out by the vendor's store; empty before that was looked at.</summary>
    public IReadOnlyList<ShippedAccount> ShippedAccounts { get; init; } = [];

    /// <summary>Whether others convert, so that what answers to what is known only when both stores are there (HopByNames.cs).</summary>
    public bool IsByOthers { get; init; }

    /// <summary>Where our maps convert and a version is as the store has it: what the hop says, to be read when the store is there; null
    /// where all is known.</summary>
    internal HopByMaps? Awaiting { get; init; }

    /// <summary>Whether what answers to what is known only when a store is there.</summary>
    public bool IsAwaited => Awaiting is not null;

    /// <summary>Old tables and columns, where others converted, that the new store does not have and of which the kit says
    /// nothing.</summary>
    public IReadOnlyList<NamedPart> Gone { get; init; } = [];

    /// <summary>Tables and columns that are new in the new store, where others converted.</summary>
    public IReadOnlyList<NamedPart> Added { get; init; } = [];

    /// <summary>Links of tables that no kit describes which the new version has no place for, one line each.</summary>
    public IReadOnlyList<string> NotLinked { get; init; } = [];

    /// <summary>Whether anything goes into a new table.</summary>
    public bool IsFed(string table) => Feeding(table) is not null || NewRecords.Any(record => Same(record.Into.Name, table));

    /// <summary>Whether a table stands in the new store exactly as it was in the old one, record for record, as the copy has it: no map
    /// touches it.</summary>
    public bool Keeps(TableMap map) => IsOnCopy && map is
    {
        Into: [var only], RowsLeftOut.Count: 0, ColumnsLeftOut.Count: 0,
        ExactCopies: null, Combining: null
    } && IsSameShape(map.From, only.Table)
        && only.Columns.All(column => column.Changes is null && IsColumn(column.Value, column.Column.Name))
        && !NewRecords.Any(record => Same(record.Into.Name, only.Table.Name));

    /// <summary>Whether a new table is exactly the old one of its name; as <see cref="Keeps"/>.</summary>
    public bool KeepsTable(string table) => Feeding(table) is var (map, _) && Keeps(map);

    // A name written otherwise is another one: some engines tell them apart, and the new program asks for its own.
    private static bool IsSameShape(TableShape old, TableShape renewed) => old.Name == renewed.Name
        && old.Columns.Count == renewed.Columns.Count
        && old.Columns.Zip(renewed.Columns).All(pair => pair.First.Name == pair.Second.Name
            && pair.First.Type == pair.Second.Type && pair.First.Required == pair.Second.Required
            && pair.First.Default == pair.Second.Default
            && (pair.Second.DeclaredAs is null || pair.First.DeclaredAs == pair.Second.DeclaredAs))
        && old.Key.SequenceEqual(renewed.Key, StringComparer.OrdinalIgnoreCase)
        && renewed.Indexes.All(index => old.Indexes.Any(known => known.IsUnique == index.IsUnique
            && known.Columns.SequenceEqual(index.Columns, StringComparer.OrdinalIgnoreCase)))
        && (renewed.IsUndescribed || renewed.Relations.All(relation => old.Relations.Any(known => Same(known.To, relation.To)
            && known.Columns.SequenceEqual(relation.Columns, StringComparer.OrdinalIgnoreCase))));

    /// <summary>The map of an old table, its name in any case; null when it goes nowhere.</summary>
    public TableMap? MapOf(string table) => Tables.FirstOrDefault(map => Same(map.From.Name, table));

    /// <summary>What feeds a new table, its name in any case; null when nothing does.</summary>
    public (TableMap Map, TargetMap Target)? Feeding(string table)
    {
        foreach (TableMap map in Tables)
            foreach (TargetMap target in map.Into)
                if (Same(target.Table.Name, table)) return (map, target);
        return null;
    }

    /// <summary>What an old table, and a column or rule that is spoken of there, are called in the new version. A rule keeps its name; a
    /// column may have become several.</summary>
    /// <param name="table">The old table; "" for what is of no table, which stays.</param>
    /// <param name="subject">The column or rule.</param>
    public IEnumerable<(string Table, string Subject)> NamesOf(string table, string subject)
    {
        if (table.Length == 0 || IsByOthers && Tables.Count == 0) yield return (table, subject);
        foreach (TableMap map in Tables.Where(map => Same(map.From.Name, table)))
            foreach (TargetMap target in map.Into)
            {
                yield return (target.Table.Name, subject);
                foreach (ColumnMap column in target.Columns.Where(column =>
                    column.Value.ColumnReferences.Any(reference => reference.Lookup is null && Same(reference.Name, subject))))
                    yield return (target.Table.Name, column.Column.Name);
            }
    }

    /// <summary>Whether an expression is an old column as it is.</summary>
    public static bool IsColumn(Expression value, string column) => value is ColumnReference { Lookup: null } reference
        && Same(reference.Name, column);

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}
