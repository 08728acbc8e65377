// KitCheck.cs: a kit looked through before any data is touched: whether its hops lead anywhere, its signs tell versions apart, keys can
// collide by what they are made of, and, where a store is at hand, whether it fits.
// Holds: (1) nothing is changed; a store is only read.
using System.Text.Json.Serialization;
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>How much a remark on a kit weighs.</summary>
[JsonConverter(typeof(InWords<RemarkGrade>))]
public enum RemarkGrade
{
    /// <summary>The kit cannot be used so.</summary>
    Mistake,

    /// <summary>It can, and may go wrong.</summary>
    Doubt,

    /// <summary>Worth knowing.</summary>
    Note
}

/// <summary>Something about a kit.</summary>
/// <param name="Grade">How much it weighs.</param>
/// <param name="Where">File, version, hop or store.</param>
/// <param name="What">What it is.</param>
/// <param name="Next">What to do.</param>
public sealed record KitRemark(RemarkGrade Grade, string Where, string What, string Next);

/// <summary>Looks through kits.</summary>
public static class KitCheck
{
    /// <summary>Looks through a kit that loads.</summary>
    public static IReadOnlyList<KitRemark> Of(Kit kit) => [.. Ways(kit), .. Signs(kit), .. Questions(kit),
        .. kit.Hops.Where(hop => hop.Correspondence.Awaiting is null && !hop.Correspondence.IsByOthers).SelectMany(hop =>
            Correspondence(hop.Correspondence)), .. Totals(kit)];

    private static IEnumerable<KitRemark> Ways(Kit kit)
    {
        foreach (KitVersion version in kit.Versions.Where(version => kit.Versions.Count > 1 && !kit.Hops.Any(hop =>
            hop.From.Name == version.Name || hop.To.Name == version.Name)))
            yield return new KitRemark(RemarkGrade.Doubt, $"version {version.Name}", "no hop leads to it or from it",
                "Write the hop, or take the version out.");
        foreach (var same in kit.Hops.GroupBy(hop => (hop.From.Name, hop.To.Name)).Where(same => same.Count() > 1))
            yield return new KitRemark(RemarkGrade.Mistake, $"version {same.Key.Item1} to {same.Key.Item2}",
                FormattableString.Invariant($"{same.Count()} hops lead there, and which is meant nobody knows"), "Leave one.");
        foreach (Hop hop in kit.Hops.Where(hop => Way.Between(kit, hop.To.Name, hop.From.Name) is not null))
            yield return new KitRemark(RemarkGrade.Mistake, $"hop {hop.From.Name} to {hop.To.Name}",
                $"from version {hop.To.Name} hops lead back to {hop.From.Name}: they go round", "Take out the one that leads back.");
    }

    // Two versions are told apart for sure only by a place that both speak of.
    private static IEnumerable<KitRemark> Signs(Kit kit)
    {
        for (int i = 0; i < kit.Versions.Count; i++)
            for (int j = i + 1; j < kit.Versions.Count; j++)
            {
                KitVersion a = kit.Versions[i], b = kit.Versions[j];
                bool isApart = a.Evidence.Any(sign => b.Evidence.Any(other => other.Where == sign.Where && other.Value != sign.Value))
                    || a.Evidence.Any(sign => b.Evidence.Any(other => Excludes(sign, other) || Excludes(other, sign)))
                    || (IsElsewhere(a, b) && IsElsewhere(b, a));
                if (!isApart) yield return new KitRemark(RemarkGrade.Doubt, $"versions {a.Name} and {b.Name}",
                    "a store could show the signs of both: no place says one value for the one and another for the other",
                    "Name under told-by one place that both have, such as the header or one record.");
            }
    }

    // Whether a version tells itself in a table that the other, whose tables are described, does not have.
    private static bool IsElsewhere(KitVersion version, KitVersion other) => other.Tables.Count > 0 && version.Evidence.Any(sign =>
        sign.Record is { } record && other.Table(record.Table.Name) is null);

    private static bool Excludes(DataEvidence sign, DataEvidence other) => sign.Lacks.Any(named => other.Has.Contains(named,
        StringComparer.OrdinalIgnoreCase) || (other.Record is { } record && Names.Same(record.Table.Name, named)));

    private static IEnumerable<KitRemark> Questions(Kit kit)
    {
        foreach (string file in Directory.EnumerateFiles(kit.Folder, "*.yaml", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            int open = File.ReadLines(file).Count(line => line.Contains("#?", StringComparison.Ordinal)
                || line.Contains("# ?", StringComparison.Ordinal));
            if (open > 0) yield return new KitRemark(RemarkGrade.Note, Path.GetRelativePath(kit.Folder, file),
                open == 1 ? "1 question of the draft is open" : FormattableString.Invariant($"{open} questions of the draft are open"),
                "Look at each line with \"#?\": take the mark away where it is right, and the line where it is not.");
        }
    }

    private static IEnumerable<KitRemark> Totals(Kit kit)
    {
        foreach (Hop hop in kit.Hops.Where(hop => !hop.From.ControlTotals.Any(total => hop.To.ControlTotals.Any(other =>
            other.Name == total.Name)) && !kit.Hops.Any(next => next.From.Name == hop.To.Name)))
            yield return new KitRemark(RemarkGrade.Note, $"hop {hop.From.Name} to {hop.To.Name}",
                "no control total has the same name in both versions, so that the match has no second opinion",
                "Write some, or take those that kit draft proposes.");
    }

    /// <summary>What can be seen of a correspondence by itself.</summary>
    private static IEnumerable<KitRemark> Correspondence(Correspondence hop)
    {
        string where = hop.File;
        foreach (TableMap map in hop.Tables)
            foreach (TargetMap target in map.Into.Where(target => target.Table.Key.Count > 0))
                if (Collision(map, target) is { } why)
                    yield return new KitRemark(RemarkGrade.Doubt, where, $"two records of {map.From.Name} could get the same key of "
                        + $"{target.Table.Name} ({string.Join(", ", target.Table.Key)}): {why}",
                        "Make the key of columns that tell the records apart. The check names records that collide.");
        foreach (TableShape table in hop.To.Tables.Where(table => hop.Feeding(table.Name) is not null && !hop.IsOnVendorMade))
            foreach (RelationShape link in table.Relations.Where(link => !hop.IsFed(link.To)))
                yield return new KitRemark(RemarkGrade.Doubt, where, $"{table.Name} points to {link.To}, into which nothing goes",
                    $"Say what goes into {link.To}, or take the link out.");
    }

    // A key is safe when it has every column of the old key as it is.
    private static string? Collision(TableMap map, TargetMap target)
    {
        if (map.Combining is not null) return null;
        if (map.From.Key.Count == 0) return $"version and store declare no key of {map.From.Name}";
        Expression[] values = [.. target.Table.Key.Select(key => target.Columns.FirstOrDefault(column => Names.Same(column.Column.Name,
            key))
            ?.Value).OfType<Expression>()];
        string[] whole = [.. values.Select(Whole).OfType<string>()];
        bool isTold = map.From.Key.All(column => whole.Contains(column, StringComparer.OrdinalIgnoreCase))
            || map.From.Indexes.Any(index => index.IsUnique && index.Columns.Count > 0 && index.Columns.All(column => whole.Contains(column,
                StringComparer.OrdinalIgnoreCase)));
        return isTold ? null : $"it does not have the whole of {string.Join(", ", map.From.Key)}";
    }

    // The column whose every value stays another one.
    private static string? Whole(Expression value) => value switch
    {
        ColumnReference { Lookup: null } column => column.Name,
        Cast { Operand: ColumnReference { Lookup: null } column, Type.Length: 0 } => column.Name,
        _ => null
    };

    /// <summary>Looks whether a kit fits a store.</summary>
    /// <param name="kit">The kit.</param>
    /// <param name="store">The store.</param>
    /// <param name="shown">As a person reads it.</param>
    /// <param name="wanted">The version it is to come to; null for any.</param>
    public static IReadOnlyList<KitRemark> Over(Kit kit, IStore store, string shown, string? wanted)
    {
        var remarks = new List<KitRemark>();
        List<VersionSign> signs = Survey.SignsOf(kit, store);
        string[] told = [.. signs.Select(sign => sign.Version).OfType<string>().Distinct()];
        if (told is not [var name] || kit.Version(name) is not { } version)
        {
            remarks.Add(new KitRemark(RemarkGrade.Mistake, shown, signs.Count == 0 ? "nothing that the kit names under told-by is there"
                : $"its version is not told: {string.Join("; ", signs.Select(sign => $"{sign.Where} says {ValueText.Quote(sign.Says)}"))}",
                "Name under told-by what this store says."));
            return remarks;
        }
        try
        {
            CustomFields custom = CustomFields.Of(store, version);
            KitVersion over = custom.In(version);
            foreach (ControlTotal total in over.ControlTotals) Ask(remarks, store, shown, total);
            foreach (Hop first in kit.Hops.Where(hop => hop.From.Name == version.Name))
                if ((wanted is null ? first.To.Name : wanted) is var to && Way.Between(kit, version.Name,
                    to) is { Foreseen.Count: > 0 } way)
                    foreach (Correspondence hop in custom.In(way).Foreseen.Where((_, i) => way.Foreseen[i].Awaiting is not null))
                        remarks.AddRange(Correspondence(hop));
        }
        catch (TransferraException error)
        {
            remarks.Add(new KitRemark(RemarkGrade.Mistake, shown, error.Message, error.Next));
        }
        return [.. remarks.Distinct()];
    }

    private static void Ask(List<KitRemark> remarks, IStore store, string shown, ControlTotal total)
    {
        if (!total.SqlByEngine.TryGetValue(store.Identity.Engine.ToLowerInvariant(), out string? sql)) return;
        try
        {
            QueryAnswer answer = store.Ask(sql, TimeSpan.FromSeconds(30));
            if (answer.Rows.Any(row => row.Count != answer.Rows[0].Count || row[^1] is { } value && !Int128.TryParse(value, out _)))
                remarks.Add(new KitRemark(RemarkGrade.Doubt, shown, $"the control total \"{total.Name}\" does not give whole units in its "
                    + "last column", "Have the query multiply and round: pence, not pounds."));
        }
        catch (TransferraException error)
        {
            remarks.Add(new KitRemark(RemarkGrade.Mistake, shown, $"the control total \"{total.Name}\" cannot be asked: {error.Message}",
                error.Next));
        }
    }
}
