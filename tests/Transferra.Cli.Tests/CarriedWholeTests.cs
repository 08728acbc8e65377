using System.Text.RegularExpressions;
using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Databases that use each kind of declaration their engine has, taken through a hop that touches two of their tables. What must
/// come out is what the engine itself makes of the same database when it is told to change just that (a control), by its own
/// listing.</summary>
public sealed partial class CarriedWholeTests : IDisposable
{
    private const string OldVersion = """
        version: "1"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "1"}]
        tables:
          VER: {columns: {WHAT: VARCHAR(10) NOT NULL, VAL: VARCHAR(10)}, key: [WHAT]}
          GRP: {columns: {GNO: INTEGER NOT NULL, TITLE: VARCHAR(40)}, key: [GNO]}
          ITEM:
            columns: {INO: INTEGER NOT NULL, NAME: VARCHAR(40), PRICE: "DECIMAL(12,2)", MADE: DATE, GNO: INTEGER}
            key: [INO]

        """;

    private const string NewVersion = """
        version: "2"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "2"}]
        tables:
          VER: {columns: {WHAT: VARCHAR(10) NOT NULL, VAL: VARCHAR(10)}, key: [WHAT]}
          GRP: {columns: {GNO: INTEGER NOT NULL, TITLE: VARCHAR(40)}, key: [GNO]}
          ITEM:
            columns: {INO: INTEGER NOT NULL, TITLE: VARCHAR(40), PRICE: "DECIMAL(12,2)", MADE: TIMESTAMP, GNO: INTEGER, NOTE: VARCHAR(20)}
            key: [INO]

        """;

    private const string Hop = """
        hop: {from: "1", to: "2"}
        tables:
          - {from: VER, into: {VER: {WHAT: WHAT, VAL: "'2'"}}, columns-left-out: {VAL: the version is a new one}}
          - {from: GRP, into: {GRP: {GNO: GNO, TITLE: TITLE}}}
          - {from: ITEM, into: {ITEM: {INO: INO, TITLE: NAME, PRICE: PRICE, MADE: CAST(MADE AS TIMESTAMP), GNO: GNO, NOTE: "NULL"}}}

        """;

    // What the hop does, as the engine's own statements.
    private static readonly Dictionary<string, string[]> Changes = new()
    {
        ["postgresql"] = ["ALTER TABLE \"ITEM\" RENAME \"NAME\" TO \"TITLE\"", "ALTER TABLE \"ITEM\" ALTER \"MADE\" TYPE timestamp, ADD "
            + "\"NOTE\" varchar(20)", "UPDATE \"VER\" SET \"VAL\" = '2'"],
        ["mariadb"] = ["ALTER TABLE ITEM RENAME COLUMN NAME TO TITLE", "ALTER TABLE ITEM MODIFY MADE datetime(6), ADD NOTE varchar(20)",
            "UPDATE VER SET VAL = '2'"],
        ["firebird"] = ["ALTER TABLE ITEM ALTER NAME TO TITLE", "ALTER TABLE ITEM ALTER MADE TYPE TIMESTAMP",
            "ALTER TABLE ITEM ADD NOTE VARCHAR(20) CHARACTER SET UTF8", "UPDATE VER SET VAL = '2'"],
    };

    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public CarriedWholeTests() => _office.WriteKit(OldVersion, NewVersion, Hop);

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private static string Script(string engine) => File.ReadAllText(Path.Combine(AppContext.BaseDirectory, "Rich", engine + ".sql"));

    private static string[] Statements(string engine) => [.. Script(engine).Split('\n', StringSplitOptions.RemoveEmptyEntries)
        .Select(line => engine == "firebird" && !line.EndsWith("END;", StringComparison.Ordinal) ? line.TrimEnd(';') : line)];

    private StoreAddress Made(string engine, string name) => _servers.Made(engine, name, Statements(engine));

    private void Upgrade(StoreAddress store)
    {
        _office.Companies.Add(new OddCompany("A", store, store.IsOnServer ? OddOffice.ServerYaml(store) : null));
        _office.Ready();
        if (store.Engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A", " kinds, ", " changed with the tables and columns");
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void A_database_comes_out_as_the_engine_itself_would_have_changed_it(string engine)
    {
        StoreAddress store = Made(engine, "rich"), control = Made(engine, "control");
        foreach (string change in Changes[engine]) TestServers.Execute(control, change);
        Upgrade(store);
        Assert.Equal(Listing(control), Listing(store));
        Assert.Equal(OddOffice.Rows(control), OddOffice.Rows(store));
        // A program's own view: defaults, counters and triggers give what they gave.
        foreach (StoreAddress one in (StoreAddress[])[control, store]) Work(one);
        Assert.Equal(Seen(control), Seen(store));
        LetAsideGo(store);
    }

    [Theory] // the same server by another name is another server to whoever asks
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void On_another_server_of_the_engine_it_comes_out_just_so(string engine)
    {
        StoreAddress store = Made(engine, "rich"), control = Made(engine, "control"),
            there = _servers.Database(engine, "there") with { Server = TestServers.Server(engine) with { Host = "localhost" } };
        foreach (string change in Changes[engine]) TestServers.Execute(control, change);
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store))
        {
            More = [$"new-store: {OddOffice.ServerYaml(there)}"]
        });
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0).Says("A through 2");
        _servers.Known(there);
        Assert.Equal(Listing(control), Listing(there));
        Assert.Equal(OddOffice.Rows(control), OddOffice.Rows(there));
        LetAsideGo(store);
    }

    public static TheoryData<string, string, string, string> EachWordsOfTheVendor => new()
    {
        { "sqlite", "NUMERIC(12,2)", "SELECT type || ' ' || (SELECT typeof(PRICE) || PRICE FROM ITEM WHERE INO = 1) FROM "
            + "pragma_table_info('ITEM') WHERE name = 'PRICE'", "NUMERIC(12,2) real12.5" },
        { "postgresql", "money", "SELECT pg_typeof(\"PRICE\") || ' ' || \"PRICE\"::numeric FROM \"ITEM\" WHERE \"INO\" = 1",
            "money 12.50" },
        { "mariadb", "FLOAT(12,2) UNSIGNED ZEROFILL", "SELECT concat(column_type, ' ', (SELECT PRICE + 0 FROM ITEM WHERE INO = 1)) FROM "
            + "information_schema.columns WHERE table_schema = database() AND table_name = 'ITEM' AND column_name = 'PRICE'",
            "float(12,2) unsigned zerofill 12.50" },
        { "firebird", "DECIMAL(9,2)", "SELECT TRIM(t.RDB$FIELD_PRECISION) || ' ' || (SELECT PRICE FROM ITEM WHERE INO = 1) FROM "
            + "RDB$RELATION_FIELDS f JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE f.RDB$RELATION_NAME = 'ITEM' AND "
            + "f.RDB$FIELD_NAME = 'PRICE'", "9 12.50" },
    };

    [Theory]
    [MemberData(nameof(EachWordsOfTheVendor))]
    public void A_column_is_declared_in_the_vendors_words_where_the_kit_has_them(string engine, string words, string question, string told)
    {
        foreach (string beginning in (string[])["usual", "empty"])
        {
            using var office = new OddOffice();
            office.WriteKit(OldVersion, NewVersion.Replace("GNO: INTEGER, NOTE: VARCHAR(20)}", "GNO: INTEGER, NOTE: VARCHAR(20)}\n    "
                + $"declared-as: {{PRICE: \"{words}\"}}", StringComparison.Ordinal), $"beginning: {beginning}\n{Hop}");
            string[] plain = ["CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, VAL VARCHAR(10))",
                "INSERT INTO VER VALUES ('DATA', '1')", "CREATE TABLE GRP (GNO INTEGER NOT NULL PRIMARY KEY, TITLE VARCHAR(40))",
                "CREATE TABLE ITEM (INO INTEGER NOT NULL PRIMARY KEY, NAME VARCHAR(40), PRICE DECIMAL(12,2), MADE DATE, GNO INTEGER)",
                "INSERT INTO ITEM VALUES (1, 'horn', 12.5, NULL, NULL)"];
            if (engine == "postgresql") plain = [.. plain.Select(statement => Names().Replace(statement, "\"$0\""))];
            StoreAddress store = engine == "sqlite" ? new StoreAddress(engine, office["a.db"])
                : _servers.Made(engine, "w_" + beginning, plain);
            if (engine == "sqlite") DemoFolder.Execute(store.Path, string.Join(';', plain));
            office.Companies.Add(new OddCompany("A", store, engine == "sqlite" ? "{sqlite: a.db}" : OddOffice.ServerYaml(store)));
            office.Ready();
            if (engine == "firebird") office.Run("ready", "--confirm", "A/forced-writes");
            office.Upgrade().Expect(0).Says("A through 2");
            Assert.Equal((beginning, told), (beginning, engine == "sqlite" ? DemoFolder.Ask(store.Path, question)
                : TestServers.Ask(store, question)));
            if (store.IsOnServer) LetAsideGo(store);
        }
    }

    [GeneratedRegex(@"\b(VER|GRP|ITEM|WHAT|VAL|GNO|TITLE|INO|NAME|PRICE|MADE)\b")]
    private static partial Regex Names();

    // The sample database of Firebird's own package: domains, arrays, computed columns, procedures, exceptions, checks that look elsewhere.
    [Fact]
    public void The_sample_that_Firebird_ships_goes_through_whole()
    {
        string[] further = [.. Statements("firebird").Where(line => line.Contains(" VER", StringComparison.Ordinal)
            || line.Contains("GRP", StringComparison.Ordinal)).Select(line => line.Replace("D_TITLE UNIQUE", "VARCHAR(40)",
                StringComparison.Ordinal)).Where(line => !line.Contains("ITEM", StringComparison.Ordinal)),
            "CREATE TABLE ITEM (INO INTEGER NOT NULL PRIMARY KEY, NAME VARCHAR(40), PRICE NUMERIC(12,2), MADE DATE, GNO INTEGER)"];
        StoreAddress store = EngineExamples.Employees(_servers, _office.Path, "sample"),
            control = EngineExamples.Employees(_servers, _office.Path, "control");
        foreach (string statement in further)
            foreach (StoreAddress made in (StoreAddress[])[store, control]) TestServers.Execute(made, statement);
        foreach (string change in Changes["firebird"]) TestServers.Execute(control, change.Replace(" CHARACTER SET UTF8", "",
            StringComparison.Ordinal).Replace("ADD NOTE VARCHAR(20)", "ADD NOTE VARCHAR(20) CHARACTER SET UTF8", StringComparison.Ordinal));
        Upgrade(store);
        Assert.Equal(Listing(control), Listing(store));
        Assert.Equal(OddOffice.Rows(control), OddOffice.Rows(store));
        const string arrays = "SELECT LIST(COALESCE(LANGUAGE_REQ[1], '-') || COALESCE(LANGUAGE_REQ[5], '-')) FROM JOB";
        Assert.Equal(TestServers.Ask(control, arrays), TestServers.Ask(store, arrays));
        LetAsideGo(store);
    }

    // What is taken away or put in afterwards, and how it is called in the match.
    private static readonly (string Engine, string Loss, string Named)[] Losses =
    [
        ("postgresql", "DROP VIEW items", "public.items"),
        ("postgresql", "ALTER TABLE audit.log ALTER at DROP DEFAULT", "audit.log.at"),
        ("postgresql", "ALTER TABLE second DISABLE ROW LEVEL SECURITY", "public.second"),
        ("mariadb", "ALTER TABLE RATES MODIFY RATE DOUBLE", "RATES.RATE"),
        ("mariadb", "ALTER TABLE ITEM DROP KEY by_group, DROP FOREIGN KEY of_group", "ITEM.of_group"),
        ("firebird", "DROP VIEW DEAR", "DEAR"),
        ("firebird", "ALTER TABLE GRP DROP CONSTRAINT UNIQUELY", "GRP.UNIQUELY"),
    ];

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void A_declaration_that_is_lost_is_named_and_leaves_less_than_proved(string engine)
    {
        StoreAddress store = Made(engine, "rich");
        if (engine == "firebird") TestServers.Execute(store, "ALTER TABLE GRP ADD CONSTRAINT UNIQUELY UNIQUE (GNO, TITLE)");
        Upgrade(store);
        // One after the other, so that each is named beside those before it and makes the difference by itself.
        var named = new List<string>();
        foreach ((string _, string loss, string name) in Losses.Where(one => one.Engine == engine))
        {
            TestServers.Execute(store, loss);
            named.Add(name);
            _office.Run("match").Expect(1).Says(["not the same, and the hop does not say why", .. named, "Proved in part for A"]);
        }
        LetAsideGo(store);
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void A_set_of_a_database_makes_it_again_as_it_was(string engine)
    {
        StoreAddress store = Made(engine, "rich");
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store)));
        _office.Ready();
        string before = Listing(store);
        _office.Run("backup").Expect(0).Says("Proved:", "restored into scratch");
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal(before, Listing(store));
        LetAsideGo(store);
    }

    [Fact]
    public void Whoever_may_come_into_a_database_may_come_into_the_one_that_takes_its_place_and_nobody_else()
    {
        StoreAddress store = _servers.Made("postgresql", "rights"), clerk = _servers.AsClerk(store, _office.Path),
            owner = _servers.AsClerk(store, _office.Path), stranger = _servers.AsClerk(store, _office.Path);
        foreach (string statement in (string[])[$"ALTER ROLE {owner.Server!.User} CREATEDB",
            $"ALTER DATABASE \"{store.Path}\" OWNER TO {owner.Server.User}",
            $"REVOKE CONNECT ON DATABASE \"{store.Path}\" FROM PUBLIC",
            $"GRANT CONNECT ON DATABASE \"{store.Path}\" TO {clerk.Server!.User}"]) TestServers.Execute(store, statement);
        foreach (string statement in (string[])[.. Statements("postgresql").Take(2), "CREATE TABLE \"GRP\" (\"GNO\" integer PRIMARY KEY, "
            + "\"TITLE\" varchar(40))", "CREATE TABLE \"ITEM\" (\"INO\" integer PRIMARY KEY, \"NAME\" varchar(40), \"PRICE\" "
            + "numeric(12,2), "
                + "\"MADE\" date, \"GNO\" integer REFERENCES \"GRP\")", "INSERT INTO \"ITEM\" VALUES (1, 'horn', 1, NULL, NULL)",
            $"GRANT SELECT ON \"ITEM\" TO {clerk.Server.User}"]) TestServers.Execute(owner, statement);
        _office.Companies.Add(new OddCompany("A", owner, OddOffice.ServerYaml(owner)));
        _office.Ready();
        _office.Run("ready", "--confirm", "A/read-back");
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.Equal("2", TestServers.Ask(store, "SELECT \"VAL\" FROM \"VER\""));
        Assert.Equal("horn", TestServers.Ask(clerk, "SELECT \"TITLE\" FROM \"ITEM\""));
        Assert.ThrowsAny<System.Data.Common.DbException>(() => TestServers.Ask(stranger, "SELECT 1"));
        Assert.Equal(owner.Server.User, TestServers.Ask(store, "SELECT pg_get_userbyid(datdba) FROM pg_database WHERE datname = "
            + "current_database()"));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("horn", TestServers.Ask(clerk, "SELECT \"NAME\" FROM \"ITEM\""));
        new StoreOpener().ServerOf(store).Remove(store.Path);
    }

    private void LetAsideGo(StoreAddress store)
    {
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path).Where(name =>
            name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal)))
            _servers.Known(store with { Path = left });
    }

    [Fact]
    public void A_table_of_an_engine_without_transactions_is_filled_anew_and_keeps_it()
    {
        StoreAddress store = _servers.Made("mariadb", "plain", [.. Statements("mariadb").Take(4),
            "CREATE TABLE ITEM (INO INT NOT NULL PRIMARY KEY, NAME VARCHAR(40), PRICE DECIMAL(12,2), MADE DATE, GNO INT) ENGINE = MyISAM "
                + "ROW_FORMAT = FIXED", "INSERT INTO ITEM VALUES (1, 'horn', 1, NULL, 1), (2, 'drum', 2, '2024-01-01', NULL)"]);
        Upgrade(store);
        Assert.Equal("MyISAM Fixed 2", TestServers.Ask(store, "SELECT concat_ws(' ', engine, row_format, table_rows) FROM "
            + $"information_schema.tables WHERE table_schema = '{store.Path}' AND table_name = 'ITEM'"));
        LetAsideGo(store);
    }

    [Fact]
    public void A_copy_that_cannot_be_changed_stops_the_company_and_says_why() => Stops("postgresql",
        "CREATE TABLE uses (one \"ITEM\")", "because column \"uses.one\" uses its row type");

    [Fact]
    public void What_a_routine_needs_is_not_taken_from_it() => Stops("firebird", "CREATE PROCEDURE NAMES RETURNS (N VARCHAR(40)) AS BEGIN "
        + "FOR SELECT NAME FROM ITEM INTO :N DO SUSPEND; END", "NAME");

    private void Stops(string engine, string blocks, string says)
    {
        StoreAddress store = Made(engine, "rich");
        TestServers.Execute(store, blocks);
        string before = Listing(store);
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store)));
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(1).Says("cannot be made ready for the new version", says, "taken back");
        Assert.Equal(before, Listing(store));
    }

    private static void Work(StoreAddress store)
    {
        foreach (string statement in store.Engine switch
        {
            "postgresql" => (string[])["INSERT INTO \"ITEM\" (\"TITLE\", \"GNO\") VALUES ('new', 1)", "INSERT INTO \"GRP\" DEFAULT VALUES",
                "INSERT INTO second (v, k) VALUES ('later', 500)"],
            "mariadb" => ["INSERT INTO ITEM (INO, TITLE) VALUES (8, 'new')", "INSERT INTO GRP () VALUES ()", "INSERT "
                + "INTO SUMS (ID) VALUES (9)",
                "INSERT INTO DRAWN (V) VALUES ('later')"],
            _ => ["INSERT INTO ITEM (TITLE) VALUES ('new')", "INSERT INTO LOG (WHAT) VALUES ('new')",
                "INSERT INTO GRP (GNO) VALUES (3)"],
        }) TestServers.Execute(store, statement);
    }

    private static string Seen(StoreAddress store) => string.Join(' ', ((string[])(store.Engine switch
    {
        "postgresql" => ["SELECT string_agg(i::text, ',' ORDER BY \"INO\") FROM \"ITEM\" i", "SELECT string_agg(what, ',') FROM audit.log",
            "SELECT string_agg(g::text, ',' ORDER BY \"GNO\") FROM \"GRP\" g", "SELECT string_agg(s::text, ',' ORDER BY id) FROM second s",
            "SELECT convert_from(lo_get(4711), 'UTF8')"],
        "mariadb" => ["SELECT group_concat(INO, TITLE, ifnull(PRICE, ''), ifnull(GROSS, '')) FROM ITEM", "SELECT "
            + "group_concat(WHAT) FROM LOG",
            "SELECT group_concat(GNO, TITLE) FROM GRP", "SELECT group_concat(ID, ifnull(HIDDEN_, '')) FROM SUMS", "SELECT "
                + "max(ID) FROM DRAWN",
            "SELECT count(*) FROM PAST FOR SYSTEM_TIME ALL"],
        _ => ["SELECT LIST(INO || TITLE || COALESCE(PRICE, '') || COALESCE(GROSS, '')) FROM ITEM", "SELECT LIST(ID || WHAT) FROM LOG",
            "SELECT LIST(GNO || TITLE) FROM GRP", "SELECT LIST(CODE || RATE) FROM DEAR"],
    })).Select(question => TestServers.Ask(store, question)));

    // The engine's own listing of all that is declared, with the records where it has them.
    private static string Listing(StoreAddress store)
    {
        ServerAddress server = store.Server!;
        string password = File.ReadLines(server.PasswordFile!).First();
        string port = server.Port.ToString(System.Globalization.CultureInfo.InvariantCulture);
        string listed = store.Engine switch
        {
            "postgresql" => EngineExamples.Run("pg_dump", ["-h", server.Host, "-p", port, "-U", server.User, store.Path],
                ("PGPASSWORD", password)),
            "mariadb" => EngineExamples.Run("mariadb-dump", ["--no-defaults", "-h", server.Host, "-P", port, "-u", server.User,
                "--routines", "--events",
                "--triggers", "--skip-comments", "--skip-dump-date", store.Path], ("MYSQL_PWD", password)),
            _ => EngineExamples.Run("isql-fb", ["-x", "-u", server.User, $"{server.Host}/{port}:{store.Path}"], ("ISC_PASSWORD", password)),
        };
        listed = Noise().Replace(listed.Replace(store.Path, "DATABASE", StringComparison.Ordinal)
            .Replace($"{server.Host}/", "HOST/", StringComparison.Ordinal), "");
        return string.Join('\n', listed.Split('\n').Where(line => line.Length > 0));
    }

    // A key against what comes with the listing, names that the engine gives, and the moment an event was made.
    [GeneratedRegex(@"^\\(un)?restrict .*$|INTEG_[0-9]+|RDB\$[0-9]+|STARTS '[-0-9: ]+'", RegexOptions.Multiline)]
    private static partial Regex Noise();

    [Fact]
    public void A_file_keeps_its_schema_its_marks_and_the_numbers_of_its_records()
    {
        string file = _office["a.db"], before = _office["before.db"];
        DemoFolder.Execute(file, Script("sqlite"));
        File.Copy(file, before);
        var store = new StoreAddress("sqlite", file);
        _office.Companies.Add(new OddCompany("A", store, "{sqlite: a.db}"));
        _office.Ready();
        _office.Upgrade().Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        const string schema = "SELECT group_concat(type || name || tbl_name || ifnull(sql, ''), char(10)) "
            + "FROM (SELECT * FROM sqlite_schema WHERE tbl_name NOT IN ('ITEM', 'ITEMS') ORDER BY type, name)";
        Assert.Equal(DemoFolder.Ask(before, schema), DemoFolder.Ask(file, schema));
        foreach (string pragma in (string[])["page_size", "application_id", "journal_mode", "encoding", "auto_vacuum"])
            Assert.Equal((pragma, DemoFolder.Ask(before, "PRAGMA " + pragma)), (pragma, DemoFolder.Ask(file, "PRAGMA " + pragma)));
        foreach (string table in (string[])["GRP", "LOG", "RATES", "EXACT", "DOCS", "AREA", "sqlite_sequence"])
            Same(before, file, table, "*");
        Same(before, file, "LOOSE", "rowid, A, B");
        Same(before, file, "SUMS", "ID, TOTAL");
        Assert.Equal(DemoFolder.Ask(before, "SELECT group_concat(INO || NAME || "
            + "PRICE || typeof(PRICE) || ifnull(GNO, '') || GROSS) FROM ITEM"),
            DemoFolder.Ask(file, "SELECT group_concat(INO || TITLE || PRICE || typeof(PRICE) || ifnull(GNO, '') || GROSS) FROM ITEM"));
        Assert.Equal("horn", DemoFolder.Ask(file, "SELECT N FROM ITEMS WHERE T = 'brass'"));
        Assert.Equal("ITEM_BY_NAME 1,ITEM_BY_UPPER 0", DemoFolder.Ask(file, "SELECT group_concat(name || ' ' || "
            + "partial) FROM (SELECT name, partial FROM pragma_index_list('ITEM') WHERE origin = 'c' ORDER BY name)"));
        DemoFolder.Execute(file, "INSERT INTO ITEM (INO, TITLE) VALUES (8, 'new'); INSERT INTO GRP (TITLE) VALUES ('later'); INSERT INTO "
            + "COUNTED (V) VALUES ('next'); INSERT INTO \"odd \"\"view\"\"\" VALUES ('z')");
        Assert.Equal("item 8", DemoFolder.Ask(file, "SELECT WHAT FROM LOG ORDER BY rowid DESC"));
        Assert.Equal("91 1001 0.5", DemoFolder.Ask(file, "SELECT max(GNO) || ' ' || (SELECT ID FROM COUNTED) || ' ' || (SELECT PRICE FROM "
            + "ITEM WHERE INO = 8) FROM GRP"));
        Assert.ThrowsAny<Exception>(() => DemoFolder.Execute(file, "INSERT INTO ITEM (INO, PRICE) VALUES (9, -1)"));
        Assert.Equal("two", DemoFolder.Ask(file, "SELECT TITLE FROM DOCS WHERE DOCS MATCH 'another'"));
        Assert.Equal("ok", DemoFolder.Ask(file, "PRAGMA integrity_check"));
    }

    private static void Same(string before, string after, string table, string columns)
    {
        string all = $"SELECT group_concat(r, char(10)) FROM (SELECT "
            + $"json_array({(columns == "*" ? Columns(before, table) : Quoted(columns))}) "
            + $"AS r FROM {table} ORDER BY 1)";
        Assert.Equal((table, DemoFolder.Ask(before, all)), (table, DemoFolder.Ask(after, all)));
    }

    private static string Columns(string file, string table) =>
        Quoted(DemoFolder.Ask(file, $"SELECT group_concat(name, ', ') FROM pragma_table_info('{table}')")!);

    private static string Quoted(string columns) => string.Join(", ", columns.Split(", ").Select(column => $"typeof({column}), "
        + $"quote({column})"));
}
