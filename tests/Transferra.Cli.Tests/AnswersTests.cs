using System.Text.Json;
using Transferra.Core.Records;

namespace Transferra.Cli.Tests;

/// <summary>A person answers for what a vendor's script changed and nobody explained, by table, kind and number.</summary>
public sealed class AnswersTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private const string Usual = "UPDATE VER SET VAL = '2' WHERE WHAT = 'DATA';\n";

    private StoreAddress Company(string script, string tables = "")
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml",
                $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT VAL FROM VER', is: \"{version}\"}}]\n");
        _office.Write("kit/scripts/to-2.sql", script + Usual);
        _office.Write("kit/hops/1-to-2.yaml", $"hop: {{from: \"1\", to: \"2\"}}\nmeans: {{scripts: {{files: [scripts/to-2.sql]}}}}\n"
            + $"tables:\n  - {{from: VER, into: {{VER: {{VAL: \"'2'\"}}}}}}\n{tables}");
        StoreAddress store = _office.Add("A", "sqlite", "a.db").Store;
        _office.Ready();
        return store;
    }

    // As the administrator does: the lines that are proposed, with name and reason.
    private void Answer(params string[] lines)
    {
        _office.Companies[0] = _office.Companies[0] with
        {
            More = ["answered-for:", .. lines.Select(line => "  " + line.Replace("by: ...", "by: Mara Ashdown", StringComparison.Ordinal)
                .Replace("because: ...", "because: \"the vendor says so, mail of 12 November\"", StringComparison.Ordinal))]
        };
        _office.WriteOffice();
    }

    private static string[] Lines(Called said) => [.. said.Out.Split('\n').Select(line => line.Trim())
        .Where(line => line.StartsWith("- {to:", StringComparison.Ordinal))];

    [Theory]
    [InlineData("UPDATE ITEM SET PRICE = PRICE + 1 WHERE INO < 4;", "- {to: \"2\", table: ITEM, column: PRICE, what: changed, records: 3")]
    [InlineData("UPDATE ITEM SET PRICE = 1, NAME = 'x' WHERE INO = 3;", "- {to: \"2\", table: ITEM, column: NAME, what: changed, "
        + "records: 1",
        "- {to: \"2\", table: ITEM, column: PRICE, what: changed, records: 1")]
    [InlineData("DELETE FROM ITEM WHERE INO = 2;", "- {to: \"2\", table: ITEM, what: gone, records: 1")]
    [InlineData("INSERT INTO GRP VALUES (7, 'of the vendor');", "- {to: \"2\", table: GRP, what: new, records: 1")]
    [InlineData("ALTER TABLE GRP DROP COLUMN TITLE;", "- {to: \"2\", table: GRP, column: TITLE, what: gone, records: 2")]
    [InlineData("DROP TABLE GRP;", "- {to: \"2\", table: GRP, what: gone, records: 2")]
    public void The_lines_that_are_given_let_the_company_through_once_somebody_stands_for_them(string change, params string[] lines)
    {
        StoreAddress store = Company(change);
        Called stopped = _office.Upgrade().Expect(1).Says("the match did not prove the new store", "A stopped");
        stopped.Says([.. lines]);
        Assert.Equal(lines.Length, Lines(stopped).Length);
        // With the dots it is not an answer.
        _office.Companies[0] = _office.Companies[0] with { More = ["answered-for:", .. Lines(stopped).Select(line => "  " + line)] };
        _office.WriteOffice();
        _office.Upgrade().Expect(2).Says("write who answers for it here", "write why it is meant here");
        Answer(Lines(stopped));
        Called through = _office.Upgrade().Expect(1).Says("A through 2", "Mara Ashdown answers for it: the vendor says so",
            "that nobody explained and Mara Ashdown answered for").SaysNot("Proved: the new store of A", "NOT proved");
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
        _office.Run("match").Expect(1).Says("Mara Ashdown answers for it");
        string page = File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra"], "signoff.html", SearchOption.AllDirectories),
            file => File.ReadAllText(file).Contains("Mara Ashdown", StringComparison.Ordinal)));
        Assert.Contains("answered for", page, StringComparison.Ordinal);
        Assert.Contains("the vendor says so, mail of 12 November", page, StringComparison.Ordinal);
        // For ever: also when office.yaml no longer says it.
        _office.Companies[0] = _office.Companies[0] with { More = [] };
        _office.WriteOffice();
        _office.Run("signoff").Expect(0).Says("Mara Ashdown answers for it: the vendor says so, mail of 12 November");
        JsonElement match = _office.Run("signoff", "--json").Json.GetProperty("result").GetProperty("companies")[0].GetProperty("match");
        Assert.Equal("answered-for", match.GetProperty("verdict").GetString());
        Assert.Equal(lines.Length, match.GetProperty("answered").GetArrayLength());
        Assert.Contains(through.Out.Split('\n'), line => line.Contains("through", StringComparison.Ordinal));
    }

    [Theory] // who stands for something has not stood for more, or for something else
    [InlineData("UPDATE ITEM SET PRICE = 1 WHERE INO < 4;", "{to: \"2\", table: ITEM, column: PRICE, what: changed, records: 2",
        "ITEM: 3 records with another value in PRICE; office.yaml answers for 2 at most")]
    [InlineData("UPDATE ITEM SET PRICE = 1 WHERE INO < 4;", "{to: \"2\", table: ITEM, column: NAME, what: changed, records: 9",
        "- {to: \"2\", table: ITEM, column: PRICE, what: changed, records: 3")]
    [InlineData("UPDATE ITEM SET PRICE = 1 WHERE INO < 4;", "{to: \"2\", table: ITEM, what: gone, records: 9",
        "- {to: \"2\", table: ITEM, column: PRICE, what: changed, records: 3")]
    [InlineData("UPDATE ITEM SET PRICE = 1 WHERE INO < 4;", "{to: \"1\", table: ITEM, column: PRICE, what: changed, records: 9",
        "- {to: \"2\", table: ITEM, column: PRICE, what: changed, records: 3")]
    [InlineData("DELETE FROM ITEM WHERE INO = 2; INSERT INTO ITEM (INO) VALUES (99);", "{to: \"2\", table: ITEM, what: new, records: 1",
        "- {to: \"2\", table: ITEM, what: gone, records: 1")]
    [InlineData("DROP TABLE GRP;", "{to: \"2\", table: GRP, column: TITLE, what: gone, records: 2",
        "- {to: \"2\", table: GRP, what: gone, records: 2")]
    public void An_answer_covers_what_it_says_and_nothing_else(string change, string answer, string says)
    {
        StoreAddress store = Company(change);
        byte[] before = File.ReadAllBytes(store.Path);
        Answer($"- {answer}, by: ..., because: ...}}");
        _office.Upgrade().Expect(1).Says(says, "NOT proved for A", "the match did not prove the new store", "A stopped");
        Assert.Equal(before, File.ReadAllBytes(store.Path));
    }

    [Theory]
    [InlineData("{to: \"3\", table: ITEM, what: gone, records: 1, by: M, because: so}", "the kit odd has no version 3")]
    [InlineData("{to: \"2\", table: ITEM, what: lost, records: 1, by: M, because: so}",
        "\"lost\" is not a kind; the kinds are gone, new, changed")]
    [InlineData("{to: \"2\", table: ITEM, what: changed, records: 1, by: M, because: so}",
        "what has changed is answered for column by column; name it with column")]
    [InlineData("{to: \"2\", table: ITEM, what: gone, records: some, by: M, because: so}", "\"some\" is not a number of records")]
    [InlineData("{to: \"2\", table: ITEM, what: gone, records: 1, because: so}", "\"by\" is missing; what a person answers for must "
        + "have it")]
    public void A_mistake_in_an_answer_is_told_with_its_line(string answer, string says)
    {
        Company("");
        Answer("- " + answer);
        _office.Run("survey").Expect(2).Says("office.yaml:10:", says);
    }

    [Fact]
    public void In_a_terminal_it_is_asked_and_what_was_typed_stands_in_the_sign_off()
    {
        StoreAddress store = Company("UPDATE ITEM SET PRICE = PRICE + 1 WHERE INO < 4; DROP TABLE GRP;");
        BuiltProgram.RunTyping("A\nprices were raised\nMara Ashdown\n\n", _office.Path, "upgrade").Expect(1)
            .Says("ITEM: 3 records with another value in PRICE, and nobody has said why", "for example 1: 1001 became 1002",
                "GRP: 2 records gone, and nobody has said why", "the match did not prove the new store");
        Assert.Equal("1", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
        // Whoever confirmed beforehand may not be there any more.
        BuiltProgram.RunTyping("", _office.Path, "upgrade", "--yes", "A").Expect(1).SaysNot("If you answer for that");
        BuiltProgram.RunTyping("A\nprices were raised\nMara Ashdown\nit was "
            + "empty\n", _office.Path, "upgrade").Expect(1).Says("A through 2");
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
        // Also the match of later finds what was typed then, in the journal.
        _office.Run("match").Expect(1).Says("Mara Ashdown answers for it: prices were raised", "Mara Ashdown answers for it: it was empty");
        _office.Run("signoff").Expect(0).Says("Mara Ashdown answers for it: it was empty");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT count(*) FROM GRP"));
    }

    [Fact]
    public void A_control_total_that_disagrees_is_answered_for_by_itself()
    {
        StoreAddress store = Company("UPDATE ITEM SET PRICE = PRICE + 1 WHERE INO < 4;");
        foreach (string version in (string[])["1", "2"])
            File.AppendAllText(_office[$"kit/versions/{version}.yaml"],
                "tables: {ITEM: {columns: {INO: INTEGER NOT NULL, PRICE: \"DECIMAL(12,2)\"}, key: [INO]}}\n"
                + "control-totals:\n  - {name: all prices, table: ITEM, sum: PRICE, decimals: 2}\n");
        Called stopped = _office.Upgrade().Expect(1);
        Assert.Equal(2, Lines(stopped).Length);
        stopped.Says("- {to: \"2\", total: \"all prices\", records: 1");
        Answer(Lines(stopped)[0]);
        _office.Upgrade().Expect(1).Says("NOT proved for A");
        Answer(Lines(stopped));
        _office.Upgrade().Expect(1).Says("A through 2", "1 line of the control total \"all prices\" disagrees. Mara Ashdown answers");
        Assert.Equal("2", DemoFolder.Ask(store.Path, "SELECT VAL FROM VER"));
    }

    [Fact]
    public void Where_our_maps_convert_nobody_can_answer_for_a_difference()
    {
        StoreAddress store = _office.Add("A", "sqlite", "a.db").Store;
        _office.WriteKit();
        _office.Ready();
        _office.Run("convert").Expect(0);
        string staged = Assert.Single(Directory.GetFiles(_office.Path, "a.db", SearchOption.AllDirectories), file => file != store.Path);
        DemoFolder.Execute(staged, "DELETE FROM item WHERE item_no = 2");
        Answer("- {to: \"2\", table: item, what: gone, records: 1, by: ..., because: ...}");
        _office.Run("match").Expect(1).Says("NOT proved for A").SaysNot("answers for it");
    }
}
