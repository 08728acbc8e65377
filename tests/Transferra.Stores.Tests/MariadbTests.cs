using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Mariadb;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What only MariaDB has: zero dates, unsigned numbers, sets, times of days on end.</summary>
public sealed class MariadbTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    private IStore Open(params string[] statements) => _stores.Open(_servers.Made("mariadb", "own", statements));

    // A second session in the database, made to end the reading of the first, would be taken for somebody who is still in.
    [Fact]
    public async Task A_reading_that_is_cut_short_brings_nobody_into_the_database_and_leaves_the_next_question_whole()
    {
        StoreAddress address = _servers.Made("mariadb", "short", "CREATE TABLE t (v bigint PRIMARY KEY)",
            "INSERT INTO t SELECT seq FROM seq_1_to_200000");
        using IStore store = _stores.Open(address);
        TableShape shape = store.ReadStoredShape("t")!;
        using var over = new CancellationTokenSource();
        Task<List<string>> watch = Task.Run(() =>
        {
            var seen = new List<string>();
            while (!over.IsCancellationRequested)
                seen.AddRange(_stores.ServerOf(address).Sessions(address.Path).Select(session => session.Words));
            return seen;
        });
        for (int time = 0; time < 40; time++)
        {
            using (IRecordReader reader = store.Read(shape, []))
                Assert.True(reader.Fill(new RecordBatch(shape.Columns, new BatchLimits(10, 1 << 20))));
            Assert.Equal(200_000, store.CountRows("t"));
        }
        await over.CancelAsync();
        Assert.Empty(await watch);
    }

    [Theory]
    [InlineData("tinyint", "-128", "INTEGER", "-128")]
    [InlineData("tinyint(1)", "2", "INTEGER", "2")]
    [InlineData("smallint unsigned", "65535", "INTEGER", "65535")]
    [InlineData("int(5) zerofill", "42", "INTEGER", "42")]
    [InlineData("bigint", "-9223372036854775808", "INTEGER", "-9223372036854775808")]
    [InlineData("bigint unsigned", "18446744073709551615", "DECIMAL(20,0)", "18446744073709551615")]
    [InlineData("decimal(14,2)", "-12.50", "DECIMAL(14,2)", "-12.50")]
    [InlineData("decimal(38,38)", "0.00000000000000000000000000000000000001", "DECIMAL(38,38)", "0.00000000000000000000000000000000000001")]
    [InlineData("decimal(65,30)", "1.5", "TEXT", "1.500000000000000000000000000000")]
    [InlineData("float", "0.1", "DOUBLE PRECISION", "0.10000000149011612")]
    [InlineData("double", "0.1", "DOUBLE PRECISION", "0.1")]
    [InlineData("date", "9999-12-31", "DATE", "9999-12-31")]
    [InlineData("time(6)", "23:59:59.999999", "TIME", "23:59:59.999999")]
    [InlineData("time", "-838:59:59", "TEXT", "-838:59:59")]
    [InlineData("datetime(6)", "9999-12-31 23:59:59.999999", "TIMESTAMP", "9999-12-31 23:59:59.999999")]
    [InlineData("timestamp", "2024-07-01 10:00:00", "TIMESTAMP", "2024-07-01 10:00:00")]
    [InlineData("year", "2155", "INTEGER", "2155")]
    [InlineData("bit(1)", "1", "INTEGER", "1")]
    [InlineData("bit(64)", "18446744073709551615", "DECIMAL(20,0)", "18446744073709551615")]
    [InlineData("char(5)", "ab", "VARCHAR(5)", "ab")]
    [InlineData("varchar(5)", "ab  ", "VARCHAR(5)", "ab  ")]
    [InlineData("text", "\u00e9\U0001F3BB", "TEXT", "\u00e9\U0001F3BB")]
    [InlineData("varchar(9) CHARACTER SET utf8mb3", "\u20ac", "VARCHAR(9)", "\u20ac")]
    [InlineData("varchar(9) CHARACTER SET latin1", "\u00e9\u20ac", "VARCHAR(9)", "\u00e9\u20ac")]
    [InlineData("longtext CHARACTER SET cp1251", "\u0416", "TEXT", "\u0416")]
    [InlineData("enum('new','old')", "old", "TEXT", "old")]
    [InlineData("set('a','b','c')", "a,c", "TEXT", "a,c")]
    [InlineData("json", "{\"a\": 1}", "TEXT", "{\"a\": 1}")]
    [InlineData("uuid", "123e4567-e89b-12d3-a456-426655440000", "UUID", "123e4567-e89b-12d3-a456-426655440000")]
    [InlineData("inet6", "::1", "TEXT", "::1")]
    [InlineData("varbinary(4)", "ab", "BLOB", "6162")]
    [InlineData("binary(4)", "ab", "BLOB", "61620000")]
    [InlineData("blob", "ab", "BLOB", "6162")]
    public void Types_are_told_and_read(string declared, string value, string type, string shown)
    {
        string literal = declared.StartsWith("bit", StringComparison.Ordinal) ? value : $"'{value}'";
        using IStore store = Open($"CREATE TABLE t (v {declared} NULL) CHARACTER SET utf8mb4",
            $"SET time_zone = '+00:00'; INSERT INTO t VALUES ({literal}), (NULL)");
        FieldType told = store.ReadShape().Single().Columns.Single().Type;
        if (declared == "time") told = FieldType.Text; // what is no time of day is read as text
        Assert.Equal(type, told.ToString());
        Assert.Equal([shown, null], Cells.Of(store, "t", "v", told, out RowFault[] faults));
        Assert.Empty(faults);
    }

    [Theory]
    [InlineData("date", "0000-00-00", "DATE", FaultCode.NotADate)]
    [InlineData("date", "2024-02-00", "DATE", FaultCode.NotADate)]
    [InlineData("datetime", "0000-00-00 00:00:00", "TIMESTAMP", FaultCode.NotATime)]
    [InlineData("time", "30:00:00", "TIME", FaultCode.NotATime)]
    [InlineData("bigint unsigned", "18446744073709551615", "INTEGER", FaultCode.OutOfRange)]
    [InlineData("tinyint(1)", "2", "BOOLEAN", FaultCode.NotABoolean)]
    [InlineData("varchar(9)", "12,5O", "DECIMAL(10,2)", FaultCode.NotANumber)]
    public void What_is_no_value_of_the_kits_type_is_a_fault_and_can_be_read_as_text(string declared, string value, string type,
        FaultCode code)
    {
        using IStore store = Open($"CREATE TABLE t (v {declared})", $"SET sql_mode = ''; INSERT INTO t VALUES ('{value}')");
        Assert.True(FieldType.TryParse(type, out FieldType wanted));
        Assert.Equal([null], Cells.Of(store, "t", "v", wanted, out RowFault[] faults));
        Assert.Equal((code, value), (Assert.Single(faults).Code, faults[0].Value));
        Assert.Equal([value], Cells.Of(store, "t", "v", FieldType.Text, out faults));
        Assert.Empty(faults);
    }

    [Fact]
    public void Texts_that_the_server_takes_for_equal_stay_apart_and_in_order()
    {
        using IStore store = Open("CREATE TABLE t (v varchar(9)) COLLATE utf8mb4_general_ci",
            "INSERT INTO t VALUES ('a'), ('A'), ('a'), ('\u00e1'), ('A'), ('a ')");
        var shape = new TableShape("t", [new ColumnShape("v", FieldType.Text)], [], []);
        RecordBatch batch = store.Batches(shape, ["v"], CancellationToken.None).Single();
        Assert.Equal(["A", "A", "a", "a", "a ", "\u00e1"], Enumerable.Range(0, batch.RowCount).Select(batch.Vectors[0].Show));
    }

    [Fact]
    public void Keys_that_differ_in_case_accents_or_blanks_are_different_in_a_new_store()
    {
        StoreAddress address = _servers.Database("mariadb", "keys");
        var table = new TableShape("t", [new("k", FieldType.Text, true)], ["k"], []);
        using IStoreBuilder builder = _stores.Create(address);
        builder.CreateTable(table);
        var batch = new RecordBatch(table.Columns);
        foreach (string text in (string[])["a", "A", "a ", "\u00e1", "a"]) ((BytesVector)batch.Vectors[0])
            .Append(System.Text.Encoding.UTF8.GetBytes(text));
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2, 3, 4], rejects);
        Assert.Equal((4, FaultCode.DuplicateKey), (Assert.Single(rejects).Row, rejects[0].Code));
    }

    [Fact]
    public void What_the_server_would_cut_or_change_is_refused_whole()
    {
        StoreAddress address = _servers.Database("mariadb", "cut");
        // A key without a limit is declared with 255 characters, and a longer one must not be cut.
        var table = new TableShape("t", [new("k", FieldType.Text, true), new("d", new(FieldKind.Double))], ["k"], []);
        using IStoreBuilder builder = _stores.Create(address);
        builder.CreateTable(table);
        var batch = new RecordBatch(table.Columns);
        foreach ((string text, double number) in ((string, double)[])[("short", 1), (new string('x', 300), 2),
            ("endless", double.PositiveInfinity), ("fine", 3)])
        {
            ((BytesVector)batch.Vectors[0]).Append(System.Text.Encoding.UTF8.GetBytes(text));
            ((DoubleVector)batch.Vectors[1]).Append(number);
        }
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2, 3], rejects);
        Assert.Equal([(1, FaultCode.WrongKind), (2, FaultCode.NotFinite)], rejects.Select(reject => (reject.Row, reject.Code)).Order());
        builder.Complete(new Dictionary<string, string>());
        using IStore store = _stores.Open(address);
        Assert.Equal(2, store.CountRows("t"));
    }

    [Fact]
    public void Tables_without_transactions_are_told_and_kept_from_change_while_they_are_read()
    {
        StoreAddress address = _servers.Made("mariadb", "isam", "CREATE TABLE t (v int) ENGINE = MyISAM", "INSERT INTO t VALUES (1)");
        using (IStore store = _stores.Open(address))
        {
            Assert.Equal("t", store.Identity.HeaderFields["tables_without_transactions"]);
            Assert.ThrowsAny<System.Data.Common.DbException>(() => TestServers.Execute(address,
                "SET lock_wait_timeout = 1; INSERT INTO t VALUES (2)"));
            Assert.Equal(1, store.CountRows("t"));
        }
        TestServers.Execute(address, "INSERT INTO t VALUES (2)");
    }

    [Fact]
    public void A_wide_table_of_long_texts_is_made_all_the_same()
    {
        StoreAddress address = _servers.Database("mariadb", "wide");
        var table = new TableShape("t",
            [.. Enumerable.Range(0, 40).Select(i => new ColumnShape("c" + i, new FieldType(FieldKind.Text, Length: 900)))], [], []);
        using IStoreBuilder builder = _stores.Create(address);
        builder.CreateTable(table);
        builder.Complete(new Dictionary<string, string>());
        using IStore store = _stores.Open(address);
        Assert.Contains(store.ReadShape().Single().Columns, column => column.Type.Length == 900);
    }

    [Theory]
    [InlineData("[client]\nuser = keeper\npassword = \"s p\"\n", "keeper", "s p")]
    [InlineData("[mysqld]\nuser=mysql\n[client]\n# password=old\npassword='p=w'\nuser=k\n[other]\nuser=x\n", "k", "p=w")]
    public void The_engines_own_option_file_is_read(string text, string user, string password)
    {
        string file = _folder.Write("my.cnf", text);
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(file, UnixFileMode.UserRead);
        Assert.Equal((user, password), OptionFile.Read(file));
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.GroupRead);
        Assert.Contains("can be read by others", Assert.Throws<TransferraException>(() => OptionFile.Read(file)).Message,
            StringComparison.Ordinal);
        Assert.Null(OptionFile.Read(_folder["none"]));
        Assert.Null(OptionFile.Read(_folder.Write("empty", "[mysqld]\nport=1\n")));
    }
}
