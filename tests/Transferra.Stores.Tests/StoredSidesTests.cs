// StoredSidesTests.cs: two tables compared by their stored bytes come to what two readings of all their values come to, whatever the tables
// are like and whatever was done to one of them; and the whole match says the same of them.
using System.Text.Json;
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class StoredSidesTests(ITestOutputHelper output) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static readonly string[] Tables =
    [
        "CREATE TABLE t (k INTEGER PRIMARY KEY, a, b TEXT, c DECIMAL(12,2), d DATE)",
        "CREATE TABLE t (k TEXT PRIMARY KEY, a, b TEXT, c DECIMAL(12,2), d DATE)",
        "CREATE TABLE t (k INTEGER, a, b TEXT, c REAL, d BLOB)",
        "CREATE TABLE t (k INTEGER NOT NULL, a, b TEXT, c REAL, d BLOB, PRIMARY KEY (k, a))",
        "CREATE TABLE t (k INTEGER PRIMARY KEY, a, b TEXT, c AS (k * 2), d BLOB)",
        "CREATE TABLE t (k INTEGER PRIMARY KEY, a, b TEXT, c, d BLOB) WITHOUT ROWID",
    ];

    // What happens to the second store; most of it leaves most records as they are.
    private static readonly string[] Changes =
    [
        "", "", "VACUUM",
        "UPDATE t SET b = 'other' WHERE rowid % 997 = 3",
        "UPDATE t SET b = b || ' ' WHERE rowid = (SELECT max(rowid) FROM t)",
        "DELETE FROM t WHERE rowid % 501 = 7",
        "INSERT INTO t (k, a, b, d) SELECT k + 1000000, a, 'new', d FROM t WHERE rowid % 499 = 5",
        "UPDATE t SET a = CAST(a AS TEXT) WHERE rowid % 300 = 1",
        "UPDATE OR IGNORE t SET rowid = rowid + 5000000 WHERE rowid % 700 = 2",
        "UPDATE t SET b = 'x'",
        "ALTER TABLE t ADD COLUMN more TEXT DEFAULT 'm'",
        "DELETE FROM t",
        "DELETE FROM t WHERE rowid % 2 = 0",
    ];

    private static void Run(string path, string sql, bool mayFail = false)
    {
        using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        try { command.ExecuteNonQuery(); }
        catch (SqliteException) when (mayFail) { /* not every change fits every table */ }
    }

    private (StoreAddress Old, StoreAddress New) Pair(string name, string table, string change, int pageBytes, int rows, int seed)
    {
        string old = _folder[name + "-old.db"], renewed = _folder[name + "-new.db"];
        bool isComputed = table.Contains("c AS", StringComparison.Ordinal);
        Run(old, FormattableString.Invariant($"""
            PRAGMA page_size = {pageBytes}; PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; {table};
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})
              INSERT INTO t ({(isComputed ? "k, a, b, d" : "k, a, b, d, c")})
              SELECT i * {(seed % 3) + 1},
                CASE i % 5 WHEN 0 THEN NULL WHEN 1 THEN i * 0.5 WHEN 2 THEN 'text ' || i WHEN 3 THEN x'0102' ELSE i END,
                CASE WHEN i % 400 = {seed % 400} THEN printf('%.*c', {pageBytes} + i % 90, 'ü') ELSE 'note ' || (i * {seed} % 1000) END,
                date('2020-01-01', i % 900 || ' days'){(isComputed ? "" : $", i * {seed} % 10007 / 100.0")} FROM n;
            """));
        File.Copy(old, renewed);
        Run(renewed, change, mayFail: true);
        return (new StoreAddress("sqlite", old), new StoreAddress("sqlite", renewed));
    }

    private static TableShape Stored(IStore store) => store.ReadStoredShape("t")! with { Name = "t", Key = store.ReadShape()[0].Key };

    private static BucketedFingerprint Plain(IStore store, TableShape shape)
    {
        var records = new BucketedFingerprint();
        new TableReading(shape, isKept: true).Into(records, store, border: null, observer: null, CancellationToken.None);
        return records;
    }

    [Fact]
    public void Both_sides_come_to_what_readings_of_all_values_come_to()
    {
        int seed = Seeds.Given, taken = 0, withDifferences = 0;
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        for (int table = 0; table < Tables.Length; table++)
            for (int change = 0; change < Changes.Length; change++)
            {
                string what = $"{Tables[table]}; {Changes[change]}";
                int rows = random.Next(3) == 0 ? random.Next(21_000, 24_000) : random.Next(0, 3_000);
                (StoreAddress before, StoreAddress after) = Pair($"{table}-{change}", Tables[table], Changes[change],
                    random.Next(2) == 0 ? 512 : 4096, rows, random.Next(1, 5000));
                using IStore old = new StoreOpener().Open(before), renewed = new StoreOpener().Open(after);
                TableShape was = Stored(old), now = Stored(renewed);
                long told = 0;
                StoredSides? both = StoredSides.Read(old, was, renewed, now, more => told += more, CancellationToken.None);
                if (both is null) continue;
                taken++;
                BucketedFingerprint expected = Plain(old, was), found = Plain(renewed, now);
                Assert.True(expected.Total() == both.Expected.Total() && found.Total() == both.Found.Total(), what);
                Assert.Equal(expected.Groups(256), both.Expected.Groups(256));
                Assert.Equal(found.Groups(256), both.Found.Groups(256));
                Assert.InRange(told, found.Total().Rows * 7 / 4, found.Total().Rows * 2);
                if (expected.Total() != found.Total()) withDifferences++;
                Assert.True(both.Differing is null || now.Key is ["k"], what);
            }
        // Otherwise nothing was compared at all.
        Assert.InRange(taken, 25, Tables.Length * Changes.Length);
        Assert.InRange(withDifferences, 10, taken);
    }

    [Fact]
    public void The_whole_match_says_of_every_pair_what_it_says_without_stored_bytes()
    {
        IStoreOpener[] openers = [new StoreOpener(), System.Reflection.DispatchProxy.Create<IStoreOpener, WithoutStored>()];
        for (int table = 0; table < Tables.Length; table++)
            for (int change = 0; change < Changes.Length; change++)
            {
                (StoreAddress before, StoreAddress after) = Pair($"{table}-{change}", Tables[table], Changes[change], 1024, 1_500, 7);
                string[] said = [.. openers.Select(stores => JsonSerializer.Serialize(BareMatch.Run(stores,
                    new BareSide(before, [], null, []), new BareSide(after, [], null, []), new Silent(), CancellationToken.None)))];
                Assert.True(said[0] == said[1], $"{Tables[table]}; {Changes[change]}\n{said[0]}\n{said[1]}");
            }
    }

    [Fact]
    public void Text_that_is_read_by_another_code_page_is_not_the_same_though_its_bytes_are()
    {
        string path = _folder["s.db"];
        Run(path, "CREATE TABLE t (k INTEGER PRIMARY KEY, b TEXT); INSERT INTO t VALUES (1, CAST(x'4d81' AS TEXT)), (2, 'b')");
        File.Copy(path, _folder["copy.db"]);
        using IStore old = new StoreOpener().Open(new StoreAddress("sqlite", path), "ibm850"),
            renewed = new StoreOpener().Open(new StoreAddress("sqlite", _folder["copy.db"]), "windows-1252"),
            again = new StoreOpener().Open(new StoreAddress("sqlite", _folder["copy.db"]), "ibm850");
        Assert.Null(StoredSides.Read(old, Stored(old), renewed, Stored(renewed), _ => { }, CancellationToken.None));
        Assert.NotNull(StoredSides.Read(old, Stored(old), again, Stored(again), _ => { }, CancellationToken.None));
    }

    [Theory]
    [InlineData(0x00)] // what kind of page it is
    [InlineData(0x03)] // how many records it has
    [InlineData(0x08)] // where the first one is
    public void A_page_that_is_not_as_it_should_be_is_left_to_the_engine(int offset)
    {
        (StoreAddress before, StoreAddress after) = Pair("damaged", Tables[0], "", 512, 2_000, 3);
        byte[] bytes = File.ReadAllBytes(after.Path);
        // The fourth leaf from the end of the file, whichever it is.
        int page = Enumerable.Range(1, (bytes.Length / 512) - 1).Where(page => bytes[page * 512] == 13).Reverse().ElementAt(3);
        bytes[(page * 512) + offset] = 0xEE;
        File.WriteAllBytes(after.Path, bytes);
        using IStore old = new StoreOpener().Open(before), renewed = new StoreOpener().Open(after);
        Assert.Null(StoredSides.Read(old, Stored(old), renewed, Stored(renewed), _ => { }, CancellationToken.None));
    }

    private sealed class Silent : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows) { }
    }
}

/// <summary>Opens stores whose stored bytes cannot be had.</summary>
#pragma warning disable CA1852 // the proxy is a class below it
internal class WithoutStored : System.Reflection.DispatchProxy
#pragma warning restore CA1852
{
    private readonly StoreOpener _stores = new();

    protected override object? Invoke(System.Reflection.MethodInfo? targetMethod, object?[]? args)
    {
        object? answer = targetMethod!.Invoke(_stores, args);
        return answer is IStore store ? new SampledStore(store, new Dictionary<string, IReadOnlyList<KeyRange>>()) : answer;
    }
}
