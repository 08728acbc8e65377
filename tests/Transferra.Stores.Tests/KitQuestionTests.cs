using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What a kit asks in an engine's own SQL: it is told what it asked, and can change nothing by it.</summary>
public sealed class KitQuestionTests : IDisposable
{
    public static TheoryData<string> EachEngine => ["sqlite", "postgresql", "mariadb", "firebird"];

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private StoreAddress Made(string engine)
    {
        StoreAddress at = StoreAddress.ServerEngines.Contains(engine) ? _servers.Database(engine, "asked")
            : new(engine, _folder["asked.db"]);
        using IStoreBuilder builder = _stores.Create(at);
        builder.CreateTable(new TableShape("T", [new("A", FieldType.Integer, true)], ["A"], []));
        var batch = new RecordBatch([new("A", FieldType.Integer, true)], new BatchLimits(10, 1 << 20));
        ((LongVector)batch.Vectors[0]).Append(7);
        builder.Write([new TableOutput(new TableShape("T", batch.Columns, ["A"], []), batch.Vectors)], [0], []);
        builder.Complete(new Dictionary<string, string>());
        return at;
    }

    [Theory]
    [MemberData(nameof(EachEngine))]
    public void What_would_change_anything_is_refused_and_the_answer_is_the_same_afterwards(string engine)
    {
        StoreAddress at = Made(engine);
        using IStore store = _stores.Open(at);
        string outside = _folder["written"], quote = engine == "mariadb" ? "`" : "\"", table = $"{quote}T{quote}";
        string[] refused =
        [
            $"DELETE FROM {table}", $"SELECT 1 FROM {table}; DELETE FROM {table}", $"COMMIT; DELETE FROM {table}",
                $"SELECT 'a\\''; DELETE FROM {table} -- '",
            $"SELECT '/*' FROM {table}; DELETE FROM {table} /* '", "SELECT $$'$$; DELETE FROM T; SELECT '",
                $"SELECT 1 /*! INTO OUTFILE '{outside}' */", $"SELECT 1 INTO OUTFILE '{outside}'",
            $"COPY (SELECT 1) TO PROGRAM 'touch {outside}'", $"VACUUM INTO '{outside}'", $"ATTACH '{outside}' AS x",
                "EXPLAIN ANALYZE DELETE FROM T", "-- a word\nSELECT 1", "", ";",
        ];
        foreach (string sql in refused) Assert.Contains("a question to the engine",
            Assert.Throws<TransferraException>(() => store.Ask(sql)).Message, StringComparison.Ordinal);
        // One statement that reads by its look; the engine's own means hold it to that.
        string[] sly = engine switch
        {
            "postgresql" => [$"WITH d AS (DELETE FROM {table} RETURNING 1) SELECT count(*) FROM d", $"SELECT lo_export(1, '{outside}')",
                "SELECT pg_read_file('PG_VERSION')",
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'postgres' AND pid <> pg_backend_pid()"],
            "sqlite" => ["PRAGMA user_version = 9", "PRAGMA journal_mode = DELETE", "PRAGMA writable_schema = RESET"],
            "mariadb" => ["SELECT nextval(T)"],
            _ => ["SELECT GEN_ID(NONE_OF_THESE, 1) FROM RDB$DATABASE"],
        };
        foreach (string sql in sly)
        {
            try { store.Ask(sql); }
            catch (TransferraException error) { Assert.Contains("refused a question", error.Message, StringComparison.Ordinal); }
        }
        Assert.False(File.Exists(outside));
        Assert.Equal(["7"], Assert.Single(store.Ask($"SELECT {quote}A{quote} FROM {table};").Rows));
        Assert.Equal(1, store.CountRows("T"));
        using IStore again = _stores.Open(at);
        Assert.Equal((1, "0"), (again.CountRows("T"), again.Identity.HeaderFields.GetValueOrDefault("user_version", "0")));
    }

    [Theory]
    [InlineData("sqlite", "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n")]
    [InlineData("postgresql", "SELECT pg_sleep(600)")]
    [InlineData("mariadb", "SELECT SLEEP(600)")]
    [InlineData("firebird", "SELECT COUNT(*) FROM RDB$TYPES a, RDB$TYPES b, RDB$TYPES c, RDB$TYPES d, RDB$TYPES e")]
    public void What_takes_too_long_is_broken_off_and_the_store_is_still_read(string engine, string sql)
    {
        using IStore store = _stores.Open(Made(engine));
        var error = Assert.Throws<TransferraException>(() => store.Ask(sql, TimeSpan.FromSeconds(1)));
        Assert.Contains("had no answer after 1 s and was stopped", error.Message, StringComparison.Ordinal);
        Assert.Equal(1, store.CountRows("T"));
    }

    // Closed by everybody, a store in write-ahead mode has no side files, and a question makes none.
    [Fact]
    public void A_question_leaves_no_files_beside_the_store()
    {
        StoreAddress at = Made("sqlite");
        using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={at.Path};Pooling=False"))
        {
            connection.Open();
            using Microsoft.Data.Sqlite.SqliteCommand command = connection.CreateCommand();
            command.CommandText = "PRAGMA journal_mode = WAL; INSERT INTO T VALUES (8); PRAGMA wal_checkpoint(TRUNCATE)";
            command.ExecuteNonQuery();
        }
        using IStore store = _stores.Open(at);
        Assert.Equal(["2"], Assert.Single(store.Ask("SELECT count(*) FROM T").Rows));
        Assert.Equal(["asked.db"], Directory.GetFiles(_folder.Path).Select(Path.GetFileName));
    }

    [Theory]
    [InlineData("SELECT 1")]
    [InlineData(" ( select ';' from t ) ;\n")]
    [InlineData("WITH x AS (SELECT 1) SELECT * FROM x")]
    [InlineData("PRAGMA user_version")]
    [InlineData("SELECT \"into\", 'put into; it', `a;b` FROM t")]
    [InlineData("SELECT a -- one\nFROM t")]
    public void Questions_are_let_through(string sql) => Assert.Null(KitQuestion.WhyNot(sql));
}
