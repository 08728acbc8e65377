using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What only Firebird has: dialects, texts without a character set, octets.</summary>
public sealed class FirebirdTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _servers.Dispose();

    private IStore Open(string? textEncoding, params string[] statements) => _stores.Open(_servers.Made("firebird", "own", statements),
        textEncoding);

    [Theory]
    [InlineData("SMALLINT", "-32768", "INTEGER", "-32768")]
    [InlineData("INTEGER", "2147483647", "INTEGER", "2147483647")]
    [InlineData("BIGINT", "-9223372036854775808", "INTEGER", "-9223372036854775808")]
    [InlineData("NUMERIC(4,2)", "-12.50", "DECIMAL(5,2)", "-12.50")]
    [InlineData("DECIMAL(9,4)", "0.0001", "DECIMAL(10,4)", "0.0001")]
    [InlineData("NUMERIC(18,2)", "9999999999999999.99", "DECIMAL(19,2)", "9999999999999999.99")]
    [InlineData("FLOAT", "0.5", "DOUBLE PRECISION", "0.5")]
    [InlineData("DOUBLE PRECISION", "0.1", "DOUBLE PRECISION", "0.1")]
    [InlineData("DATE", "'0001-01-01'", "DATE", "0001-01-01")]
    [InlineData("DATE", "'9999-12-31'", "DATE", "9999-12-31")]
    [InlineData("TIME", "'23:59:59.9999'", "TIME", "23:59:59.9999")]
    [InlineData("TIMESTAMP", "'9999-12-31 23:59:59.9999'", "TIMESTAMP", "9999-12-31 23:59:59.9999")]
    [InlineData("BOOLEAN", "TRUE", "BOOLEAN", "true")]
    [InlineData("CHAR(5) CHARACTER SET UTF8", "'ab'", "VARCHAR(5)", "ab")]
    [InlineData("VARCHAR(5) CHARACTER SET UTF8", "'ab  '", "VARCHAR(5)", "ab  ")]
    [InlineData("VARCHAR(4) CHARACTER SET UTF8", "'\U0001F3BB'", "VARCHAR(4)", "\U0001F3BB")]
    [InlineData("VARCHAR(16) CHARACTER SET WIN1252", "'caf\u00e9 \u20ac'", "VARCHAR(16)", "caf\u00e9 \u20ac")]
    [InlineData("VARCHAR(9) CHARACTER SET ISO8859_1", "'caf\u00e9'", "VARCHAR(9)", "caf\u00e9")]
    [InlineData("VARCHAR(9) CHARACTER SET DOS850", "'caf\u00e9'", "VARCHAR(9)", "caf\u00e9")]
    [InlineData("VARCHAR(9) CHARACTER SET WIN1251", "'\u0416'", "VARCHAR(9)", "\u0416")]
    [InlineData("VARCHAR(9) CHARACTER SET DOS866", "'\u0416'", "VARCHAR(9)", "\u0416")]
    [InlineData("VARCHAR(9) CHARACTER SET WIN1250", "'\u017e'", "VARCHAR(9)", "\u017e")]
    [InlineData("VARCHAR(9) CHARACTER SET WIN1253", "'\u03a9'", "VARCHAR(9)", "\u03a9")]
    [InlineData("VARCHAR(9) CHARACTER SET WIN1254", "'\u011f'", "VARCHAR(9)", "\u011f")]
    [InlineData("VARCHAR(9) CHARACTER SET WIN1257", "'\u0161'", "VARCHAR(9)", "\u0161")]
    [InlineData("VARCHAR(9) CHARACTER SET DOS437", "'caf\u00e9'", "VARCHAR(9)", "caf\u00e9")]
    [InlineData("VARCHAR(9) CHARACTER SET DOS852", "'\u017e'", "VARCHAR(9)", "\u017e")]
    [InlineData("BLOB SUB_TYPE TEXT CHARACTER SET UTF8", "'\u00e9\U0001F3BB'", "TEXT", "\u00e9\U0001F3BB")]
    [InlineData("BLOB SUB_TYPE TEXT CHARACTER SET WIN1252", "'caf\u00e9'", "TEXT", "caf\u00e9")]
    [InlineData("BLOB SUB_TYPE BINARY", "x'00FF'", "BLOB", "00FF")]
    [InlineData("VARCHAR(4) CHARACTER SET OCTETS", "x'00FF'", "BLOB", "00FF")]
    [InlineData("CHAR(16) CHARACTER SET OCTETS", "x'FFFFFFFF000000000000000000000001'", "UUID", "ffffffff-0000-0000-0000-000000000001")]
    public void Types_are_told_and_read(string declared, string literal, string type, string shown)
    {
        using IStore store = Open(null, $"CREATE TABLE T (V {declared})", $"INSERT INTO T VALUES ({literal})",
            "INSERT INTO T VALUES (NULL)");
        FieldType told = store.ReadShape().Single().Columns.Single().Type;
        Assert.Equal(type, told.ToString());
        Assert.Equal([shown, null], Cells.Of(store, "T", "V", told, out RowFault[] faults));
        Assert.Empty(faults);
        if (told.Kind is FieldKind.Text or FieldKind.Integer or FieldKind.Decimal) Assert.Equal([shown, null],
            Cells.Of(store, "T", "V", FieldType.Text, out _));
    }

    [Theory]
    [InlineData("VARCHAR(20)")]
    [InlineData("CHAR(20)")]
    [InlineData("BLOB SUB_TYPE TEXT")]
    public void Texts_without_a_character_set_are_in_the_code_page_that_the_kit_names(string declared)
    {
        string[] statements = [$"CREATE TABLE T (V {declared} CHARACTER SET NONE)", "INSERT INTO T VALUES (x'636166E9')",
            "INSERT INTO T VALUES ('plain')"];
        using (IStore store = Open("windows-1252", statements)) Assert.Equal(["caf\u00e9", "plain"],
            Cells.Of(store, "T", "V", FieldType.Text, out _));
        Dispose();
        using (IStore store = Open("ibm850", statements)) Assert.Equal(["caf\u00da", "plain"], Cells.Of(store, "T", "V", FieldType.Text,
            out _));
        Dispose();
        using IStore unsaid = Open(null, statements);
        Assert.Equal([null, "plain"], Cells.Of(unsaid, "T", "V", FieldType.Text, out RowFault[] faults));
        Assert.Equal(FaultCode.NotText, Assert.Single(faults).Code);
        Assert.StartsWith("0x636166E9", faults[0].Value, StringComparison.Ordinal);
    }

    [Fact]
    public void A_database_of_dialect_1_is_read_as_it_was_meant()
    {
        StoreAddress address = _servers.Database("firebird", "one");
        ServerAddress server = address.Server!;
        string connect = new FbConnectionStringBuilder
        {
            DataSource = server.Host,
            Port = server.Port,
            Database = address.Path,
            UserID = server.User,
            Password = File.ReadLines(server.PasswordFile!).First(),
            Charset = "NONE",
            Dialect = 1,
            Pooling = false,
        }.ToString();
        FbConnection.CreateDatabase(connect, 8192, forcedWrites: false, overwrite: false);
        using (var connection = new FbConnection(connect))
        {
            connection.Open();
            foreach (string statement in (string[])["CREATE TABLE T (NR INTEGER NOT NULL PRIMARY KEY, AMOUNT NUMERIC(15,2), MADE DATE, "
                + "NAME VARCHAR(16))",
                "INSERT INTO T VALUES (1, 12345678901.25, '2001-02-03 04:05:06', 'first')",
                "INSERT INTO T VALUES (2, 0.1, '2001-02-03', 'second')", "CREATE GENERATOR G", "SET GENERATOR G TO 41"])
            {
                using var command = new FbCommand(statement, connection);
                command.ExecuteNonQuery();
            }
        }
        using IStore store = _stores.Open(address);
        Assert.Equal("1", store.Identity.HeaderFields["dialect"]);
        TableShape table = store.ReadShape().Single();
        Assert.Equal(["INTEGER", "DECIMAL(15,2)", "TIMESTAMP", "VARCHAR(16)"], table.Columns.Select(column => column.Type.ToString()));
        RecordBatch batch = store.Batches(table, ["NR"], CancellationToken.None).Single();
        Assert.Empty(batch.Faults);
        Assert.Equal("12345678901.25 2001-02-03 04:05:06 first", $"{batch.Show(0, 1)} {batch.Show(0, 2)} {batch.Show(0, 3)}");
        Assert.Equal("0.10 2001-02-03 00:00:00 second", $"{batch.Show(1, 1)} {batch.Show(1, 2)} {batch.Show(1, 3)}");
        Assert.Contains(new StoreObject("sequence", "G", "41"), store.ListObjects());
        Assert.Equal(2, store.CountRows("T"));
    }

    [Fact]
    public void Damaged_pages_are_complaints()
    {
        StoreAddress address = _servers.Made("firebird", "page", "CREATE TABLE T (NR INTEGER, V VARCHAR(200))",
            "EXECUTE BLOCK AS DECLARE I INTEGER = 0; BEGIN WHILE (I < 3000) DO BEGIN INSERT INTO T VALUES (:I, LPAD('', 200, 'x' || "
                + ":I)); I = I + 1; END END");
        using (IStore sound = _stores.Open(address)) Assert.Empty(sound.CheckPhysically());
        // The first byte of a page says what it is; 5 is a page of records. The server lets go of the file a moment after the last one
        // left.
        const int pageBytes = 8192, recordPage = 5;
        for (int tries = 0; tries < 50 && _stores.ServerOf(address).ConnectedTo(address.Path).Count > 0; tries++) Thread.Sleep(100);
        _stores.LetGo();
        byte[] file = File.ReadAllBytes(address.Path);
        int page = Enumerable.Range(0, file.Length / pageBytes).Last(number => file[number * pageBytes] == recordPage);
        using (FileStream damaged = new(address.Path, FileMode.Open, FileAccess.Write, FileShare.ReadWrite))
        {
            damaged.Seek(page * (long)pageBytes, SeekOrigin.Begin);
            damaged.Write(new byte[200]);
        }
        using IStore store = _stores.Open(address);
        Assert.NotEmpty(store.CheckPhysically());
    }

    [Fact]
    public void Texts_are_ordered_byte_by_byte_whatever_the_collation()
    {
        using IStore store = Open(null, "CREATE TABLE T (V VARCHAR(9) CHARACTER SET UTF8 COLLATE UNICODE_CI)", "INSERT INTO T VALUES ('a')",
            "INSERT INTO T VALUES ('A')", "INSERT INTO T VALUES ('a')", "INSERT INTO T VALUES ('\u00e1')", "INSERT INTO T VALUES ('a ')",
            "INSERT INTO T VALUES (NULL)");
        Assert.Equal([null, "A", "a", "a", "a ", "\u00e1"], Cells.Of(store, "T", "V", FieldType.Text, out _, "V"));
    }

    [Fact]
    public void A_time_finer_than_the_engine_keeps_is_refused_and_not_cut()
    {
        StoreAddress address = _servers.Database("firebird", "fine");
        var table = new TableShape("T", [new("A", new(FieldKind.Time))], [], []);
        using IStoreBuilder builder = _stores.Create(address);
        builder.CreateTable(table);
        var batch = new RecordBatch(table.Columns);
        ((LongVector)batch.Vectors[0]).Append(100);
        ((LongVector)batch.Vectors[0]).Append(101);
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1], rejects);
        Assert.Equal((1, FaultCode.NeedsRounding), (Assert.Single(rejects).Row, rejects[0].Code));
        Assert.Contains("ten-thousandth", rejects[0].Reason, StringComparison.Ordinal);
    }

    [Fact]
    public void Texts_of_every_length_go_in_whether_they_travel_in_groups_or_alone()
    {
        StoreAddress address = _servers.Database("firebird", "long");
        var table = new TableShape("T", [new("NR", FieldType.Integer, true), new("V", FieldType.Text), new("B", new(FieldKind.Binary))],
            ["NR"], []);
        int[] lengths = [0, 1, 119, 120, 121, 400, 5000, 40_000, 100_000];
        using (IStoreBuilder builder = _stores.Create(address))
        {
            builder.CreateTable(table);
            var batch = new RecordBatch(table.Columns, new BatchLimits(10_000, 1 << 28));
            for (int row = 0; row < 900; row++)
            {
                ((LongVector)batch.Vectors[0]).Append(row);
                ((BytesVector)batch.Vectors[1])
                    .Append(System.Text.Encoding.UTF8.GetBytes(new string('\u00e9', row < 50 ? lengths[row % lengths.Length] : row % 60)));
                ((BytesVector)batch.Vectors[2]).Append(new byte[row < 50 ? lengths[row % lengths.Length] : row % 120]);
            }
            var rejects = new List<RowReject>();
            builder.Write([new TableOutput(table, batch.Vectors)], [.. Enumerable.Range(0, 900)], rejects);
            Assert.Empty(rejects);
            builder.Complete(new Dictionary<string, string>());
        }
        using IStore store = _stores.Open(address);
        int next = 0;
        foreach (RecordBatch batch in store.Batches(table, ["NR"], CancellationToken.None))
        {
            Assert.Empty(batch.Faults);
            for (int row = 0; row < batch.RowCount; row++, next++)
            {
                Assert.Equal(2 * (next < 50 ? lengths[next % lengths.Length] : next % 60), ((BytesVector)batch.Vectors[1])[row].Length);
                Assert.Equal(next < 50 ? lengths[next % lengths.Length] : next % 120, ((BytesVector)batch.Vectors[2])[row].Length);
            }
        }
        Assert.Equal(900, next);
    }
}
