using System.Text.Json;
using Transferra.Core.Kits;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Kits drafted from stores, looked through and shown; what is drafted is then used as any other kit.</summary>
public sealed class KitCommandTests(ITestOutputHelper output) : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private StoreAddress Place(string engine, string name) => StoreAddress.ServerEngines.Contains(engine) ? _servers.Database(engine, name)
        : new StoreAddress(engine, _office["stores/" + name + (engine == "sqlite" ? ".db" : "")]);

    private static string Yaml(StoreAddress store) => store.IsOnServer ? OddOffice.ServerYaml(store)
        : $"{{{store.Engine}: {OddOffice.Quoted(store.Path)}}}";

    /// <summary>An old store and what a kit written by hand made of one like it.</summary>
    private (StoreAddress Old, StoreAddress New) Pair(string engine, int records)
    {
        Directory.CreateDirectory(_office["stores"]);
        StoreAddress old = Place(engine, "old"), renewed = Place(engine, "new");
        OddOffice.Fill(old, "A", records);
        OddOffice.Fill(renewed, "A", records);
        _office.Companies.Add(new OddCompany("A", renewed, Yaml(renewed)));
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0);
        return (old, renewed);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    [InlineData("dbf")]
    public void What_is_drafted_from_an_old_and_a_new_store_takes_the_old_one_through_and_proves_it(string engine)
    {
        (StoreAddress old, StoreAddress renewed) = Pair(engine, 120);
        JsonElement drafted = _office.Run("kit", "draft", "--old", Yaml(old), "--new", Yaml(renewed), "--into", _office["drafted"],
            "--json")
            .Json.GetProperty("result").GetProperty("kit");
        output.WriteLine(File.ReadAllText(_office["drafted/kit.yaml"]));
        Assert.Equal(["1", "2"], new[] { "old", "new" }.Select(side => drafted.GetProperty(side).GetProperty("version").GetString()));
        string[] said = [.. drafted.GetProperty("hop").GetProperty("pairs").EnumerateArray().Where(pair =>
            pair.GetProperty("isSure").GetBoolean()).SelectMany(pair => pair.GetProperty("columns").EnumerateArray()
            .Where(column => column.GetProperty("isSure").GetBoolean()).Select(column =>
                $"{pair.GetProperty("new").GetString()}."
                + $"{column.GetProperty("column").GetString()}={column.GetProperty("of")[0].GetString()}"
                .ToLowerInvariant()))];
        foreach (string must in (string[])["item.item_no=ino", "item.name=name", "item.price=price", "item.made=made", "item.group_no=gno",
            "grp.title=title", "version.val=val"]) Assert.Contains(must, said);
        _office.Run("kit", "check", _office["drafted"], "--old", Yaml(old)).Says("It can be used");
        using var other = new OddOffice();
        Directory.Delete(other["kit"], true);
        TempFolder.Copy(_office["drafted"], other["kit"]);
        other.Companies.Add(new OddCompany("B", old, Yaml(old)));
        other.Ready();
        if (engine == "firebird") other.Run("ready", "--confirm", "B/forced-writes");
        other.Upgrade().Expect(0).Says("B through 2", "Proved: the new store of B");
        // What the drafted kit made is what the one written by hand made.
        // Firebird tells no more of a renamed NUMERIC than that it has 64 bits, so that its digits are declared as those.
        _office.Run("match", "--old", Yaml(renewed), "--new", Yaml(old)).Says(engine == "firebird" ? "123, every value compared"
            : "Proved");
    }

    /// <summary>Of the demo's packages, what is said without a question mark is what the kits written by hand say, and of all that those
    /// say at least 95 of 100 columns are said or asked rightly.</summary>
    [Fact]
    public void Drafts_of_the_demo_say_what_its_kits_say()
    {
        using var demo = new DemoFolder();
        BuiltProgram.Run(demo.Path, "upgrade", "QIH", "QST", "--yes", "QIH", "--yes", "QST").Says("through");
        (int columns, int right) = (0, 0);
        var wrong = new List<string>();
        foreach ((string code, string kit, string old, string renewed, string[] more) in ((string, string, string, string, string[])[])
            [("QIH", "pellwright-ledger", "old-v5/ledger.db", "ledger.db", ["--encoding", "ibm850"]),
            ("QST", "pellwright-stockroom", "old-v3/stock", "stock.db", [])])
        {
            JsonElement hop = BuiltProgram.Run(demo.Path, ["kit", "draft", "--old", Path.Combine(demo.WorkFolder(code), old), "--new",
                demo[$"data/{code}/{renewed}"], "--name", kit + "-drafted", "--json",
                    .. more]).Json.GetProperty("result").GetProperty("kit")
                .GetProperty("hop");
            var errors = new DescriptionErrors();
            Correspondence byHand = KitLoader.Load(demo["kits/" + kit], kit, KnownKinds.All, errors)!.Hops[0].Correspondence;
            errors.ThrowIfAny();
            foreach (TableMap map in byHand.Tables)
                foreach (TargetMap target in map.Into)
                    foreach (ColumnMap column in target.Columns)
                    {
                        columns++;
                        string at = $"{target.Table.Name}.{column.Column.Name}", said = string.Join(",", OldColumns(map, column));
                        (string of, bool isSure) = Drafted(hop, map.From.Name, target.Table.Name, column.Column.Name);
                        if (of == said) right++;
                        else if (isSure) wrong.Add($"{at}: by hand of {said}, drafted of {of}");
                        else output.WriteLine($"{at}: by hand of {said}, asked of {of}");
                    }
        }
        output.WriteLine(FormattableString.Invariant($"{right} of {columns} columns as by hand"));
        Assert.Equal([], wrong);
        Assert.True(right >= columns * 0.95, FormattableString.Invariant($"{right} of {columns} columns as by hand"));
    }

    // Which old columns a value is made of; of a condition over the key of a settings table only what it alters.
    private static IEnumerable<string> OldColumns(TableMap map, ColumnMap column) => column.ComparedWith is { } compared
        && column.Value.ColumnReferences.All(reference => reference.Lookup is null) ? [compared] : column.Value.ColumnReferences
        .SelectMany(reference => reference.Lookup is null ? [reference.Name] : map.Lookups.First(lookup => lookup.Shape.Name
            == reference.Lookup).Shape.Key.ColumnReferences.Select(key => key.Name)).Distinct().Order(StringComparer.Ordinal);

    private static (string Of, bool IsSure) Drafted(JsonElement hop, string old, string renewed, string column)
    {
        foreach (JsonElement pair in hop.GetProperty("pairs").EnumerateArray())
        {
            if (pair.GetProperty("new").GetString() != renewed || pair.GetProperty("old").GetString() != old) continue;
            foreach (JsonElement made in pair.GetProperty("columns").EnumerateArray())
                if (made.GetProperty("column").GetString() == column)
                    return (string.Join(",", made.GetProperty("of").EnumerateArray().Select(of => of.GetString()).Order(
                        StringComparer.Ordinal)), pair.GetProperty("isSure").GetBoolean() && made.GetProperty("isSure").GetBoolean());
        }
        return ("", false);
    }

    [Fact]
    public void From_one_store_it_says_what_that_tells_by_itself()
    {
        string store = _office["one.db"];
        DemoFolder.Execute(store, """
            CREATE TABLE sysinfo (k TEXT PRIMARY KEY, v TEXT);
            INSERT INTO sysinfo VALUES ('DATAVER', '7'), ('FIRM', 'x');
            CREATE TABLE person (id INTEGER PRIMARY KEY, surname TEXT, mail TEXT, contact TEXT);
            CREATE TABLE bill (bill_no INTEGER, person INTEGER, state VARCHAR(1), net DECIMAL(12,2), made VARCHAR(10));
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200)
            INSERT INTO person SELECT i, 'Name' || i, 'a' || i || '@example.org', '020 7946 0' || (100 + i) FROM n WHERE i <= 40;
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200)
            INSERT INTO bill SELECT 1000 + i, 1 + i % 40, CASE i % 3 WHEN 0 THEN 'O' ELSE 'P' END, i / 4.0, printf('%02d/%02d/2025', 1
                + i % 28,
                1 + i % 12) FROM n;
            """);
        _office.Run("kit", "draft", "--old", store, "--into", _office["k"]).Says("Version 7: the record DATAVER of sysinfo", "it loads");
        string text = File.ReadAllText(_office["k/kit.yaml"]);
        foreach (string line in (string[])["{table: sysinfo, column: v, where: \"k = 'DATAVER'\"", "- surname   # by its name",
            "- mail   #",
            "- contact   # 40 of 40 values look like", "state: [\"O\", \"P\"]   # 2 different values",
                "{columns: [person], to: person, on: [id]}",
            "{name: \"bill_no of bill\", number: bill_no}   # 1001 to 1200, none missing", "# made holds dates as DD/MM/YYYY",
            "{name: \"net of bill by person\", decimals: 2, table: bill, by: [person], sum: \"net\""])
            Assert.Contains(line, text, StringComparison.Ordinal);
        // Nothing of what people are called or can be reached by is written down.
        Assert.DoesNotContain("example.org", text, StringComparison.Ordinal);
        Assert.DoesNotContain("Name1", text, StringComparison.Ordinal);
        Assert.Equal((UnixFileMode)0b110_000_000, File.GetUnixFileMode(_office["k/kit.yaml"]));
        _office.Run("kit", "check", _office["k"], "--old", store).Expect(0).Says("It can be used");
        _office.Run("kit", "draft", "--old", store, "--into", _office["k"]).Expect(2).Says("is there already");
    }

    // What changes, and the columns that then have another name: the new one, and the old one.
    public static TheoryData<string, string[], string[]> Examples => new()
    {
        { "firebird", ["ALTER TABLE CUSTOMER ALTER PHONE_NO TO PHONE", "ALTER TABLE COUNTRY ALTER CURRENCY TO MONEY"],
            ["CUSTOMER.PHONE=PHONE_NO", "COUNTRY.MONEY=CURRENCY"] },
        { "mariadb", ["RENAME TABLE help_topic TO article", "ALTER TABLE article CHANGE name title char(64) NOT NULL",
            "ALTER TABLE article CHANGE help_category_id category_id smallint unsigned NOT NULL"],
            ["article.title=name", "article.category_id=help_category_id"] },
        { "postgresql", ["ALTER TABLE pgbench_tellers RENAME tbalance TO balance", "ALTER TABLE pgbench_tellers RENAME TO teller",
            "ALTER TABLE pgbench_history RENAME mtime TO moved_at"], ["teller.balance=tbalance"] },
    };

    [Theory]
    [MemberData(nameof(Examples))]
    public void Drafts_of_what_the_engines_ship_as_examples_say_nothing_wrong_and_take_them_through(string engine, string[] changes,
        string[] renamed)
    {
        StoreAddress Made(string name) => engine switch
        {
            "firebird" => EngineExamples.Employees(_servers, _office.Path, name),
            "mariadb" => EngineExamples.Help(_servers, name),
            _ => EngineExamples.Bank(_servers, name)
        };
        StoreAddress old = Made("old"), renewed = Made("new");
        foreach (string change in changes) TestServers.Execute(renewed, change);
        foreach ((StoreAddress store, string version) in ((StoreAddress, string)[])[(old, "1"), (renewed, "2")])
            foreach (string statement in (string[])["CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, DATA_VERSION VARCHAR(10))",
                $"INSERT INTO VER VALUES ('x', '{version}')"]) TestServers.Execute(store, statement);
        JsonElement drafted = _office.Run("kit", "draft", "--old", Yaml(old), "--new", Yaml(renewed), "--into", _office["drafted"],
            "--json").Json.GetProperty("result").GetProperty("kit");
        output.WriteLine(File.ReadAllText(_office["drafted/kit.yaml"]));
        string[] said = [.. drafted.GetProperty("hop").GetProperty("pairs").EnumerateArray().Where(pair => pair.GetProperty("isSure")
            .GetBoolean()).SelectMany(pair => pair.GetProperty("columns").EnumerateArray().Where(column => column.GetProperty("isSure")
            .GetBoolean() && column.GetProperty("of").GetArrayLength() == 1).Select(column => $"{pair.GetProperty("new").GetString()}."
                + $"{column.GetProperty("column").GetString()}={column.GetProperty("of")[0].GetString()}"))];
        string[] others = [.. said.Where(column => column.Split('.')[^1].Split('=') is [var now, var before] && now != before)];
        Assert.Equal(renamed.Order(), others.Order());
        // All columns of all tables that have records, but for what is computed: nothing is left to be described.
        Assert.True(said.Length > 12, string.Join("\n", said));
        _office.Run("kit", "check", _office["drafted"], "--old", Yaml(old)).Says("It can be used");
    }

    [Fact]
    public void Of_two_hundred_tables_it_says_only_what_is_to_be_said_and_each_thing_once()
    {
        const int Tables = 200, Renamed = 50;
        foreach ((string file, string version, string name) in ((string, string, string)[])[("old.db", "7", "label"), ("new.db", "8",
            "caption")])
            DemoFolder.Execute(_office[file], string.Concat(Enumerable.Range(1, Tables).Select(table => $"""
                CREATE TABLE area_{table} (id INTEGER PRIMARY KEY, {(table <= Renamed ? name : "label")} VARCHAR(20), state VARCHAR(1),
                    surname VARCHAR(20), weight INTEGER, place VARCHAR(10), remark VARCHAR(20), size DECIMAL(8,2), made DATE, area INTEGER);
                WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40)
                INSERT INTO area_{table} SELECT i, 'L{table}-' || i, CASE i % 2 WHEN 0 THEN 'A' ELSE 'B' END, 'S{table}-' || i,
                    i * {table} % 37, 'P' || (i * {table} % 11), 'R{table}-' || i, i * {table} / 4.0, '2025-01-' || (10 + i % 20), i % 7
                FROM n;

                """)) + $"CREATE TABLE sysinfo (k TEXT PRIMARY KEY, v TEXT); INSERT INTO sysinfo VALUES ('DATAVER', '{version}');");
        JsonElement hop = _office.Run("kit", "draft", "--old", _office["old.db"], "--new", _office["new.db"], "--into", _office["k"],
            "--json").Json.GetProperty("result").GetProperty("kit").GetProperty("hop");
        Assert.Equal(Tables + 1, hop.GetProperty("pairs").GetArrayLength());
        string[] lines = File.ReadAllLines(_office["k/kit.yaml"]);
        Assert.Equal(Renamed, lines.Count(line => line.Trim().StartsWith("caption: label ", StringComparison.Ordinal)));
        Assert.DoesNotContain(lines, line => line.Contains("label: label", StringComparison.Ordinal));
        // Codes and whose affair a column is are said of the old version; of the new one they follow.
        Assert.Equal(Tables, lines.Count(line => line.Trim().StartsWith("state: [", StringComparison.Ordinal)));
        Assert.Equal(Tables, lines.Count(line => line.Trim().StartsWith("- surname ", StringComparison.Ordinal)));
        _office.Run("kit", "check", _office["k"], "--old", _office["old.db"]).Expect(0).Says("It can be used");
    }

    [Fact]
    public void Neither_a_private_code_nor_a_key_in_the_settings_is_written_down()
    {
        foreach ((string file, string version, string licence, string[] codes) in ((string, string, string, string[])[])
            [("old.db", "7", "OLD-SECRET", ["Quak", "Cath", "None"]), ("new.db", "8", "NEW-SECRET", ["Q1", "C1", "N1"])])
            DemoFolder.Execute(_office[file], $"""
                CREATE TABLE sysinfo (k TEXT PRIMARY KEY, v TEXT);
                INSERT INTO sysinfo VALUES ('DATAVER', '{version}'), ('LICENCE', '{licence}'), ('FIRM', 'x');
                CREATE TABLE staff_list (id INTEGER PRIMARY KEY, religion TEXT, grade TEXT);
                WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 120)
                INSERT INTO staff_list SELECT i, CASE i % 3 WHEN 0 THEN '{codes[0]}' WHEN 1 THEN '{codes[1]}' ELSE '{codes[2]}' END,
                    CASE i % 2 WHEN 0 THEN 'A{version}' ELSE 'B{version}' END FROM n;
                """);
        Called drafted = _office.Run("kit", "draft", "--old", _office["old.db"], "--new", _office["new.db"], "--into", _office["k"],
            "--json");
        string text = File.ReadAllText(_office["k/kit.yaml"]);
        Assert.Contains("\"A7\": \"A8\"", text, StringComparison.Ordinal); // what is not private is
        foreach (string secret in (string[])["SECRET", "Quak", "Cath", "Q1", "C1"])
        {
            Assert.DoesNotContain(secret, text, StringComparison.Ordinal);
            Assert.DoesNotContain(secret, drafted.Json.GetRawText(), StringComparison.Ordinal);
        }
    }

    [Fact]
    public void For_scripts_it_says_what_they_touch_and_they_convert()
    {
        OddCompany company = _office.Add("A", "sqlite", "a.db", 30);
        _office.Write("vendor/to 2.sql", "ALTER TABLE ITEM ADD COLUMN COLOUR TEXT;\nUPDATE ITEM SET COLOUR = 'red', NAME = trim(NAME);\n"
            + "DELETE FROM GRP WHERE GNO = 9;\nUPDATE VER SET VAL = '2' WHERE WHAT = 'DATA';\n");
        _office.Run("kit", "draft", "--old", company.Store.Path, "--script", _office["vendor/to 2.sql"], "--to", "2", "--into",
            _office["drafted"]).Says("it loads");
        string text = File.ReadAllText(_office["drafted/kit.yaml"]);
        Assert.Contains("CASE WHAT WHEN 'DATA' THEN '2' ELSE VAL END", text, StringComparison.Ordinal);
        Assert.Contains("# the scripts: ITEM: COLOUR added; values of COLOUR, NAME changed", text, StringComparison.Ordinal);
        Assert.Contains("# the scripts: GRP: records removed", text, StringComparison.Ordinal);
        Directory.Delete(_office["kit"], true);
        Directory.Move(_office["drafted"], _office["kit"]);
        _office.Ready();
        _office.Upgrade().Says("A through 2", "Proved: the new store of A");
    }

    [Theory]
    [InlineData("hops: [{hop: {from: \"1\", to: \"2\"}}, {hop: {from: \"2\", to: \"1\"}}]", 2, "they go round")]
    [InlineData("hops: [{hop: {from: \"1\", to: \"2\"}}, {hop: {from: \"1\", to: \"2\"}}]", 2, "2 hops lead there")]
    [InlineData("hops: []", 1, "no hop leads to it or from it")]
    [InlineData("hops: [{hop: {from: \"1\", to: \"3\"}}]", 2, "the kit has no version 3")]
    public void What_is_wrong_with_a_kit_is_told_before_any_data_is_touched(string hops, int code, string words)
    {
        _office.Write("k/kit.yaml", "kit: k\ntitle: K\ntold-by: [{header: user_version}]\nversions: [\"1\", \"2\"]\n" + hops + "\n");
        _office.Run("kit", "check", _office["k"]).Expect(code).Says(words);
    }

    [Fact]
    public void Keys_that_can_collide_and_signs_of_two_versions_are_doubts()
    {
        _office.WriteKit(newVersion: OddOffice.NewVersion.Replace("table: version, column: val, where: \"what = 'DATA'\"",
            "sql: \"SELECT 2\"", StringComparison.Ordinal), hop: OddOffice.Hop.Replace("item_no: INO,", "item_no: GNO,",
            StringComparison.Ordinal).Replace("group_no: GNO}}}", "group_no: INO}}}", StringComparison.Ordinal));
        _office.Run("kit", "check", _office["kit"]).Expect(1).Says("two records of ITEM could get the same key",
            "a store could show the signs of both");
    }

    [Fact]
    public void A_kit_is_shown_as_a_list_and_as_a_page()
    {
        _office.Add("A", "sqlite", "a.db");
        _office.Ready();
        string page = _office["kit.html"];
        _office.Run("kit", "show", "--html", page).Expect(0).Says("Version 1 to 2: Transferra converts, by the kit's maps",
            "left out: VAL, the version is a new one");
        string html = File.ReadAllText(page);
        Assert.Contains("<svg", html, StringComparison.Ordinal);
        Assert.DoesNotContain("http://", html.Replace("http://www.w3.org/2000/svg", "", StringComparison.Ordinal),
            StringComparison.Ordinal);
        JsonElement hop = _office.Run("kit", "show", "--json").Json.GetProperty("result")[0].GetProperty("hops")[0];
        Assert.Equal("INO", hop.GetProperty("tables").EnumerateArray().First(table => table.GetProperty("new").GetString() == "item")
            .GetProperty("columns").GetProperty("item_no").GetString());
    }
}
