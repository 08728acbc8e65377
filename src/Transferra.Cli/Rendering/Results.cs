// Results.cs: how each kind of result looks on the screen.
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Mending;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Rendering;

internal static class Results
{
    public static string Number(long value) => value.ToString("#,0", CultureInfo.InvariantCulture);

    /// <summary>"1 file", "15 files".</summary>
    public static string Count(long number, string one, string? many = null) =>
        $"{Number(number)} {(number == 1 ? one : many ?? one + "s")}";

    public static void Check(Screen screen, CheckResult check)
    {
        screen.Line($"Read as version {check.Version}: {Count(check.Tables.Values.Sum(), "record")} in "
            + $"{Count(check.Tables.Count, "table")}.");
        foreach (LostPart lost in check.Lost) screen.Bad($"Lost: {lost.Table}, {lost.Where}: {lost.Why}");
        if (check.Lost.Count > 0) screen.Line("What is counted above can be read; have it written to a new store: transferra check CODE "
            + "--salvage PLACE");
        if (check.Findings.Count == 0)
        {
            screen.Good("Nothing found.");
            Compared(screen, check.Compared);
            return;
        }
        screen.Table([">No", "Grade", "Table", ">Count", "What", "For example"],
            check.Findings.Select((finding, i) => (IReadOnlyList<string>)
            [Number(i + 1), finding.Grade.ToString().ToLowerInvariant(), finding.Table, Number(finding.Count), finding.What,
                string.Join("\n", finding.Examples.Take(3))]));
        screen.Line("What to do:");
        foreach (IGrouping<string, int> step in check.Findings.Select((finding, i) => (finding.Next, i + 1)).GroupBy(entry => entry.Next,
            entry => entry.Item2))
            screen.Paragraph(string.Join(", ", step.Select(number => Number(number))), step.Key, 6);
        screen.Line("More of each: transferra check --explain KIND, of "
            + $"{string.Join(", ", check.Findings.Select(finding => finding.Kind).Distinct())}");
        Compared(screen, check.Compared);
    }

    /// <summary>Where every record of each finding is listed.</summary>
    public static void Lists(Screen screen, CheckResult check, string folder)
    {
        if (check.Findings.Any(finding => finding.List.Length > 0)) screen.Line($"Every record, finding by finding: {folder}");
    }

    private static void Compared(Screen screen, FindingComparison? compared)
    {
        if (compared is null || compared.Findings.Count == 0) return;
        screen.Line($"Since {compared.Since}: {Number(compared.Count("new"))} new, {Number(compared.Count("stayed"))} still there, "
            + $"{Number(compared.Count("gone"))} gone.");
        foreach (ComparedFinding finding in compared.Findings.Where(finding => finding.State == "gone" || finding.State == "stayed"
            && finding.Before != finding.After))
            screen.Line($"  {(finding.State == "gone" ? "gone" : $"{Number(finding.Before)}, now {Number(finding.After)}")}: "
                + $"{finding.Table} {finding.What}");
    }

    public static void Mending(Screen screen, MendResult mended)
    {
        if (mended.Counts.Count > 0)
            screen.Table(["Mend", "Where", ">Changes", "Allowed because"],
                mended.Counts.Select(count => (IReadOnlyList<string>)[count.Mend, count.Column.Length > 0
                    ? $"{count.Table}.{count.Column}" : count.Table,
                count.Count > 0 ? Number(count.Count) : "done", count.Because]));
        foreach (string left in mended.Left) screen.Bad($"Not mended: {left}");
        if (mended.Tables.Count > 0)
        {
            screen.Table(["Table", ">Records before", ">Taken out", ">Changed", ">Records now", "Else the same"],
                mended.Tables.Select(table => (IReadOnlyList<string>)
                [table.Table, Number(table.Before), Number(table.TakenOut), Number(table.Changed), Number(table.Found), table.IsProved
                    ? "yes" : "NO"]));
            if (mended.IsProved)
                screen.Good("Proved: the copy was read anew, and differs from the old store by the listed changes and by nothing else.");
        }
        if (mended.Changes > 0) screen.Line($"Every change, with before and after: {mended.List}");
    }

    public static void Backups(Screen screen, IReadOnlyList<BackupResult> sets)
    {
        foreach (BackupResult set in sets)
        {
            string sizes = $"{Count(set.Files, "file")}, {Sizes.Of(set.ContentBytes)} in {Sizes.Of(set.Bytes)}";
            if (set.Damaged.Length > 0) screen.Look(set.Damaged);
            if (set.IsProved && set.Grade == ProofGrade.ReadBack) screen.Look($"Read back, not restored: {set.Path}: {set.NotRestored}");
            else if (set.IsProved) screen.Good($"Proved: {set.Path}");
            else screen.Bad($"NOT proved: {set.Path}: {set.Faults[0].What}");
            if (set.Files == 0) continue; // nothing came to be there
            if (set.IsCopy)
            {
                screen.Line("The same set, byte for byte, read back from there.");
                continue;
            }
            screen.Line(set.Grade == ProofGrade.ReadBack
                ? $"{sizes}; every byte read back, records compared as they stand in the set; no engine has taken them back."
                : set.Reused == 0 ? $"{sizes}; every byte read back, restored into scratch, records compared."
                : set.Reused == set.Files ? $"{sizes}; nothing changed since the set before, so all is taken from there; "
                    + "every byte read back."
                : $"{sizes}; {Number(set.Reused)} unchanged since the set before and taken from there; every byte read back, what is new "
                    + "unpacked and compared.");
            foreach (LeftOut left in set.LeftOut) screen.Look($"not in it: {left.Name}: {left.Why}");
            foreach (string doubt in set.Doubts) screen.Look($"the store itself does not add up, and is in the set as it is: {doubt}");
        }
    }

    public static void Conversion(Screen screen, ConvertResult converted)
    {
        foreach (HopResult hop in converted.Hops)
        {
            if (hop.Conversion.Export is { } export) Export(screen, hop, export);
            if (hop.Conversion.Steps.Count > 0)
            {
                screen.Line($"Version {hop.From} to {hop.To}: by hand, on a copy, in {Count(hop.Conversion.Steps.Count, "step")}.");
                screen.Line("What that made of the records, the match says.");
                continue;
            }
            if (hop.Conversion.Program is { } program)
            {
                screen.Line($"Version {hop.From} to {hop.To}: the vendor's {(program.ExitCode is null ? "service" : "program")}, run on a "
                    + $"copy: {program.Command}");
                screen.Line($"  {(program.ExitCode is { } code ? $"exit code {Number(code)}, " : "")}"
                    + Durations.Of(program.Seconds)
                    + (program.Output.Length > 0 ? $"; all it said: {program.Output}" : ""));
                foreach (string remark in hop.Conversion.Remarks) screen.Look($"not brought into the copy: {remark}");
                screen.Line("What it made of the records, the match says.");
                continue;
            }
            if (hop.Conversion.Scripts.Count > 0)
            {
                Scripts(screen, hop);
                continue;
            }
            Accounts(screen, hop.Conversion.Accounts);
            Shipped(screen, hop.Conversion.Shipped);
            foreach ((string table, long count) in hop.Conversion.RecordsAdded) screen.Line($"  {table}: {Number(count)} added, new in "
                + $"version {hop.To}");
            foreach (string remark in hop.Conversion.Remarks) screen.Look($"not put back behind the records: {remark}");
            foreach (TableLeftOut table in hop.Conversion.TablesLeftOut) screen.Line($"  {table.Table}: {Number(table.Records)} records "
                + $"left out with the table: {table.Because}");
        }
        if (converted.Exceptions == 0) return;
        screen.Bad($"{Count(converted.Exceptions, "record")} could not be converted:");
        screen.Table(["Table", "Record", "Column", "Value", "Reason"], converted.FirstExceptions.SelectMany(exception =>
            exception.Causes.Select(cause => (IReadOnlyList<string>)
            [exception.Table, exception.Key, cause.Column, cause.Value, cause.Reason])));
        screen.Line($"All of them: {converted.ExceptionList}");
    }

    private static void Export(Screen screen, HopResult hop, ExportRun export)
    {
        screen.Line($"Version {hop.From} to {hop.To}: written out by the old program, "
            + $"{(export.Program is null ? "by hand" : "from a copy")}, to {export.Folder}: {Count(export.Files.Count, "file")}, "
            + $"{Sizes.Of(export.Files.Sum(file => file.Bytes))}, proved.");
        foreach (string counted in export.Counted) screen.Line("  " + counted);
        foreach (string set in export.Sets) screen.Line($"  It is also in the set {set}");
    }

    private static void Accounts(Screen screen, IReadOnlyList<TableAccount> accounts)
    {
        screen.Table(["Old table", ">Read", ">Carried", ">Changed", ">Combined", ">Left out", ">Exceptions", "Adds up", "Into"],
            accounts.Append(TableAccount.Total(accounts) with { Table = "all" }).Select(account => (IReadOnlyList<string>)
                [account.Table, Number(account.Read), Number(account.Carried), Number(account.Changed), Number(account.Combined),
                    Number(account.LeftOut), Number(account.Exceptions), account.IsBalanced ? "yes" : "NO",
                    string.Join(", ", account.Into.Keys)]));
        foreach (TableAccount account in accounts)
            foreach ((string rule, long count) in account.Rules)
                screen.Line($"  {account.Table}: {Number(count)} by rule \"{rule}\"");
    }

    private static void Shipped(Screen screen, IReadOnlyList<ShippedAccount> accounts)
    {
        foreach (ShippedAccount account in accounts)
            screen.Line($"  {account.Table}, {Count(account.Shipped, "record")} that the new program ships: kept "
                + $"{Number(account.Shipped - account.Overwritten)}, overwritten by ours {Number(account.Overwritten)}"
                + (account.Raised.Length > 0 ? $"; {account.Raised}" : ""));
    }

    private static void Scripts(Screen screen, HopResult hop)
    {
        screen.Line($"Version {hop.From} to {hop.To}: the vendor's scripts, run in a copy.");
        screen.Table(["Script", ">Statements", ">Records written", ">Took"], hop.Conversion.Scripts.Select(script => (IReadOnlyList<string>)
            [script.Name, Number(script.Statements), Number(script.Rows),
                Durations.Of(script.Seconds)]));
        foreach (string meant in hop.Conversion.Scripts.SelectMany(script => script.Meant)) screen.Line("  " + meant);
        foreach (string remark in hop.Conversion.Remarks) screen.Look($"not brought into the copy: {remark}");
        screen.Line("What they made of the records, the match says.");
    }

    /// <summary>The match of a company.</summary>
    /// <param name="screen">Where it is told.</param>
    /// <param name="company">Whose.</param>
    /// <param name="matched">What it came to.</param>
    /// <param name="provedAt">When the new store was put in place and was proved; null where it was not.</param>
    public static void Match(Screen screen, string company, WayMatched matched, DateTimeOffset? provedAt = null)
    {
        foreach (MatchResult match in matched.Hops)
        {
            if (matched.Hops.Count > 1) screen.Line($"Version {match.FromVersion} to {match.ToVersion}:"
                + (match.MatchedAt is { } at ? string.Create(CultureInfo.InvariantCulture, $" proved on the way, {at:yyyy-MM-dd HH:mm:ss} "
                    + $"UTC; a store that it needs was let go since") : ""));
            if (match.TakenOver > 0)
                screen.Line($"Taken over from the match that was interrupted: {Number(match.TakenOver)} of {Number(match.Tables.Count)} "
                    + "tables. Neither store was written to since.");
            if (match.IsByOthers) Accounts(screen, match.Accounts);
            Shipped(screen, match.Shipped);
            screen.Table(["New table", ">Expected", ">Found", "Fingerprint", "Same"], match.Tables.Select(table => (IReadOnlyList<string>)
                [table.Table, Number(table.Expected), Number(table.Found), table.FoundFingerprint[..16], table.IsSame ? "yes" : "NO"]));
            foreach (TotalMatch total in match.Totals) Total(screen, total, "");
            ChildrenText.Tell(screen, match);
            if (match.DifferenceCount > 0) Differences(screen, company, match);
            if (match.Declarations is { } declarations) Declarations(screen, declarations, match.IsByOthers);
        }
        foreach (TotalMatch total in matched.OverTheWay) Total(screen, total, $", version {total.FromVersion} against {total.ToVersion}");
        foreach (OnOneSide part in matched.OnOneSide)
        {
            if (part.IsGone) screen.Bad($"Gone with version {part.Version}: {part.What}");
            else screen.Line($"  New in version {part.Version}: {part.What}");
        }
        if (matched.WithFresh is { } fresh) Fresh(screen, fresh);
        Share(screen, matched);
        if (matched.Levels is { } levels) MatchedLevelsText.Tell(screen, levels);
        foreach (NotLookedAt left in matched.NotLookedAt)
        {
            string line = $"Not looked at, in the {left.Side} store: "
                + $"{left.What}{(left.Records > 0 ? $" ({Count(left.Records, "record")})" : "")}";
            if (left.Allows == Verdict.Proved) screen.Line("  " + line);
            else screen.Look(line);
        }
        Proposed(screen, matched.Proposals);
        Answers(screen, company, matched);
        if (provedAt is { } then && matched.Differences > 0) Since(screen, company, matched.Hops[^1], then);
        else Conclude(screen, company, matched);
    }

    // People have gone on working since: what they added is told apart from what was altered, and what is gone.
    private static void Since(Screen screen, string company, MatchResult match, DateTimeOffset provedAt)
    {
        screen.Line(string.Create(CultureInfo.InvariantCulture,
            $"When the new store was put in place, {provedAt.UtcDateTime:yyyy-MM-dd HH:mm} UTC, nothing differed. Since then:"));
        TableMatch[] tables = [.. match.Tables.Where(table => table.Missing + table.Extra + table.Changed > 0)];
        screen.Table(["Table", ">Added at the end", ">Added among the old", ">Altered", ">Gone"], tables.Select(table =>
            (IReadOnlyList<string>)[table.Table, Number(table.Later), Number(table.Extra - table.Later), Number(table.Changed),
                Number(table.Missing)]));
        screen.Bad($"NOT proved for {company} any more. It was proved when it was put in place; since then "
            + $"{Count(tables.Sum(table => table.Later), "record")} added at the end, "
            + $"{Number(tables.Sum(table => table.Extra - table.Later))} added among the old, "
            + $"{Number(tables.Sum(table => table.Changed))} altered, {Number(tables.Sum(table => table.Missing))} gone.");
    }

    private const int NotComparedShown = 12;

    /// <summary>How many of the old store's values were compared, and which were not.</summary>
    internal static void Share(Screen screen, WayMatched matched)
    {
        foreach (ComparedShare share in matched.Hops.Select(hop => hop.Share).OfType<ComparedShare>())
        {
            string of = matched.Hops.Count > 1 ? $" of version {share.Version}" : "";
            screen.Line($"Values{of} compared: {ShareOf(share)} ({Number(share.Compared)} of {Number(share.Values)})"
                + (share.Parts.Count > 0 ? "; not compared:" : "."));
            foreach (NotCompared part in share.Parts.Take(NotComparedShown))
                screen.Line($"  {(part.Column.Length > 0 ? $"{part.Table}.{part.Column}" : part.Table)}, "
                    + $"{Count(part.Records, "record")}: {part.Why}");
            if (share.Parts.Count > NotComparedShown)
                screen.Line($"  and {Number(share.Parts.Count - NotComparedShown)} more: transferra match --json");
        }
    }

    /// <summary>A share in words; 100 % only where it is all.</summary>
    internal static string ShareOf(ComparedShare share) => share.Hundredths == 10_000 ? "100 %"
        : string.Create(CultureInfo.InvariantCulture, $"{share.Hundredths / 100m:0.00} %");

    private static void Answers(Screen screen, string company, WayMatched matched)
    {
        foreach (AnsweredFor given in matched.Answered)
            screen.Look($"Version {given.What.To}: {given.What.Words}. {given.By} answers for it"
                + $"{(given.AtMost > given.What.Records ? $" (for {Number(given.AtMost)} at most)" : "")}: {given.Because}");
        foreach (Unexplained what in matched.Unexplained.Where(what => what.AnsweredForAtMost > 0))
            screen.Bad($"Version {what.To}: {what.Words}; office.yaml answers for {Number(what.AnsweredForAtMost)} at most");
        if (matched.Unexplained.Count == 0) return;
        screen.Line((matched.Proposals.Count > 0 ? "What the kit cannot explain, a person can answer for" : "A person can answer for it")
            + $"; in office.yaml, under answered-for of {company}:");
        foreach (Unexplained what in matched.Unexplained) screen.Verbatim("  " + what.Line);
    }

    private static void Proposed(Screen screen, IReadOnlyList<Proposal> proposals)
    {
        foreach (IGrouping<(string File, string Under), Proposal> of in proposals.GroupBy(proposal => (proposal.File, proposal.Under)))
        {
            screen.Line($"What would explain it, if it is meant; in {of.Key.File}, under {of.Key.Under}:");
            foreach (Proposal proposal in of)
            {
                screen.Verbatim("  " + proposal.Line);
                screen.Line("    # " + proposal.Evidence);
            }
        }
        if (proposals.Count > 0) screen.Line("Then once more: transferra convert, or transferra match where it is converted already.");
    }

    private static void Declarations(Screen screen, DeclarationsMatched matched, bool byOthers)
    {
        int byHop = matched.Differences.Count(difference => difference.ByHop);
        screen.Line($"  declarations: {Number(matched.Counts.Sum(count => count.Old))} of {Number(matched.Counts.Count)} kinds"
            + (matched.Differences.Count == 0 ? ", the same in both stores" : "")
            + (byHop == 0 ? "" : byOthers ? $", {Number(byHop)} added, changed or dropped by whoever converted"
                : $", {Number(byHop)} changed with the tables and columns that the hop changes"));
        foreach (DeclarationDifference gone in matched.Differences.Where(one => one is { ByHop: true, New: null } && DoesSomething(one)))
            screen.Look($"{(byOthers ? "dropped by whoever converted" : "gone with what the hop takes away")}: the {gone.Kind} "
                + $"{gone.Name}");
        int rewritten = matched.Differences.Count(difference => difference.IsOtherWriting);
        if (rewritten > 0)
            screen.Line($"  {Count(rewritten, "declaration")} written otherwise by the other release of the server, the same but for "
                + $"blanks "
                + "and for the tables before the columns: " + string.Join(", ", matched.Differences.Where(difference =>
                    difference.IsOtherWriting).Select(difference => $"{difference.Kind} {difference.Name}")));
        DeclarationDifference[] others = [.. matched.Differences.Where(difference =>
            difference is { ByHop: false, IsOtherWriting: false })];
        if (others.Length == 0) return;
        screen.Bad($"{Count(others.Length, "declaration")} not the same, and the hop does not say why:");
        screen.Table(["What", "Name", "Old", "New"], others.Take(DifferencesShown).Select(other => (IReadOnlyList<string>)
            [other.Kind, other.Name, other.Old ?? "(none)", other.New ?? "(none)"]));
        if (others.Length > DifferencesShown) screen.Line("All of them: transferra match --json");
    }

    private static void Fresh(Screen screen, DeclarationsMatched fresh)
    {
        screen.Line("  Against the fresh store that office.yaml names: "
            + (fresh.Differences.Count == 0 ? "declared alike in everything"
                : $"{Count(fresh.Differences.Count, "declaration")} not the same, which an old store after many conversions rarely is"));
        if (fresh.Differences.Count > 0)
            screen.Table(["What", "Name", "Fresh store", "Converted store"], fresh.Differences
                .OrderBy(other => other.Old is not null && other.New is not null).Take(DifferencesShown).Select(other =>
                (IReadOnlyList<string>)[other.Kind, other.Name, other.Old ?? "(none)", other.New ?? "(none)"]));
        if (fresh.Differences.Count > DifferencesShown) screen.Line("All of them: transferra match --json");
    }

    // What the program works with by name, unlike the index or key of a column.
    private static bool DoesSomething(DeclarationDifference thing) =>
        thing.Kind is "view" or "materialized view" or "trigger" or "procedure" or "function";

    private static void Total(Screen screen, TotalMatch total, string versions)
    {
        string by = (total.IsByEngines ? "by the engines' own sums" : "added up apart from the conversion") + versions;
        if (total.IsSame)
        {
            screen.Line($"  {total.Name}: "
                + $"{(total.Lines.Count == 1 ? "its one line agrees" : $"all {Number(total.Lines.Count)} lines agree")}, {by}");
            return;
        }
        TotalLine[] wrong = [.. total.Lines.Where(line => !line.IsSame)];
        screen.Bad($"  {total.Name}: {Number(wrong.Length)} of {Number(total.Lines.Count)} lines disagree, {by}");
        foreach (TotalLine line in wrong.Take(5)) screen.Line($"    {line.Label}: old {line.Old ?? "(none)"}, new {line.New ?? "(none)"}");
    }

    private const int DifferencesShown = 20;

    private static void Differences(Screen screen, string company, MatchResult match)
    {
        screen.Bad($"{Count(match.DifferenceCount, "difference")} in {company}:");
        TableMatch[] differing = [.. match.Tables.Where(table => !table.IsSame)];
        screen.Table(["Table", ">Missing", ">Extra", ">Changed"], differing.Select(table => (IReadOnlyList<string>)
            [table.Table, Number(table.Missing), Number(table.Extra), Number(table.Changed)]));
        Changes(screen, differing);
        Listed(screen, match, differing);
    }

    /// <summary>The first records that differ, of each table.</summary>
    internal static void Listed(Screen screen, MatchResult match, TableMatch[] differing)
    {
        int ofEach = Math.Max(1, DifferencesShown / Math.Max(1, differing.Length));
        screen.Table(["Table", "Record", "Column", "Expected", "Found"], match.Differences.GroupBy(difference => difference.Table)
            .SelectMany(table => table.Take(ofEach))
            .Select(difference => (IReadOnlyList<string>)
            [difference.Table, difference.Key, DifferenceText.ColumnOf(difference),
                difference.Kind == DifferenceKind.Extra ? "(no such record)" : DifferenceText.Of(difference, difference.Expected),
                difference.Kind == DifferenceKind.Missing ? "(missing)" : DifferenceText.Of(difference, difference.Found)]));
    }

    /// <summary>In what way records differ, by table and column.</summary>
    internal static void Changes(Screen screen, IReadOnlyList<TableMatch> differing)
    {
        (string Table, ColumnChange Change)[] all = [.. differing.SelectMany(table => table.Changes.Where(change =>
            change.Column.Length > 0 || change.Kind is ChangeKind.Doubled or ChangeKind.Later).Select(change => (table.Table, change)))];
        if (all.Length == 0) return;
        bool hasSums = all.Take(ChangesShown).Any(one => one.Change.Sum is not null);
        screen.Table(["Table", "Column", "How it differs", ">Records", .. hasSums ? [">Sum of it"] : (string[])[]], all.Take(ChangesShown)
            .Select(one => (IReadOnlyList<string>)[one.Table, one.Change.Column.Length > 0 ? one.Change.Column : "(whole record)",
                ChangeKinds.Words(one.Change.Kind), Number(one.Change.Count), .. hasSums ? [one.Change.Sum ?? ""] : (string[])[]]));
        if (all.Length > ChangesShown) screen.Line("All of them: transferra match --json");
    }

    private const int ChangesShown = 24;

    // One line about the whole way, the last that is said of a company.
    private static void Conclude(Screen screen, string company, WayMatched matched)
    {
        string over = matched.Hops.Count > 1 ? $", over all {matched.Hops.Count} hops" : "", exceptions = matched.Exceptions == 0 ? ""
            : matched.Exceptions == 1 ? " 1 old record is an exception and is not in the new store."
                : $" {Number(matched.Exceptions)} old records are exceptions and are not in the new store.";
        string records = Number(matched.Hops[^1].Tables.Sum(table => table.Found));
        switch (matched.Verdict)
        {
            case Verdict.Proved:
                Action<string> told = matched.Levels?.IsToLookAt == true ? screen.Look : screen.Good;
                told($"Proved: the new store of {company} holds what the old one gives{over}, {records} records, "
                    + (matched.LeastShare is { Hundredths: < 10_000 } least
                        ? $"every value of them compared; of the old store's values, {ShareOf(least)}." : "every value compared.")
                    + (matched.Levels?.IsToLookAt == true ? " Not every document is proved to be unchanged; see above." : ""));
                break;
            case Verdict.AnsweredFor:
                screen.Look($"The same for {company}{over}, every value of {records} records compared, but for "
                    + $"{Count(matched.Answered.Count, "thing")} that nobody explained and {string.Join(" and ",
                        matched.Answered.Select(answer => answer.By).Distinct())} answered for; the sign-off says so.");
                break;
            case Verdict.ProvedInPart:
                screen.Look($"Proved in part for {company}{over}: the {records} records that the kit knows in the new store are what the "
                    + "old one gives, every value compared."
                    + (exceptions.Length > 0 ? exceptions : "")
                    + (matched.Hops.Any(hop => hop.Declarations?.Lost.Count > 0)
                        ? " Something that the old store declares is not there, or is another; it is named above." : "")
                    + (matched.NotLookedAt.Any(left => left.Allows != Verdict.Proved) ? " What was not looked at is named above." : ""));
                break;
            default:
                screen.Bad($"NOT proved for {company}{over}." + exceptions);
                break;
        }
    }
}
