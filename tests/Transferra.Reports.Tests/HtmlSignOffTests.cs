using System.Xml.Linq;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Matching;
using Transferra.Core.Mending;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Reports.Tests;

public sealed class HtmlSignOffTests
{
    private static readonly DateTimeOffset At = new(2026, 11, 24, 23, 0, 0, TimeSpan.Zero);

    private static RunReport Report(bool proved, string firm = "Quaverholt & <Sons>")
    {
        TableAccount account = new("JRNL", 10, proved ? 6 : 5, 2, 1, 1, proved ? 0 : 1, new Dictionary<string,
            long>
        { ["trailing blanks removed"] = 2 },
            new Dictionary<string, long> { ["entry"] = 7 });
        ExceptionRow[] exceptions = proved
            ? [] : [new ExceptionRow("JRNL", "4321", [new ExceptionCause("JDATE", "entry.posted_on", FaultCode.NotADate, "31/02/23",
                "this is not a date")])];
        var conversion = new ConvertResult([new HopResult("5", "6", new ConversionResult([account], [], new Dictionary<string,
            long> { ["setting"] = 1 }),
            1.5)], proved ? "" : "/runs/exceptions.csv", exceptions, "/data/v6/ledger.db");
        var match = new MatchResult("5", "6", [account],
            [new TableMatch("entry", 7, 7, new string('a', 32), new string(proved ? 'a' : 'b', 32), 0, 0, proved ? 0 : 1)],
            [new TotalMatch("Debits by period", true,
                [new TotalLine("15", "35539.75", proved ? "35539.75" : "35203.61")]) { FromVersion = "5", ToVersion = "6" }], proved
                ? [] : [new Difference("entry", "4711", "amount", DifferenceKind.Value, "12.00", "12.01")], proved ? 0 : 1);
        var check = new CheckResult("5", new Dictionary<string, long> { ["JRNL"] = 10 }, proved
            ? [] : [new Finding("orphan", Grade.Fault, "JRNL", 1, "records that point nowhere", ["7034"], "Enter it.", false)]);
        var company = new CompanyReport("QIH", firm, "Pellwright Ledger", "5", "6", proved ? "through" : "stopped", proved ? []
            : ["the match did not prove the new store"],
            [new StageReport("check", "done", At, 0.5, ""), new StageReport("convert", "done", At, 61, "")], new string('c', 64),
                proved ? "/data/old-v5/ledger.db" : "", check,
            [new BackupResult("/sets/QIH.tar", 1900, 15, 6400, proved ? []
                : [new SetFault("damaged", "store/ledger.db", "it is broken")])], conversion,
                new WayMatched([match], [], [new NotLookedAt("old", "5", "the table DIARY, which the kit does not know", 12,
                    proved ? Verdict.Proved : Verdict.NotProved)]), proved ? check : null);
        return new RunReport("20261124-230000", "upgrade", "ended", firm, "root", "0.1.0", At, At.AddSeconds(90), "/runs/journal.jsonl",
            21, new string('d', 64), [company]);
    }

    private static XElement Body(RunReport report)
    {
        string page = HtmlSignOff.Render(report);
        Assert.StartsWith("<!DOCTYPE html>\n", page, StringComparison.Ordinal);
        return XElement.Parse(page["<!DOCTYPE html>\n".Length..]); // well-formed, or this throws
    }

    [Fact]
    public void The_page_stands_alone()
    {
        XElement page = Body(Report(proved: false));
        Assert.DoesNotContain(page.Descendants(), element => element.Name.LocalName is "script" or "link" or "img" or "iframe");
        Assert.DoesNotContain(page.DescendantsAndSelf().Attributes(), attribute => attribute.Name.LocalName is "src" or "href"
            || !attribute.IsNamespaceDeclaration && attribute.Value.Contains("://", StringComparison.Ordinal));
        Assert.DoesNotContain("url(", page.Descendants("style").Single().Value, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(true, "QIH is upgraded, and every record of its old data is proved to be in the new.")]
    [InlineData(false, "QIH stopped, and its old data is in its place, unchanged.")]
    public void The_first_page_says_in_one_sentence_what_came_of_it(bool proved, string sentence)
    {
        XElement front = Body(Report(proved)).Descendants("section").First();
        Assert.Equal(sentence, front.Elements("p").Single(part => (string?)part.Attribute("class") == "sentence").Value);
        Assert.Equal(["10", "none", "1 min 30 s"], front.Descendants("b").Select(figure => figure.Value));
        string left = string.Join("; ", front.Elements("ul").Elements("li").Select(item => item.Value));
        Assert.Contains(proved ? "The old data of QIH is kept; each company below says where."
            : "QIH stopped: the match did not prove the new store.", left, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("through", 10_000, "A is upgraded, and every record", "100 %")]
    [InlineData("through", 10_001, "A is upgraded, and every record", "99.99 %")] // never rounded up to all
    [InlineData("undone", 10_000, "A was taken back to where it was before.", "100 %")]
    [InlineData("unfinished", 10_000, "A is not finished.", "100 %")]
    public void A_share_is_never_rounded_up_and_what_was_taken_back_is_not_proved(string outcome, long values, string sentence,
        string share)
    {
        RunReport report = Report(proved: true);
        CompanyReport company = report.Companies[0];
        var match = new WayMatched([company.Match!.Hops[0] with
        {
            Share = new ComparedShare("5", values, values == 10_000 ? [] : [new NotCompared("T", "C", 1, 1, "left out")])
        }], [], []);
        SignOffSummary summary = SignOffSummary.Of(report with
        {
            Companies = [company with { Code = "A", Outcome = outcome, Match = match }]
        });
        Assert.StartsWith(sentence, summary.Sentence, StringComparison.Ordinal);
        Assert.Equal(share, summary.Figures[1].Value);
        Assert.Equal(outcome == "through", summary.Sentence.Contains("proved", StringComparison.Ordinal));
        // What nobody has matched is not proved, whatever went through.
        SignOffSummary converted = SignOffSummary.Of(report with
        {
            Kind = "convert",
            Companies = [company with { Code = "A", Outcome = outcome, Match = null }]
        });
        Assert.DoesNotContain("proved to be", converted.Sentence, StringComparison.Ordinal);
        Assert.Equal(outcome == "through", converted.ToDo.Any(left => left.EndsWith("transferra match A", StringComparison.Ordinal)));
        // (2) whatever keeps a company from being proved is among what is left to do.
        SignOffSummary part = SignOffSummary.Of(report with
        {
            Companies = [company with
            {
                Match = match with { NotLookedAt = [new NotLookedAt("old", "5", "the table X", 1, Verdict.NotProved)] }
            }]
        });
        Assert.DoesNotContain("proved to be", part.Sentence, StringComparison.Ordinal);
        Assert.Contains(part.ToDo, left => left.Contains("the table X", StringComparison.Ordinal));
    }

    [Fact]
    public void Parents_with_another_number_of_children_stand_in_it_the_worst_link_first()
    {
        RunReport report = Report(proved: false);
        CompanyReport company = report.Companies[0];
        ChildrenMatched Link(string column, params ParentChange[] changes) => new("entry", [column], column, 7, 3, changes.Length,
            -changes.Where(one => one.Change < 0).Sum(one => one.Change), changes.Where(one => one.Change > 0).Sum(one => one.Change),
            changes);
        MatchResult hop = company.Match!.Hops[0] with { Children = [Link("period"), Link("account", new("A1", -2), new("A2", 1))] };
        XElement page = Body(report with { Companies = [company with { Match = new WayMatched([hop], [], []) }] });
        Assert.Contains("2 links between tables; in 1 of them some have another number.", page.Value, StringComparison.Ordinal);
        // What was not carried counts on neither side, which "as it should" alone would not say.
        MatchResult even = hop with { Children = [Link("period")] };
        Assert.Contains("1 link between tables; each record pointed to has as many pointing to it as it should, leaving aside the old "
            + $"records not carried ({even.NotCarried}).", Body(report with
            {
                Companies = [company with { Match = new WayMatched([even], [], []) }]
            }).Value, StringComparison.Ordinal);
        Assert.Equal(["entry.account", "account", "3", "7", "2", "A1: 2 fewer; A2: 1 more"], RowOf(page, "entry.account", "From"));
        Assert.Equal(["entry.period", "period", "3", "7", "0", ""], RowOf(page, "entry.period", "From"));
    }

    [Fact]
    public void Names_with_marks_of_the_markup_are_shown_as_they_are() =>
        Assert.Equal("Quaverholt & <Sons>", Body(Report(proved: true)).Descendants("h1").Single().Value);

    [Fact]
    public void What_is_proved_says_so_and_where_the_old_store_is()
    {
        XElement page = Body(Report(proved: true));
        Assert.Contains("The old store is kept as /data/old-v5/ledger.db", page.Value, StringComparison.Ordinal);
        Assert.DoesNotContain(page.Descendants("span"), badge => badge.Value is "not proved" or "stopped");
        Assert.Equal(["10", "6", "2", "1", "1", "0", "yes"], RowOf(page, "JRNL", "Old table").Skip(1));
        Assert.Equal(4, page.Descendants("div").Single(element => (string?)element.Attribute("class") == "sign").Elements().Count());
    }

    [Fact]
    public void What_was_mended_stands_there_with_its_proof_and_what_became_of_the_findings()
    {
        var mended = new MendResult([new MendCount("trim", "CUST", "CNAME", 3, "blanks mean nothing"),
            new MendCount("rebuild-indexes", "", "", 0, "old")],
            ["CUST 7: it has a value that cannot be read"], [], [new MendedTable("CUST", 10, 1, 3, 9, "aa", "aa")], "/runs/changes.csv");
        RunReport report = Report(proved: true);
        CheckResult after = report.Companies[0].Check! with
        {
            Compared = new FindingComparison("the check before",
            [new ComparedFinding("gone", "orphan", "JRNL", "records that point nowhere", 1, 0)])
        };
        XElement page = Body(report with { Companies = [report.Companies[0] with { Mending = mended, CheckAgain = after }] });
        Assert.Equal(["CUST", "10", "1", "3", "9", "yes"], RowOf(page, "CUST", "Records before"));
        Assert.Contains("Not mended: CUST 7: it has a value that cannot be read", page.Value, StringComparison.Ordinal);
        Assert.Contains("Since the check before: 0 new, 0 still there, 1 gone: JRNL records that point nowhere.", page.Value,
            StringComparison.Ordinal);
    }

    [Fact]
    public void What_is_not_proved_says_why_with_the_record()
    {
        XElement page = Body(Report(proved: false));
        Assert.Contains("QIH was not changed over", page.Value, StringComparison.Ordinal);
        Assert.Equal(["JRNL", "4321", "JDATE", "31/02/23", "this is not a date"], RowOf(page, "JRNL", "Value"));
        Assert.Equal(["entry", "4711", "amount", "12.00", "12.01"], RowOf(page, "entry", "Expected", "Record"));
        Assert.Equal(["Debits by period", "5 to 6", "1", "0", "the engines", "15: 35539.75 / 35203.61"],
            RowOf(page, "Debits by period", "Control total"));
        Assert.Contains(page.Descendants("span"), badge => badge.Value == "not proved");
        Assert.Contains(page.Descendants("li"), item =>
            item.Value == "in the old store, version 5: the table DIARY, which the kit does not know (12 records)");
    }

    private static string[] RowOf(XElement page, string first, params string[] heads)
    {
        XElement table = page.Descendants("table").First(table => heads.All(head => table.Element("thead")!.Descendants("th")
            .Any(cell => cell.Value == head)));
        return [.. table.Element("tbody")!.Elements("tr").First(row => row.Elements("td").First().Value == first).Elements("td")
            .Select(cell => cell.Value)];
    }
}
