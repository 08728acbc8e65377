// SignOffSummary.cs: a run in one sentence, three figures and what is left to do, for whoever has ten seconds.
// Holds: (1) the sentence says proved only of companies whose match came to that; (2) whatever keeps a company from that is among what is
//        left to do.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Runs;

namespace Transferra.Reports;

/// <summary>A figure.</summary>
/// <param name="Value">As it is shown.</param>
/// <param name="Of">What it counts.</param>
public sealed record SignOffFigure(string Value, string Of);

/// <summary>A run in short.</summary>
/// <param name="Sentence">What came of it.</param>
/// <param name="Figures">Three of them.</param>
/// <param name="ToDo">What is left, and whose it is.</param>
public sealed record SignOffSummary(string Sentence, IReadOnlyList<SignOffFigure> Figures, IReadOnlyList<string> ToDo)
{
    /// <summary>Of a report.</summary>
    public static SignOffSummary Of(RunReport report) => new(SentenceOf(report), FiguresOf(report),
        [.. report.Companies.OrderBy(company =>
        company.Outcome == "through").SelectMany(company => ToDoOf(report, company)), .. ToDoOf(report)]);

    private static bool Converts(RunReport report) => report.Kind is "upgrade" or "convert";

    // A restore is proved as a whole or does not go through.
    private static bool IsProved(RunReport report, CompanyReport company) => company.Outcome == "through" && (Converts(report)
        ? company.Match?.Verdict == Verdict.Proved : company.Mending?.IsProved ?? report.Kind == "restore");

    private static string Names(IEnumerable<CompanyReport> companies)
    {
        string[] codes = [.. companies.Select(company => company.Code)];
        return codes.Length switch
        {
            1 => codes[0],
            <= 6 => $"{string.Join(", ", codes.SkipLast(1))} and {codes[^1]}",
            _ => string.Create(CultureInfo.InvariantCulture, $"{string.Join(", ", codes.Take(5))} and {codes.Length - 5} more")
        };
    }

    private static string SentenceOf(RunReport report)
    {
        CompanyReport[] through = [.. report.Companies.Where(company => company.Outcome == "through")],
            proved = [.. through.Where(company => IsProved(report, company))],
            unmatched = [.. through.Where(company => Converts(report) && company.Match is null)],
            others = [.. through.Except(proved).Except(unmatched)],
            stopped = [.. report.Companies.Where(company => company.Outcome is "stopped")],
            undone = [.. report.Companies.Where(company => company.Outcome is "undone")],
            open = [.. report.Companies.Where(company => company.Outcome is "unfinished" or "given up")];
        string done = report.Kind switch { "upgrade" => "upgraded", "convert" => "converted", "mend" => "mended", _ => "restored" };
        var parts = new List<string>();
        string isAre(CompanyReport[] of) => of.Length == 1 ? "is" : "are";
        string whose(CompanyReport[] of) => of.Length == 1 ? "its" : "their";
        if (proved.Length > 0) parts.Add($"{Names(proved)} {isAre(proved)} {done}, " + (Converts(report)
            ? $"and every record of {whose(proved)} old data is proved to be in the new" : report.Kind == "mend"
                ? "and nothing but the listed changes was made, which is proved" : "from a set that was proved"));
        if (unmatched.Length > 0) parts.Add($"{Names(unmatched)} {isAre(unmatched)} {done}, and nothing is proved yet");
        if (others.Length > 0) parts.Add($"{Names(others)} {isAre(others)} {done}, with something that is not proved, or that somebody "
            + "answers for");
        if (stopped.Length > 0) parts.Add($"{Names(stopped)} stopped, and {whose(stopped)} old data is in its place, unchanged");
        if (undone.Length > 0) parts.Add($"{Names(undone)} {(undone.Length == 1 ? "was" : "were")} taken back to where {(undone.Length == 1
            ? "it was" : "they were")} before");
        if (open.Length > 0) parts.Add($"{Names(open)} {isAre(open)} not finished");
        return parts.Count == 0 ? "Nothing was done in this run." : string.Join("; ", parts) + ".";
    }

    private static SignOffFigure[] FiguresOf(RunReport report)
    {
        long records = report.Companies.Sum(company => RecordsOf(company) ?? 0);
        ComparedShare[] shares = [.. report.Companies.Select(company => company.Match?.LeastShare).OfType<ComparedShare>()];
        long values = shares.Sum(share => share.Values), compared = shares.Sum(share => share.Compared);
        string share = values == 0 ? "none" : compared == values ? "100 %" : string.Create(CultureInfo.InvariantCulture,
            $"{Math.Floor((decimal)compared * 10_000 / values) / 100:0.00} %");
        SignOffFigure time = report.Closing switch
        {
            { OpenAt: { } open } closing => new(Durations.Of((open - closing.BegunAt).TotalSeconds), "the office was closed"),
            { } closing => new(Durations.Of((report.LastAt - closing.BegunAt).TotalSeconds), "closed so far; it is not open again"),
            null => new(Durations.Of((report.LastAt - report.BegunAt).TotalSeconds), "from the first step to the last")
        };
        return Converts(report)
            ? [new(records.ToString("#,0", CultureInfo.InvariantCulture), "old records, each accounted for"),
                new(share, "of the old values compared with the new data"), time]
            : [new(report.Companies.Count.ToString(CultureInfo.InvariantCulture), report.Companies.Count == 1 ? "company" : "companies"),
                new((report.Companies.Sum(company => company.Mending?.Changes ?? 0)).ToString("#,0", CultureInfo.InvariantCulture),
                    "values or records changed, each listed"), time];
    }

    /// <summary>The records of the old store, which the first hop reads; where others converted, the match has read them.</summary>
    internal static long? RecordsOf(CompanyReport company) => company.Match?.Hops is [{ IsByOthers: true } first, ..]
        ? first.Accounts.Sum(account => account.Read)
        : company.Conversion?.Hops.FirstOrDefault()?.Conversion.Accounts.Sum(account => account.Read);

    private static IEnumerable<string> ToDoOf(RunReport report, CompanyReport company)
    {
        string code = company.Code;
        if (company.Outcome == "stopped") yield return $"{code} stopped: " + string.Join(" ", company.Reasons.Select(Ended));
        if (company.Outcome == "unfinished") yield return $"{code} is not finished. To go on: transferra upgrade --resume; or back: "
            + "transferra undo.";
        if (company.Outcome != "through") yield break;
        if (company.Program is { Opens: false } program) yield return $"{company.Package}, version {program.Now}, does not open the data "
            + $"of {code}: install program version {program.Wanted}.";
        foreach (Core.Backup.BackupResult set in company.Backups?.Where(set => !set.IsProved) ?? [])
            yield return $"The set {set.Path} is not proved: {set.Faults[0].What}";
        if (company.Match is { } match) foreach (string left in OfMatch(company, match)) yield return left;
        else if (Converts(report)) yield return $"{code} is converted and not matched yet: transferra match {code}";
        if (company.CheckAgain is { } again && again.Findings.Count > 0)
            yield return $"{code}: {Count(again.Findings.Count, "finding")} of the check after, listed below.";
    }

    private static IEnumerable<string> OfMatch(CompanyReport company, WayMatched match)
    {
        string code = company.Code;
        if (match.Exceptions > 0) yield return $"{code}: {Count(match.Exceptions, "old record")} could not be converted and must be "
            + $"entered by hand, or corrected in version {company.From} first; {company.Conversion?.ExceptionList}";
        foreach (Transferra.Core.Matching.AnsweredFor given in match.Answered)
            yield return $"{code}: {given.By} answers for this: {given.What.Words} ({given.Because})";
        foreach (Unexplained what in match.Unexplained) yield return $"{code}: nobody has explained this: {what.Words}";
        foreach (NotLookedAt left in match.NotLookedAt.Where(left => left.Allows != Verdict.Proved))
            yield return $"{code}: not looked at, in the {left.Side} data: {left.What}";
        if (match.Levels?.Documents is { IsSame: false } documents) yield return documents.NotCompared.Length > 0
            ? $"{code}: its documents were not compared: {documents.NotCompared}"
            : $"{code}: not every document is unchanged since the backup: "
                + $"{string.Join(", ", documents.Others.Select(other => $"{HtmlPage.Number(other.Files.Count)} {other.What}"))}; they are "
                + "named below.";
        if (match.Hops.All(hop => hop.Totals.Count == 0) && match.OverTheWay.Count == 0)
            yield return $"{code}: there was no control total, so no second opinion beside the comparison of records. Compare a report "
                + "whose totals you know.";
    }

    private static IEnumerable<string> ToDoOf(RunReport report)
    {
        if (report.Closing is { OpenAt: null }) yield return "The office is not open again: transferra reopen";
        CompanyReport[] kept = [.. report.Companies.Where(company => company.Outcome == "through" && company.SetAside.Length > 0)];
        if (kept.Length > 0) yield return $"The old data of {Names(kept)} is kept; each company below says where. When everyone is "
            + "content, archive it or remove it by hand; until then the upgrade can be undone.";
    }

    private static string Ended(string text) => text.EndsWith('.') ? text : text + ".";

    private static string Count(long count, string what) => string.Create(CultureInfo.InvariantCulture,
        $"{count:#,0} {what}{(count == 1 ? "" : "s")}");
}
