using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Tables as real programs make them: columns that hold several kinds of value, search structures, keys without a value, engines
/// and types that are rare.</summary>
public sealed class OddTablesTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private string Db => _office["data/a.db"];

    private string NewDb => Assert.Single(Directory.GetFiles(Path.Combine(Directory.GetDirectories(_office["data"], "transferra-*")[0],
        "v2")));

    private void Go(int checkCode = 1)
    {
        _office.Ready();
        _office.Run("check", "A").Expect(checkCode);
        _office.Run("backup", "A").Expect(0);
        _office.Run("convert", "A").Expect(0);
        _office.Run("match", "A").Expect(0).Says("Proved: the new store of A");
    }

    [Fact]
    public void Values_of_columns_without_a_known_type_keep_their_storage_class()
    {
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(Db, """
            CREATE TABLE MIXED (ID INTEGER PRIMARY KEY, BARE, ODD INTEGER_OR_TEXT, SHAPE POLYGON, WHOLE INT(11), WHEN_ DATETIME,
              NEVER WHATEVER);
            INSERT INTO MIXED VALUES (1, 7, 7, x'0001FF', 3, '2024-01-31 10:00', NULL), (2, '7', 'seven', x'', 4, '2024-02-01', NULL),
              (3, 7.5, 8, NULL, NULL, 'never', NULL),
                (4, x'07', '08x', x'7F', -9223372036854775808, 12, NULL), (5, NULL, -1, x'00', 0, NULL, NULL), (6, '', 9e300, x'01', 1,
                  '', NULL);
            """);
        const string all = "SELECT group_concat(ID || ':' || typeof(BARE) || quote(BARE) || typeof(ODD) || quote(ODD) || typeof(SHAPE) "
            + "|| quote(SHAPE) || typeof(WHOLE) || quote(WHOLE) || typeof(WHEN_) || quote(WHEN_), ';') FROM (SELECT * "
            + "FROM MIXED ORDER BY ID)";
        string before = DemoFolder.Ask(Db, all)!;
        Go();
        Assert.Equal(before, DemoFolder.Ask(NewDb, all));
        // A number that became a text is another value, and match says so.
        DemoFolder.Execute(NewDb, "UPDATE MIXED SET BARE = '7' WHERE ID = 1");
        _office.Run("match", "A").Expect(1).Says("NOT proved", "MIXED");
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("json-lines")]
    public void On_an_engine_without_such_columns_their_values_are_exceptions_unless_they_are_texts(string engine)
    {
        OddCompany company = _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(Db, "CREATE TABLE MIXED (ID INTEGER PRIMARY KEY, BARE); INSERT INTO MIXED "
            + "VALUES (1, 'a text'), (2, 7), (3, NULL)");
        _office.Companies[0] = company with
        {
            More = ["new-store: "
            + $"{(engine == "postgresql" ? OddOffice.ServerYaml(_servers.Database(engine, "n")) : "{json-lines: data/new}")}"]
        };
        _office.Ready();
        _office.Run("check", "A").Expect(1).Says("MIXED.BARE holds values of several kinds, here a whole", "2: \"7\"");
        _office.Run("convert", "A").Expect(1);
        JsonElement match = _office.Run("match", "A", "--json").Expect(1).Json.GetProperty("result")[0].GetProperty("match");
        Assert.Equal(("proved-in-part", 1), (match.GetProperty("verdict").GetString(), match.GetProperty("exceptions").GetInt32()));
    }

    [Fact]
    public void Search_structures_are_read_by_their_own_name_and_are_no_damage()
    {
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(Db, """
            CREATE VIRTUAL TABLE DOCS USING fts5(TITLE, BODY); INSERT INTO DOCS VALUES ('one', 'the first text'), ('two', 'another text');
            CREATE VIRTUAL TABLE OLDDOCS USING fts4(TITLE); INSERT INTO OLDDOCS VALUES ('three');
            CREATE VIRTUAL TABLE AREA USING rtree(ID, X1, X2, Y1, Y2); INSERT INTO AREA VALUES (1, 0, 10.5, -3, 4), (2, 5, 6, 7, 8);
            CREATE TABLE PLACES (ID INTEGER PRIMARY KEY, GEOM GEOMETRY); INSERT INTO PLACES VALUES (1, x'47500001'), (2, NULL);
            """);
        Go();
        _office.Run("survey").Expect(0).Says("search structure");
        Assert.Equal("one|two", DemoFolder.Ask(NewDb, "SELECT group_concat(TITLE, '|') FROM DOCS"));
        Assert.Equal("1 10.5", DemoFolder.Ask(NewDb, "SELECT ID || ' ' || X2 FROM AREA WHERE ID = 1"));
        Assert.Equal("blob", DemoFolder.Ask(NewDb, "SELECT typeof(GEOM) FROM PLACES WHERE ID = 1"));
        // They are what they were: one still searches in it.
        Assert.Equal("two", DemoFolder.Ask(NewDb, "SELECT TITLE FROM DOCS WHERE DOCS MATCH 'another'"));
    }

    [Fact]
    public void Records_without_a_value_in_their_key_are_themselves_and_nobodys_copies()
    {
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(Db, """
            CREATE TABLE LOOSE (CODE TEXT PRIMARY KEY, V INT); INSERT INTO LOOSE VALUES ('a', 1), (NULL, 2), (NULL, 2), (NULL, 3);
            CREATE TABLE PAIR (A INT, B INT, V TEXT, PRIMARY KEY (A, B)); INSERT INTO PAIR VALUES (1, 1, 'x'), (1, NULL, 'y'), (1, NULL,
              'y');
            CREATE TABLE DOWN (ID INTEGER PRIMARY KEY DESC, V TEXT); INSERT INTO DOWN VALUES (1, 'x'), (NULL, 'y'), (NULL, 'z');
            """);
        Go();
        Assert.Equal("4 3 3", DemoFolder.Ask(NewDb,
            "SELECT (SELECT count(*) FROM LOOSE) || ' ' || (SELECT count(*) FROM PAIR) || ' ' || (SELECT count(*) FROM DOWN)"));
        Assert.Equal("0", DemoFolder.Ask(NewDb, "SELECT count(*) FROM pragma_foreign_key_check"));
    }

    // An office of one company on a server, with a table that the kit does not know.
    private StoreAddress OnServer(string engine, params string[] statements)
    {
        StoreAddress store = _servers.Database(engine, "odd");
        _office.Add("A", store);
        foreach (string statement in statements) TestServers.Execute(store, statement);
        _office.Ready();
        return store;
    }

    [Fact]
    public void Tables_that_the_server_cannot_check_are_noted_and_are_no_damage()
    {
        StoreAddress store = OnServer("mariadb", "CREATE TABLE FAST (ID INT PRIMARY KEY, V VARCHAR(10)) ENGINE = MEMORY",
            "INSERT INTO FAST VALUES (1, 'a'), (2, 'b')");
        _office.Run("check", "A").Expect(1).Says("something about the store is odd", "table doesn't support check");
        _office.Run("survey").Says("connection not encrypted; it does not leave this machine");
        _office.Upgrade().Expect(0);
        Assert.Contains("fast: 2 | b", OddOffice.Rows(store));
    }

    [Fact]
    public void Array_columns_are_told_by_name_and_stop_nothing_else()
    {
        OnServer("firebird", "CREATE TABLE QUARTERS (ID INTEGER NOT NULL PRIMARY KEY, SUMS INTEGER[4], V VARCHAR(10))",
            "INSERT INTO QUARTERS (ID, V) VALUES (1, 'a')");
        Called check = _office.Run("check", "A");
        Assert.DoesNotContain("server's log", check.All, StringComparison.Ordinal);
        check.Expect(1).Says("QUARTERS.SUMS");
    }
}
