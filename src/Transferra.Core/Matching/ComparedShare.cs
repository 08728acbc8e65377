// ComparedShare.cs: how many of the old store's values were compared with the new one, and which were not, and why. "Proved" is said of
// what was looked at; this says how much that is.
// Holds: (1) every value of the old store is counted once, as compared or under one reason; (2) the old store's own shape is counted, not
//        the kit's, so that what the kit does not know counts as not compared.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Values that were not compared, for one reason.</summary>
/// <param name="Table">The old table.</param>
/// <param name="Column">The old column; "" for whole records.</param>
/// <param name="Records">Of how many records.</param>
/// <param name="Values">How many values.</param>
/// <param name="Why">Why not.</param>
public sealed record NotCompared(string Table, string Column, long Records, long Values, string Why);

/// <summary>The share of an old store's values that was compared.</summary>
/// <param name="Version">The old store's data version.</param>
/// <param name="Values">All values of all its tables, a missing one counted like any other.</param>
/// <param name="Parts">What was not compared, the most first.</param>
public sealed record ComparedShare(string Version, long Values, IReadOnlyList<NotCompared> Parts)
{
    /// <summary>How many were compared.</summary>
    public long Compared => Values - Parts.Sum(part => part.Values);

    /// <summary>The share in hundredths of a percent, rounded down, so that 100 % is said only of all.</summary>
    public int Hundredths => Values == 0 ? 10_000 : (int)((Int128)Compared * 10_000 / Values);

    /// <summary>Counts.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="actual">What answers to what.</param>
    /// <param name="accounts">What became of its records.</param>
    public static ComparedShare Of(IStore old, Correspondence actual, IReadOnlyList<TableAccount> accounts)
    {
        long values = 0;
        var parts = new List<NotCompared>();
        foreach (TableShape table in old.ReadShape())
        {
            TableAccount? account = accounts.FirstOrDefault(account => Same(account.Table, table.Name));
            long records = account?.Read ?? old.CountRows(table.Name);
            values += records * table.Columns.Count;
            if (records == 0) continue;
            if (account is null || actual.MapOf(table.Name) is not { } map)
                parts.Add(new NotCompared(table.Name, "", records, records * table.Columns.Count, WhyNot(actual, table.Name)));
            else parts.AddRange(OfTable(table, map, account, actual));
        }
        return new ComparedShare(actual.From.Name, values, [.. parts.Where(part => part.Values > 0).OrderByDescending(part => part.Values)
            .ThenBy(part => part.Table, StringComparer.Ordinal).ThenBy(part => part.Column, StringComparer.Ordinal)]);
    }

    private static string WhyNot(Correspondence actual, string table) =>
        actual.TablesLeftOut.FirstOrDefault(left => Same(left.Key, table)) is { Key: not null } left ? $"left out by the kit: {left.Value}"
            : actual.Gone.FirstOrDefault(gone => Same(gone.Table, table) && gone.Column.Length == 0) is { } gone ? GoneWords(gone)
            : "the kit does not know it";

    private static string GoneWords(NamedPart gone) => gone.What.Length > 0 ? $"gone: {gone.What}" : "gone; the kit does not say why";

    private static IEnumerable<NotCompared> OfTable(TableShape table, TableMap map, TableAccount account, Correspondence actual)
    {
        if (account.LeftOut > 0) yield return new NotCompared(table.Name, "", account.LeftOut, account.LeftOut * table.Columns.Count,
            string.Join("; ", map.RowsLeftOut.Select(rows => rows.Because).Append(map.ExactCopies).OfType<string>().Distinct())
                is { Length: > 0 } because ? $"left out by the kit: {because}" : "left out by the kit");
        if (account.Exceptions > 0) yield return new NotCompared(table.Name, "", account.Exceptions,
            account.Exceptions * table.Columns.Count, "exceptions, not in the new store");
        long carried = account.Read - account.LeftOut - account.Exceptions;
        HashSet<string> compared = MadeFrom(map);
        foreach (ColumnShape column in table.Columns)
        {
            string? why = map.ColumnsLeftOut.FirstOrDefault(left => Same(left.Key, column.Name)) is { Key: not null } left
                ? $"left out by the kit: {left.Value}"
                : actual.Gone.FirstOrDefault(gone => Same(gone.Table, table.Name) && Same(gone.Column, column.Name)) is { } gone
                    ? GoneWords(gone) : map.From.OrdinalOf(column.Name) < 0 ? "the kit does not know it"
                    : compared.Contains(column.Name) ? null
                    : map.Combining is not null && map.From.Key.Any(key => Same(key, column.Name))
                    ? "it only tells in which order records are combined"
                    : "no new value is made from it; the kit replaces it, or only tells by it which records are left out";
            if (why is not null) yield return new NotCompared(table.Name, column.Name, carried, carried, why);
        }
    }

    // What the values of the new store are made from, be it through a lookup.
    private static HashSet<string> MadeFrom(TableMap map)
    {
        var compared = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (ColumnReference reference in map.Into.SelectMany(target => target.Columns).SelectMany(column =>
            column.Value.ColumnReferences))
            if (reference.Lookup is null) compared.Add(reference.Name);
            else compared.UnionWith(map.Lookups.Where(lookup => Same(lookup.Shape.Name, reference.Lookup)).SelectMany(lookup =>
                lookup.Shape.Key.ColumnReferences).Select(key => key.Name));
        return compared;
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}
