// Pairing.cs: which tables of two stores answer to each other: by their names, the names and types of their columns, and the values in
// them. A new table may take a part of an old one that answers to another.
// Holds: (1) an old table is paired with one new table, beside those that take a part of it; (2) what names and values do not both speak
// for is a question.
namespace Transferra.Core.Drafting;

/// <summary>Two tables.</summary>
/// <param name="Old">The old one.</param>
/// <param name="New">The new one.</param>
/// <param name="Score">How much speaks for it, from 0 to 1.</param>
/// <param name="Because">What does.</param>
/// <param name="IsPart">Whether the new one takes only a part of the old one, which answers to another.</param>
internal sealed record TablePair(TableProfile Old, TableProfile New, double Score, string Because, bool IsPart = false)
{
    /// <summary>Whether it is more than a guess.</summary>
    public bool IsSure { get; init; } = true;
}

internal static class Pairing
{
    private const double Least = 0.38, LeastSure = 0.55, Margin = 0.08;

    /// <summary>The pairs, in the order of the old tables.</summary>
    /// <param name="old">What was seen of the old store.</param>
    /// <param name="renewed">What was seen of the new one.</param>
    /// <param name="known">Tables of which it is known; null for none.</param>
    public static IReadOnlyList<TablePair> Of(StoreProfile old, StoreProfile renewed, (TableProfile Old, TableProfile New)? known = null)
    {
        TablePair[] all = [.. old.Tables.SelectMany(from => Likely(from, renewed).Select(to => Judge(from, to))).Where(pair =>
            pair.Score >= Least)
            .OrderByDescending(pair => pair.Score)];
        var pairs = new List<TablePair>();
        if (known is { } tables) pairs.Add(new TablePair(tables.Old, tables.New, 1, "the version stands in both"));
        foreach (TablePair pair in all)
        {
            if (pairs.Any(other => other.Old == pair.Old || other.New == pair.New)) continue;
            double next = all.Where(other => other != pair && (other.Old == pair.Old || other.New == pair.New)
                && !pairs.Any(done => done.Old == other.Old || done.New == other.New)).Select(other => other.Score).DefaultIfEmpty(0).Max();
            pairs.Add(pair with
            {
                IsSure = IsSameName(pair) || (pair.Score >= LeastSure && pair.Score - next >= Margin)
            });
        }
        foreach (TableProfile part in renewed.Tables.Where(table => !pairs.Any(pair => pair.New == table)))
            if (PartOf(part, pairs) is { } found) pairs.Add(found);
        return [.. pairs.OrderBy(pair => old.Tables.ToList().IndexOf(pair.Old)).ThenBy(pair => pair.IsPart)];
    }

    // Of many tables only those are looked at closely that share a name or values with it.
    private static IEnumerable<TableProfile> Likely(TableProfile old, StoreProfile renewed) => renewed.Tables.Count <= MostLikely
        ? renewed.Tables : renewed.Tables.Select(table => (Table: table, Score: (2.0 * table.Glance.Count(old.Glance.Contains)
            / Math.Max(1, Math.Min(table.Glance.Count, old.Glance.Count))) + NameLikeness.Of(old.Name, table.Name)))
        .OrderByDescending(found => found.Score).Take(MostLikely).Select(found => found.Table);

    private const int MostLikely = 16;

    private static bool IsSameName(TablePair pair) => string.Equals(pair.Old.Name, pair.New.Name, StringComparison.OrdinalIgnoreCase);

    private static TablePair Judge(TableProfile old, TableProfile renewed)
    {
        double names = NameLikeness.Of(old.Name, renewed.Name);
        (ColumnProfile Old, ColumnProfile New, double Values, double Names)[] columns = [.. Columns(old, renewed)];
        int most = Math.Max(old.Columns.Length, renewed.Columns.Length);
        double named = columns.Where(pair => pair.Names >= 0.5).Sum(pair => pair.Names) / most;
        bool hasValues = old.Read > 0 && renewed.Read > 0;
        double weight = old.Columns.Sum(Weight), values = !hasValues || weight == 0 ? 0
            : columns.Sum(pair => pair.Values * Weight(pair.Old)) / Math.Max(weight, renewed.Columns.Sum(Weight) * 0.7);
        bool isSame = string.Equals(old.Name, renewed.Name, StringComparison.OrdinalIgnoreCase);
        // With other data in the new store, values say nothing; where they agree, they say more than names.
        double byNames = (0.55 * names) + (0.45 * named), score = isSame ? Math.Max(0.8, byNames)
            : Math.Max(byNames * 0.9, (0.6 * values) + (0.4 * byNames));
        var because = new List<string>();
        if (isSame) because.Add("the same name");
        if (values > 0.3) because.Add(FormattableString.Invariant($"{values:P0} of the values"));
        if (named > 0.3) because.Add(FormattableString.Invariant($"names of columns ({named:P0})"));
        if (!isSame && names > 0.4) because.Add("like names");
        return new TablePair(old, renewed, score, string.Join(", ", because));
    }

    // Columns with many different values say more.
    private static double Weight(ColumnProfile column) => Math.Min(1, Math.Log2(1 + column.Distinct) / 7);

    // Each column with the one that speaks most for it, one to one.
    private static List<(ColumnProfile Old, ColumnProfile New, double Values, double Names)> Columns(TableProfile old,
        TableProfile renewed)
    {
        var found = new List<(ColumnProfile Old, ColumnProfile New, double Values, double Names)>();
        foreach ((ColumnProfile from, ColumnProfile to, double values, double names) in old.Columns.SelectMany(from => renewed.Columns
            .Select(to => (From: from, To: to, Values: from.Overlap(to), Names: NameLikeness.Of(from.Name, to.Name))))
            .Where(pair => pair.Values > 0.1 || pair.Names >= 0.5)
            .OrderByDescending(pair => (pair.Values * Weight(pair.From)) + (0.5 * pair.Names)))
            if (!found.Exists(known => known.Old == from || known.New == to)) found.Add((from, to, values, names));
        return found;
    }

    // A table most of whose columns have the values of an old one's, and that has its key.
    private static TablePair? PartOf(TableProfile part, List<TablePair> pairs)
    {
        if (part.Read == 0 || part.Key.Count == 0) return null;
        return pairs.Where(pair => !pair.IsPart && part.Glance.Overlaps(pair.Old.Glance)).Select(pair =>
        {
            (ColumnProfile Old, ColumnProfile New, double Values, double Names)[] columns = [.. Columns(pair.Old, part)
                .Where(column => column.Values > 0.5)];
            bool hasKey = part.Key.All(key => columns.Any(column => column.New == key && column.Values > 0.9))
                && pair.Old.Key.All(key => columns.Any(column => column.Old == key));
            double share = (double)columns.Length / part.Columns.Length;
            return (pair.Old, Share: hasKey && pair.Old.Key.Count > 0 && Math.Abs(pair.Old.Rows - part.Rows) * 20 <= pair.Old.Rows ? share
                : 0);
        }).Where(found => found.Share >= 0.6).OrderByDescending(found => found.Share).Select(found => new TablePair(found.Old, part,
            found.Share, FormattableString.Invariant($"it has the key of {found.Old.Name}, and {found.Share:P0} of its columns ")
                + "have values of it",
            IsPart: true)
        { IsSure = found.Share >= 0.8 }).FirstOrDefault();
    }
}
