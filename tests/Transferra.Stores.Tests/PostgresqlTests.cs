using FsCheck;
using FsCheck.Fluent;
using Transferra.Core.Records;
using Transferra.Stores.Postgresql;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What only PostgreSQL has: its types, its schemas, its infinities.</summary>
public sealed class PostgresqlTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _servers.Dispose();

    private StoreAddress Made(params string[] statements) => _servers.Made("postgresql", "own", statements);

    private IStore Open(params string[] statements) => _stores.Open(Made(statements));

    // Each type of the table in docs/types.md: how it is declared, a value, what it is told to be, and how the value comes in.
    [Theory]
    [InlineData("smallint", "-32768", "INTEGER", "-32768")]
    [InlineData("integer", "2147483647", "INTEGER", "2147483647")]
    [InlineData("bigint", "-9223372036854775808", "INTEGER", "-9223372036854775808")]
    [InlineData("oid", "4294967295", "INTEGER", "4294967295")]
    [InlineData("boolean", "true", "BOOLEAN", "true")]
    [InlineData("numeric(14,2)", "-12.50", "DECIMAL(14,2)", "-12.50")]
    [InlineData("numeric(38,38)", "0.00000000000000000000000000000000000001", "DECIMAL(38,38)", "0.00000000000000000000000000000000000001")]
    [InlineData("numeric(6,0)", "100000", "DECIMAL(6,0)", "100000")]
    [InlineData("numeric", "12345678901234567890123456789012345678901234567890.5", "TEXT",
        "12345678901234567890123456789012345678901234567890.5")]
    [InlineData("numeric(50,2)", "1.50", "TEXT", "1.50")]
    [InlineData("numeric(3,-2)", "12300", "TEXT", "12300")]
    [InlineData("money", "12.50", "DECIMAL(19,2)", "12.50")]
    [InlineData("real", "0.5", "DOUBLE PRECISION", "0.5")]
    [InlineData("double precision", "0.1", "DOUBLE PRECISION", "0.1")]
    [InlineData("date", "0001-01-01", "DATE", "0001-01-01")]
    [InlineData("date", "9999-12-31", "DATE", "9999-12-31")]
    [InlineData("time", "23:59:59.999999", "TIME", "23:59:59.999999")]
    [InlineData("timestamp", "9999-12-31 23:59:59.999999", "TIMESTAMP", "9999-12-31 23:59:59.999999")]
    [InlineData("timestamptz", "2024-07-01 12:00:00+02", "TIMESTAMP", "2024-07-01 10:00:00")]
    [InlineData("timetz", "12:00:00+02", "TEXT", "12:00:00+02")]
    [InlineData("interval", "1 day 02:00:00", "TEXT", "P1DT2H")]
    [InlineData("text", "\u00e9\U0001F3BB", "TEXT", "\u00e9\U0001F3BB")]
    [InlineData("varchar(5)", "ab  ", "VARCHAR(5)", "ab  ")]
    [InlineData("char(5)", "ab", "VARCHAR(5)", "ab")]
    [InlineData("bytea", "\\x00ff", "BLOB", "00FF")]
    [InlineData("uuid", "ffffffff-0000-0000-0000-000000000001", "UUID", "ffffffff-0000-0000-0000-000000000001")]
    [InlineData("json", "{\"a\": 1}", "TEXT", "{\"a\": 1}")]
    [InlineData("jsonb", "{\"a\":1}", "TEXT", "{\"a\": 1}")]
    [InlineData("integer[]", "{1,NULL,3}", "TEXT", "{1,NULL,3}")]
    [InlineData("inet", "10.0.0.1/8", "TEXT", "10.0.0.1/8")]
    [InlineData("bit(3)", "101", "TEXT", "101")]
    [InlineData("mood", "glad", "TEXT", "glad")]
    [InlineData("cents", "1.25", "DECIMAL(9,2)", "1.25")]
    [InlineData("cents_more", "2.50", "DECIMAL(9,2)", "2.50")]
    public void Types_are_told_and_read(string declared, string value, string type, string shown)
    {
        using IStore store = Open("CREATE TYPE mood AS ENUM ('glad', 'sad')", "CREATE DOMAIN cents AS numeric(9,2) CHECK (VALUE >= 0)",
            "CREATE DOMAIN cents_more AS cents",
            $"CREATE TABLE t (v {declared})", $"SET TimeZone = 'UTC'; INSERT INTO t VALUES ('{value}'), (NULL)");
        FieldType told = store.ReadShape().Single().Columns.Single().Type;
        Assert.Equal(type, told.ToString());
        Assert.Equal([shown, null], Cells.Of(store, "t", "v", told, out RowFault[] faults));
        Assert.Empty(faults);
    }

    [Theory]
    [InlineData("date", "0044-03-15 BC", "DATE", FaultCode.NotADate, "")]
    [InlineData("timestamp", "10000-01-01 00:00", "TIMESTAMP", FaultCode.NotATime, "")]
    [InlineData("time", "24:00:00", "TIME", FaultCode.NotATime, "24:00:00")]
    [InlineData("numeric", "NaN", "INTEGER", FaultCode.NotFinite, "NaN")]
    [InlineData("numeric", "1.005", "DECIMAL(10,2)", FaultCode.NeedsRounding, "1.005")]
    [InlineData("numeric", "99999999999", "DECIMAL(10,2)", FaultCode.OutOfRange, "99999999999")]
    [InlineData("bigint", "10000000000", "DECIMAL(9,0)", FaultCode.OutOfRange, "10000000000")]
    [InlineData("numeric(20,0)", "9223372036854775808", "INTEGER", FaultCode.OutOfRange, "9223372036854775808")]
    [InlineData("integer", "2", "BOOLEAN", FaultCode.NotABoolean, "2")]
    [InlineData("text", "12,5O", "DECIMAL(10,2)", FaultCode.NotANumber, "12,5O")]
    [InlineData("text", "x", "UUID", FaultCode.NotAUuid, "x")]
    public void What_is_no_value_of_the_kits_type_is_a_fault_of_its_row(string declared, string value, string type, FaultCode code,
        string shown)
    {
        using IStore store = Open($"CREATE TABLE t (v {declared})", $"INSERT INTO t VALUES ('{value}')");
        Assert.True(FieldType.TryParse(type, out FieldType wanted));
        Assert.Equal([null], Cells.Of(store, "t", "v", wanted, out RowFault[] faults));
        RowFault fault = Assert.Single(faults);
        Assert.Equal((code, "v"), (fault.Code, fault.Column));
        if (shown.Length > 0) Assert.Equal(shown, fault.Value);
    }

    [Theory]
    [InlineData("integer", "7", "DECIMAL(9,2)", "7.00")]
    [InlineData("numeric(9,2)", "7.00", "INTEGER", "7")]
    [InlineData("integer", "7", "VARCHAR(5)", "7")]
    [InlineData("date", "2024-02-29", "TIMESTAMP", "2024-02-29 00:00:00")]
    [InlineData("date", "2024-02-29", "TEXT", "2024-02-29")]
    [InlineData("text", "2024-02-29", "DATE", "2024-02-29")]
    [InlineData("boolean", "true", "INTEGER", "1")]
    [InlineData("integer", "1", "BOOLEAN", "true")]
    [InlineData("text", "yes", "BOOLEAN", "true")]
    [InlineData("real", "0.1", "DECIMAL(9,2)", "0.10")]
    [InlineData("text", "ab", "BLOB", "6162")]
    public void Where_the_kit_says_another_type_values_that_fit_it_are_read(string declared, string value, string type, string shown)
    {
        using IStore store = Open($"CREATE TABLE t (v {declared})", $"INSERT INTO t VALUES ('{value}')");
        Assert.True(FieldType.TryParse(type, out FieldType wanted));
        Assert.Equal([shown], Cells.Of(store, "t", "v", wanted, out RowFault[] faults));
        Assert.Empty(faults);
    }

    [Fact]
    public void Tables_that_inherit_are_counted_once_and_partitions_are_one_table()
    {
        using IStore store = Open("CREATE TABLE parent (a int)", "CREATE TABLE child () INHERITS (parent)",
            "INSERT INTO parent VALUES (1)", "INSERT INTO child VALUES (2)",
            "CREATE TABLE parted (a int) PARTITION BY RANGE (a)", "CREATE TABLE parted_1 PARTITION OF parted FOR VALUES FROM (0) TO (10)",
                "INSERT INTO parted VALUES (3)",
            "CREATE SCHEMA elsewhere", "CREATE TABLE elsewhere.other (a int)");
        Assert.Equal(["child", "elsewhere.other", "parent", "parted"], store.ReadShape().Select(table => table.Name));
        Assert.Equal((1, 1, 1), (store.CountRows("parent"), store.CountRows("child"), store.CountRows("parted")));
        Assert.Equal(["1"], Cells.Of(store, "parent", "a", FieldType.Integer, out _));
        Assert.Equal("elsewhere", store.Identity.HeaderFields["other_schemas"]);
    }

    [Fact]
    public void What_a_user_may_not_read_of_other_schemas_is_named_and_does_not_keep_the_rest_from_being_read()
    {
        using var folder = new TempFolder();
        StoreAddress address = _servers.Made("postgresql", "shut", "CREATE TABLE t (a int)", "INSERT INTO t VALUES (1)",
            "CREATE SCHEMA closed", "CREATE TABLE closed.x (a int)", "CREATE SCHEMA half", "CREATE TABLE half.y (a int)",
            "CREATE TABLE half.z (a int)", "CREATE TABLE half.seen (a int)", "ALTER TABLE half.z ENABLE ROW LEVEL SECURITY");
        StoreAddress clerk = _servers.AsClerk(address, folder.Path);
        foreach (string statement in (string[])["GRANT SELECT ON t TO {0}", "GRANT USAGE ON SCHEMA half TO {0}",
            "GRANT SELECT ON half.seen, half.z TO {0}"])
            TestServers.Execute(address, statement.Replace("{0}", clerk.Server!.User, StringComparison.Ordinal));
        using (IStore store = _stores.Open(clerk))
        {
            Assert.Equal(["half.seen", "t"], store.ReadShape().Select(table => table.Name));
            Assert.Equal((1, 0), (store.CountRows("t"), store.CountRows("half.seen")));
            Assert.Equal(["closed.x", "half.y", "half.z"], store.NotRead().Select(what => what.Split(' ', ',')[2]));
            Assert.Empty(store.CheckPhysically());
        }
        using IStore all = _stores.Open(address);
        Assert.Empty(all.NotRead());
        foreach (string schema in (string[])["DROP SCHEMA closed CASCADE", "DROP SCHEMA half CASCADE", "DROP TABLE t"])
            TestServers.Execute(address, schema);
    }

    [Fact]
    public void Another_schema_is_read_and_written_when_office_yaml_names_it()
    {
        StoreAddress address = _servers.Database("postgresql", "schema") with
        {
            Form = new Dictionary<string,
            string>
            { ["schema"] = "Books of account" }
        };
        using (IStoreBuilder builder = _stores.Create(address))
        {
            builder.CreateTable(new TableShape("t", [new("a", FieldType.Integer)], [], []));
            builder.Complete(new Dictionary<string, string>());
        }
        using (IStore store = _stores.Open(address)) Assert.Equal("t", store.ReadShape().Single().Name);
        using IStore plain = _stores.Open(address with { Form = null });
        Assert.Equal("Books of account.t", plain.ReadShape().Single().Name);
        Assert.Equal(0, plain.CountRows("Books of account.t"));
        Assert.Equal("Books of account", plain.Identity.HeaderFields["other_schemas"]);
    }

    [Fact]
    public void Names_are_found_in_any_case()
    {
        using IStore store = Open("CREATE TABLE \"Cust\" (\"No\" int, no_2 int)", "INSERT INTO \"Cust\" VALUES (1, 2)");
        Assert.Equal(["1"], Cells.Of(store, "CUST", "no", FieldType.Integer, out _));
        Assert.Equal(["2"], Cells.Of(store, "cust", "NO_2", FieldType.Integer, out _));
    }

    [Fact]
    public void A_text_with_a_zero_character_is_refused_alone()
    {
        StoreAddress address = _servers.Database("postgresql", "zero");
        var table = new TableShape("t", [new("a", FieldType.Text)], [], []);
        using IStoreBuilder builder = _stores.Create(address);
        builder.CreateTable(table);
        var batch = new RecordBatch(table.Columns);
        foreach (string text in (string[])["fine", "not\0fine", "fine too"]) ((BytesVector)batch.Vectors[0])
            .Append(System.Text.Encoding.UTF8.GetBytes(text));
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2], rejects);
        Assert.Equal((1, FaultCode.NotText), (Assert.Single(rejects).Row, rejects[0].Code));
        builder.Complete(new Dictionary<string, string>());
        using IStore store = _stores.Open(address);
        Assert.Equal(2, store.CountRows("t"));
    }

    [Fact]
    public void A_relation_that_was_never_proved_is_a_complaint()
    {
        using IStore store = Open("CREATE TABLE a (id int PRIMARY KEY)", "CREATE TABLE b (a int)", "INSERT INTO b VALUES (5)",
            "ALTER TABLE b ADD CONSTRAINT b_a FOREIGN KEY (a) REFERENCES a NOT VALID");
        Assert.Contains("b_a of b was never proved", Assert.Single(store.CheckPhysically()), StringComparison.Ordinal);
    }

    [Fact]
    public void Damaged_pages_are_complaints()
    {
        StoreAddress address = Made("CREATE TABLE t (id int, v text)",
            "INSERT INTO t SELECT g, repeat('x', 100) FROM generate_series(1, 5000) g",
            "CREATE TABLE sound (id int)", "CHECKPOINT");
        // A copy that the server has not read yet, so that it must come to its pages on the disk.
        StoreAddress copy = _servers.Database("postgresql", "copy"), elsewhere = address with { Path = "postgres" };
        TestServers.Execute(elsewhere, $"CREATE DATABASE \"{copy.Path}\" TEMPLATE \"{address.Path}\" STRATEGY file_copy");
        string folder = TestServers.Ask(elsewhere,
            $"SELECT current_setting('data_directory') || '/base/' || oid FROM pg_database WHERE datname = '{copy.Path}'")!,
            file = TestServers.Ask(address, "SELECT pg_relation_filenode('t')")!;
        using (FileStream pages = new(Path.Combine(folder, file), FileMode.Open, FileAccess.Write))
        {
            pages.Seek(8192 * 3 + 4000, SeekOrigin.Begin);
            pages.Write("damage"u8);
        }
        using IStore store = _stores.Open(copy);
        Assert.Contains("invalid page", Assert.Single(store.CheckPhysically()), StringComparison.Ordinal);
        Assert.Equal(0, store.CountRows("sound"));
    }

    [Fact]
    public void Any_decimal_comes_back_from_the_binary_form_as_it_went_in()
    {
        Span<byte> room = stackalloc byte[PgNumeric.MostBytes];
        foreach (int scale in (int[])[0, 1, 2, 3, 4, 5, 8, 17, 37, 38])
        {
            for (int digits = 0; digits <= 38; digits++)
            {
                foreach (Int128 units in (Int128[])[DecimalText.PowerOfTen(Math.Min(digits, 37)), DecimalText.PowerOfTen(digits) - 1,
                    -DecimalText.PowerOfTen(Math.Min(digits, 37)), 1 - DecimalText.PowerOfTen(digits), digits * 10_001L])
                {
                    int bytes = PgNumeric.Write(units, scale, room);
                    Assert.Null(PgNumeric.TryRead(room[..bytes], scale, FieldType.MaxPrecision, out Int128 back));
                    Assert.Equal(units, back);
                }
            }
        }
    }

    [Fact]
    public void Decimals_of_any_kind_are_read_as_the_server_writes_them()
    {
        // The server's own text is the oracle.
        Gen<(long, int)> numbers = Gen.Choose(int.MinValue, int.MaxValue).Select(value => (long)value).Zip(Gen.Choose(0, 12));
        string values = string.Join(", ", numbers.Sample(300)
            .Select(number => FormattableString.Invariant($"({number.Item1} * 1000003::numeric / 10::numeric ^ {number.Item2})")));
        using IStore store = Open("CREATE TABLE t (v numeric(38,12))", $"INSERT INTO t VALUES {values}");
        IReadOnlyList<string?> written = Cells.Of(store, "t", "v", FieldType.Text, out _),
            read = Cells.Of(store, "t", "v", FieldType.Decimal(38, 12), out RowFault[] faults);
        Assert.Empty(faults);
        Assert.Equal(written, read);
    }
}
