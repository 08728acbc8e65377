// KitResults.cs: what was drafted, as people read it.
using System.Globalization;
using Transferra.Core.Drafting;
using Transferra.Core.Kits;
using Transferra.Core.Runs;

namespace Transferra.Cli.Rendering;

internal static class KitResults
{
    private const int MostShown = 12;

    /// <summary>A drafted kit.</summary>
    public static void Draft(Screen screen, DraftedKit kit, string folder)
    {
        Version(screen, kit.Old);
        if (kit.Hop is { } hop && kit.New is { } renewed)
        {
            if (renewed.Signs.Count > 0) screen.Line($"New version {renewed.Version}: {renewed.Signs[0].Because}.");
            Pairs(screen, hop);
        }
        foreach (string not in kit.NotRead) screen.Bad($"Not looked at: {not}");
        screen.Good(string.Create(CultureInfo.InvariantCulture, $"Written: {Path.Combine(folder, "kit.yaml")}, "
            + $"{kit.Text.Split('\n').Length - 1} lines; it loads, and fits what it was drafted from."));
        if (kit.Questions > 0) screen.Look($"{Results.Count(kit.Questions, "question")} in it, each with \"#?\" or \"# ?\": they do "
            + "nothing until somebody has looked.");
    }

    /// <summary>What was found in a kit.</summary>
    public static void Check(Screen screen, string kit, string folder, IReadOnlyList<KitRemark> remarks)
    {
        screen.Heading($"kit check: {kit}, in {folder}");
        if (remarks.Count > 0)
            screen.Table(["Grade", "Where", "What, and what to do"], remarks.OrderBy(remark => remark.Grade).Select(remark =>
                (IReadOnlyList<string>)[remark.Grade.ToString().ToLowerInvariant(), remark.Where, $"{remark.What}\n\u2192 {remark.Next}"]));
        int mistakes = remarks.Count(remark => remark.Grade == RemarkGrade.Mistake),
            doubts = remarks.Count(remark => remark.Grade == RemarkGrade.Doubt);
        if (mistakes > 0) screen.Bad($"It cannot be used so: {Results.Count(mistakes, "mistake")}.");
        else if (doubts > 0) screen.Look($"It can be used; {Results.Count(doubts, "doubt")}.");
        else screen.Good("It can be used.");
    }

    /// <summary>What a kit knows.</summary>
    public static void Show(Screen screen, Kit kit)
    {
        screen.Heading($"{kit.Title} (kit {kit.Id})");
        screen.Table(["Version", "Told by", ">Tables", ">Rules", ">Totals"], kit.Versions.Select(version => (IReadOnlyList<string>)[
            version.Name, string.Join("\n", version.Evidence.Select(sign => sign.IsByTables ? sign.Where : $"{sign.Where}: {sign.Value}")),
            version.IsOfStore && version.Tables.Count == 0 ? "the store's" : Results.Number(version.Tables.Count),
            Results.Number(version.Rules.Count), Results.Number(version.ControlTotals.Count)]));
        foreach (Hop hop in kit.Hops)
        {
            screen.Line($"Version {hop.From.Name} to {hop.To.Name}: {KitOverStore.Converts(hop)}; the new store begins as "
                + $"{KitOverStore.Begins(hop)}.");
            if (hop.Correspondence.Tables.Count > 0)
                screen.Table(["Old table", "Becomes", "What is not carried under its name"], hop.Correspondence.Tables.SelectMany(map =>
                    map.Into.Select(target => (IReadOnlyList<string>)[map.From.Name, target.Table.Name, string.Join("\n", [
                        .. target.Columns.Where(column => !Correspondence.IsColumn(column.Value, column.Column.Name)).Select(column =>
                            $"{column.Column.Name}: {KitOverStore.InWords(column)}"),
                        .. map.ColumnsLeftOut.Select(left => $"left out: {left.Key}, {left.Value}")])])));
            else screen.Line("  Tables and columns of the same name answer to each other.");
            foreach ((string table, string why) in hop.Correspondence.TablesLeftOut) screen.Line($"  Left out: {table}, {why}");
        }
        Runs(screen, kit);
        screen.Line($"The kit: {KitSeal.Of(kit.Folder).Words}.");
    }

    /// <summary>What a kit has run.</summary>
    public static void Runs(Screen screen, Kit kit)
    {
        IReadOnlyList<KitRun> runs = KitRuns.Of(kit);
        if (runs.Count == 0) screen.Line("It runs no program and no script.");
        else
        {
            screen.Line("It runs, once somebody has given a word for it with transferra ready:");
            foreach (KitRun run in runs) screen.Line($"  - for {run.For}: {run.What}");
        }
        if (KitRuns.Queries(kit) is > 0 and int queries) screen.Line($"{Results.Count(queries, "query", "queries")} of it only "
            + (queries == 1 ? "reads." : "read."));
    }

    private static void Version(Screen screen, DraftedVersion version)
    {
        screen.Line($"Version {version.Version}: {(version.Signs.Count > 0 ? string.Join("; ", version.Signs.Select(sign => sign.Because))
            : "nothing was found that tells it")}. {Results.Count(version.Tables.Count, "table")}, "
            + $"{Results.Count(version.Tables.Sum(table => table.Records), "record")}.");
        DraftedTable[] told = [.. version.Tables.Where(table => table.All.Any(line => line.IsSure)).OrderByDescending(table =>
            table.All.Count())];
        if (told.Length > 0)
            screen.Table(["Table", ">Records", "Key", "Private", "Codes", "Links", "Series"], told.Take(MostShown).Select(table =>
                (IReadOnlyList<string>)[table.Table, Results.Number(table.Records), Names(table.Key), Names(table.Private),
                    Names(table.Codes),
                Names(table.Relations), Names(table.Series)]));
        if (told.Length > MostShown) screen.Line($"and {Results.Count(told.Length - MostShown, "table")} more");
        if (version.Totals.Count > 0) screen.Line($"Control totals: {string.Join("; ", version.Totals.Take(MostShown).Select(total =>
            total.Name))}{(version.Totals.Count > MostShown ? "; and more" : "")}.");
    }

    private static string Names(IReadOnlyList<DraftedLine> lines) => string.Join(", ", lines.Where(line => line.IsSure).Select(line =>
        Short(line.Says)));

    // Of a list of codes its column, of a link where it leads, of a series its column.
    private static string Short(string says)
    {
        if (says.StartsWith("{columns: ", StringComparison.Ordinal))
        {
            string[] parts = says.Split(['[', ']', ','], StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
            return $"{parts[1]} to {parts.First(part => part.StartsWith("to: ", StringComparison.Ordinal))[4..]}";
        }
        int number = says.IndexOf(", number: ", StringComparison.Ordinal);
        return number >= 0 ? says[(number + 10)..].Split(',', '}')[0] : says.Split(": [")[0];
    }

    private static void Pairs(Screen screen, DraftedHop hop)
    {
        screen.Table(["Old table", "New table", ">Carried", ">Changed", ">Asked", "Records held side by side"],
            hop.Pairs.Take(MostShown * 2).Select(pair =>
            (IReadOnlyList<string>)[pair.Old, pair.IsSure ? pair.New : pair.New + " ?",
            Results.Number(pair.Columns.Count(column => column.IsSure && column.Changes.Length == 0)),
            Results.Number(pair.Columns.Count(column => column.IsSure && column.Changes.Length > 0)),
            Results.Number(pair.Columns.Count(column => !column.IsSure) + pair.OnlyNew.Count + pair.OnlyOld.Count),
            pair.Aligned > 0 ? $"{Results.Number(pair.Aligned)}, by {pair.AlignedBy}" : "none: " + pair.Because]));
        if (hop.OnlyOld.Count > 0) screen.Look($"Nothing was found that these become: {string.Join(", ", hop.OnlyOld)}");
        if (hop.OnlyNew.Count > 0) screen.Look($"Nothing was found that goes into these: {string.Join(", ", hop.OnlyNew)}");
    }
}
