using Microsoft.Data.Sqlite;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class KnownOfFilesTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly KnownOfFiles<long> _counts = new();
    private int _counted;

    public KnownOfFilesTests() => File.WriteAllText(Path, "records");

    public void Dispose() => _folder.Dispose();

    private string Path => _folder["books.db"];

    // When what was written last lies some time back.
    private MarkedReading Begin()
    {
        Thread.Sleep(60);
        return KnownOfFiles<long>.Begin(SqliteOpener.Engine, Path);
    }

    // Long enough for the clock of the volume to go on; each count is another number.
    private long Ask(MarkedReading reading, Action? meanwhile = null) => _counts.Of(reading, Path, "t", _ =>
    {
        meanwhile?.Invoke();
        Thread.Sleep(60);
        return ++_counted;
    });

    [Fact]
    public void What_nobody_wrote_to_is_counted_once()
    {
        Assert.Equal(1, Ask(Begin()));
        Assert.Equal(1, Ask(Begin()));
        Assert.Equal(1, _counts.Kept);
    }

    [Fact]
    public void What_was_written_to_since_is_counted_anew()
    {
        Assert.Equal(1, Ask(Begin()));
        File.AppendAllText(Path, "more");
        Assert.Equal(2, Ask(Begin()));
        Assert.Equal(2, Ask(Begin()));
        // Also where it was opened before, and asked after.
        MarkedReading opened = Begin();
        File.WriteAllText(_folder["books.db-wal"], "changes that wait");
        Assert.Equal(3, Ask(opened));
        Assert.Equal(4, Ask(Begin()));
    }

    [Fact]
    public void What_is_written_to_while_it_is_counted_is_not_kept()
    {
        Assert.Equal(1, Ask(Begin(), meanwhile: () => File.AppendAllText(Path, "more")));
        Assert.Equal(0, _counts.Kept);
        Assert.Equal(2, Ask(Begin()));
    }

    [Fact]
    public void What_was_written_to_a_moment_before_is_not_kept_as_another_change_might_have_the_same_time()
    {
        // A machine that stops between the two lines lets the moment pass.
        Assert.Contains(Enumerable.Range(0, 20), _ =>
        {
            File.WriteAllText(Path, "records");
            return !KnownOfFiles<long>.Begin(SqliteOpener.Engine, Path).WasSettled;
        });
        File.WriteAllText(Path, "records");
        MarkedReading reading = KnownOfFiles<long>.Begin(SqliteOpener.Engine, Path);
        Ask(reading);
        Assert.Equal(reading.WasSettled ? 1 : 0, _counts.Kept);
    }

    [Fact]
    public void A_store_that_is_opened_again_after_a_change_tells_its_records_as_they_are()
    {
        var opener = new StoreOpener([new SqliteOpener()]);
        var address = new StoreAddress(SqliteOpener.Engine, _folder["many.db"]);
        void execute(string sql)
        {
            using var connection = new SqliteConnection($"Data Source={address.Path};Pooling=False");
            connection.Open();
            using SqliteCommand command = connection.CreateCommand();
            command.CommandText = sql;
            command.ExecuteNonQuery();
        }
        long count()
        {
            using IStore store = opener.Open(address);
            Thread.Sleep(60);
            return store.CountRows("t");
        }
        execute("CREATE TABLE t (a INTEGER, b TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400000) "
            + "INSERT INTO t SELECT i, 'record number ' || i FROM n");
        Assert.Equal(400_000, count());
        Assert.Equal(400_000, count());
        execute("DELETE FROM t WHERE a = 17");
        Assert.Equal(399_999, count());
        execute("PRAGMA journal_mode = WAL; DELETE FROM t WHERE a = 18");
        Assert.Equal(399_998, count());
    }

    private const int Many = 300_000;

    private static long Count(StoreOpener opener, StoreAddress address)
    {
        using IStore store = opener.Open(address);
        return store.CountRows("t");
    }

    [Theory]
    [InlineData("delimited", "t.csv", "A,B\n", "1,one\n", "2,two\n")]
    [InlineData("json-lines", "t.jsonl", "", "{\"A\": 1}\n", "{\"A\": 2, \"C\": 3}\n")]
    public void Files_of_text_tell_their_records_as_they_are_each_time_they_are_opened(string engine, string file, string head, string line,
        string last)
    {
        var opener = new StoreOpener();
        string folder = Directory.CreateDirectory(_folder[engine]).FullName, path = System.IO.Path.Combine(folder, file);
        File.WriteAllText(path, head + string.Concat(Enumerable.Repeat(line, Many)));
        var address = new StoreAddress(engine, folder);
        Assert.Equal([Many, Many], (long[])[Count(opener, address), Count(opener, address)]);
        File.AppendAllText(path, last);
        Assert.Equal([Many + 1, Many + 1], (long[])[Count(opener, address), Count(opener, address)]);
        using IStore store = opener.Open(address);
        Assert.Equal(engine == "delimited" ? ["A", "B"] : ["A", "C"], store.ReadShape().Single().Columns.Select(column => column.Name));
        if (engine != "delimited") return;
        // The same file, said to be written in another way.
        Assert.Equal(Many + 2, Count(opener, address with { Form = new Dictionary<string, string> { ["header"] = "no" } }));
        Assert.Equal(Many + 1, Count(opener, address));
    }

    [Fact]
    public void A_dbf_table_tells_its_records_and_how_wide_its_numbers_are_each_time_it_is_opened()
    {
        const int headerBytes = 32 + 32 + 1, recordBytes = 1 + 10;
        var opener = new StoreOpener();
        string folder = Directory.CreateDirectory(_folder["dbf"]).FullName, path = System.IO.Path.Combine(folder, "t.dbf");
        byte[] header = new byte[headerBytes];
        (header[0], header[1], header[2], header[3]) = (3, 126, 11, 30);
        BitConverter.TryWriteBytes(header.AsSpan(4), Many);
        BitConverter.TryWriteBytes(header.AsSpan(8), (short)headerBytes);
        BitConverter.TryWriteBytes(header.AsSpan(10), (short)recordBytes);
        "N"u8.CopyTo(header.AsSpan(32));
        (header[32 + 11], header[32 + 16], header[^1]) = ((byte)'N', 10, 13);
        using (FileStream file = File.Create(path))
        {
            file.Write(header);
            for (int record = 0; record < Many; record++) file.Write(" 0000000012"u8);
        }
        var address = new StoreAddress("dbf", folder);
        Assert.Equal([Many, Many], (long[])[Count(opener, address), Count(opener, address)]);
        using (IStore store = opener.Open(address)) Assert.Equal(FieldKind.Integer, store.ReadShape().Single().Columns[0].Type.Kind);
        using (FileStream file = File.OpenWrite(path))
        {
            file.Position = headerBytes;
            file.Write("*0000000012 000001.250"u8); // one is deleted, and the next one is an amount
        }
        Assert.Equal([Many - 1, Many - 1], (long[])[Count(opener, address), Count(opener, address)]);
        using IStore again = opener.Open(address);
        Assert.Equal(FieldKind.Decimal, again.ReadShape().Single().Columns[0].Type.Kind);
    }
}
