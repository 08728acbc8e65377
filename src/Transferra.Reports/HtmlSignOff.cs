// HtmlSignOff.cs: the sign-off as one self-contained HTML page that prints on paper: no script, no outside resource.
using System.Xml.Linq;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Mending;
using Transferra.Core.Runs;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>Renders a run's report as HTML.</summary>
public static class HtmlSignOff
{
    private const int MostDifferences = 50;

    /// <summary>The page.</summary>
    public static string Render(RunReport report) =>
        Page($"Sign-off: {report.Office}, run {report.Run}", [Head(report), report.Companies.Select(Company), Sign()]);

    private static IEnumerable<XElement> Head(RunReport report)
    {
        yield return new XElement("h1", report.Office);
        yield return new XElement("p", Class("soft"), $"Record of the {report.Kind} run {report.Run}");
        yield return new XElement("dl",
            Pair("Begun", $"{Time(report.BegunAt)} by {report.By}"),
            Pair("Last entry", $"{Time(report.LastAt)} ({Durations.Of((report.LastAt - report.BegunAt).TotalSeconds)})"),
            Pair("State", report.State),
            report.Closing is not { } closing ? null : Pair("Office closed",
                $"from {Time(closing.BegunAt)}, everybody out {(closing.ClosedAt is { } at ? Time(at) : "not proved")}, open again "
                    + (closing.OpenAt is { } open ? $"{Time(open)} ({Durations.Of((open - closing.BegunAt).TotalSeconds)})" : "not yet")),
            Pair("Journal", $"{report.JournalPath}, {report.JournalLines} lines"),
            Pair("Journal digest", Mono(report.JournalSha256)),
            Pair("Made with", "Transferra " + report.Tool));
        yield return Table(["Company", "Package", "Data version", "Outcome", ">Records read", ">Exceptions", "Proof"],
            report.Companies.Select(company => new object[]
        {
            $"{company.Code}, {company.Name}",
            company.Package,
            $"{company.From} to {company.To}",
            Badge(company.Outcome),
            Number(RecordsRead(company)),
            Number(company.Conversion?.Exceptions),
            ProofOf(report.Kind, company),
        }));
    }

    private static IEnumerable<XElement> Company(CompanyReport company)
    {
        yield return new XElement("h2", $"{company.Code}: {company.Name} ", Badge(company.Outcome));
        if (company.Reasons.Count > 0) yield return Stopped(company);
        if (company.Outcome == "undone") yield return new XElement("div", Class("box bad"), new XElement("p", RunReport.TakenBackSince));
        if (company.SetAside.Length > 0)
            yield return new XElement("div", Class("box good"), new XElement("p",
                "The old store is kept as ", Mono(company.SetAside), ". SHA-256 before anything was done: ", Mono(company.OldStoreSha256)));
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
            .. company.Match is null ? [] : Matched(company.Match),
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

    // The records of the old store, which the first hop reads; where others converted, the match has read them.
    private static long? RecordsRead(CompanyReport company) => company.Match?.Hops is [{ IsByOthers: true } first, ..]
        ? first.Accounts.Sum(account => account.Read)
        : company.Conversion?.Hops.FirstOrDefault()?.Conversion.Accounts.Sum(account => account.Read);

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
            foreach (XElement part in Accounts(hop.Conversion.Accounts)) yield return part;
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

    private static IEnumerable<XElement> Accounts(IReadOnlyList<TableAccount> accounts)
    {
        yield return Table(["Old table", ">Read", ">Carried", ">Changed", ">Combined", ">Left out", ">Exceptions", "Adds up"],
            accounts.Append(TableAccount.Total(accounts) with { Table = "all tables" }).Select(Account), sumRow: true);
        (string Table, string Rule, long Count)[] rules = [.. accounts.SelectMany(account =>
            account.Rules.Select(rule => (account.Table, rule.Key, rule.Value)))];
        if (rules.Length > 0)
            yield return Table(["Old table", "Declared rule", ">Records"],
                rules.Select(rule => new object[] { rule.Table, rule.Rule, Number(rule.Count) }));
    }

    private static object[] Account(TableAccount account) =>
    [
        account.Table, Number(account.Read), Number(account.Carried), Number(account.Changed), Number(account.Combined),
            Number(account.LeftOut),
        Number(account.Exceptions), account.IsBalanced ? "yes" : "NO",
    ];

    // What was proved is no longer there after an undo. A restore is proved as a whole or does not go through.
    private static object ProofOf(string kind, CompanyReport company) => company switch
    {
        { Outcome: "undone", Conversion: not null } or { Outcome: "undone", Mending: not null } => "taken back",
        { Mending: { } mending } => Proof(mending.IsProved),
        { Match: { } match } => VerdictOf(match.Verdict),
        { Conversion: not null } => "not matched",
        _ => kind is "upgrade" or "convert" ? "not converted" : "",
    };

    private static XElement VerdictOf(Verdict verdict) => verdict switch
    {
        Verdict.ProvedInPart => Badge("proved in part"),
        Verdict.AnsweredFor => Badge("answered for"),
        _ => Proof(verdict == Verdict.Proved)
    };

    private static IEnumerable<XElement> Matched(WayMatched matched)
    {
        MatchResult first = matched.Hops[0], last = matched.Hops[^1];
        yield return new XElement("h3", $"The proof, version {first.FromVersion} to {last.ToVersion} ", VerdictOf(matched.Verdict));
        if (matched.Exceptions > 0) yield return new XElement("p",
            $"{Number(matched.Exceptions)} old records are exceptions and are not in the new store.");
        if (matched.Answered.Count > 0)
        {
            yield return new XElement("p", "What the vendor's conversion changed and nobody explained, and who answers for it:");
            yield return Table(["Version", "What", "Answered for by", "Because"], matched.Answered.Select(given => new object[]
            {
                given.What.To, given.What.Words + (given.AtMost > given.What.Records ? $" (answered for {Number(given.AtMost)} at "
                    + $"most)" : ""),
                given.By, given.Because
            }));
        }
        if (matched.Unexplained.Count > 0)
        {
            yield return new XElement("p", "What nobody explained, nor answered for:");
            yield return new XElement("ul", matched.Unexplained.Select(what => new XElement("li", $"version {what.To}: {what.Words}")));
        }
        if (matched.NotLookedAt.Count > 0)
        {
            yield return new XElement("p", "Not looked at:");
            yield return new XElement("ul", matched.NotLookedAt.Select(left => new XElement("li",
                $"in the {left.Side} store, version {left.Version}: "
                    + $"{left.What}{(left.Records > 0 ? $" ({Number(left.Records)} {(left.Records == 1 ? "record" : "records")})"
                        : "")}")));
        }
        if (matched.OnOneSide.Count > 0)
        {
            yield return new XElement("p", "What only one of the stores has:");
            yield return new XElement("ul", matched.OnOneSide.Select(part => new XElement("li",
                part.IsGone ? $"gone with version {part.Version}: {part.What}" : $"new in version {part.Version}: {part.What}")));
        }
        if (matched.WithFresh is { } fresh)
        {
            yield return new XElement("p", "What the converted store declares otherwise than a fresh one of its version, which the new "
                + "program "
                + $"made: {(fresh.Differences.Count == 0 ? "nothing" : Number(fresh.Differences.Count))}.");
            if (fresh.Differences.Count > 0)
                yield return Table(["Declared", "Name", "Fresh store", "Converted store"], fresh.Differences.Take(MostDifferences)
                    .Select(one => new object[] { one.Kind, one.Name, one.Old ?? "(none)", one.New ?? "(none)" }));
        }
        foreach (XElement part in matched.Hops.SelectMany(hop => Hop(hop, isOnly: matched.Hops.Count == 1))) yield return part;
        if (matched.OverTheWay.Count > 0) yield return Totals(matched.OverTheWay);
    }

    private static IEnumerable<XElement> Hop(MatchResult match, bool isOnly)
    {
        if (!isOnly) yield return new XElement("h4", $"Version {match.FromVersion} to {match.ToVersion}");
        if (match.IsByOthers) foreach (XElement part in Accounts(match.Accounts)) yield return part;
        if (match.Shipped.Count > 0)
            yield return Table(["Shipped by the new program", ">Records", ">Stay", ">Overwritten by ours", ">Ours raised by"],
                match.Shipped.Select(of => new object[]
                {
                    of.Table, Number(of.Shipped), Number(of.Shipped - of.Overwritten), Number(of.Overwritten), Number(of.Offset)
                }));
        yield return Table(["New table", ">Expected", ">Found", ">Missing", ">Extra", ">Changed", "Fingerprint", "Same"],
            match.Tables.Select(table => new object[]
        {
            table.Table, Number(table.Expected), Number(table.Found), Number(table.Missing), Number(table.Extra), Number(table.Changed),
                Mono(table.FoundFingerprint),
            table.IsSame ? "yes" : "NO",
        }));
        if (match.Totals.Count > 0) yield return Totals(match.Totals);
        if (match.Declarations is { } declarations)
        {
            yield return Table(["Declared", ">Old store", ">New store"], declarations.Counts.Select(count => new object[]
            {
                count.Kind, Number(count.Old), Number(count.New)
            }));
            if (declarations.Differences.Count > 0)
                yield return Table(["Declared", "Name", "Old store", "New store", "Why"], declarations.Differences
                    .OrderBy(difference => difference.ByHop).Take(MostDifferences).Select(difference => new object[]
                    {
                        difference.Kind, difference.Name, difference.Old ?? "(none)", difference.New ?? "(none)",
                        difference.ByHop ? "changed by the hop" : difference.IsOtherWriting
                            ? "written otherwise by the other release" : "NOT by the hop",
                    }));
        }
        if (match.Differences.Count > 0)
            yield return Table(["Table", "Record", "Column", "Expected", "Found"], match.Differences.Take(MostDifferences)
                .Select(difference => new object[]
            {
                difference.Table,
                difference.Key,
                difference.Column.Length > 0 ? difference.Column : $"({difference.Kind.ToString().ToLowerInvariant()})",
                difference.Expected,
                difference.Found,
            }));
    }

    private static XElement Totals(IReadOnlyList<TotalMatch> totals) =>
        Table(["Control total", "Versions", ">Lines", ">Agree", "Added up by", "First that disagrees"], totals.Select(total => new object[]
        {
            total.Name,
            $"{total.FromVersion} to {total.ToVersion}",
            Number(total.Lines.Count),
            Number(total.Lines.Count(line => line.IsSame)),
            total.IsByEngines ? "the engines" : "Transferra, apart from the conversion",
            total.Lines.FirstOrDefault(line => !line.IsSame) is { } line ? $"{line.Label}: {line.Old ?? "none"} / {line.New ?? "none"}"
                : "",
        }));

    private static XElement Sign() => new("div", Class("sign"),
        new XElement("div", "Carried out by"), new XElement("div", "Date"), new XElement("div", "Checked for the office by"),
            new XElement("div", "Date"));

    // Heads that begin with ">" are of numbers, set to the right.
}
