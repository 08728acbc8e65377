namespace Transferra.Cli.Tests;

/// <summary>The numbers by which a SQLite file itself knows its records, in tables that a hop fills anew.</summary>
public sealed class RecordNumbersTests : IDisposable
{
    private const string OldVersion = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          KEYED: {columns: {CODE: VARCHAR(10) NOT NULL, A: INTEGER, OUT: INTEGER}, key: [CODE]}
          PAIRED: {columns: {A: INTEGER NOT NULL, rowid: INTEGER NOT NULL, B: INTEGER}, key: [A, rowid]}
          LOOSE: {columns: {A: INTEGER, OUT: INTEGER}}
          LESS: {columns: {A: INTEGER}}
          OTHER: {columns: {CODE: VARCHAR(10) NOT NULL, N: INTEGER NOT NULL}, key: [CODE]}
          EVEN: {columns: {CODE: VARCHAR(10) NOT NULL, N: INTEGER NOT NULL}, key: [CODE]}

        """;

    private const string NewVersion = """
        version: "2"
        told-by: [{header: user_version, is: "2"}]
        header-fields: {user_version: "2"}
        tables:
          KEYED: {columns: {KEY_: VARCHAR(10) NOT NULL, A: INTEGER}, key: [KEY_]}
          PAIRED: {columns: {A: INTEGER NOT NULL, rowid: INTEGER NOT NULL, B: "DECIMAL(9,2)"}, key: [A, rowid]}
          LOOSE: {columns: {A: INTEGER}}
          LESS: {columns: {A: INTEGER, MORE: INTEGER}}
          OTHER: {columns: {CODE: VARCHAR(10) NOT NULL, N: INTEGER NOT NULL}, key: [N]}
          EVEN: {columns: {CODE: VARCHAR(10) NOT NULL, N: INTEGER NOT NULL}, key: [N]}

        """;

    private const string Hop = """
        hop: {from: "1", to: "2"}
        new-records: [{into: KEYED, columns: {KEY_: "'new'", A: "0"}, because: new}]
        tables:
          - from: KEYED
            into: {KEYED: {KEY_: CODE, A: A}}
            columns-left-out: {OUT: not needed}
            rows-left-out: [{where: "CODE = 'b'", because: void}]
          - {from: PAIRED, into: {PAIRED: {A: A, rowid: rowid, B: "CAST(B AS DECIMAL(9,2))"}}}
          - {from: LOOSE, into: {LOOSE: {A: A}}, columns-left-out: {OUT: not needed}}
          - {from: LESS, into: {LESS: {A: A, MORE: "NULL"}}, rows-left-out: [{where: "A = 2", because: void}]}
          - {from: OTHER, into: {OTHER: {CODE: CODE, N: N}}}
          - {from: EVEN, into: {EVEN: {CODE: CODE, N: N}}}

        """;

    private const string Made = """
        PRAGMA user_version = 1;
        CREATE TABLE KEYED (CODE VARCHAR(10) NOT NULL PRIMARY KEY COLLATE NOCASE, A INTEGER, OUT INTEGER);
        INSERT INTO KEYED (rowid, CODE, A) VALUES (90, 'a', 1), (-5, 'b', 2), (2, 'c', 3), (1, 'd', 4), (4611686018427387, 'e', 5);
        CREATE TABLE PAIRED (A INTEGER NOT NULL, "rowid" INTEGER NOT NULL, B INTEGER, PRIMARY KEY (A, "rowid"));
        INSERT INTO PAIRED (oid, A, "rowid", B) VALUES (7, 1, 1, 1), (3, 1, 2, 2);
        CREATE TABLE LOOSE (A INTEGER, OUT INTEGER);
        INSERT INTO LOOSE (rowid, A) VALUES (5, 1), (9, 1), (70, NULL);
        CREATE TABLE LESS (A INTEGER);
        INSERT INTO LESS (rowid, A) VALUES (5, 1), (9, 2), (70, NULL);
        CREATE TABLE OTHER (CODE VARCHAR(10) NOT NULL PRIMARY KEY, N INTEGER NOT NULL);
        INSERT INTO OTHER (rowid, CODE, N) VALUES (3, 'a', 1);
        CREATE TABLE EVEN (CODE VARCHAR(10) NOT NULL PRIMARY KEY, N INTEGER NOT NULL);
        INSERT INTO EVEN VALUES ('a', 1);
        """;

    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string? Ask(string question) => DemoFolder.Ask(_office["a.db"], question);

    [Fact]
    public void Are_kept_or_named()
    {
        _office.WriteKit(OldVersion, NewVersion, Hop);
        DemoFolder.Execute(_office["a.db"], Made);
        _office.Companies.Add(new OddCompany("A", new Core.Records.StoreAddress("sqlite", _office["a.db"]), "{sqlite: a.db}"));
        _office.Ready();
        _office.Upgrade().Expect(0).Says("A through 2",
            "the numbers by which the file itself knows the records of LESS are given out anew: it has no key",
            "the numbers by which the file itself knows the records of OTHER are given out anew: its key becomes another one")
            .SaysNot("records of EVEN", "records of KEYED", "records of PAIRED", "records of LOOSE");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        Assert.Equal("a 90,c 2,d 1,e 4611686018427387", Ask("SELECT group_concat(KEY_ || ' ' || rowid) FROM (SELECT KEY_, rowid FROM KEYED "
            + "WHERE KEY_ <> 'new' ORDER BY KEY_)"));
        Assert.Equal("1", Ask("SELECT count(*) FROM KEYED WHERE KEY_ = 'NEW'"));
        Assert.Equal("1 7,2 3", Ask("SELECT group_concat(\"rowid\" || ' ' || oid) FROM (SELECT \"rowid\", oid FROM PAIRED ORDER BY 1)"));
        Assert.Equal("5 1,9 1,70 -", Ask("SELECT group_concat(rowid || ' ' || ifnull(A, '-')) FROM (SELECT rowid, A FROM LOOSE ORDER "
            + "BY 1)"));
        Assert.Equal("2", Ask("SELECT count(*) FROM LESS"));
        Assert.Equal("0", Ask("SELECT count(*) FROM sqlite_schema WHERE name LIKE 'transferra%'"));
        Assert.Equal("ok", Ask("PRAGMA integrity_check"));
    }
}
