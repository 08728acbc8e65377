// HtmlSignOff.cs: the sign-off as one self-contained HTML page that prints on paper: no script, no outside resource.
using System.Xml.Linq;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;
using Transferra.Core.Mending;
using Transferra.Core.Runs;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>Renders a run's report as HTML.</summary>
public static class HtmlSignOff
{
    private const int MostToDo = 12;

    /// <summary>The page.</summary>
    /// <param name="report">The run.</param>
    /// <param name="signedBy">Fingerprint of the key that signs it; null when none does.</param>
    public static string Render(RunReport report, string? signedBy = null) => Page($"Sign-off: {report.Office}, run {report.Run}",
        [new XElement("section", Class("front"), Front(report), Sign()), Record(report, signedBy), report.Companies.Select(Company)]);

    // What a manager understands in ten seconds.
    private static IEnumerable<XElement> Front(RunReport report)
    {
        SignOffSummary summary = SignOffSummary.Of(report);
        yield return new XElement("h1", report.Office);
        yield return new XElement("p", Class("soft"), $"Sign-off of the {report.Kind} begun {Time(report.BegunAt)} by {report.By}");
        yield return new XElement("p", Class("sentence"), summary.Sentence);
        yield return new XElement("div", Class("figures"), summary.Figures.Select(figure => new XElement("div",
            new XElement("b", figure.Value), new XElement("span", figure.Of))));
        yield return new XElement("h3", "What is left to do");
        yield return summary.ToDo.Count == 0 ? new XElement("p", "Nothing but to sign.") : new XElement("ul", summary.ToDo.Take(MostToDo)
            .Select(left => new XElement("li", left)), summary.ToDo.Count > MostToDo ? new XElement("li",
                $"and {Number(summary.ToDo.Count - MostToDo)} more, told with each company below") : null);
        yield return Companies(report);
        if (SignOffDrawings.Hours(report) is { } hours) yield return hours;
    }

    private static IEnumerable<XElement> Record(RunReport report, string? signedBy)
    {
        yield return new XElement("h2", $"The record of the run {report.Run}");
        yield return new XElement("dl",
            Pair("Begun", $"{Time(report.BegunAt)} by {report.By}"),
            Pair("Last entry", $"{Time(report.LastAt)} ({Durations.Of((report.LastAt - report.BegunAt).TotalSeconds)})"),
            Pair("State", report.State),
            report.Closing is not { } closing ? null : Pair("Office closed",
                $"from {Time(closing.BegunAt)}, everybody out {(closing.ClosedAt is { } at ? Time(at) : "not proved")}, open again "
                    + (closing.OpenAt is { } open ? $"{Time(open)} ({Durations.Of((open - closing.BegunAt).TotalSeconds)})" : "not yet")),
            Pair("Journal", $"{report.JournalPath}, {report.JournalLines} lines"),
            Pair("Digest of its last line", Mono(report.JournalSha256)),
            Pair("Signed with", signedBy is null ? "nothing" : Mono(signedBy)),
            Pair("Made with", "Transferra " + report.Tool));
        if (signedBy is not null) yield return new XElement("p", Class("soft"), "Whether this page, the journal, the results, the sets and "
            + "the old stores still belong together: transferra signoff --verify, or by hand as docs/verify-by-hand.md says.");
        if (SignOffDrawings.Disks(report.Disks) is { } disks)
        {
            yield return new XElement("h3", "Room on the disks");
            yield return new XElement("p", Class("soft"), "A bar is a disk; what is filled is in use, above before the run, below after "
                + "it.");
            yield return disks;
        }
        if (report.Closing is { Steps.Count: > 0 } shut)
        {
            yield return new XElement("h3", "Shut and stopped while the office was closed");
            yield return new XElement("ul", shut.Steps.Select(step => new XElement("li", step)));
        }
    }

    private static XElement Companies(RunReport report) =>
        Table(["Company", "Package", "Data version", "Program version", "Outcome", ">Records", ">Exceptions", "Proof"],
            report.Companies.Select(company => new object[]
        {
            $"{company.Code}, {company.Name}",
            company.Package,
            $"{company.From} to {company.To}",
            company.Program is not { } program ? "not told" : program.Before == program.Now ? program.Now!
                : $"{program.Before ?? "not told"}, now {program.Now ?? "not told"}",
            Badge(company.Outcome),
            Number(SignOffSummary.RecordsOf(company)),
            Number(company.Conversion?.Exceptions),
            ProofOf(report.Kind, company),
        }));

    private static IEnumerable<XElement> Company(CompanyReport company)
    {
        yield return new XElement("h2", $"{company.Code}: {company.Name} ", Badge(company.Outcome));
        if (company.Reasons.Count > 0) yield return Stopped(company);
        if (company.Outcome == "undone") yield return new XElement("div", Class("box bad"), new XElement("p", RunReport.TakenBackSince));
        if (company.SetAside.Length > 0)
            yield return new XElement("div", Class("box good"), new XElement("p",
                "The old store is kept as ", Mono(company.SetAside), ". SHA-256 before anything was done: ", Mono(company.OldStoreSha256)));
        if (SignOffDrawings.Way(company) is { } way) yield return way;
        yield return new XElement("h3", "Stages");
        yield return Table(["Stage", "State", "Begun", ">Took", "Remark"], company.Stages.Select(stage => new object[]
        {
            stage.Stage,
            stage.State,
            stage.Began is { } at ? Time(at) : "",
            stage.Seconds is { } seconds ? Durations.Of(seconds) : "",
            stage.Remark.Replace("\n", "; ", StringComparison.Ordinal),
        }));
        IEnumerable<XElement> parts = [
            .. company.Check is null ? [] : Findings("Found before", company.Check),
            .. company.Backups is null ? [] : Backups(company.Backups),
            .. company.Mending is null ? [] : Mending(company.Mending),
            .. company.Conversion is null ? [] : Conversion(company.Conversion),
            .. company.Match is null ? [] : HtmlMatched.Matched(company.Match),
            .. company.CheckAgain is null ? [] : Findings("Found after", company.CheckAgain),
        ];
        foreach (XElement part in parts) yield return part;
    }

    private static XElement Stopped(CompanyReport company)
    {
        var box = new XElement("div", Class("box bad"),
            new XElement("p", $"{company.Code} was not changed over. Its old data is in its place, untouched, because:"),
            new XElement("ul", company.Reasons.Select(reason => new XElement("li", reason))));
        if (company.Conversion?.ExceptionList is { Length: > 0 } list)
            box.Add(new XElement("p", "All exceptions are listed in ", Mono(list),
                $". Correct them in version {company.From}, then run the upgrade of {company.Code} again."));
        return box;
    }

    private static IEnumerable<XElement> Findings(string title, CheckResult check)
    {
        yield return new XElement("h3", title);
        if (check.Findings.Count == 0)
        {
            yield return new XElement("p", "Nothing: every table was read whole.");
            if (Compared(check) is { } nothingLeft) yield return nothingLeft;
            yield break;
        }
        yield return Table(["Grade", "Table", "What", ">Count", "Examples"], check.Findings.Select(finding => new object[]
            { Badge(finding.Grade.ToString().ToLowerInvariant()), finding.Table, finding.What, Number(finding.Count),
                string.Join("; ", finding.Examples) }));
        if (Compared(check) is { } compared) yield return compared;
    }

    private static XElement? Compared(CheckResult check)
    {
        if (check.Compared is not { Findings.Count: > 0 } compared) return null;
        string gone = string.Join("; ", compared.Findings.Where(finding => finding.State == "gone")
            .Select(finding => $"{finding.Table} {finding.What}"));
        return new XElement("p", $"Since {compared.Since}: {compared.Count("new")} new, {compared.Count("stayed")} still there, "
            + $"{compared.Count("gone")} gone{(gone.Length > 0 ? ": " + gone : "")}.");
    }

    private static IEnumerable<XElement> Mending(MendResult mending)
    {
        yield return new XElement("h3", "What was put right, and the proof ",
            Proof(mending.IsProved));
        yield return Table(["Mend", "Where", ">Changes", "Allowed because"], mending.Counts.Select(count => new object[]
            { count.Mend, count.Column.Length > 0 ? $"{count.Table}.{count.Column}" : count.Table, count.Count > 0 ? Number(count.Count)
                : "done", count.Because }));
        if (mending.Left.Count > 0) yield return new XElement("ul", mending.Left.Select(left => new XElement("li", "Not mended: " + left)));
        yield return Table(["Table", ">Records before", ">Taken out", ">Changed", ">Records now", "Else the same"],
            mending.Tables.Select(table => new object[]
            { table.Table, Number(table.Before), Number(table.TakenOut), Number(table.Changed), Number(table.Found), table.IsProved
                ? "yes" : "NO" }));
        yield return new XElement("p", "Every change, with before and after: ", Mono(mending.List));
    }

    private static IEnumerable<XElement> Backups(IReadOnlyList<BackupResult> backups)
    {
        yield return new XElement("h3", "Backup sets");
        yield return Table(["Set", ">Files", ">Size before", ">Size", "Proof"], backups.Select(set => new object[]
            { Mono(set.Path), Number(set.Files), Sizes.Of(set.ContentBytes), Sizes.Of(set.Bytes),
                set.IsProved && set.Grade == ProofGrade.ReadBack ? "read back, not restored" : Proof(set.IsProved) }));
    }

    private static IEnumerable<XElement> Export(HopResult hop, ExportRun export) =>
    [
        new XElement("h3", $"Written out by the old program, version {hop.From} to {hop.To}"),
        Table(["File", ">Bytes", "SHA-256"], export.Files.Select(file => new object[]
        {
            file.Name, Number(file.Bytes), Mono(file.Sha256)
        })),
        new XElement("ul", export.Counted.Concat(export.Sets.Select(set => "also in the set " + set)).Select(line =>
            new XElement("li", line)))
    ];

    private static IEnumerable<XElement> Conversion(ConvertResult conversion)
    {
        foreach (HopResult hop in conversion.Hops)
        {
            foreach (XElement part in hop.Conversion.Export is { } export ? Export(hop, export) : []) yield return part;
            if (hop.Conversion.Steps.Count > 0)
            {
                yield return new XElement("h3", $"By hand, version {hop.From} to {hop.To}");
                yield return new XElement("ol", hop.Conversion.Steps.Select(step => new XElement("li", step)));
                continue;
            }
            if (hop.Conversion.Program is { } program)
            {
                yield return new XElement("h3", $"The vendor's program, version {hop.From} to {hop.To}");
                yield return Table(["Program", ">Exit code", ">Time"], [[Mono(program.Command),
                    program.ExitCode is { } code ? Number(code) : "", Durations.Of(program.Seconds)]]);
                continue;
            }
            if (hop.Conversion.Scripts.Count > 0)
            {
                yield return new XElement("h3", $"The vendor's scripts, version {hop.From} to {hop.To}");
                yield return Table(["Script", ">Statements", ">Records written", "Errors that are "
                    + "meant"], hop.Conversion.Scripts.Select(script =>
                    new object[] { Mono(script.Name), Number(script.Statements), Number(script.Rows), string.Join("; ", script.Meant) }));
                continue;
            }
            yield return new XElement("h3", $"What became of every record, version {hop.From} to {hop.To}");
            foreach (XElement part in HtmlMatched.Accounts(hop.Conversion.Accounts)) yield return part;
            if (hop.Conversion.RecordsAdded.Count > 0)
                yield return new XElement("p", "Added for the new version: "
                    + string.Join(", ", hop.Conversion.RecordsAdded.Select(added => $"{added.Value} to {added.Key}")) + ".");
        }
        if (conversion.FirstExceptions.Count == 0) yield break;
        bool all = conversion.Exceptions == conversion.FirstExceptions.Count;
        yield return new XElement("h3", all ? "Exceptions" : $"Exceptions (the first {conversion.FirstExceptions.Count})");
        yield return Table(["Table", "Record", "Column", "Value", "Reason"], conversion.FirstExceptions.SelectMany(exception =>
            exception.Causes.Select(cause => new object[] { exception.Table, exception.Key, cause.Column, cause.Value, cause.Reason })));
    }

    // What was proved is no longer there after an undo. A restore is proved as a whole or does not go through.
    private static object ProofOf(string kind, CompanyReport company) => company switch
    {
        { Outcome: "undone", Conversion: not null } or { Outcome: "undone", Mending: not null } => "taken back",
        { Mending: { } mending } => Proof(mending.IsProved),
        { Match: { } match } => HtmlMatched.VerdictOf(match.Verdict),
        { Conversion: not null } => "not matched",
        _ => kind is "upgrade" or "convert" ? "not converted" : "",
    };

    private static XElement Sign() => new("div", Class("sign"),
        new XElement("div", "Carried out by"), new XElement("div", "Date"), new XElement("div", "Checked for the office by"),
            new XElement("div", "Date"));

    // Heads that begin with ">" are of numbers, set to the right.
}
