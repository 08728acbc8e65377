// TableMap.cs: what becomes of the records of one old table, and of each of their values. Part of a correspondence (Correspondence.cs).
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>What becomes of one old table.</summary>
/// <param name="From">The old table.</param>
/// <param name="Into">The new tables it feeds; more than one splits it.</param>
/// <param name="Lookups">Records pointed to, and code lists.</param>
/// <param name="ColumnsLeftOut">Old columns that are not carried, with the reason.</param>
/// <param name="RowsLeftOut">Records that are not carried, by declared rule.</param>
/// <param name="ExactCopies">The reason for which exact copies of a record are left out but one; null when they are exceptions.</param>
/// <param name="Combining">How several records become one; null when they do not.</param>
public sealed record TableMap(TableShape From, IReadOnlyList<TargetMap> Into, IReadOnlyList<LookupMap> Lookups,
    IReadOnlyDictionary<string, string> ColumnsLeftOut, IReadOnlyList<RowsLeftOut> RowsLeftOut, string? ExactCopies, Combining? Combining);

/// <summary>One new table fed by an old one.</summary>
public sealed record TargetMap(TableShape Table, IReadOnlyList<ColumnMap> Columns);

/// <summary>What a new column holds.</summary>
/// <param name="Column">The new column.</param>
/// <param name="Value">Its value, over the old table.</param>
/// <param name="Changes">The declared rule that alters values; null when the value is only carried in another form.</param>
/// <param name="ComparedWith">The old column whose text the value is compared with, to count the records the rule changed; null without
/// rule.</param>
public sealed record ColumnMap(ColumnShape Column, Expression Value, string? Changes, string? ComparedWith);

/// <summary>A lookup: an old table's records by key, or a list of codes.</summary>
/// <param name="Shape">As expressions see it.</param>
/// <param name="Table">The old table; null for a code list.</param>
/// <param name="On">The table's column that is the key.</param>
/// <param name="Codes">Old code to new code; empty for a table.</param>
public sealed record LookupMap(LookupShape Shape, TableShape? Table, string On, IReadOnlyList<(string Old, string New)> Codes);

/// <summary>Records left out by declared rule.</summary>
public sealed record RowsLeftOut(Expression Where, string Because);

/// <summary>Several records with the same values of <paramref name="By"/> become the first of them, texts joined.</summary>
/// <param name="By">The first columns of the table's key.</param>
/// <param name="Text">The column whose texts are joined in key order.</param>
/// <param name="Separator">What stands between two texts.</param>
/// <param name="Because">The reason.</param>
public sealed record Combining(IReadOnlyList<string> By, string Text, string Separator, string Because);

/// <summary>A record of the new version that no old one stands for.</summary>
/// <param name="Into">The new table.</param>
/// <param name="Columns">Values; expressions over settings only.</param>
/// <param name="Because">The reason.</param>
public sealed record NewRecord(TableShape Into, IReadOnlyList<ColumnMap> Columns, string Because);
