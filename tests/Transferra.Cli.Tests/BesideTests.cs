using System.Diagnostics;
using Transferra.Core.Records;

namespace Transferra.Cli.Tests;

/// <summary>What SQLite keeps beside a file belongs to that file: it moves with it, counts as part of it, and never comes to lie beside
/// another.</summary>
public sealed class BesideTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    // As a program that is killed, or a machine that stops: committed, and still in the file beside.
    private static void Leave(string path, string sql)
    {
        var start = new ProcessStartInfo("/usr/bin/python3", ["-c", "import os, sqlite3, sys\ndb = sqlite3.connect(sys.argv[1])\n"
            + "db.execute('PRAGMA journal_mode = WAL')\ndb.execute('PRAGMA wal_autocheckpoint = 0')\ndb.executescript(sys.argv[2])\n"
            + "os._exit(0)", path, sql]);
        using Process process = Process.Start(start)!;
        process.WaitForExit();
        Assert.Equal(0, process.ExitCode);
        Assert.NotEqual(0, new FileInfo(path + "-wal").Length);
    }

    [Fact]
    public void Work_done_since_an_upgrade_that_lies_beside_the_store_is_kept_and_does_not_come_into_the_original()
    {
        StoreAddress store = _office.Add("A", "sqlite", "data/a.db").Store;
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("data");
        _office.Upgrade().Expect(0);
        Leave(store.Path, "UPDATE item SET name = 'worked on' WHERE item_no = 2");
        _office.Run("undo", "--yes", "A").Expect(1).Says("used since it was made, and is kept");
        Assert.Equal(before, _office.Signature("data").Where(file => file.Key.StartsWith("a.db", StringComparison.Ordinal))
            .ToDictionary());
        string kept = Assert.Single(Directory.GetFiles(_office["data"], "a.db", SearchOption.AllDirectories), file => file != store.Path);
        Assert.Equal("worked on", DemoFolder.Ask(kept, "SELECT name FROM item WHERE item_no = 2"));
    }

    [Fact]
    public void Changes_that_come_to_lie_beside_the_original_during_the_run_stop_the_change_over()
    {
        StoreAddress store = _office.Add("A", "sqlite", "data/a.db").Store;
        _office.Ready();
        // Nothing is in the old store's own file of what this writes.
        _office.Write("kit/hops/1-to-2.yaml", OddOffice.Hop);
        Leave(store.Path, "UPDATE ITEM SET NAME = 'late' WHERE INO = 2");
        Called called = _office.Upgrade();
        Assert.NotEqual(0, called.ExitCode);
        Assert.Equal("late", DemoFolder.Ask(store.Path, "SELECT NAME FROM ITEM WHERE INO = 2"));
    }
}
