// HtmlMatched.cs: the proof of a company as part of a page: levels with their figures, what differs, what was not looked at.
using System.Xml.Linq;
using Transferra.Core.Conversion;
using Transferra.Core.Matching;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>Parts about a match.</summary>
internal static class HtmlMatched
{
    private const int MostDifferences = 50, MostChanges = 40, MostParts = 30, MostLines = 6;

    internal static XElement VerdictOf(Verdict verdict) => verdict switch
    {
        Verdict.ProvedInPart => Badge("proved in part"),
        Verdict.AnsweredFor => Badge("answered for"),
        _ => Proof(verdict == Verdict.Proved)
    };

    internal static IEnumerable<XElement> Matched(WayMatched matched)
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
        foreach (XElement part in Shares(matched)) yield return part;
        if (matched.Levels is { } levels) foreach (XElement part in Beside(levels)) yield return part;
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
        if (matched.OverTheWay.Count > 0) foreach (XElement part in Totals(matched.OverTheWay)) yield return part;
    }

    private static IEnumerable<XElement> Beside(MatchedLevels levels)
    {
        yield return new XElement("p", $"Data version: {levels.OldVersion ?? "not told"} in the old store, "
            + $"{levels.NewVersion ?? "not told"} in the new one.");
        if (levels.Program is { } program) yield return new XElement("p", $"Program version: {program.Words("when it was matched")}.");
        if (levels.Settings.Count > 0)
            yield return Table(["Setting", "Before", "After", "Unchanged"], levels.Settings.Select(setting => new object[]
            { setting.Name, setting.Old ?? "(none)", setting.New ?? "(none)", setting.IsSame ? "yes" : "no" }));
        if (levels.Documents is not { } documents) yield break;
        yield return new XElement("p", documents.NotCompared.Length > 0 ? $"Documents: not compared: {documents.NotCompared}"
            : $"Documents: {Number(documents.Same)} unchanged since the set {documents.Set}, compared by SHA-256; "
                + $"{string.Join(", ", documents.Others.Select(other => $"{Number(other.Files.Count)} {other.What}"))}.");
        if (documents.Others.Any(other => other.Files.Count > 0))
            yield return new XElement("ul", documents.Others.SelectMany(other => other.Files.First.Take(MostParts)
                .Select(name => new XElement("li", $"{other.What}: {name}"))));
    }

    private static IEnumerable<XElement> Shares(WayMatched matched)
    {
        foreach (ComparedShare share in matched.Hops.Select(hop => hop.Share).OfType<ComparedShare>())
        {
            yield return new XElement("p", $"Values of version {share.Version} compared: {Number(share.Compared)} of "
                + $"{Number(share.Values)}." + (share.Parts.Count > 0 ? " Not compared:" : ""));
            if (share.Parts.Count > 0) yield return Table(["Table", "Column", ">Records", ">Values", "Why not"], share.Parts.Take(MostParts)
                .Select(part => new object[] { part.Table, part.Column.Length > 0 ? part.Column : "all", Number(part.Records),
                    Number(part.Values), part.Why }));
        }
    }

    private static IEnumerable<XElement> Changes(MatchResult match)
    {
        (string Table, ColumnChange Change)[] all = [.. match.Tables.SelectMany(table => table.Changes.Select(change => (table.Table,
            change)))];
        if (all.Length > 0) yield return Table(["Table", "Column", "How it differs", ">Records", ">Sum of it"], all.Take(MostChanges)
            .Select(one => new object[] { one.Table, one.Change.Column.Length > 0 ? one.Change.Column : "(whole record)",
                ChangeKinds.Words(one.Change.Kind), Number(one.Change.Count), one.Change.Sum ?? "" }));
        if (match.Differences.Count == 0) yield break;
        yield return new XElement("p", "The first of them:");
        yield return Table(["Table", "Record", "Column", "Expected", "Found"], match.Differences.Take(MostDifferences)
            .Select(difference => new object[]
        {
            difference.Table,
            difference.Key,
            DifferenceText.ColumnOf(difference),
            difference.Kind == DifferenceKind.Extra ? "(no such record)" : DifferenceText.Of(difference, difference.Expected),
            difference.Kind == DifferenceKind.Missing ? "(missing)" : DifferenceText.Of(difference, difference.Found),
        }));
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
        if (SignOffDrawings.Tables(match) is { } drawing) yield return drawing;
        yield return Table(["New table", ">Expected", ">Found", ">Missing", ">Extra", ">Changed", "Fingerprint", "Same"],
            match.Tables.Select(table => new object[]
        {
            table.Table, Number(table.Expected), Number(table.Found), Number(table.Missing), Number(table.Extra), Number(table.Changed),
                Mono(table.FoundFingerprint),
            table.IsSame ? "yes" : "NO",
        }));
        if (match.Totals.Count > 0) foreach (XElement part in Totals(match.Totals)) yield return part;
        foreach (XElement part in Children(match)) yield return part;
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
        foreach (XElement part in Changes(match)) yield return part;
    }

    // The links that do not come out even first, and of each link the first few parents.
    private static IEnumerable<XElement> Children(MatchResult match)
    {
        IReadOnlyList<ChildrenMatched> links = match.Children;
        if (links.Count == 0) yield break;
        int others = links.Count(link => !link.IsSame);
        yield return new XElement("p", $"Children per parent: {Number(links.Count)} {(links.Count == 1 ? "link" : "links")} between "
            + "tables; " + (others == 0 ? "each record pointed to has as many pointing to it as it should"
                + (match.NotCarried == 0 ? "." : $", leaving aside the old records not carried ({Number(match.NotCarried)}).")
                : $"in {Number(others)} of them some have another number."));
        yield return Table(["From", "To", ">Parents", ">Children", ">With another number", "Of them"], links.OrderByDescending(link =>
            link.Differing).Take(MostParts).Select(link => new object[]
        {
            $"{link.Table}.{string.Join(" + ", link.Columns)}", link.Parent, Number(link.Parents), Number(link.Records),
            Number(link.Differing), string.Join("; ", link.First.Take(MostLines).Select(one =>
                $"{one.Parent}: {Number(Math.Abs(one.Change))} {(one.Change < 0 ? "fewer" : "more")}"))
        }));
    }

    private static IEnumerable<XElement> Totals(IReadOnlyList<TotalMatch> totals)
    {
        yield return Table(["Control total", "Versions", ">Lines", ">Agree", "Added up by", "First that disagrees"], totals.Select(total =>
            new object[]
        {
            total.Name,
            $"{total.FromVersion} to {total.ToVersion}",
            Number(total.Lines.Count),
            Number(total.Lines.Count(line => line.IsSame)),
            total.IsByEngines ? "the engines" : "Transferra, apart from the conversion",
            total.Lines.FirstOrDefault(line => !line.IsSame) is { } line ? $"{line.Label}: {line.Old ?? "none"} / {line.New ?? "none"}"
                : "",
        }));
        // What a bookkeeper knows by heart; those that disagree first, and of the others the last, which are the newest periods.
        yield return Table(["Control total", "Of", ">Before", ">After"], totals.SelectMany(total => total.Lines.Where(line => !line.IsSame)
            .Concat(total.Lines.Where(line => line.IsSame).TakeLast(MostLines)).Take(MostLines).Select(line => new object[]
            {
                total.Name, line.Label, line.Old ?? "none", line.New ?? "none"
            })));
    }

    internal static IEnumerable<XElement> Accounts(IReadOnlyList<TableAccount> accounts)
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
}
