using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Hops that do to a copy what is hard to do in place: names exchanged, another key, a table split, a table gone that a view
/// shows.</summary>
public sealed class HardHopTests : IDisposable
{
    private const string OldVersion = """
        version: "1"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "1"}]
        tables:
          VER: {columns: {WHAT: VARCHAR(10) NOT NULL, VAL: VARCHAR(10)}, key: [WHAT]}
          LEFT_: {columns: {ID: INTEGER NOT NULL, A: VARCHAR(10), B: VARCHAR(10)}, key: [ID]}
          RIGHT_: {columns: {ID: INTEGER NOT NULL, V: INTEGER}, key: [ID]}
          PAIR: {columns: {ID: INTEGER NOT NULL, X: "DECIMAL(9,2)", Y: "DECIMAL(9,2)", GONE: VARCHAR(5), K: INTEGER NOT NULL}, key: [ID]}
          DROPPED: {columns: {ID: INTEGER NOT NULL}, key: [ID]}

        """;

    private const string NewVersion = """
        version: "2"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "2"}]
        tables:
          VER: {columns: {WHAT: VARCHAR(10) NOT NULL, VAL: VARCHAR(10)}, key: [WHAT]}
          RIGHT_: {columns: {ID: INTEGER NOT NULL, A: VARCHAR(10), B: VARCHAR(10)}, key: [ID]}
          LEFT_: {columns: {ID: INTEGER NOT NULL, V: INTEGER NOT NULL}, key: [ID]}
          PAIR:
            columns: {K: INTEGER NOT NULL, X: "DECIMAL(9,2)", Y: "DECIMAL(9,2)", ID: INTEGER NOT NULL, MORE: VARCHAR(3) NOT NULL}
            key: [K]
            indexes: [{columns: [ID], unique: true}]
            defaults: {MORE: "'n'"}
          PART: {columns: {ID: INTEGER NOT NULL, X: "DECIMAL(9,2)"}, key: [ID]}

        """;

    private const string Hop = """
        hop: {from: "1", to: "2"}
        tables:
          - {from: VER, into: {VER: {WHAT: WHAT, VAL: "'2'"}}, columns-left-out: {VAL: the version is a new one}}
          - {from: LEFT_, into: {RIGHT_: {ID: ID, A: B, B: A}}}
          - {from: RIGHT_, into: {LEFT_: {ID: ID, V: V}}}
          - from: PAIR
            into: {PAIR: {K: K, X: Y, Y: X, ID: ID, MORE: "'m'"}, PART: {ID: ID, X: X}}
            columns-left-out: {GONE: not needed}
        tables-left-out: {DROPPED: not needed}

        """;

    private static readonly string[] Statements =
    [
        "CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, VAL VARCHAR(10))", "INSERT INTO VER VALUES ('DATA', '1')",
        "CREATE TABLE LEFT_ (ID INTEGER NOT NULL PRIMARY KEY, A VARCHAR(10), B VARCHAR(10))", "INSERT INTO LEFT_ VALUES (1, 'a', 'b')",
        "CREATE TABLE RIGHT_ (ID INTEGER NOT NULL PRIMARY KEY, V INTEGER)", "INSERT INTO RIGHT_ VALUES (7, 70)",
        "CREATE TABLE PAIR (ID INTEGER NOT NULL PRIMARY KEY, X DECIMAL(9,2), Y DECIMAL(9,2), GONE VARCHAR(5), K INTEGER NOT NULL)",
        "CREATE INDEX PAIR_GONE ON PAIR (GONE)", "CREATE INDEX PAIR_X ON PAIR (X)", "INSERT INTO PAIR VALUES (1, 1.25, 2.5, 'g', 10)",
        "INSERT INTO PAIR VALUES (2, 3, NULL, NULL, 20)", "CREATE TABLE DROPPED (ID INTEGER NOT NULL PRIMARY KEY)",
        "INSERT INTO DROPPED VALUES (1)", "CREATE VIEW SHOWN AS SELECT ID FROM DROPPED",
        "CREATE TABLE POINTS (ID INTEGER NOT NULL PRIMARY KEY, PAIR_ID INTEGER REFERENCES PAIR (ID), LEFT_ID INTEGER)",
        "INSERT INTO POINTS VALUES (1, 2, 1)",
    ];

    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public HardHopTests() => _office.WriteKit(OldVersion, NewVersion, Hop);

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private static string? Ask(StoreAddress store, string question) =>
        store.IsOnServer ? TestServers.Ask(store, question) : DemoFolder.Ask(store.Path, question);

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Names_are_exchanged_keys_changed_and_tables_split_and_removed_within_the_copy(string engine)
    {
        // Without quotes PostgreSQL writes all names small, which the kit's spelling then means.
        StoreAddress store = engine == "sqlite" ? new StoreAddress(engine, _office["a.db"])
            : _servers.Made(engine, "hard", [.. Statements.Select(statement => engine == "postgresql" ? Quoted(statement) : statement)]);
        if (engine == "sqlite") DemoFolder.Execute(store.Path, string.Join(';', Statements));
        _office.Companies.Add(new OddCompany("A", store, engine == "sqlite" ? "{sqlite: a.db}" : OddOffice.ServerYaml(store)));
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        Assert.Equal("1ba 770", Said(store, "SELECT ID || A || B FROM RIGHT_", "SELECT ID || '' || V FROM LEFT_"));
        Assert.Equal("10 2.5 1.25 m|20 - 3 m", Pairs(store));
        Assert.Equal("2", Ask(store, Named(store, "SELECT COUNT(*) FROM PART WHERE X > 1")));
        Assert.ThrowsAny<Exception>(() => Ask(store, Named(store, "SELECT ID FROM DROPPED")));
        // What pointed there points there still, where the engine lets it point to what is unique and no key.
        if (engine is "postgresql" or "mariadb") Assert.ThrowsAny<Exception>(() => TestServers.Execute(store, Named(store, "INSERT "
            + "INTO POINTS VALUES (2, 99, 1)")));
        if (!store.IsOnServer) return;
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path).Where(name =>
            name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Name, StringComparison.Ordinal)))
            _servers.Known(store with { Path = left });
    }

    private static string Said(StoreAddress store, params string[] questions) => string.Join(' ', questions.Select(question =>
        Ask(store, store.Engine == "mariadb" ? $"SET sql_mode = 'PIPES_AS_CONCAT'; {question}" : Named(store, question))));

    private static string Pairs(StoreAddress store)
    {
        using IStore opened = new StoreOpener().Open(store);
        TableShape table = opened.ReadShape().Single(known => known.Name.Equals("PAIR", StringComparison.OrdinalIgnoreCase));
        var rows = new List<string>();
        foreach (RecordBatch batch in opened.Batches(table, ["K"], CancellationToken.None))
            for (int row = 0; row < batch.RowCount; row++)
                rows.Add(string.Join(' ', ((string[])["K", "X", "Y", "MORE"]).Select(name => batch.Vectors[table.OrdinalOf(name)])
                    .Select(vector => vector.IsNull(row) ? "-" : Plain(vector.Show(row)))));
        return string.Join('|', rows);
    }

    private static string Plain(string number) =>
        number.Contains('.', StringComparison.Ordinal) ? number.TrimEnd('0').TrimEnd('.') : number;

    private static string Named(StoreAddress store, string statement) => store.Engine == "postgresql" ? Quoted(statement) : statement;

    private static string Quoted(string statement) => System.Text.RegularExpressions.Regex.Replace(statement,
        @"\b(VER|WHAT|VAL|LEFT_|RIGHT_|PAIR_GONE|PAIR_X|PAIR|PART|DROPPED|SHOWN|POINTS|PAIR_ID|LEFT_ID|GONE|ID|A|B|V|X|Y|K)\b", "\"$0\"");
}
