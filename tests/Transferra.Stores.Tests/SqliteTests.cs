using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;

using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class SqliteTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _folder.Dispose();

    private StoreAddress At(string name) => new("sqlite", _folder[name]);

    private void Execute(string file, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={_folder[file]};Pooling=False");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    private static readonly TableShape AllKinds = new("all kinds \"quoted\"",
    [
        new("key", FieldType.Integer, true), new("select", FieldType.Decimal(18, 2)), new("wide", FieldType.Decimal(38, 10)),
            new("day", FieldType.Date),
            new("time", new(FieldKind.Time)),
        new("moment", new(FieldKind.Timestamp)), new("täxt", FieldType.Text), new("short", new(FieldKind.Text, Length: 3)),
            new("yes", FieldType.Boolean),
            new("bytes", new(FieldKind.Binary)),
        new("id", new(FieldKind.Uuid)), new("real", new(FieldKind.Double)),
    ], ["key"], []);

    private static RecordBatch EveryKindOfValue()
    {
        var batch = new RecordBatch(AllKinds.Columns);
        Add(1, long.MinValue + 1, 0, 0, 0, 0, "", "", 0, [], Int128.Zero, 0.1);
        Add(long.MaxValue, 999_999_999_999_999_999, DecimalText.PowerOfTen(38) - 1, ValueText.LastDay, 86_399_999_999,
            315_537_897_599_999_999,
            "e\u0301 \U0001F3BB combining and beyond", "äöü", 1, [0, 255], -1, double.MaxValue);
        Add(-5, -999_999_999_999_999_999, 1 - DecimalText.PowerOfTen(38), 1, 1, 1, "a\0b", "   ", 1, [1], Int128.MaxValue, -0.0);
        Add(7, null, null, null, null, null, new string('x', 1_000_000), null, null, null, null, null);
        Add(8, null, null, null, null, null, null, null, null, null, null, null);
        return batch;

        void Add(long key, Int128? select, Int128? wide, long? day, long? time, long? moment, string? text, string? brief, long? yes,
            byte[]? bytes, Int128? id, double? real)
        {
            if (select < -999_999_999_999_999_999) select = -1;
            object?[] values = [key, select, wide, day, time, moment, text, brief, yes, bytes, id, real];
            for (int i = 0; i < values.Length; i++)
            {
                switch (batch.Vectors[i], values[i])
                {
                    case (var vector, null): vector.AppendNull(); break;
                    case (LongVector vector, long value): vector.Append(value); break;
                    case (WideVector vector, Int128 value): vector.Append(value); break;
                    case (BytesVector vector, string value): vector.Append(System.Text.Encoding.UTF8.GetBytes(value)); break;
                    case (BytesVector vector, byte[] value): vector.Append(value); break;
                    case (DoubleVector vector, double value): vector.Append(value); break;
                    default: throw new InvalidOperationException();
                }
            }
        }
    }

    [Fact]
    public void Every_kind_of_value_comes_back_as_it_was_written()
    {
        RecordBatch written = EveryKindOfValue();
        var rejects = new List<RowReject>();
        using (IStoreBuilder builder = _stores.Create(At("new.db")))
        {
            builder.CreateTable(AllKinds);
            builder.Write([new TableOutput(AllKinds, written.Vectors)], [0, 1, 2, 3, 4], rejects);
            builder.Complete(new Dictionary<string, string> { ["user_version"] = "60" });
        }
        Assert.Empty(rejects);
        using IStore store = _stores.Open(At("new.db"));
        Assert.Equal("60", store.Identity.HeaderFields["user_version"]);
        TableShape shape = Assert.Single(store.ReadShape());
        Assert.Equal(AllKinds.Columns.Select(column => (column.Name, column.Type)),
            shape.Columns.Select(column => (column.Name, column.Type)));
        Assert.Equal(["key"], shape.Key);
        Assert.Empty(store.CheckPhysically());
        var read = new RecordBatch(AllKinds.Columns, new BatchLimits(100, 1 << 24));
        using IRecordReader reader = store.Read(shape, []);
        Assert.False(reader.Fill(read));
        Assert.Empty(read.Faults);
        Dictionary<long, int> rowOf = Enumerable.Range(0, read.RowCount).ToDictionary(row => ((LongVector)read.Vectors[0]).Values[row]);
        for (int row = 0; row < written.RowCount; row++)
            for (int column = 0; column < AllKinds.Columns.Count; column++)
                Assert.True(written.Vectors[column].SameAt(row, read.Vectors[column], rowOf[((LongVector)written.Vectors[0]).Values[row]]),
                    $"row {row}, {AllKinds.Columns[column].Name}: {written.Vectors[column].Show(row)}");
    }

    [Fact]
    public void Amounts_are_kept_so_that_the_engine_itself_adds_them_up_exactly()
    {
        TableShape table = new("t", [new("a", FieldType.Decimal(14, 2))], [], []);
        var batch = new RecordBatch(table.Columns);
        foreach (Int128 units in (Int128[])[10, 20, -30, 99_999_999_999_999]) ((WideVector)batch.Vectors[0]).Append(units);
        using (IStoreBuilder builder = _stores.Create(At("sum.db")))
        {
            builder.CreateTable(table);
            builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2, 3], []);
            builder.Complete(new Dictionary<string, string>());
        }
        using IStore store = _stores.Open(At("sum.db"));
        Assert.Equal("99999999999999", store.Ask("SELECT SUM(a) FROM t").Rows[0][0]);
        Assert.Equal("integer", store.Ask("SELECT DISTINCT typeof(a) FROM t").Rows[0][0]);
    }

    [Theory]
    [InlineData("INTEGER", "'x'", FaultCode.WrongKind)]
    [InlineData("INTEGER", "1.5", FaultCode.WrongKind)]
    [InlineData("DATE", "'31/12/2020'", FaultCode.WrongKind)]
    [InlineData("BOOLEAN", "2", FaultCode.NotABoolean)]
    [InlineData("TEXT", "x'41'", FaultCode.WrongKind)]
    [InlineData("TEXT", "CAST(x'FF' AS TEXT)", FaultCode.NotText)]
    [InlineData("DECIMAL(5,2)", "'1.234'", FaultCode.NeedsRounding)]
    [InlineData("DECIMAL(5,2)", "0.1 + 0.2", FaultCode.NeedsRounding)]
    [InlineData("DECIMAL(5,2)", "'12,5'", FaultCode.NotANumber)]
    [InlineData("DECIMAL(5,2)", "12345", FaultCode.OutOfRange)]
    public void A_cell_that_is_not_what_its_column_says_is_a_fault_of_its_row(string type, string value, FaultCode code)
    {
        Execute("odd.db", $"CREATE TABLE t (k INTEGER, v); INSERT INTO t VALUES (1, NULL), (2, {value}), (3, NULL)");
        Assert.True(FieldType.TryParse(type, out FieldType parsed));
        using IStore store = _stores.Open(At("odd.db"));
        var table = new TableShape("t", [new("k", FieldType.Integer), new("v", parsed)], ["k"], []);
        var batch = new RecordBatch(table.Columns);
        using IRecordReader reader = store.Read(table, ["k"]);
        reader.Fill(batch);
        Assert.Equal(3, batch.RowCount);
        RowFault fault = Assert.Single(batch.Faults);
        Assert.Equal((1, code, "v"), (fault.Row, fault.Code, fault.Column));
        Assert.True(batch.Vectors[1].IsNull(1));
    }

    [Fact]
    public void Decimals_are_kept_as_the_engine_itself_keeps_their_texts()
    {
        string[] declared = ["DECIMAL(18,4)", "NUMERIC", "REAL", "DOUBLE", "VARCHAR(30)", "DECIMAL_TEXT(30,4)", "MONEY", "BLOB", "INT"];
        TableShape table = new("t", [.. declared.Select((type, i) => new ColumnShape($"c{i}", FieldType.Decimal(30, 4))
        { DeclaredAs = type })], [], []);
        var batch = new RecordBatch(table.Columns);
        var random = new Random(Seeds.Given);
        foreach (Vector vector in batch.Vectors)
            for (int row = 0; row < 2000; row++)
                ((WideVector)vector).Append((Int128)random.NextInt64(-1_000_000_000, 1_000_000_000) * (long)Math.Pow(10, random.Next(0, 12))
                    / (long)Math.Pow(10, random.Next(0, 10)));
        using (IStoreBuilder builder = _stores.Create(At("kept.db")))
        {
            builder.CreateTable(table);
            builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, 2000)], []);
            builder.Complete(new Dictionary<string, string>());
        }
        string values = string.Join(", ", Enumerable.Range(0, 2000).Select(row => "(" + string.Join(", ", batch.Vectors.Select(vector =>
            $"'{vector.Show(row)}'")) + ")"));
        string columns = string.Join(", ", declared.Select((type, i) => $"c{i} {type}"));
        Execute("kept.db", $"CREATE TABLE e ({columns}); INSERT INTO e VALUES {values}");
        using IStore store = _stores.Open(At("kept.db"));
        for (int column = 0; column < declared.Length; column++)
        {
            string kept(string of) => $"SELECT rowid, typeof(c{column}), CASE typeof(c{column}) WHEN 'real' THEN "
                + $"printf('%!.17g', c{column}) ELSE c{column} END FROM {of}";
            Assert.Equal((declared[column], 0L), (declared[column], long.Parse(store.Ask($"SELECT count(*) FROM ({kept("t")} EXCEPT "
                + kept("e") + ")").Rows[0][0]!, System.Globalization.CultureInfo.InvariantCulture)));
        }
    }

    [Theory]
    [InlineData("NUMERIC")] // whole ones are kept as whole numbers
    [InlineData("REAL")]
    [InlineData("")]
    public void Amounts_kept_as_doubles_are_what_was_typed(string declared)
    {
        Execute("reals.db", $"CREATE TABLE t (k INTEGER PRIMARY KEY, v {declared}); INSERT INTO t VALUES (1, 12.5), "
            + "(2, -0.00005), (3, 12.0), (4, 1e10), (5, 0.1 + 0.2), (6, -7), (7, 99999999.123456), (8, NULL), (9, -0.0)");
        var table = new TableShape("t", [new("k", FieldType.Integer), new("v", FieldType.Decimal(18, 6))], ["k"], []);
        using var store = (SqliteStore)_stores.Open(At("reals.db"));
        foreach (IRecordReader way in (IRecordReader[])[store.Read(table, ["k"]), store.Engine(table, " ORDER BY k")])
            using (way)
            {
                var batch = new RecordBatch(table.Columns);
                way.Fill(batch);
                Assert.Equal(["12.500000", "-0.000050", "12.000000", "10000000000.000000", "", "-7.000000", "99999999.123456", "",
                    "0.000000"], Enumerable.Range(0, batch.RowCount).Select(batch.Vectors[1].Show));
                Assert.Equal((4, FaultCode.NeedsRounding), (Assert.Single(batch.Faults).Row, batch.Faults[0].Code));
            }
    }

    [Fact]
    public void Text_of_an_old_code_page_is_decoded()
    {
        Execute("old.db", "CREATE TABLE t (v TEXT); INSERT INTO t VALUES (CAST(x'4A8172' AS TEXT))");
        using IStore store = _stores.Open(At("old.db"), "ibm850");
        var table = new TableShape("t", [new("v", FieldType.Text)], [], []);
        var batch = new RecordBatch(table.Columns);
        using IRecordReader reader = store.Read(table, []);
        reader.Fill(batch);
        Assert.Equal("Jür", batch.Vectors[0].Show(0));
    }

    [Fact]
    public void A_refused_row_is_in_none_of_the_tables_and_the_others_are_in_all()
    {
        TableShape a = new("a", [new("k", FieldType.Integer)], ["k"], []),
            b = new("b", [new("name", FieldType.Text), new("k", FieldType.Integer)], ["name"], []);
        var batch = new RecordBatch([new("k", FieldType.Integer), new("name", FieldType.Text)]);
        foreach ((long key, string name) in ((long, string)[])[(1, "x"), (2, "x"), (1, "y"), (3, "z")])
        {
            ((LongVector)batch.Vectors[0]).Append(key);
            ((BytesVector)batch.Vectors[1]).Append(System.Text.Encoding.UTF8.GetBytes(name));
        }
        var rejects = new List<RowReject>();
        using (IStoreBuilder builder = _stores.Create(At("two.db")))
        {
            builder.CreateTable(a);
            builder.CreateTable(b);
            builder.Write([new TableOutput(a, [batch.Vectors[0]]), new TableOutput(b, [batch.Vectors[1], batch.Vectors[0]])],
                [0, 1, 2, 3], rejects);
            builder.Complete(new Dictionary<string, string>());
        }
        Assert.Equal([1, 2], rejects.Select(reject => reject.Row));
        Assert.All(rejects, reject => Assert.Contains("UNIQUE", reject.Reason, StringComparison.Ordinal));
        using IStore store = _stores.Open(At("two.db"));
        Assert.Equal(["1", "3"], store.Ask("SELECT k FROM a ORDER BY k").Rows.Select(row => row[0]));
        Assert.Equal(["1", "3"], store.Ask("SELECT k FROM b ORDER BY k").Rows.Select(row => row[0]));
    }

    [Fact]
    public void A_batch_stops_at_its_byte_cap_and_a_wider_record_travels_alone()
    {
        Execute("wide.db", "CREATE TABLE t (v TEXT); WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 300) "
            + "INSERT INTO t SELECT printf('%.*c', 1000, 'x') FROM c");
        using IStore store = _stores.Open(At("wide.db"));
        TableShape table = store.ReadShape()[0];
        var batch = new RecordBatch(table.Columns, new BatchLimits(4096, 500));
        using IRecordReader reader = store.Read(table, []);
        Assert.True(reader.Fill(batch));
        Assert.Equal(1, batch.RowCount);
    }

    [Theory]
    [InlineData("missing", "is not there")]
    [InlineData("folder", "is a folder")]
    [InlineData("empty", "0 bytes")]
    [InlineData("text", "is not a SQLite file")]
    [InlineData("short", "is not a SQLite file")]
    [InlineData("hot journal", "unfinished transaction")]
    [InlineData("changes waiting", "changes are waiting beside the store")]
    [InlineData("locked", "locked by another program")]
    [InlineData("new over old", "is there already")]
    public void What_cannot_be_opened_is_refused_in_words_and_left_as_it_was(string what, string words)
    {
        string path = _folder["s.db"];
        Execute("s.db", "CREATE TABLE t (a)");
        using var holder = new SqliteConnection($"Data Source={path};Pooling=False");
        switch (what)
        {
            case "missing": File.Delete(path); break;
            case "folder": File.Delete(path); Directory.CreateDirectory(path); break;
            case "empty": File.WriteAllText(path, ""); break;
            case "text": File.WriteAllText(path, new string('x', 500)); break;
            case "short": File.WriteAllText(path, "SQLite"); break;
            case "hot journal": File.WriteAllText(path + "-journal", "x"); break;
            case "changes waiting":
                Execute("s.db", "PRAGMA journal_mode = WAL"); File.WriteAllText(path + "-wal",
                "left by a crash"); break;
            case "locked":
                holder.Open();
                using (SqliteCommand command = holder.CreateCommand())
                {
                    command.CommandText =
                    "BEGIN EXCLUSIVE"; command.ExecuteNonQuery();
                }
                break;
        }
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_folder.Path);
        var error = Assert.Throws<TransferraException>(() =>
        {
            if (what == "new over old") _stores.Create(At("s.db"))
            .Dispose();
            else _stores.Open(At("s.db")).Dispose();
        });
        Assert.Contains(words, error.Message, StringComparison.Ordinal);
        Assert.NotEqual("", error.Next);
        Assert.Equal(before, TempFolder.Signature(_folder.Path));
    }

    [Fact]
    public void A_store_in_write_ahead_mode_is_read_without_a_side_file_when_nobody_has_it_open()
    {
        Execute("ahead # of.db", "PRAGMA journal_mode = WAL; CREATE TABLE t (a); INSERT INTO t VALUES (1), (2)");
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_folder.Path);
        using (IStore store = _stores.Open(At("ahead # of.db")))
        {
            Assert.Equal("write-ahead", store.Identity.HeaderFields["journal"]);
            Assert.DoesNotContain(StoreIdentity.WaitingChanges, store.Identity.HeaderFields.Keys);
            Assert.Equal(["1", "2"], Cells.Of(store, "t", "a", FieldType.Integer, out _));
            Assert.Equal(before, TempFolder.Signature(_folder.Path));
            // Somebody came back meanwhile: what was read is not taken for the whole.
            Execute("ahead # of.db", "INSERT INTO t VALUES (3)");
            Assert.Contains("was changed while it was read", Assert.Throws<TransferraException>(() =>
                Cells.Of(store, "t", "a", FieldType.Integer, out _)).Message, StringComparison.Ordinal);
        }
    }

    [Fact]
    public void With_others_at_work_in_write_ahead_mode_one_snapshot_is_read_and_the_waiting_changes_are_told()
    {
        Execute("shared.db", "PRAGMA journal_mode = WAL; CREATE TABLE t (a); INSERT INTO t VALUES (1)");
        using var writer = new SqliteConnection($"Data Source={_folder["shared.db"]};Pooling=False");
        writer.Open();
        using SqliteCommand command = writer.CreateCommand();
        command.CommandText = "INSERT INTO t VALUES (2)";
        command.ExecuteNonQuery();
        using IStore store = _stores.Open(At("shared.db"));
        command.ExecuteNonQuery();
        Assert.Equal(["1", "2"], Cells.Of(store, "t", "a", FieldType.Integer, out _));
        Assert.Contains("shared.db-wal", store.Identity.HeaderFields[StoreIdentity.WaitingChanges], StringComparison.Ordinal);
    }

    [Fact]
    public void Indexes_defaults_and_numbering_are_built_and_told()
    {
        var table = new TableShape("t", [new("id", FieldType.Integer, true), new("code", new(FieldKind.Text, Length: 8),
            Default: "'none'")], ["id"],
            [])
        { Indexes = [new("", ["code", "id"], true), new("by_code", ["code"], false)], NumberedColumn = "id" };
        using (IStoreBuilder builder = _stores.Create(At("shape.db")))
        {
            builder.CreateTable(table);
            builder.Complete(new Dictionary<string, string>());
        }
        Execute("shape.db", "INSERT INTO t (id) VALUES (7); INSERT INTO t DEFAULT VALUES; CREATE VIEW v AS SELECT 1; CREATE TRIGGER tr "
            + "AFTER INSERT ON t BEGIN SELECT 1; END");
        using IStore store = _stores.Open(At("shape.db"));
        TableShape told = store.ReadShape().Single();
        Assert.Equal(["by_code code False", "t_x1 code,id True"],
            told.Indexes.Select(index => $"{index.Name} {string.Join(',', index.Columns)} {index.IsUnique}"));
        Assert.Equal(("id", "'none'"), (told.NumberedColumn, told.Columns[1].Default));
        Assert.Equal(["7", "8"], Cells.Of(store, "t", "id", FieldType.Integer, out _, "id"));
        Assert.Equal(["none", "none"], Cells.Of(store, "t", "code", FieldType.Text, out _));
        Assert.Equal([new StoreObject("trigger", "tr", "t"), new StoreObject("view", "v")], store.ListObjects());
    }

    [Fact]
    public void While_a_store_is_opened_nobody_can_change_it()
    {
        Execute("held.db", "CREATE TABLE t (a); INSERT INTO t VALUES (1)");
        using IStore store = _stores.Open(At("held.db"));
        using var writer = new SqliteConnection($"Data Source={_folder["held.db"]};Pooling=False;Default Timeout=1");
        writer.Open();
        using SqliteCommand command = writer.CreateCommand();
        command.CommandText = "INSERT INTO t VALUES (2)";
        Assert.Throws<SqliteException>(() => command.ExecuteNonQuery());
        Assert.Equal(1, store.CountRows("t"));
    }

    [Fact]
    public void Overwritten_pages_are_found_by_the_physical_check_or_end_the_reading_in_words()
    {
        Execute("torn.db", "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT); WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM "
            + "c WHERE i < 5000) INSERT INTO t SELECT i, 'record ' || i FROM c");
        byte[] bytes = File.ReadAllBytes(_folder["torn.db"]);
        for (int i = 4096 * 5; i < 4096 * 6; i++) bytes[i] = 0xA5;
        File.WriteAllBytes(_folder["torn.db"], bytes);
        using IStore store = _stores.Open(At("torn.db"));
        Assert.NotEmpty(store.CheckPhysically());
        using IRecordReader reader = store.Read(store.ReadShape()[0], []);
        var batch = new RecordBatch(store.ReadShape()[0].Columns);
        var error = Assert.Throws<TransferraException>(() => { while (reader.Fill(batch)) batch.Reset(); });
        Assert.Contains("table t", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Fingerprints_do_not_depend_on_the_order_in_the_file()
    {
        Execute("a.db", "CREATE TABLE t (k INTEGER, v TEXT); INSERT INTO t VALUES (1, 'a'), (2, NULL), (3, '')");
        Execute("b.db", "CREATE TABLE t (k INTEGER, v TEXT); INSERT INTO t VALUES (3, ''), (2, NULL), (1, 'a')");
        Execute("c.db", "CREATE TABLE t (k INTEGER, v TEXT); INSERT INTO t VALUES (3, NULL), (2, ''), (1, 'a')");
        string[] prints = [.. ((string[])["a.db", "b.db", "c.db"]).Select(name =>
        {
            using IStore store = _stores.Open(At(name));
            return Baseline.Of(store, [store.ReadShape()[0] with { Key = ["k"] }], new ListObserver(),
                CancellationToken.None)[0].Fingerprint;
        })];
        Assert.Equal(prints[0], prints[1]);
        Assert.NotEqual(prints[0], prints[2]);
    }

    [Fact]
    public void The_independent_engine_reads_what_was_written()
    {
        TableShape table = new("t", [new("k", FieldType.Integer), new("d", FieldType.Date), new("v", FieldType.Text)], ["k"], []);
        var batch = new RecordBatch(table.Columns);
        MemoryStore.Append(batch.Vectors[0], 1L);
        MemoryStore.Append(batch.Vectors[1], new DateOnly(2024, 2, 29));
        MemoryStore.Append(batch.Vectors[2], "it's");
        using (IStoreBuilder builder = _stores.Create(At("cli.db")))
        {
            builder.CreateTable(table);
            builder.Write([new TableOutput(table, batch.Vectors)], [0], []);
            builder.Complete(new Dictionary<string, string>());
        }
        using Process? shell = Process.Start(new ProcessStartInfo("sqlite3",
            [_folder["cli.db"], "SELECT k, d, v, typeof(d) FROM t; PRAGMA integrity_check"])
        { RedirectStandardOutput = true });
        Assert.Equal("1|2024-02-29|it's|text\nok\n", shell!.StandardOutput.ReadToEnd());
    }
}
