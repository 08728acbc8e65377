using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What would stop an upgrade is found by check and ready, by day: on every hop of the way, and for the engine that the new
/// store will be on.</summary>
public sealed class WholeWayTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    // The findings of a company, each in one line, as the tables on the screen break them.
    private string Check(int code)
    {
        Called check = _office.Run("check", "A", "--json").Expect(code);
        return string.Join('\n', check.Json.GetProperty("result")[0].GetProperty("check").GetProperty("findings").EnumerateArray()
            .Select(finding => $"{finding.GetProperty("grade").GetString()} {finding.GetProperty("table").GetString()}: "
                + $"{finding.GetProperty("what").GetString()} "
                + $"[{string.Join(", ", finding.GetProperty("examples").EnumerateArray().Select(example => example.GetString()))}]"));
    }

    private void ThreeVersions(string hop)
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\", \"3\"]\nhops: [1-to-2, 2-to-3]\n");
        _office.Write("kit/versions/3.yaml", OddOffice.NewVersion.Replace("\"2\"", "\"3\"", StringComparison.Ordinal)
            .Replace("name: VARCHAR(40)", "name: VARCHAR(6)", StringComparison.Ordinal));
        _office.Write("kit/hops/2-to-3.yaml", hop);
    }

    private const string SecondHop = """
        hop: {from: "2", to: "3"}
        tables:
          - {from: version, into: {version: {what: what, val: "'3'"}}, columns-left-out: {val: the version is a new one}}
          - {from: grp, into: {grp: {group_no: group_no, title: title}}}
          - {from: item, into: {item: {item_no: item_no, name: CAST(name AS VARCHAR(6)), price: price, made: made, group_no: group_no}}}
        """;

    private void Wanted3() => _office.Write("office.yaml", File.ReadAllText(_office["office.yaml"]).Replace("wanted-version: \"2\"",
        "wanted-version: \"3\"", StringComparison.Ordinal));

    [Fact]
    public void What_only_the_second_hop_cannot_convert_is_found_by_check_and_told_by_ready()
    {
        ThreeVersions(SecondHop);
        _office.Add("A", "sqlite", "data/a.db");
        _office.Add("B", "sqlite", "data/b.db");
        DemoFolder.Execute(_office["data/b.db"], "UPDATE ITEM SET NAME = 'short'");
        _office.Ready();
        Wanted3();
        _office.Run("ready").Expect(0).Says("not yet checked");
        Assert.Equal("fault item: values of name that cannot be converted: the text is longer than VARCHAR(6) allows (on the way from "
            + "version 2 to 3) "
            + string.Format(System.Globalization.CultureInfo.InvariantCulture, "[{0}]",
                string.Join(", ", Enumerable.Range(1, 5).Select(i => $"{i}: \"A item {i}\""))), Check(1));
        _office.Run("check", "B").Expect(0);
        Assert.Empty(Directory.GetDirectories(_office["transferra/scratch"]));
        _office.Run("ready").Expect(1).Says("will stop", "1 fault; it will stop at its check", "nothing that would stop it");
        _office.Upgrade().Expect(1).Says("A stops here", "the check found 1 fault", "transferra upgrade A --despite-faults");
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
        Assert.Equal("3", DemoFolder.Ask(_office["data/b.db"], "SELECT val FROM version"));
        Assert.Empty(Directory.GetFiles(_office["sets"], "A_*"));
        // Asked to, it goes on to the match, and is not changed over.
        _office.Run("upgrade", "A", "--yes", "A", "--despite-faults").Expect(1).Says("5 records could not be converted",
            "the check found 1 faults in the old data", "Proved in part");
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
        Assert.NotEmpty(Directory.GetFiles(_office["sets"], "A_*"));
    }

    [Theory] // values that the old store holds and the new engine does not
    [InlineData("firebird", "MADE: DATE", "MADE: TIMESTAMP", "UPDATE ITEM SET MADE = '2024-01-01T10:00:00.123456' WHERE INO = 2",
        "Firebird keeps times to a ten-thousandth")]
    [InlineData("mariadb", "PRICE: \"DECIMAL(12,2)\"", "PRICE: DOUBLE PRECISION", "UPDATE ITEM SET PRICE = 9e999 WHERE INO = 2",
        "MariaDB has no Infinity")]
    [InlineData("postgresql", "NAME: VARCHAR(40)", "NAME: VARCHAR(40)", "UPDATE ITEM SET NAME = char(65, 0, 66) WHERE INO = 2", "U+0000")]
    [InlineData("firebird", "TITLE: VARCHAR(40)}, key: [GNO]", "TITLE: TEXT}, key: [GNO]",
        "UPDATE GRP SET TITLE = 'brass ' WHERE GNO = 2; UPDATE GRP SET TITLE = 'brass' WHERE GNO = 1", "same key (title)")]
    [InlineData("json-lines", "PRICE: \"DECIMAL(12,2)\"", "PRICE: DOUBLE PRECISION", "UPDATE ITEM SET PRICE = 9e999 WHERE INO = 2",
        "JSON has no Infinity")]
    public void What_the_new_engine_cannot_hold_is_found_before_the_office_is_closed(string engine, string old, string changed,
        string sql, string words)
    {
        string lower(string text) => text.Replace("MADE", "made", StringComparison.Ordinal).Replace("PRICE", "price",
            StringComparison.Ordinal).Replace("NAME:", "name:", StringComparison.Ordinal);
        bool isKey = words.Contains("key", StringComparison.Ordinal);
        string next = isKey ? OddOffice.NewVersion.Replace("title: VARCHAR(40)}, key: [group_no]", "title: TEXT}, key: [title]",
            StringComparison.Ordinal)
            : OddOffice.NewVersion.Replace(lower(old), lower(changed), StringComparison.Ordinal);
        _office.WriteKit(OddOffice.OldVersion.Replace(old, changed, StringComparison.Ordinal), next);
        OddCompany company = _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"], sql);
        string place = StoreAddress.ServerEngines.Contains(engine) ? OddOffice.ServerYaml(_servers.Database(engine, "n"))
            : $"{{{engine}: data/new}}";
        _office.Companies[0] = company with { More = [$"new-store: {place}"] };
        _office.Ready();
        Assert.Contains(words, Assert.Single(Check(1).Split('\n'), line => line.StartsWith("fault", StringComparison.Ordinal)),
            StringComparison.Ordinal);
        _office.Upgrade().Expect(1).Says("A stops here", "the check found 1 fault");
    }

    [Fact]
    public void A_relation_that_would_not_hold_in_the_new_store_and_a_key_that_would_be_there_twice_are_found_by_check()
    {
        _office.WriteKit(newVersion: OddOffice.NewVersion.TrimEnd()
            + "\n    relations: [{columns: [group_no], to: grp, on: [group_no]}]\n");
        _office.Write("kit/hops/1-to-2.yaml",
            OddOffice.Hop.Replace("{from: ITEM, into: {item: {item_no: INO, name: NAME, price: PRICE, made: MADE, group_no: GNO}}}",
            "{from: ITEM, into: {item: {item_no: CAST(PRICE AS INTEGER), name: NAME, price: PRICE, made: MADE, group_no: GNO}}, "
                + "columns-left-out: {INO: numbered anew}}", StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"],
            "UPDATE ITEM SET PRICE = CASE WHEN INO > 3 THEN 700 ELSE INO * 100 END, GNO = CASE INO WHEN 2 THEN 99 ELSE 1 END");
        _office.Ready();
        Assert.Equal(["fault ITEM: records that get the same key (item_no) in the new table item as another [4, 5]",
            "fault ITEM: records that would point to no record of the new table grp (by item.group_no) [2]"], Check(1).Split('\n').Order());
    }

    [Theory] // sound records, whatever comes first: a table that refers to itself, and children before their parents
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    public void Relations_are_looked_at_once_when_all_records_are_there(string engine)
    {
        _office.WriteKit(null, OddOffice.NewVersion.TrimEnd()
            + "\n    relations: [{columns: [group_no], to: item, on: [item_no]}]\n  tree: {columns: {id: INTEGER NOT NULL, up: INTEGER}, "
            + "key: [id], relations: [{columns: [up], to: tree, on: [id]}]}\n",
            OddOffice.Hop);
        _office.WriteKit(OddOffice.OldVersion + "  TREE: {columns: {ID: INTEGER NOT NULL, UP: INTEGER}, key: [ID]}\n",
            File.ReadAllText(_office["kit/versions/2.yaml"]), OddOffice.Hop + "  - {from: TREE, into: {tree: {id: ID, up: UP}}}\n");
        OddCompany company = _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"],
            "UPDATE ITEM SET GNO = 6 - INO; CREATE TABLE TREE (ID INTEGER PRIMARY KEY, UP INTEGER); INSERT INTO TREE VALUES (1, 3), (2, "
                + "1), (3, NULL), (4, 4)");
        if (engine != "sqlite") _office.Companies[0] = company with
        {
            More = ["new-store: "
            + $"{OddOffice.ServerYaml(_servers.Database(engine, "n"))}"]
        };
        _office.Ready();
        _office.Run("check", "A").Expect(0);
        _office.Run("convert", "A").Expect(0);
        _office.Run("match", "A").Expect(0);
        _office.Run("undo", "--yes", "A").Expect(0);
        DemoFolder.Execute(_office["data/a.db"], "UPDATE TREE SET UP = 77 WHERE ID = 2");
        Assert.Equal("fault TREE: records that would point to no record of the new table tree (by tree.up) [2]", Check(1));
        _office.Run("convert", "A").Expect(1).Says("the relation from tree (up) to tree");
    }

    [Theory]
    [InlineData("val: \"'2'\"", "val: VAL", "", "would say \"1\"")] // the old sign is carried as it is
    [InlineData("told-by: [{table: version, column: val, where: \"what = 'DATA'\", is: \"2\"}]",
        "told-by: [{header: user_version, is: \"2\"}]", "version", "header field user_version")]
    public void A_new_store_that_would_not_tell_its_version_is_found_by_check_and_stopped_before_the_change_over(string old,
        string changed, string where, string words)
    {
        if (where.Length > 0) _office.WriteKit(newVersion: OddOffice.NewVersion.Replace(old, changed, StringComparison.Ordinal));
        else _office.WriteKit(hop: OddOffice.Hop.Replace(old, changed, StringComparison.Ordinal)
            .Replace(", columns-left-out: {VAL: the version is a new one}", "", StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        Assert.Matches($"^fault : the new store would not identify itself as version 2: .*{words}", Check(1));
        _office.Run("convert", "A").Expect(1).Says("the new store does not identify itself as version 2");
    }

    [Fact]
    public void A_sign_that_two_versions_have_is_a_mistake_of_the_kit()
    {
        _office.WriteKit(newVersion: OddOffice.NewVersion.Replace("told-by: [", "told-by: [{header: application_id, is: \"7\"}, ",
            StringComparison.Ordinal),
            oldVersion: OddOffice.OldVersion.Replace("told-by: [", "told-by: [{header: application_id, is: \"7\"}, ",
                StringComparison.Ordinal));
        _office.Add("A", "sqlite", "data/a.db");
        _office.Write("office.yaml", "office: Odd\npackages: [{kit: kit, wanted-version: \"2\", companies: [{code: A, name: A, store: "
            + "{sqlite: data/a.db}}]}]\nbackup: {to: [sets]}\n");
        _office.Run("survey").Expect(2).Says("kit/versions/2.yaml:2:", "this sign is also one of version 1");
    }

    [Fact]
    public void A_key_that_cannot_be_read_or_is_missing_is_no_copy_of_another()
    {
        _office.WriteKit(OddOffice.OldVersion + "  BILL: {columns: {BNO: INTEGER NOT NULL, WHAT: VARCHAR(10)}, key: [BNO]}\n",
            OddOffice.NewVersion + "  bill: {columns: {bill_no: INTEGER NOT NULL, what: VARCHAR(10)}, key: [bill_no]}\n",
            OddOffice.Hop + "  - {from: BILL, into: {bill: {bill_no: BNO, what: WHAT}}}\n");
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"],
            "CREATE TABLE BILL (BNO, WHAT); INSERT INTO BILL VALUES (1, 'a'), ('x', 'b'), ('y', 'c'), (NULL, 'd'), (NULL, 'd')");
        _office.Ready();
        Assert.Equal(["fault BILL: values of BNO that cannot be converted: a value is required and there is none [ / d: \"\"]",
            "fault BILL: values of BNO that cannot be converted: the column is INTEGER, but the store holds a text here [ / b: \"x\",  / "
                + "c: \"y\"]"], Check(1).Split('\n').Order());
    }
}
