// MendTests.cs: on each engine a company with one of each fault that can be mended is mended by a whole run, looked at by the engine's
// own reader, and taken back.
using System.Text;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Mending;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class MendTests : IDisposable
{
    private const string Version = """
        version: "1"
        told-by: [{table: PARTS, column: NAME, where: "PNO = 1", is: Reed}]
        tables:
          PARTS:
            columns: {PNO: INTEGER NOT NULL, NAME: VARCHAR(20), ONHAND: "DECIMAL(9,2)"}
            key: [PNO]
          MOVES:
            columns: {MNO: INTEGER NOT NULL, PNO: INTEGER, QTY: "DECIMAL(9,2)"}
            key: [MNO]
            relations: [{columns: [PNO], to: PARTS, on: [PNO]}]
        rules:
          - {name: stock on hand, table: PARTS, by: [PNO], sum: ONHAND, equals: {table: MOVES, by: [PNO], sum: QTY}}
        mends:
          - {drop-copies: MOVES, because: a double import}
          - {set-orphans-aside: MOVES, because: moves of parts that are gone}
          - {recompute: stock on hand, column: ONHAND, because: it is the sum of the moves}
          - {decode-again: PARTS, columns: [NAME], because: the import took one code page for another}
          - {trim: PARTS, columns: [NAME], because: blanks mean nothing}
          - {rebuild-indexes: all, because: they are old}
          - {set-positions: all, because: numbers were given out twice}
        """;

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();
    private readonly ListObserver _observer = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    public static TheoryData<string> Engines => ["sqlite", "dbf", "postgresql", "mariadb", "firebird"];

    private StoreAddress Made(string engine)
    {
        _folder.Write("data/documents/a.txt", "kept");
        StoreAddress address = StoreAddress.ServerEngines.Contains(engine)
            ? _servers.Database(engine, "mend") : new StoreAddress(engine, _folder[engine == "dbf" ? "data/tables" : "data/store.db"]);
        using IStoreBuilder builder = _stores.Create(address);
        // As an old program kept it: without keys.
        var parts = new TableShape("PARTS", [new("PNO", FieldType.Integer), new("NAME", new(FieldKind.Text, Length: 20)),
            new("ONHAND", FieldType.Decimal(9, 2))], [], []);
        var moves = new TableShape("MOVES", [new("MNO", FieldType.Integer), new("PNO", FieldType.Integer),
            new("QTY", FieldType.Decimal(9, 2))], [], []);
        builder.CreateTable(parts);
        builder.CreateTable(moves);
        Write(builder, parts, [1L, "Reed", 500], [2L, "FlÃ¼gel", 900], [3L, "  Bow", 0]);
        Write(builder, moves, [1L, 1L, 500], [2L, 2L, 400], [3L, 2L, 300], [3L, 2L, 300], [5L, 99L, 100], [6L, null, 700]);
        builder.Complete(new Dictionary<string, string>());
        return address;
    }

    private static void Write(IStoreBuilder builder, TableShape table, params object?[][] rows)
    {
        var batch = new RecordBatch(table.Columns);
        foreach (object?[] row in rows)
            for (int column = 0; column < row.Length; column++)
            {
                switch (row[column])
                {
                    case null: batch.Vectors[column].AppendNull(); break;
                    case long number: ((LongVector)batch.Vectors[column]).Append(number); break;
                    case int units: ((WideVector)batch.Vectors[column]).Append(units); break;
                    default: ((BytesVector)batch.Vectors[column]).Append(Encoding.UTF8.GetBytes((string)row[column]!)); break;
                }
            }
        builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, rows.Length)], []);
    }

    private (RunContext Context, Company Company) Office(StoreAddress address, string version)
    {
        _folder.Write("kit/kit.yaml", "kit: mended\ntitle: Mended\nversions: [\"1\"]\n");
        _folder.Write("kit/versions/1.yaml", version);
        var errors = new DescriptionErrors();
        Kit kit = KitLoader.Load(_folder["kit"], "kit", KnownKinds.All, errors)!;
        errors.ThrowIfAny();
        var company = new Company("QMT", "Mended", kit, "1", address, null, [_folder["data/documents"]], new Dictionary<string, string>());
        var office = new OfficeDescription("Office", _folder.Path, [new Package(kit, null, "1", [company])],
            BackupPlan.In(_folder["sets"]), 0);
        return (new RunContext(office, _stores, new DiskVolume(), _observer, "test", CancellationToken.None), company);
    }

    private List<string> Records(StoreAddress address, TableShape table)
    {
        using IStore store = _stores.Open(address);
        return [.. store.Batches(table, table.Key, CancellationToken.None)
            .SelectMany(batch => Enumerable.Range(0, batch.RowCount).Select(row => batch.ShowKey(row, [0, 1, 2])).ToArray())];
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void What_the_kit_allows_is_put_right_listed_proved_and_taken_back(string engine)
    {
        StoreAddress address = Made(engine);
        (RunContext context, Company company) = Office(address, Version);
        KitVersion version = company.Kit.Versions[0];
        string digest = context.Places.DigestOf(address, null, CancellationToken.None);
        IReadOnlyDictionary<string, string> files = TempFolder.Signature(_folder["data"]);

        Run run = UpgradeRun.Begin(context, RunKind.Mend, [(company, version)]);
        CompanyOutcome outcome = UpgradeRun.Execute(context, run)[0];
        Assert.True(outcome.IsThrough, string.Join("; ", outcome.Reasons));

        Assert.Equal(["1 / Reed / 5.00", "2 / Flügel / 7.00", "3 / Bow / 0.00"], Records(address, version.Tables[0]));
        Assert.Equal(["1 / 1 / 5.00", "2 / 2 / 4.00", "3 / 2 / 3.00", "6 /  / 7.00"], Records(address, version.Tables[1]));
        MendResult mended = RunReport.Of(context.Office, run).Companies[0].Mending!;
        Assert.Equal(["decode-again PARTS NAME 1", "drop-copies MOVES  1", "recompute PARTS ONHAND 1", "set-orphans-aside MOVES  1",
            "trim PARTS NAME 1"],
            mended.Counts.Where(count => count.Mend != "rebuild-indexes")
                .Select(count => $"{count.Mend} {count.Table} {count.Column} {count.Count}").Order());
        Assert.Empty(mended.Left);
        Assert.All(mended.Tables, table => Assert.True(table.IsProved));
        string[] changes = File.ReadAllLines(mended.List);
        Assert.Contains("PARTS,2,NAME,FlÃ¼gel,Flügel,decode-again", changes);
        Assert.Contains("PARTS,2,ONHAND,9.00,7.00,recompute", changes);
        Assert.Contains("MOVES,5,PNO,99,(taken out),set-orphans-aside", changes);
        CheckResult after = RunReport.Of(context.Office, run).Companies[0].CheckAgain!;
        Assert.DoesNotContain(after.Findings, finding => finding.Grade != Grade.Note);

        UpgradeRun.Undo(context, new OfficeRuns(context.Office, context.Volume).Continue(run));
        Assert.Equal(digest, context.Places.DigestOf(address, null, CancellationToken.None));
        Assert.Equal(files, TempFolder.Signature(_folder["data"]));
    }

    [Fact]
    public void A_mend_that_makes_something_else_wrong_is_taken_back_by_itself()
    {
        StoreAddress address = Made("sqlite");
        // Taking the orphan out unbalances what was in balance with it.
        string version = Version.Replace("mends:\n",
            "  - {name: moves balance, table: MOVES, by: [], sum: QTY, must-be: \"20\"}\nmends:\n", StringComparison.Ordinal);
        (RunContext context, Company company) = Office(address, version);
        IReadOnlyDictionary<string, string> files = TempFolder.Signature(_folder["data"]);
        CompanyOutcome outcome = UpgradeRun.Execute(context, UpgradeRun.Begin(context, RunKind.Mend,
            [(company, company.Kit.Versions[0])]))[0];
        Assert.Equal(Stages.CheckAgain, outcome.StoppedAt);
        Assert.Contains("moves balance", outcome.Reasons[0], StringComparison.Ordinal);
        Assert.Equal(files, TempFolder.Signature(_folder["data"]));
    }

    [Fact]
    public void Triggers_do_not_run_for_what_is_put_right()
    {
        StoreAddress address = Made("sqlite");
        using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={address.Path};Pooling=false"))
        {
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "CREATE TRIGGER T AFTER DELETE ON MOVES BEGIN UPDATE PARTS SET ONHAND = -1; END";
            command.ExecuteNonQuery();
        }
        (RunContext context, Company company) = Office(address, Version);
        Assert.True(UpgradeRun.Execute(context, UpgradeRun.Begin(context, RunKind.Mend,
            [(company, company.Kit.Versions[0])]))[0].IsThrough);
        Assert.Equal(["1 / Reed / 5.00", "2 / Flügel / 7.00", "3 / Bow / 0.00"], Records(address, company.Kit.Versions[0].Tables[0]));
        using IStore store = _stores.Open(address);
        Assert.Contains(store.ListObjects(), entry => entry is { Kind: "trigger", Name: "T" });
    }

    [Theory]
    [InlineData("postgresql", "CREATE TABLE t (nr serial, v text)", "INSERT INTO t SELECT g, 'x' FROM generate_series(1, 9) g", 9)]
    [InlineData("sqlite", "CREATE TABLE t (nr INTEGER PRIMARY KEY AUTOINCREMENT, v TEXT); INSERT INTO t VALUES (9, 'x'); UPDATE "
        + "sqlite_sequence SET seq = 3", "", 9)]
    [InlineData("firebird", "CREATE TABLE T (NR INTEGER GENERATED BY DEFAULT AS IDENTITY, V VARCHAR(9))", "INSERT INTO T VALUES (9, 'x')",
        9)]
    public void Counting_goes_on_behind_the_highest_number(string engine, string made, string filled, long most)
    {
        StoreAddress address = engine == "sqlite" ? new StoreAddress("sqlite", _folder["t.db"]) : _servers.Made(engine, "count", made,
            filled);
        if (engine == "sqlite")
        {
            using var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={address.Path};Pooling=false");
            connection.Open();
            using var command = connection.CreateCommand();
#pragma warning disable CA2100 // statements of this test
            command.CommandText = made;
#pragma warning restore CA2100
            command.ExecuteNonQuery();
        }
        using (IStoreMender mender = _stores.Mend(address, null))
        {
            Assert.True(Assert.Single(mender.SetPositions()).After >= most);
            mender.Complete();
        }
        using IStoreMender again = _stores.Mend(address, null);
        Assert.Empty(again.SetPositions());
    }

    [Fact]
    public void A_copy_inside_PostgreSQL_has_owner_rights_and_settings_of_the_original()
    {
        StoreAddress address = _servers.Made("postgresql", "rights", "CREATE TABLE t (nr int)"), copy = _servers.Database("postgresql",
            "rights_copy"),
            elsewhere = address with { Path = "postgres" };
        foreach (string statement in (string[])[$"REVOKE ALL ON DATABASE \"{address.Path}\" FROM PUBLIC",
            $"GRANT CONNECT ON DATABASE \"{address.Path}\" TO pg_monitor", $"ALTER DATABASE \"{address.Path}\" SET work_mem TO '8MB'"])
            TestServers.Execute(elsewhere, statement);
        _stores.Copy(address, copy);
        string ask = "SELECT datacl::text || ' ' || (SELECT setconfig::text FROM pg_db_role_setting WHERE setdatabase = d.oid) FROM "
            + "pg_database d WHERE datname = ";
        Assert.Equal(TestServers.Ask(elsewhere, $"{ask}'{address.Path}'"), TestServers.Ask(elsewhere, $"{ask}'{copy.Path}'"));
    }

    [Fact]
    public void Tables_of_MariaDB_are_copied_with_relations_defaults_and_generated_columns()
    {
        StoreAddress address = _servers.Made("mariadb", "whole",
            "CREATE TABLE a (id int PRIMARY KEY AUTO_INCREMENT, v varchar(9) DEFAULT 'x' COLLATE utf8mb4_bin) ENGINE=InnoDB",
            "CREATE TABLE b (a int, twice int AS (a * 2) STORED, CONSTRAINT b_a FOREIGN KEY (a) REFERENCES a (id))",
            "INSERT INTO a (id) VALUES (1), (7)", "INSERT INTO b (a) VALUES (7)"), copy = _servers.Database("mariadb", "whole_copy");
        _stores.Copy(address, copy);
        foreach (string table in (string[])["a", "b"])
            Assert.Equal(Declared(address, table), Declared(copy, table));
        Assert.Equal("14", TestServers.Ask(copy, "SELECT twice FROM b"));

        static string Declared(StoreAddress of, string table)
        {
            using System.Data.Common.DbConnection connection = TestServers.Connect(of);
            using System.Data.Common.DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100
            command.CommandText = $"SHOW CREATE TABLE {table}";
#pragma warning restore CA2100
            using System.Data.Common.DbDataReader reader = command.ExecuteReader();
            reader.Read();
            return reader.GetString(1);
        }
    }
}
