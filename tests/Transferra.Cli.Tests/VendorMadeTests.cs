using System.Text.RegularExpressions;
using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>New stores that begin as the one that the vendor's new program made.</summary>
public sealed partial class VendorMadeTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public VendorMadeTests() => _office.WriteKit(null, OddOffice.NewVersion.TrimEnd('\n') + "\n  codes: {columns: "
        + "{code: VARCHAR(5) NOT NULL, words: VARCHAR(40)}, key: [code]}\n", "beginning: vendor-made\n" + OddOffice.Hop);

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    // As a vendor might: its own types, a column and a table that the kit does not know, records that it ships, some of them in the way.
    private static readonly string[] Made =
    [
        "CREATE TABLE version (what VARCHAR(10) NOT NULL PRIMARY KEY, val VARCHAR(10))", "INSERT INTO version VALUES ('DATA', '2')",
        "CREATE TABLE grp (group_no SMALLINT NOT NULL PRIMARY KEY, title VARCHAR(60) DEFAULT 'none')",
        "INSERT INTO grp (group_no, title) VALUES (1, 'shipped')",
        "CREATE TABLE item (note VARCHAR(20) DEFAULT 'new', item_no INTEGER NOT NULL PRIMARY KEY, name VARCHAR(99), price NUMERIC(15,2), "
            + "made DATE, group_no SMALLINT)",
        "CREATE TABLE codes (code VARCHAR(5) NOT NULL PRIMARY KEY, words VARCHAR(40))", "INSERT INTO codes VALUES ('A', 'as shipped')",
        "CREATE TABLE menus (id INTEGER NOT NULL PRIMARY KEY)", "INSERT INTO menus VALUES (7)",
        "CREATE INDEX item_names ON item (name)", "CREATE VIEW dear AS SELECT item_no, price FROM item WHERE price > 20",
    ];

    [GeneratedRegex(@"\b(version|grp|item|codes|menus|dear|what|val|group_no|title|note|item_no|name|price|made|code|words|id|"
        + @"item_names)\b")]
    private static partial Regex Names();

    public static TheoryData<string> EachEngine => ["sqlite", "postgresql", "mariadb", "firebird"];

    private StoreAddress VendorsStore(string engine, params string[] further)
    {
        string[] statements = [.. Made, .. further];
        if (engine == "firebird") statements = [.. statements.Select(statement => Names().Replace(statement, "\"$0\"")
            .Replace("'\"new\"'", "'new'", StringComparison.Ordinal))];
        if (engine != "sqlite") return _servers.Made(engine, "vendors", statements);
        DemoFolder.Execute(_office["vendors.db"], string.Join(';', statements));
        return new StoreAddress(engine, _office["vendors.db"]);
    }

    private StoreAddress Company(string engine, StoreAddress? vendors)
    {
        OddCompany company = engine == "sqlite" ? _office.Add("A", engine, "data/a.db") : _office.Add("A", _servers.Database(engine, "a"));
        if (vendors is not null)
            _office.Companies[0] = company with
            {
                More = [$"vendor-made: {(engine == "sqlite" ? "{sqlite: vendors.db}" : OddOffice.ServerYaml(vendors))}"]
            };
        return company.Store;
    }

    private static string? Ask(StoreAddress store, string question) => store.Engine switch
    {
        "sqlite" => DemoFolder.Ask(store.Path, question),
        "firebird" => TestServers.Ask(store, Names().Replace(question, "\"$0\"")),
        _ => TestServers.Ask(store, question),
    };

    private static void Execute(StoreAddress store, string statement)
    {
        if (store.Engine == "sqlite") DemoFolder.Execute(store.Path, statement);
        else TestServers.Execute(store, store.Engine == "firebird" ? Names().Replace(statement, "\"$0\"") : statement);
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void The_office_s_records_go_into_the_store_that_the_new_program_made(string engine)
    {
        StoreAddress vendors = VendorsStore(engine), store = Company(engine, vendors);
        IReadOnlyList<string> before = OddOffice.Rows(vendors);
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        // Nothing of the vendor's is overwritten without a word that says what it is.
        _office.Upgrade().Expect(2).Says("Records that the new program ships are overwritten by ours: version: 1 of 1, grp: 1 of 1");
        _office.Run("ready", "--confirm", "A/overwrites");
        _office.Upgrade().Expect(0).Says("A through 2", "grp, 1 record that the new program ships: kept 0, overwritten by ours 1");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", "the table menus");
        Assert.Equal("5", Ask(store, "SELECT count(*) FROM item"));
        Assert.Equal("2", Ask(store, "SELECT count(*) FROM grp WHERE title <> 'shipped'"));
        Assert.Equal("as shipped", Ask(store, "SELECT words FROM codes"));
        Assert.Equal("7", Ask(store, "SELECT id FROM menus"));
        // What is not said of a record has the vendor's default; the vendor's view and types are there.
        Assert.Equal("new", Ask(store, "SELECT note FROM item WHERE item_no = 1"));
        Assert.Equal("4", Ask(store, "SELECT count(*) FROM dear"));
        Assert.Equal(before, OddOffice.Rows(vendors));
        // What the vendor ships is compared as well.
        Execute(store, "UPDATE codes SET words = NULL");
        _office.Run("match").Expect(1).Says("NOT proved for A", "codes");
        if (!store.IsOnServer) return;
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path).Where(name =>
            name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal)))
            _servers.Known(store with { Path = left });
    }

    [Fact]
    public void A_copy_into_another_engine_is_refused_before_anything_is_begun()
    {
        _office.WriteKit(hop: "beginning: copy\n" + OddOffice.Hop);
        StoreAddress store = Company("sqlite", null);
        _office.Companies[0] = _office.Companies[0] with { More = ["new-store: {json-lines: data/new}"] };
        _office.Ready();
        _office.Run("ready").Expect(2).Says("begins with a copy, and the new "
            + "store cannot: the old store is sqlite and the new one json-lines");
        _office.Upgrade().Expect(2);
        Assert.Equal("5", DemoFolder.Ask(store.Path, "SELECT count(*) FROM ITEM"));
    }

    [Fact]
    public void Without_such_a_store_or_with_one_of_another_version_nothing_is_begun()
    {
        StoreAddress store = Company("sqlite", null);
        _office.Ready();
        _office.Run("ready").Expect(2).Says("begins with the store that the vendor's new program makes, and none is named");
        VendorsStore("sqlite", "UPDATE version SET val = '3'");
        _office.Companies[0] = _office.Companies[0] with { More = ["vendor-made: {sqlite: vendors.db}"] };
        _office.Ready();
        _office.Run("ready").Expect(2).Says("vendors.db is not of version 2");
        _office.Companies[0] = _office.Companies[0] with { More = ["vendor-made: {sqlite: data/a.db}"] };
        _office.WriteOffice();
        _office.Run("ready").Expect(2).Says("this is one of the company's own stores");
        Assert.Equal("5", DemoFolder.Ask(store.Path, "SELECT count(*) FROM ITEM"));
    }

    private const string Theirs = "INSERT INTO grp (group_no, title) VALUES (9, 'only theirs')";

    private void Say(string shipped) => _office.WriteKit(null, OddOffice.NewVersion.Replace("    key: [item_no]",
            "    key: [item_no]\n    relations: [{columns: [group_no], to: grp, on: [group_no]}]", StringComparison.Ordinal)
        .TrimEnd('\n') + "\n  codes: {columns: {code: VARCHAR(5) NOT NULL, words: VARCHAR(40)}, key: [code]}\n",
        $"beginning: vendor-made\nshipped: {{{shipped}}}\n" + OddOffice.Hop);

    // Ours are 1 brass and 2 wood; items point to both.
    public static TheoryData<string, string, string, string, string> EachPolicy
    {
        get
        {
            var data = new TheoryData<string, string, string, string, string>();
            foreach (string engine in (string[])["sqlite", "postgresql", "mariadb", "firebird"])
            {
                data.Add(engine, "merge", "grp: 1 of 2", "grp, 2 records that the new program ships: kept 1, overwritten by ours 1",
                    "1 brass, 2 wood, 9 only theirs");
                if (engine is not ("sqlite" or "postgresql")) continue;
                data.Add(engine, "renumber", "our records in grp get numbers above 9, and item.group_no with them",
                    "kept 2, overwritten by ours 0; our records in grp get numbers above 9, and item.group_no with them",
                    "1 shipped, 9 only theirs, 10 brass, 11 wood");
                if (engine != "sqlite") continue;
                data.Add(engine, "keep", "", "grp, 2 records that the new program ships: kept 2, overwritten by ours 0",
                    "1 shipped, 2 wood, 9 only theirs");
                data.Add(engine, "replace", "grp: 2 of 2", "grp, 2 records that the new program ships: kept 0, overwritten by ours 2",
                    "1 brass, 2 wood");
            }
            return data;
        }
    }

    [Theory]
    [MemberData(nameof(EachPolicy))]
    public void What_becomes_of_shipped_records_is_what_the_kit_says_and_both_are_accounted_for(string engine, string policy, string word,
        string says, string groups)
    {
        Say($"grp: {policy}, version: replace");
        StoreAddress vendors = VendorsStore(engine, Theirs), store = Company(engine, vendors);
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        Called asked = _office.Run("ready", "--confirm", "A/overwrites");
        asked.Says("overwritten by ours: version: 1 of 1", word.Length > 0 ? word : "Is that meant?");
        _office.Upgrade().Expect(0).Says("A through 2", says);
        string found = string.Join(", ", OddOffice.Rows(store).Where(row => row.StartsWith("grp: ", StringComparison.Ordinal))
            .Select(row => row[5..].Replace(" | ", " ", StringComparison.Ordinal))
            .OrderBy(row => int.Parse(row.Split(' ')[0], System.Globalization.CultureInfo.InvariantCulture)));
        Assert.Equal(groups, found);
        _office.Run("match").Expect(0).Says("Proved: the new store of A", says);
        // What points to a record of ours still does.
        Assert.Equal(policy == "renumber" ? "11" : "2", Ask(store, "SELECT group_no FROM item WHERE item_no = 1"));
        Execute(store, "DELETE FROM grp WHERE group_no = " + (policy == "replace" ? "2" : "9"));
        _office.Run("match").Expect(1).Says("NOT proved for A");
        if (!store.IsOnServer) return;
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path).Where(name =>
            name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal)))
            _servers.Known(store with { Path = left });
    }

    [Theory]
    [InlineData("grp: refuse, version: replace", "the new program ships 2 records in grp, and the kit says that there are none")]
    [InlineData("item: merge", "the table item of the new program also has note, which the kit does not know")]
    [InlineData("version: renumber", "the records of version cannot get other numbers")]
    public void What_cannot_be_done_is_told_before_anything_is_begun(string shipped, string says)
    {
        Say(shipped);
        Company("sqlite", VendorsStore("sqlite", Theirs, "INSERT INTO item (item_no, name) VALUES (99, 'shipped')"));
        _office.Ready();
        _office.Run("ready").Expect(2).Says(says);
        _office.Upgrade().Expect(2).Says(says);
    }

    [Theory]
    [InlineData("shipped: {nowhere: keep}", "there is no table nowhere in version 2")]
    [InlineData("shipped: {grp: forget}", "\"forget\" is not known here; it can be: replace, keep, merge, renumber, refuse")]
    public void A_mistake_is_told_with_its_place(string line, string says)
    {
        Say("grp: keep");
        string hop = File.ReadAllText(_office["kit/hops/1-to-2.yaml"]);
        File.WriteAllText(_office["kit/hops/1-to-2.yaml"], hop.Replace("shipped: {grp: keep}", line, StringComparison.Ordinal));
        Company("sqlite", null);
        _office.WriteOffice();
        _office.Run("survey").Expect(2).Says("kit/hops/1-to-2.yaml:2:", says);
    }
}
