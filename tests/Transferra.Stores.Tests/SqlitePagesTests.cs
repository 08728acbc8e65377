// SqlitePagesTests.cs: records that are read from pages against the same records read by the engine, which is the oracle for every way in
// which a table may lie in its file.
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class SqlitePagesTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private void Execute(string sql, Action<SqliteCommand>? fill = null)
    {
        using var connection = new SqliteConnection($"Data Source={_folder["s.db"]};Pooling=False");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
        if (fill is null) return;
        using SqliteTransaction all = connection.BeginTransaction();
        command.Transaction = all;
        fill(command);
        all.Commit();
    }

    [Theory]
    [InlineData("CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT); INSERT INTO t VALUES (1, 'x'), (2, 'y'), (3, 'z')", 3)]
    [InlineData("CREATE TABLE t (a TEXT); INSERT INTO t VALUES ('x'), ('y')", 2)]
    [InlineData("CREATE TABLE t (a INTEGER PRIMARY KEY); INSERT INTO t VALUES (9223372036854775807), (5)", 2)] // numbers drawn at random
    [InlineData("CREATE TABLE t (a INTEGER PRIMARY KEY); INSERT INTO t VALUES (-9), (-5)", 2)]
    [InlineData("CREATE TABLE t (a TEXT PRIMARY KEY) WITHOUT ROWID; INSERT INTO t VALUES ('x'), ('y')", 2)]
    [InlineData("CREATE TABLE t (_rowid_ TEXT, a); INSERT INTO t VALUES ('x', 1), ('y', 2)", 2)]
    [InlineData("CREATE TABLE t (a)", 0)]
    [InlineData("CREATE TABLE t (a INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2), (7); DELETE FROM t WHERE a = 2", 7)] // about
    public void About_how_many_records_there_are_is_told_without_reading_them(string sql, long about)
    {
        Execute(sql);
        using IStore store = new StoreOpener().Open(new StoreAddress("sqlite", _folder["s.db"]));
        Assert.Equal(about, store.AboutRows("t"));
        Assert.Equal(store.CountRows("t"), store.AboutRows("t")); // where they were counted, as many
    }

    private enum Reading { Pages, HandedOver, Engine }

    // Every row in words, with the faults of its cells; and how it was read.
    private static List<string> Rows(IRecordReader reader, TableShape table, out Reading how)
    {
        var rows = new List<string>();
        using (reader)
        {
            var batch = new RecordBatch(table.Columns, new BatchLimits(50, 1 << 20));
            try
            {
                for (bool more = true; more;)
                {
                    batch.Reset();
                    more = reader.Fill(batch);
                    for (int row = 0; row < batch.RowCount; row++)
                        rows.Add(string.Join('|', batch.Vectors.Select(vector => vector.IsNull(row) ? "null" : vector.Show(row)))
                            + string.Concat(batch.Faults.Where(fault => fault.Row == row).Select(fault => fault with { Row = 0 })));
                }
            }
            catch (TransferraException error)
            {
                rows.Add(error.Message);
            }
            how = reader is not SqlitePageReader pages ? Reading.Engine : pages.IsHandedOver ? Reading.HandedOver : Reading.Pages;
        }
        return rows;
    }

    private static Reading Compare(string path, Func<TableShape, TableShape>? reshape = null, int atLeast = 1)
    {
        // Each opens the store anew: a damaged page that the engine has seen once it takes as it is when it comes upon it again.
        List<string> expected = All((store, table) => store.Engine(table, ""), out _),
            found = All((store, table) => store.Read(table, []), out Reading how);
        Assert.True(expected.Count >= atLeast, $"only {expected.Count} records to compare");
        int differs = Enumerable.Range(0, Math.Max(expected.Count, found.Count))
            .FirstOrDefault(i => expected.ElementAtOrDefault(i) != found.ElementAtOrDefault(i), -1);
        Assert.True(differs < 0, $"record {differs} is\n{found.ElementAtOrDefault(differs)}\nnot\n{expected.ElementAtOrDefault(differs)}");
        return how;

        List<string> All(Func<SqliteStore, TableShape, IRecordReader> read, out Reading how)
        {
            using var store = (SqliteStore)new StoreOpener().Open(new StoreAddress("sqlite", path));
            TableShape table = store.ReadShape().Single(table => table.Name == "t");
            table = reshape?.Invoke(table) ?? table;
            return Rows(read(store, table), table, out how);
        }
    }

    // Values of every storage class and size, most of them near a border of the file format.
    private static object AnyValue(Random random, int pageBytes) => random.Next(14) switch
    {
        0 => DBNull.Value,
        1 => 0L,
        2 => 1L,
        3 => random.NextInt64(long.MinValue, long.MaxValue) >> random.Next(64),
        4 => (1L << random.Next(63)) - random.Next(2),
        5 => -(1L << random.Next(63)) - random.Next(2),
        6 => random.NextDouble() * Math.Pow(10, random.Next(-20, 20)),
        7 => (double)random.Next(-1000, 1000),
        8 => "",
        9 => new string('ü', random.Next(70)),
        10 => new string('x', Math.Max(0, (pageBytes * random.Next(1, 4)) + random.Next(-45, 45))),
        11 => RandomBytes(random, random.Next(200)),
        12 => RandomBytes(random, (pageBytes / 4) + random.Next(-20, 20)),
        _ => "2024-02-" + random.Next(10, 32),
    };

    private static byte[] RandomBytes(Random random, int length)
    {
        byte[] bytes = new byte[length];
        random.NextBytes(bytes);
        return bytes;
    }

    private void Fill(SqliteCommand command, Random random, int rows, int pageBytes, int columns = 7)
    {
        command.CommandText = $"INSERT OR REPLACE INTO t VALUES ({string.Join(", ", Enumerable.Range(0, columns).Select(i => "$" + i))})";
        for (int row = 0; row < rows; row++)
        {
            command.Parameters.Clear();
            // Numbers that come in no order, some of them twice, split pages in the middle.
            for (int i = 0; i < columns; i++)
                command.Parameters.AddWithValue("$" + i, i == 1
                    ? random.NextInt64(-rows, rows * 4L) << (random.Next(20) == 0 ? 40 : 0) : AnyValue(random, pageBytes));
            command.ExecuteNonQuery();
        }
    }

    [Fact] // parts of a table are read by two threads through one handle of the engine's
    public void Pages_that_are_read_side_by_side_are_those_that_are_read_one_after_the_other()
    {
        const int pageBytes = 512, rounds = 20_000;
        Execute($"PRAGMA page_size = {pageBytes}; CREATE TABLE t (b BLOB, k INTEGER PRIMARY KEY)", command =>
            Fill(command, new Random(1), 1000, pageBytes, columns: 2));
        using var connection = new SqliteConnection($"Data Source={_folder["s.db"]};Pooling=False;Mode=ReadOnly");
        connection.Open();
        using SqliteTransaction reading = connection.BeginTransaction(deferred: true);
        SqlitePageFile pages = SqlitePageFile.Of(connection)!;
        byte[] file = File.ReadAllBytes(_folder["s.db"]);
        Assert.InRange(pages.Pages, 200, 100_000);
        int[] wrong = [.. Enumerable.Range(0, 2).AsParallel().WithDegreeOfParallelism(2).Select(seed =>
        {
            SqlitePageFile own = pages.Again();
            var random = new Random(Seeds.Given + seed);
            return Enumerable.Range(0, rounds).Count(_ =>
            {
                int page = random.Next(1, (int)pages.Pages + 1);
                return !own.TryGet(page, out ReadOnlySpan<byte> content)
                    || !content.SequenceEqual(file.AsSpan((page - 1) * pageBytes, pageBytes));
            });
        })];
        Assert.Equal([0, 0], wrong);
    }

    [Theory]
    // Whole numbers of every size, alone in their record and behind a longer value.
    [InlineData("INTEGER", "0, 1, -1, 127, -128, 128, 32767, -32768, 32768, 8388607, -8388608, 8388608, 2147483647, -2147483648, "
        + "2147483648, 140737488355327, -140737488355328, 140737488355328, 9223372036854775807, (-9223372036854775807 - 1), NULL, 7")]
    // Days, one of them again and again, and what only looks like one: ten bytes that are none, or are no text.
    [InlineData("DATE", "CAST(zeroblob(10) AS TEXT), '2024-02-29', '2024-02-29', '2023-02-29', '2024-02-29', CAST(zeroblob(10) AS TEXT), "
        + "'2024-03-01', CAST(x'FFFFFFFFFFFFFFFFFFFF' AS TEXT), '2024-03-01', x'323032342D30332D3031', NULL, '2024-03-01'")]
    // Texts of eight, sixteen and other lengths, with a sign beyond ASCII in every place, and bytes that are no text.
    [InlineData("TEXT", "'', 'a', 'ü', 'aü', 'aaaaaaa', 'aaaaaaaa', 'aaaaaaü', 'üaaaaaa', 'aaaaaaaaaaaaaaaa', 'aaaaaaaaaaaaaaü', "
        + "'üaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa', 'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaü', 'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa', "
        + "CAST(x'61FF' AS TEXT), CAST(x'6161616161616161FF' AS TEXT), CAST(x'616161616161616161616161616161616161C3' AS TEXT), NULL")]
    public void Short_records_are_those_the_engine_reads(string type, string values)
    {
        string rows = $"WITH v(x) AS (VALUES {string.Join(", ", values.Split(", ").Select(value => $"({value})"))})";
        Execute($"CREATE TABLE t (a {type}); INSERT INTO t {rows} SELECT x FROM v");
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], atLeast: 10));
        Execute($"DROP TABLE t; CREATE TABLE t (b TEXT, a {type}, c {type}); INSERT INTO t {rows} SELECT 'somewhat longer', x, x FROM v");
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], atLeast: 10));
    }

    [Theory]
    [InlineData(512, "")]
    [InlineData(1024, "PRAGMA auto_vacuum = FULL")]
    [InlineData(4096, "PRAGMA auto_vacuum = INCREMENTAL")]
    [InlineData(4096, "PRAGMA journal_mode = WAL")]
    [InlineData(65536, "")]
    public void Values_of_every_kind_and_size_are_those_the_engine_reads(int pageBytes, string pragma)
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        Execute($"PRAGMA page_size = {pageBytes}; {pragma}; CREATE TABLE t (a INTEGER, k INTEGER PRIMARY KEY, b REAL, c "
            + "DECIMAL_INT(14,2), d VARCHAR(10), "
            + "e DATE, f BLOB)", command => Fill(command, random, pageBytes > 10_000 ? 300 : 1500, pageBytes));
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], atLeast: 200));
        // With room left in pages and pages on the list of free ones.
        Execute("DELETE FROM t WHERE k % 3 = 0 OR k BETWEEN 200 AND 900");
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], atLeast: 50));
        // Some columns, in another order, as other types.
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], table =>
            table with
            {
                Columns = [new("f", FieldType.Text), new("K", FieldType.Decimal(20, 2)), new("b", FieldType.Decimal(12, 3)),
            new("a", new(FieldKind.Double)), new("c", FieldType.Boolean)],
                Key = []
            }, atLeast: 50));
    }

    [Theory]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (5, 'a'), (1, 'b'), (-3, 'c')", true, "Pages")]
    [InlineData("CREATE TABLE t (v, \"K\" integer primary key autoincrement); INSERT INTO t VALUES ('a', 9), ('b', 2)", true, "Pages")]
    // not the record's number
    [InlineData("CREATE TABLE t (k INT PRIMARY KEY, v); INSERT INTO t VALUES (5, 'a'), (1, 'b'), (NULL, 'c')", false, "Pages")]
    // not either
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY DESC, v); INSERT INTO t VALUES (5, 'a'), (1, 'b'), (NULL, 'c')", false, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v) STRICT", true, "refused")] // a column without a type
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v REAL) STRICT; INSERT INTO t VALUES (1, 2), (2, 2.5)", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v) WITHOUT ROWID; INSERT INTO t VALUES (5, 'a'), (1, 'b')", false, "Engine")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v AS (k * 2)); INSERT INTO t VALUES (5), (1)", false, "Engine")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v AS (k * 2) STORED); INSERT INTO t VALUES (5), (1)", false, "Engine")]
    [InlineData("PRAGMA encoding = 'UTF-16'; CREATE TABLE t (k INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (5, 'ä')", false,
        "Engine")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v; INSERT INTO t "
        + "VALUES (6, 1)", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v INTEGER DEFAULT -7; INSERT "
        + "INTO t VALUES (6, 1)", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v REAL DEFAULT 7; INSERT "
        + "INTO t VALUES (6, 1)", true, "Pages")]
    // "7.5"
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v VARCHAR(9) DEFAULT 7.50; "
        + "INSERT INTO t VALUES (6, 1)", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v VARCHAR(9) NOT NULL "
        + "DEFAULT 'it''s'; INSERT INTO t VALUES (6, 'x')", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v DATE DEFAULT '2024-02-29'",
        true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (5); ALTER TABLE t ADD COLUMN v BLOB DEFAULT x'4142'; "
        + "INSERT INTO t VALUES (6, 'x')", true, "HandedOver")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (5, 'a'); ALTER TABLE t DROP COLUMN v; ALTER TABLE t "
        + "ADD COLUMN v TEXT", true, "Pages")]
    [InlineData("CREATE TABLE t (k INTEGER PRIMARY KEY, v); CREATE INDEX i ON t (v, k); INSERT INTO t VALUES (5, 'a'), (6, 'b')", true,
        "Pages")]
    public void Tables_of_every_make_are_read_as_the_engine_reads_them(string sql, bool isNumbered, string how)
    {
        if (how == "refused")
        {
            Assert.Throws<SqliteException>(() => Execute(sql));
            return;
        }
        Execute(sql);
        Assert.Equal(how, Compare(_folder["s.db"]).ToString());
        using var store = (SqliteStore)new StoreOpener().Open(new StoreAddress("sqlite", _folder["s.db"]));
        TableShape table = store.ReadShape()[0];
        // The order of a key is that of the file where the key is the record's number; elsewhere the engine is asked for it.
        List<string> ordered = Rows(store.Engine(table, " ORDER BY k"), table, out _), found = Rows(store.Read(table, ["k"]), table,
            out Reading reading);
        Assert.Equal(ordered, found);
        Assert.Equal(isNumbered, reading != Reading.Engine);
    }

    [Fact]
    public void An_empty_table_and_a_batch_that_has_rows_already_are_as_with_the_engine()
    {
        Execute("CREATE TABLE t (k INTEGER PRIMARY KEY, v TEXT)");
        Assert.Equal(Reading.Pages, Compare(_folder["s.db"], atLeast: 0));
        Execute("INSERT INTO t VALUES (1, 'a'), (2, 'b'), (3, 'c')");
        using IStore store = new StoreOpener().Open(new StoreAddress("sqlite", _folder["s.db"]));
        TableShape table = store.ReadShape()[0];
        var batch = new RecordBatch(table.Columns, new BatchLimits(2, 1 << 20));
        batch.Vectors[0].AppendNull();
        batch.Vectors[1].AppendNull();
        using IRecordReader reader = store.Read(table, []);
        Assert.True(reader.Fill(batch));
        Assert.Equal(2, batch.RowCount);
    }

    [Fact]
    public void Changes_that_wait_beside_the_file_are_read_by_the_engine()
    {
        Execute("PRAGMA journal_mode = WAL; CREATE TABLE t (k INTEGER PRIMARY KEY, v)");
        using var writer = new SqliteConnection($"Data Source={_folder["s.db"]};Pooling=False");
        writer.Open();
        using SqliteCommand command = writer.CreateCommand();
        command.CommandText = "INSERT INTO t VALUES (1, 'waits')";
        command.ExecuteNonQuery();
        Assert.Equal(Reading.Engine, Compare(_folder["s.db"]));
    }

    [Theory]
    // a kind of value beyond all kinds, whose last bits are those of one
    [InlineData(new byte[] { 11, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xf0, 0 })]
    // a header longer than any record, whose last bits are its length
    [InlineData(new byte[] { 0xff, 0xff, 0xff, 0xff, 0xf8, 0x80, 0x80, 0x80, 11, 0, 0 })]
    public void Numbers_that_are_too_large_for_what_they_count_are_left_to_the_engine(byte[] header)
    {
        Execute("CREATE TABLE t (a, b, c, d, e, f, g, h, i, j); INSERT INTO t "
            + "VALUES (NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)");
        byte[] bytes = File.ReadAllBytes(_folder["s.db"]);
        int at = bytes.Length - header.Length; // the only record ends with its page
        Assert.Equal(new byte[] { 11, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0 }, bytes[at..]);
        header.CopyTo(bytes, at);
        File.WriteAllBytes(_folder["s.db"], bytes);
        Assert.Equal(Reading.HandedOver, Compare(_folder["s.db"], atLeast: 0));
    }

    [Theory]
    [InlineData(512)]
    [InlineData(1024)]
    public void With_any_byte_damaged_the_records_and_the_complaint_are_those_of_the_engine(int pageBytes)
    {
        int times = Seeds.IsSoak ? 5000 : 250;
        int seed = Seeds.Given;
        var random = new Random(seed);
        Execute($"PRAGMA page_size = {pageBytes}; CREATE TABLE t (a INTEGER, k INTEGER PRIMARY KEY, b REAL, c DECIMAL_INT(14,2), d "
            + "VARCHAR(10), e DATE, f BLOB)", command => Fill(command, random, 60, pageBytes));
        byte[] sound = File.ReadAllBytes(_folder["s.db"]);
        string damaged = _folder["damaged.db"];
        int handedOver = 0;
        for (int time = 0; time < times; time++)
        {
            byte[] bytes = (byte[])sound.Clone();
            // Not the file's header and the schema: a store with these damaged is not opened. Half of the damage is at the beginning of a
            // page, where the numbers are that lead on.
            int at = random.Next(2) == 0 ? random.Next(pageBytes, bytes.Length) : (random.Next(1, bytes.Length / pageBytes) * pageBytes)
                + random.Next(40);
            bytes[at] = random.Next(3) switch { 0 => 0, 1 => 0xff, _ => (byte)(bytes[at] ^ (1 << random.Next(8))) };
            File.WriteAllBytes(damaged, bytes);
            try
            {
                if (Compare(damaged, atLeast: 0) == Reading.HandedOver) handedOver++;
            }
            catch (Xunit.Sdk.XunitException error)
            {
                Assert.Fail($"byte {at} was {sound[at]}, is {bytes[at]}; seed {seed}: {error.Message}");
            }
        }
        Assert.InRange(handedOver, times / 50, times - 1);
    }
}
