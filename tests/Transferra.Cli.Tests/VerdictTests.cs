using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>Nothing is called proved that is not: what could not be carried, what nobody looked at, and totals over a whole way.</summary>
public sealed class VerdictTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string Staged(string company, string version) =>
        Assert.Single(Directory.GetFiles(Assert.Single(Directory.GetDirectories(_office["data"], $"transferra-*-{company}")), "*.db",
            SearchOption.AllDirectories),
            path => path.Contains($"/v{version}/", StringComparison.Ordinal));

    private JsonElement Match(int code) => _office.Run("match", "A", "--json")
        .Expect(code).Json.GetProperty("result")[0].GetProperty("match");

    private void Convert(int code = 0)
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Run("convert", "A").Expect(code);
    }

    [Fact]
    public void With_a_record_that_could_not_be_carried_it_is_proved_in_part_only()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        DemoFolder.Execute(_office["data/a.db"], "UPDATE ITEM SET MADE = 'no day' WHERE INO = 3");
        _office.Run("convert", "A").Expect(1);
        _office.Run("match", "A").Expect(1).Says("Proved in part for A", "1 old record is an exception and is not in the new store");
        Assert.Equal(("proved-in-part", 1), (Match(1).GetProperty("verdict").GetString(), Match(1).GetProperty("exceptions").GetInt32()));
        _office.Upgrade().Expect(1).Says("the check found 1 fault");
        _office.Upgrade("--despite-faults").Expect(1).Says("1 records could not be converted");
    }

    [Fact]
    public void Records_that_the_new_engine_refused_are_exceptions_and_no_differences()
    {
        _office.WriteKit(hop: OddOffice.Hop.Replace("{item: {item_no: INO,", "{item: {item_no: CAST(PRICE AS INTEGER),",
            StringComparison.Ordinal)
            .Replace("price: PRICE, made: MADE, group_no: GNO}}",
                "price: PRICE, made: MADE, group_no: INO}}, columns-left-out: {GNO: not needed}", StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        DemoFolder.Execute(_office["data/a.db"], "UPDATE ITEM SET PRICE = CASE WHEN INO > 3 THEN 700 ELSE INO * 100 END");
        _office.Run("convert", "A").Expect(1).Says("could not be converted");
        JsonElement match = Match(1);
        Assert.Equal(("proved-in-part", 0), (match.GetProperty("verdict").GetString(), match.GetProperty("differences").GetInt32()));
        Assert.True(match.GetProperty("exceptions").GetInt32() > 0);
        // One more that is missing is a difference all the same.
        DemoFolder.Execute(Staged("A", "2"), "DELETE FROM item WHERE item_no = 1");
        Assert.Equal(1, Match(1).GetProperty("hops")[0].GetProperty("tables").EnumerateArray().Single(table => table.GetProperty("table")
            .GetString() == "item")
            .GetProperty("missing").GetInt32());
    }

    [Theory]
    [InlineData("old", "CREATE TABLE DIARY AS SELECT 1 AS A UNION SELECT 2", "not-proved",
        "in the old store: the table DIARY, which the kit does not know (2 records)")]
    [InlineData("old", "ALTER TABLE ITEM ADD COLUMN COLOUR TEXT", "not-proved",
        "of the table ITEM the column COLOUR, which the kit does not know")]
    [InlineData("new", "CREATE TABLE audit (a)", "proved-in-part", "in the new store: the table audit, which the kit does not know")]
    [InlineData("new", "ALTER TABLE item ADD COLUMN colour TEXT", "proved-in-part", "of the table item the column colour")]
    public void What_was_not_looked_at_is_named(string side, string sql, string verdict, string words)
    {
        Convert();
        DemoFolder.Execute(side == "old" ? _office["data/a.db"] : Staged("A", "2"), sql);
        Assert.Equal(verdict, Match(1).GetProperty("verdict").GetString());
        _office.Run("match", "A").Expect(1).Says("Not looked at", words, verdict == "not-proved" ? "NOT proved for A." : "Proved "
            + "in part for A");
    }

    [Theory]
    [InlineData("CREATE VIEW DEAR AS SELECT * FROM ITEM", 0, "gone with what the hop takes away: the view DEAR")]
    [InlineData("CREATE VIEW PLAIN AS SELECT 1 AS A", 1, "not the same, and the hop does not say why")]
    public void A_view_that_the_new_store_has_not_is_named_and_is_lost_unless_the_hop_takes_away_what_it_shows(string sql, int code,
        string words)
    {
        Convert();
        DemoFolder.Execute(_office["data/a.db"], sql);
        _office.Run("match", "A").Expect(code).Says(words, code == 0 ? "Proved: the new store of A" : "Proved in part for A");
    }

    [Fact]
    public void A_company_without_a_converted_store_is_told_and_the_others_are_matched()
    {
        _office.Add("B", "sqlite", "data/b.db");
        Convert();
        _office.Run("match").Expect(1).Says("Proved: the new store of A",
            "B: not matched, as it has no converted store. Convert it first: transferra convert B");
        _office.Run("convert", "B").Expect(0);
        _office.Run("match").Expect(0);
        File.WriteAllText(Staged("B", "2"), "no database at all, but a text that somebody has put there");
        _office.Run("match").Expect(4).Says("Proved: the new store of A", "B was NOT matched");
    }

    [Theory] // the second hop doubles every price, as its map says; only the total over the whole way notices
    [InlineData("PRICE", 0, "Proved: the new store of A holds what the old one gives, over all 2 hops")]
    [InlineData("price * 2", 1, "NOT proved for A, over all 2 hops")]
    public void A_total_that_versions_between_do_not_have_is_compared_over_the_whole_way(string price, int code, string words)
    {
        const string total = "control-totals:\n  - {name: Prices, decimals: 2, table: ITEM, by: [], sum: PRICE}\n";
        _office.WriteKit(oldVersion: OddOffice.OldVersion + total);
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\", \"3\"]\nhops: [1-to-2, 2-to-3]\n");
        _office.Write("kit/versions/3.yaml", OddOffice.NewVersion.Replace("\"2\"", "\"3\"", StringComparison.Ordinal)
            .Replace("DECIMAL(12,2)", "DECIMAL(14,2)", StringComparison.Ordinal) + total.Replace("ITEM", "item", StringComparison.Ordinal)
                .Replace("PRICE", "price", StringComparison.Ordinal));
        _office.Write("kit/hops/2-to-3.yaml", """
            hop: {from: "2", to: "3"}
            tables:
              - {from: version, into: {version: {what: what, val: "'3'"}}, columns-left-out: {val: the version is a new one}}
              - {from: grp, into: {grp: {group_no: group_no, title: title}}}
              - {from: item, into: {item: {item_no: item_no, name: name, price: "CAST(PPP AS DECIMAL(14,2))", made: made,
                group_no: group_no}}}
            """.Replace("PPP", price, StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Write("office.yaml", File.ReadAllText(_office["office.yaml"]).Replace("wanted-version: \"2\"", "wanted-version: \"3\"",
            StringComparison.Ordinal));
        _office.Run("convert", "A").Expect(0);
        Called match = _office.Run("match", "A").Expect(code).Says("Prices: ", "version 1 against 3", words);
        // On the last line, which may be wrapped.
        Assert.Contains(words, string.Join(' ', match.Out.TrimEnd().Split('\n')[^2..]), StringComparison.Ordinal);
        if (code == 1) _office.Upgrade().Expect(1).Says("the match did not prove the new store");
    }
}
