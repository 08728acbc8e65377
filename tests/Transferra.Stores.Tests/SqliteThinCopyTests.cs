// SqliteThinCopyTests.cs: copies of SQLite files without the records of some tables. The oracle is the engine: its long check, and what it
// reads of the copy and of the old file.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Records;
using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class SqliteThinCopyTests(ITestOutputHelper output) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private string Old => _folder["old.db"];

    private string Copy => _folder["copy.db"];

    private static void Execute(string path, params IEnumerable<string> statements)
    {
        using SqliteConnection connection = SqliteEngine.Open(path, SqliteOpenMode.ReadWriteCreate);
        foreach (string sql in statements) SqliteEngine.Execute(connection, sql);
    }

    private static List<string> Rows(string path, string sql)
    {
        using SqliteConnection connection = SqliteEngine.Open(path, SqliteOpenMode.ReadOnly);
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        using SqliteDataReader reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read()) rows.Add(string.Join('|', Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? "null"
            : reader.GetValue(i) is byte[] bytes ? Convert.ToHexString(bytes) : reader.GetString(i))));
        return rows;
    }

    // The roots of all trees, by the table they belong to.
    private static ILookup<string, long> Roots(string path) =>
        Rows(path, "SELECT tbl_name, rootpage FROM sqlite_schema WHERE rootpage > 0").Select(row => row.Split('|'))
            .ToLookup(row => row[0], row => long.Parse(row[1], CultureInfo.InvariantCulture));

    private bool TryMake(IReadOnlyList<long> kept, IReadOnlyList<long> emptied)
    {
        using SqliteConnection connection = SqliteEngine.Open(Old, SqliteOpenMode.ReadOnly);
        SqliteEngine.Execute(connection, "BEGIN; SELECT count(*) FROM sqlite_schema");
        return SqliteThinCopy.TryMake(SqlitePageFile.Of(connection)!, kept, emptied, Copy);
    }

    private static readonly string[] Tables = ["a", "b", "w", "n", "none", "wide", "sqlite_sequence"];

    private const string Declared = "CREATE TABLE a (id INTEGER PRIMARY KEY AUTOINCREMENT, t TEXT, b BLOB); CREATE INDEX a_t ON a(t, b); "
        + "CREATE TABLE b (id INTEGER PRIMARY KEY, t TEXT); CREATE INDEX b_low ON b(lower(t)) WHERE id > 3; "
        + "CREATE TABLE w (k TEXT PRIMARY KEY, v BLOB) WITHOUT ROWID; CREATE TABLE n (x UNIQUE, y, z AS (x || y)); "
        + "CREATE TABLE none (q); CREATE INDEX none_q ON none(q); CREATE VIEW seen AS SELECT t FROM a JOIN b USING (id); "
        + "CREATE TRIGGER gone AFTER DELETE ON b BEGIN INSERT INTO none VALUES (old.t); END; PRAGMA user_version = 77; ";

    // Records of any length, on both sides of what fits a page, put in one table after the other, some taken out again.
    private static IEnumerable<string> Filling(Random random, int pageBytes)
    {
        yield return $"PRAGMA page_size = {pageBytes}";
        yield return Declared + $"CREATE TABLE wide ({string.Join(", ", Enumerable.Range(0, 200).Select(i => $"column_{i} TEXT"))})";
        yield return "BEGIN";
        string Bytes(int length)
        {
            byte[] bytes = new byte[length];
            random.NextBytes(bytes);
            return Convert.ToHexString(bytes);
        }
        string Any() => Bytes(random.Next(8) switch { 0 => random.Next(5 * pageBytes), 1 => random.Next(pageBytes), _ => random.Next(60) });
        string[] thinned = ["a WHERE id", "b WHERE id", "n WHERE rowid", "w WHERE length(v)"];
        for (int i = 0; i < 600; i++)
            yield return random.Next(6) switch
            {
                0 => $"INSERT INTO a(t, b) VALUES ('t{random.Next(99)}', X'{Any()}')",
                1 => $"INSERT INTO b VALUES ({random.Next()}, '{Any()}') ON CONFLICT DO NOTHING",
                2 => $"INSERT INTO w VALUES ('{Bytes(random.Next(9, 200))}', X'{Any()}')",
                3 => $"INSERT INTO n VALUES ({i}, '{Any()}')",
                4 => $"INSERT INTO wide(column_{random.Next(200)}) VALUES ('{Any()}')",
                _ => $"DELETE FROM {thinned[random.Next(thinned.Length)]} % 40 = {random.Next(40)}",
            };
        yield return "COMMIT";
    }

    [Fact]
    public void A_copy_without_some_tables_is_sound_and_all_else_in_it_is_as_it_was()
    {
        foreach (int pageBytes in (int[])[512, 1024, 4096, 65536])
            foreach (int i in Enumerable.Range(0, Seeds.IsSoak ? 40 : 3))
            {
                int seed = (Seeds.Given * 1000) + i;
                output.WriteLine($"page size {pageBytes}, seed {seed}");
                var random = new Random(seed);
                File.Delete(Old);
                File.Delete(Copy);
                Execute(Old, Filling(random, pageBytes));
                string[] emptied = [.. Tables.Where(_ => random.Next(2) == 0)];
                ILookup<string, long> roots = Roots(Old);
                Assert.True(TryMake([.. Tables.Except(emptied).SelectMany(table => roots[table])], [.. emptied.SelectMany(table =>
                    roots[table])]));
                Prove(emptied);
            }
    }

    private void Prove(string[] emptied)
    {
        Assert.Equal(["ok"], Rows(Copy, "PRAGMA integrity_check"));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Copy));
        foreach (string sql in (string[])["SELECT * FROM sqlite_schema", "PRAGMA user_version", "PRAGMA page_count"])
            Assert.Equal(Rows(Old, sql), Rows(Copy, sql));
        foreach (string table in Tables)
            Assert.Equal(emptied.Contains(table) ? [] : Rows(Old, $"SELECT * FROM {table}"), Rows(Copy, $"SELECT * FROM {table}"));
        // Filled again, it takes the free pages first.
        string[] filled = [.. emptied.Except(["sqlite_sequence"])];
        Execute(Copy, ["ATTACH " + SqliteEngine.Literal(Old) + " AS old", .. filled.Select(table => table == "n"
            ? "INSERT INTO n(x, y) SELECT x, y FROM old.n" : $"INSERT INTO {table} SELECT * FROM old.{table}")]);
        Assert.Equal(["ok"], Rows(Copy, "PRAGMA integrity_check"));
        foreach (string table in filled) Assert.Equal(Rows(Old, $"SELECT * FROM {table}"), Rows(Copy, $"SELECT * FROM {table}"));
        Assert.InRange(new FileInfo(Copy).Length, 1, new FileInfo(Old).Length * 5 / 4);
    }

    [Theory]
    [InlineData("PRAGMA auto_vacuum = FULL", "", false)]
    [InlineData("PRAGMA auto_vacuum = INCREMENTAL", "", false)]
    [InlineData("PRAGMA page_size = 4096", "", true)]
    [InlineData("PRAGMA page_size = 4096", "a page that is nothing", false)]
    [InlineData("PRAGMA page_size = 4096", "a page twice", false)]
    [InlineData("PRAGMA page_size = 4096", "a page behind the end", false)]
    public void A_file_that_is_not_as_it_should_be_is_not_copied(string setting, string damage, bool isCopied)
    {
        Execute(Old, [setting, .. Filling(new Random(5), 4096).Skip(1)]);
        ILookup<string, long> roots = Roots(Old);
        long[] kept = [.. roots["b"], .. roots["a"]], rest = [.. roots.SelectMany(of => of).Except(kept)];
        using (FileStream file = File.Open(Old, FileMode.Open))
        {
            const int pageBytes = 4096, rightMost = 8; // where an inner page tells its last child
            file.Position = ((roots["a"].First() - 1) * pageBytes) + rightMost;
            if (damage == "a page twice") file.Write([0, 0, 0, (byte)roots["b"].First()]);
            if (damage == "a page behind the end") file.Write([0x7F, 0, 0, 0]);
            if (damage == "a page that is nothing")
            {
                file.Position = (roots["a"].Last() - 1) * pageBytes;
                file.WriteByte(7);
            }
        }
        Assert.Equal(isCopied, TryMake(kept, rest));
        Assert.Equal(isCopied, File.Exists(Copy));
    }

    [Fact]
    public void What_is_there_already_is_never_written_over()
    {
        Execute(Old, Filling(new Random(5), 4096));
        File.WriteAllText(Copy, "the office's");
        Assert.Throws<IOException>(() => TryMake([], []));
        Assert.Equal("the office's", File.ReadAllText(Copy));
    }

    private static RevisedTable Revised(IStore store, string name)
    {
        TableShape was = store.ReadShape().First(table => table.Name == name);
        return new RevisedTable(was, was, [.. was.Columns.Select(column => new RevisedColumn(column, column.Name, true))]);
    }

    private const string Many = "WITH RECURSIVE i(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM i WHERE n < 3000) ";

    [Theory]
    [InlineData("CREATE TABLE T (id INTEGER PRIMARY KEY, t)", 0)]
    [InlineData("CREATE TABLE T (id INT PRIMARY KEY, t) WITHOUT ROWID", 0)]
    [InlineData("CREATE TABLE T (id INT PRIMARY KEY, t)", 3000)] // the engine's own numbers of its records are kept, which takes them
    [InlineData("CREATE TABLE T (id INTEGER PRIMARY KEY, t); CREATE TABLE rest AS " + Many + "SELECT hex(randomblob(400)) FROM i", 3000)]
    [InlineData("CREATE TABLE T (id INTEGER PRIMARY KEY, t); CREATE TABLE Ä AS " + Many + "SELECT n FROM i; CREATE TABLE small AS SELECT 1",
        0)]
    [InlineData("PRAGMA journal_mode = WAL; CREATE TABLE T (id INTEGER PRIMARY KEY, t)", 0)]
    [InlineData("PRAGMA encoding = 'UTF-16le'; CREATE TABLE T (id INTEGER PRIMARY KEY, t)", 3000)]
    public void What_a_revision_takes_out_is_not_copied_where_it_is_most_of_the_file(string declared, long there)
    {
        Execute(Old, declared, Many + "INSERT INTO T SELECT n, hex(randomblob(50)) FROM i");
        var from = new StoreAddress("sqlite", Old);
        var to = new StoreAddress("sqlite", Copy);
        byte[] before = File.ReadAllBytes(Old);
        StoreRevision revision;
        using (IStore store = new StoreOpener().Open(from)) revision = new StoreRevision([Revised(store, "T")], [], ["ä"]);
        new StoreOpener().CopyToRevise(from, to, revision);
        Assert.Equal(there, long.Parse(Rows(Copy, "SELECT count(*) FROM T")[0], CultureInfo.InvariantCulture));
        Assert.Equal(Rows(Old, "SELECT name FROM sqlite_schema"), Rows(Copy, "SELECT name FROM sqlite_schema"));
        string[] others = [.. Rows(Old, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name <> 'T'")];
        foreach (string other in others) Assert.Equal(Rows(Old, $"SELECT * FROM {other}"), Rows(Copy, $"SELECT * FROM {other}"));
        Assert.Equal(["ok"], Rows(Copy, "PRAGMA integrity_check"));
        new StoreOpener().Revise(to, revision);
        Assert.Equal(["ok"], Rows(Copy, "PRAGMA integrity_check"));
        Assert.Equal(before, File.ReadAllBytes(Old));
        Assert.Equal(["copy.db", "old.db"], Directory.GetFiles(_folder.Path).Select(Path.GetFileName).Where(name => !name!.Contains('-'))
            .Order(StringComparer.Ordinal));
    }
}
