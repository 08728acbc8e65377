// MatchPrinted.cs: match --printed-before DIR --printed-after DIR: whether the reports that the program printed or exported before and
// after say the same.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;
using Transferra.Core.Printed;
using Transferra.Stores.Printed;

namespace Transferra.Cli.Commands;

internal static class MatchPrinted
{
    private const int LinesShown = 10;

    internal sealed record PrintedAnswer(string Before, string After, bool Same, IReadOnlyList<PrintedMatched> Reports);

    /// <summary>Compares the reports of two folders.</summary>
    /// <param name="session">The call.</param>
    /// <param name="before">Of the old program.</param>
    /// <param name="after">Of the new one.</param>
    /// <param name="aside">Patterns of what is left aside.</param>
    public static int Run(Session session, string before, string after, IReadOnlyList<string> aside)
    {
        (before, after) = (Path.GetFullPath(before), Path.GetFullPath(after));
        Regex[] more = [.. aside.Select(Pattern)];
        IReadOnlyList<PrintedPair> pairs = PrintedPairs.Of(PrintedFiles.In(before), PrintedFiles.In(after));
        if (pairs.Count == 0) throw new TransferraException($"there is no report in {before}, and none in {after}",
            "Have the program print or export into them first.");
        session.Screen.Heading("match: do the reports say the same?");
        session.Screen.Line($"before: {before}");
        session.Screen.Line($"after:  {after}");
        var files = new PrintedFiles(session.Commands);
        var reports = new List<PrintedMatched>();
        foreach (PrintedPair pair in pairs)
        {
            session.Screen.Progress.Show("comparing " + (pair.Before ?? pair.After), reports.Count, pairs.Count);
            reports.Add(Compared(files, before, after, pair, more));
        }
        Show(session.Screen, reports);
        bool same = reports.All(report => report.IsSame);
        return session.Answer(same ? ExitCodes.Done : ExitCodes.LookAt, new PrintedAnswer(before, after, same, reports));
    }

    private static Regex Pattern(string text)
    {
        try { return new Regex(text, RegexOptions.CultureInvariant, Asides.Limit); }
        catch (ArgumentException error)
        {
            throw new TransferraException($"--aside {text} is not a regular expression: {error.Message}",
                "Example: --aside 'Printed by .*'");
        }
    }

    private static PrintedMatched Compared(PrintedFiles files, string before, string after, PrintedPair pair, Regex[] more)
    {
        try
        {
            return PrintedMatch.Of(pair, pair.Before is null ? null : files.Read(before, pair.Before), pair.After is null ? null
                : files.Read(after, pair.After), new Asides(more));
        }
        catch (TransferraException error)
        {
            return new PrintedMatched(pair, null, null, [], 0, 0) { NotRead = $"{error.Message}. {error.Next}" };
        }
        catch (RegexMatchTimeoutException error)
        {
            throw new TransferraException($"the pattern {error.Pattern} takes too long on a line of {pair.Before ?? pair.After}",
                "Write it so that it has fewer ways to match.");
        }
    }

    private static void Show(Screen screen, IReadOnlyList<PrintedMatched> reports)
    {
        PrintedMatched[] compared = [.. reports.Where(report => report is { Before: not null, After: not null })];
        screen.Table(["Report", ">Pages", ">Lines", ">Figures", ">Their sum", "Same"], compared.Select(report => (IReadOnlyList<string>)
            [Name(report), Both(report, extent => Results.Number(extent.Pages)), Both(report, extent => Results.Number(extent.Lines)),
                Both(report, extent => Results.Number(extent.Figures)), Both(report, extent => extent.Sum), report.IsSame ? "yes" : "NO"]));
        foreach (PrintedMatched report in compared.Where(report => !report.IsSame)) Differences(screen, report);
        foreach (PrintedMatched report in reports.Where(report => report.NotRead.Length > 0)) screen.Bad($"Not read: {report.NotRead}");
        foreach (PrintedMatched report in reports.Except(compared).Where(report => report.NotRead.Length == 0))
            screen.Bad($"Only {(report.Before is null ? "after" : "before")}: {report.Pair.Before ?? report.Pair.After}");
        foreach (PrintedMatched report in reports.Where(report => report.ReadAs.Length > 0))
            screen.Line($"{Name(report)}: {report.ReadAs}, as it is not UTF-8");
        int aside = reports.Sum(report => report.LeftAside);
        if (aside > 0) screen.Line($"Left aside: {Results.Count(aside, "time of printing, page number or head", "times of printing, page "
            + "numbers and heads")}, and what --aside names.");
        int others = reports.Count(report => !report.IsSame);
        if (others == 0) screen.Good($"The same: {Results.Count(reports.Count, "report")}, "
            + $"{Results.Count(reports.Sum(report => report.After!.Pages), "page")}, {Results.Number(reports.Sum(report =>
                report.After!.Figures))} figures, every line compared{(aside > 0 ? " but for what was left aside" : "")}.");
        else screen.Bad($"NOT the same: {Results.Number(others)} of {Results.Count(reports.Count, "report")}.");
    }

    private static string Name(PrintedMatched report) => report.Pair.Before == report.Pair.After || report.Pair.After is null
        ? report.Pair.Before!
        : report.Pair.Before is null ? report.Pair.After
        : $"{report.Pair.Before} / {report.Pair.After}";

    private static string Both(PrintedMatched report, Func<PrintedExtent, string> of)
    {
        (string before, string after) = (of(report.Before!), of(report.After!));
        return before == after ? before : $"{before} / {after}";
    }

    private static void Differences(Screen screen, PrintedMatched report)
    {
        screen.Bad($"{Name(report)}: {Results.Count(report.DifferenceCount, "line is", "lines are")} not the same");
        screen.Table([">Line", "Before", "After", "Figures"], report.Differences.Take(LinesShown).Select(line => (IReadOnlyList<string>)
            [(line.LineBefore ?? line.LineAfter)!.Value.ToString(CultureInfo.InvariantCulture), line.LineBefore is null ? "(no such line)"
                : line.Before, line.LineAfter is null ? "(no such line)" : line.After, string.Join("; ", line.Figures)]));
        if (report.DifferenceCount > LinesShown) screen.Line($"and {Results.Number(report.DifferenceCount - LinesShown)} more: transferra "
            + "match --json");
    }
}
