using Microsoft.Data.Sqlite;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Sqlite;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class KnownFileCountsTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly KnownFileCounts _counts = new();
    private int _counted;

    public KnownFileCountsTests() => File.WriteAllText(Path, "records");

    public void Dispose() => _folder.Dispose();

    private string Path => _folder["books.db"];

    private MarkedReading Begin() => new(new StoreAddress(SqliteOpener.Engine, Path), null);

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
}
