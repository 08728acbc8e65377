// SqliteSoundnessTests.cs: the check of a SQLite store against the engine's own long check, which is the oracle: where that finds
// something, so must the check, and where it finds nothing, the check must find nothing.
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class SqliteSoundnessTests(ITestOutputHelper output) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private string Path => _folder["s.db"];

    private static void Execute(string path, params string[] statements)
    {
        using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
        connection.Open();
        foreach (string sql in statements)
        {
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = sql;
            command.ExecuteNonQuery();
        }
    }

    // Null where the engine cannot so much as begin.
    private static List<string>? Oracle(string path)
    {
        try
        {
            using SqliteConnection connection = SqliteEngine.Open(path, SqliteOpenMode.ReadOnly);
            SqliteEngine.Execute(connection, "PRAGMA cell_size_check = 1");
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = "PRAGMA integrity_check(200)";
            using SqliteDataReader reader = command.ExecuteReader();
            var lines = new List<string>();
            try { while (reader.Read()) if (reader.GetString(0) != "ok") lines.Add(reader.GetString(0)); }
            catch (SqliteException error) { lines.Add(error.Message); }
            return lines;
        }
        catch (SqliteException) { return null; }
    }

    private static IReadOnlyList<string>? Check(string path)
    {
        try
        {
            using IStore store = new StoreOpener().Open(new StoreAddress("sqlite", path));
            return store.CheckPhysically();
        }
        catch (TransferraException) { return null; }
    }

    // Whether the indexes of t are proved without the engine.
    private static bool IsProved(string path)
    {
        using SqliteConnection connection = SqliteEngine.Open(path, SqliteOpenMode.ReadOnly);
        SqliteEngine.Execute(connection, "BEGIN; SELECT count(*) FROM sqlite_schema");
        QueryAnswer Ask(string sql)
        {
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = sql;
            using SqliteDataReader reader = command.ExecuteReader();
            var rows = new List<IReadOnlyList<string?>>();
            while (reader.Read())
                rows.Add([.. Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? null : reader.GetString(i))]);
            return new QueryAnswer([], rows);
        }
        if (SqlitePageFile.Of(connection) is not { } pages || new SqliteLayouts(Ask).Of(new TableShape("t", [], [], [])) is not { } layout
            || SqliteIndexes.All(Ask, pages).GetValueOrDefault("t", []) is not { } indexes) return false;
        return new SqliteIndexProof(pages, layout, indexes, CancellationToken.None).Holds();
    }

    private const string Numbers = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900) ";

    // Values of all kinds, some twice; texts beyond a page, letters in both cases, blanks at the end.
    private const string Fill = Numbers + "INSERT INTO t(a, b, c, d) SELECT CASE i % 7 WHEN 0 THEN NULL WHEN 1 THEN -i WHEN 2 THEN i * 1.5 "
        + "WHEN 3 THEN 9007199254740993 + i WHEN 4 THEN 9007199254740992.0 WHEN 5 THEN 1e300 ELSE i % 11 END, "
        + "CASE i % 5 WHEN 0 THEN 'Text ' || i WHEN 1 THEN 'TEXT ' || (i - 1) WHEN 2 THEN printf('%*s', i * 3, 'x') "
        + "WHEN 3 THEN 'trim ' || (i % 50) || '  ' "
        + "ELSE NULL END, i * 2.0, CASE i % 3 WHEN 0 THEN zeroblob(i) WHEN 1 THEN X'00ff' ELSE 'd' || i END FROM n";

    [Theory]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d)", true)] // no index at all
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(a); CREATE INDEX j ON t(b, a); CREATE INDEX k ON t(c); "
        + "CREATE INDEX l ON t(d)", true)]
    [InlineData("CREATE TABLE t (n INTEGER PRIMARY KEY, a, b TEXT, c REAL, d); CREATE UNIQUE INDEX i ON t(c, n); CREATE INDEX j ON t(n, b)",
        true)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(a DESC, b); CREATE INDEX j ON t(b DESC, c DESC)", true)]
    [InlineData("CREATE TABLE t (a, b TEXT COLLATE NOCASE, c REAL, d); CREATE INDEX i ON t(b); CREATE INDEX j ON t(b COLLATE RTRIM, a)",
        true)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL UNIQUE, d); CREATE INDEX i ON t(b)", true)]
    [InlineData("CREATE TABLE t (a NUMERIC, b VARCHAR(9), c DECIMAL(9,2), d BLOB); CREATE INDEX i ON t(a, c, d)", true)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d, PRIMARY KEY (c, b)); CREATE INDEX i ON t(a)", true)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(a) WHERE a > 5", false)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(lower(b))", false)]
    [InlineData("CREATE TABLE t (n TEXT DEFAULT (hex(randomblob(8))) PRIMARY KEY, a, b TEXT, c REAL, d) WITHOUT ROWID; "
        + "CREATE INDEX i ON t(a)", false)]
    [InlineData("CREATE TABLE t (a, b TEXT, c REAL, d, e AS (a || b)); CREATE INDEX i ON t(e)", false)]
    [InlineData("PRAGMA encoding = 'UTF-16le'; CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(b)", false)]
    public void What_is_sound_is_found_sound(string declared, bool isProved)
    {
        foreach (int pageBytes in (int[])[512, 4096, 65536])
        {
            File.Delete(Path);
            Execute(Path, $"PRAGMA page_size = {pageBytes}", declared, Fill, "DELETE FROM t WHERE c % 8 = 2",
                "ALTER TABLE t ADD COLUMN later TEXT DEFAULT 'then'", "CREATE INDEX later ON t(later, c)",
                "INSERT INTO t(a, c, later) VALUES (1, -7, 'now')");
            Assert.Equal([], Oracle(Path)!);
            Assert.Equal([], Check(Path)!);
            Assert.Equal(isProved, IsProved(Path));
        }
    }

    [Fact]
    public void Tables_with_any_name_are_looked_at()
    {
        string[] names = ["200", "12 monkeys", "-3", "0x1F", "it's \"odd\"", "Größe", "t]", "sqlite", "CHECK"];
        Execute(Path, [.. names.SelectMany(name => (string[])[$"CREATE TABLE {SqliteEngine.Quote(name)} (a, b)",
            $"CREATE INDEX {SqliteEngine.Quote("i " + name)} ON {SqliteEngine.Quote(name)}(a) WHERE b > 3", // for the engine to look at
            $"INSERT INTO {SqliteEngine.Quote(name)} VALUES (1, 2), (3, 4)"])]);
        Assert.Equal([], Check(Path)!);
        foreach (string name in names)
        {
            string copy = _folder["copy.db"];
            File.Copy(Path, copy, overwrite: true);
            Alter(copy, $"UPDATE sqlite_schema SET sql = replace(sql, 'b > 3', 'b > 1') WHERE name = {SqliteEngine.Literal("i " + name)}");
            Assert.NotEmpty(Oracle(copy)!);
            Assert.NotEmpty(Check(copy)!);
        }
    }

    // What the schema says is changed, and not what the pages hold.
    private static void Alter(string path, string sql) => Execute(path, "PRAGMA writable_schema = ON", sql);

    private const string Plain = "CREATE TABLE t (a, b TEXT, c REAL, d); CREATE INDEX i ON t(a); CREATE INDEX j ON t(b)";
    private const string Hide = "DELETE FROM sqlite_schema WHERE name = 'i'";

    // What the short check of the engine does not see.
    [Theory]
    [InlineData("an entry is missing", "INSERT INTO t(a, b) VALUES (77, 'new')")]
    [InlineData("an entry too many", "DELETE FROM t WHERE rowid = 500")]
    [InlineData("entry with another value", "UPDATE t SET a = 'other' WHERE rowid = 500")]
    [InlineData("entry with another record's number", "UPDATE t SET rowid = 5000 WHERE rowid = 500")]
    [InlineData("one missing, one too many", "DELETE FROM t WHERE rowid = 500; INSERT INTO t(a) VALUES (4711)")]
    [InlineData("two values exchanged", "UPDATE t SET a = (SELECT o.a FROM t o WHERE o.rowid = 1002 - t.rowid) WHERE rowid IN (500, 502)")]
    public void Index_that_is_not_as_its_records_are(string what, string behindItsBack)
    {
        Execute(Path, Plain, Fill);
        string sql = "CREATE INDEX i ON t(a)";
        long root = Root();
        Alter(Path, Hide);
        Execute(Path, behindItsBack);
        Alter(Path, $"INSERT INTO sqlite_schema VALUES ('index', 'i', 't', {root}, '{sql}')");
        List<string> oracle = Oracle(Path)!;
        Assert.True(oracle.Count > 0, what);
        Assert.Equal(oracle, Check(Path)!);
    }

    [Theory]
    [InlineData("i", "CREATE INDEX i ON t(a DESC)")]
    [InlineData("i", "CREATE UNIQUE INDEX i ON t(a)")]
    [InlineData("j", "CREATE INDEX j ON t(b COLLATE NOCASE)")]
    [InlineData("i", "CREATE INDEX i ON t(d)")]
    [InlineData("i", "CREATE INDEX i ON t(a, b) WHERE a IS NOT NULL")]
    [InlineData("i", "CREATE INDEX i ON t(a || 'x')")]
    [InlineData("j", "CREATE INDEX j ON t(b, a)")]
    public void Index_that_is_not_as_it_is_declared(string index, string declared)
    {
        Execute(Path, Plain, Fill);
        Alter(Path, $"UPDATE sqlite_schema SET sql = '{declared.Replace("'", "''", StringComparison.Ordinal)}' WHERE name = '{index}'");
        List<string> oracle = Oracle(Path)!;
        Assert.NotEmpty(oracle);
        const string broken = "the engine's check was interrupted: ";
        Assert.Equal(oracle, Check(Path)!.Select(line => line.Replace(broken, "", StringComparison.Ordinal)));
    }

    [Theory]
    [InlineData("UPDATE sqlite_schema SET tbl_name = 'T' WHERE name = 'i'")]
    [InlineData("UPDATE sqlite_schema SET tbl_name = 'other' WHERE name = 'i'")]
    [InlineData("UPDATE sqlite_schema SET name = 'J' WHERE name = 'i'")]
    public void Index_that_the_schema_tells_of_otherwise(string altered)
    {
        Execute(Path, Plain, Fill);
        long root = Root();
        Alter(Path, Hide);
        Execute(Path, "DELETE FROM t WHERE rowid = 500");
        Alter(Path, $"INSERT INTO sqlite_schema VALUES ('index', 'i', 't', {root}, 'CREATE INDEX i ON t(a)')");
        Alter(Path, altered);
        Assert.NotEmpty(Oracle(Path) ?? ["refused"]);
        Assert.NotEmpty(Check(Path) ?? ["refused"]);
    }

    [Fact]
    public void Search_structure_that_is_not_as_its_texts_are()
    {
        Execute(Path, "CREATE VIRTUAL TABLE s USING fts5(a)", "INSERT INTO s VALUES ('one two'), ('three')");
        Assert.Equal([], Check(Path)!);
        Execute(Path, "UPDATE s_content SET c0 = 'four' WHERE id = 2");
        Assert.NotEmpty(Oracle(Path)!);
        Assert.Equal(Oracle(Path)!, Check(Path)!);
    }

    private long Root()
    {
        using var connection = new SqliteConnection($"Data Source={Path};Pooling=False");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = "SELECT rootpage FROM sqlite_schema WHERE name = 'i'";
        return (long)command.ExecuteScalar()!;
    }

    [Fact]
    public void Damaged_at_random_it_says_what_the_engine_says()
    {
        int seed = Seeds.Given, rounds = Seeds.IsSoak ? 30_000 : 500, complaints = 0, sound = 0, refused = 0;
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        Execute(Path, "PRAGMA page_size = 1024", "CREATE TABLE t (a, b TEXT COLLATE NOCASE, c REAL, d)", "CREATE INDEX i ON t(a, c DESC)",
            "CREATE UNIQUE INDEX j ON t(c, b)", "CREATE INDEX k ON t(b)", Fill.Replace("900", "150", StringComparison.Ordinal),
            "CREATE TABLE w (k TEXT PRIMARY KEY, v) WITHOUT ROWID", "INSERT INTO w SELECT 'k' || c, a FROM t", "CREATE INDEX x ON w(v)",
            "DELETE FROM t WHERE rowid % 9 = 0", "CREATE TABLE p (n INTEGER PRIMARY KEY, b TEXT NOT NULL, c REAL CHECK (c < 1e9))",
            "INSERT INTO p SELECT rowid * 3, d, c FROM t", "CREATE TABLE s (a ANY, b INT NOT NULL, c TEXT) STRICT",
            "INSERT INTO s SELECT a, rowid, d FROM t WHERE typeof(d) = 'text'", "CREATE TABLE q (a, b)",
            "INSERT INTO q SELECT a, d FROM t");
        byte[] whole = File.ReadAllBytes(Path);
        string copy = _folder["copy.db"];
        for (int round = 0; round < rounds; round++)
        {
            byte[] damaged = [.. whole];
            for (int n = random.Next(1, 4); n > 0; n--)
            {
                int at = random.Next(1024, damaged.Length);
                damaged[at] = random.Next(3) switch
                {
                    0 => (byte)(damaged[at] + 1),
                    1 => (byte)(damaged[at] ^ (1 << random.Next(8))),
                    _ => (byte)random.Next(256),
                };
            }
            File.WriteAllBytes(copy, damaged);
            List<string>? oracle = Oracle(copy);
            IReadOnlyList<string>? check = Check(copy);
            if (oracle is null || check is null) refused++;
            else
            {
                Assert.True(oracle.Count > 0 == check.Count > 0, $"seed {seed}, round {round}: the engine says "
                    + $"\"{oracle.FirstOrDefault()}\", the check \"{check.FirstOrDefault()}\"");
                if (oracle.Count > 0) complaints++;
                else sound++;
            }
        }
        output.WriteLine($"{complaints} with complaints, {sound} without, {refused} refused");
        Assert.True(complaints > rounds / 4 && sound > rounds / 50 && refused < rounds / 10, $"{complaints}, {sound}, {refused}");
    }
}
