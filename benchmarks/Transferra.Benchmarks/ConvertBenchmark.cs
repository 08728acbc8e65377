// ConvertBenchmark.cs: conversion of one SQLite table into a new store, against the engine's own ATTACH and INSERT ... SELECT with the same
// expressions in SQL. Each side runs in a process of its own, alternately, and says its elapsed time and its largest memory.
// Both sides write without a journal on disk and flush the file at the end; the yardstick gets the fastest settings it has.
using System.Diagnostics;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Benchmarks;

internal static class ConvertBenchmark
{
    private const string OldVersion = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          JRNL:
            columns: {JNO: INTEGER NOT NULL, VNO: VARCHAR(10), JDATE: VARCHAR(8), PNO: INTEGER, DR: VARCHAR(12), CR: VARCHAR(12),
              NARR: VARCHAR(40), POSTED: VARCHAR(1)}
            key: [JNO]
        """;

    private const string NewVersion = """
        version: "2"
        told-by: [{header: user_version, is: "2"}]
        header-fields: {user_version: "2"}
        tables:
          entry:
            columns: {entry_no: INTEGER NOT NULL, voucher_no: VARCHAR(10), posted_on: DATE, period_no: INTEGER, amount: "DECIMAL(14,2)",
              credit: VARCHAR(12), narrative: VARCHAR(40), is_posted: BOOLEAN}
            key: [entry_no]
        """;

    private const string HopText = """
        hop: {from: "1", to: "2"}
        tables:
          - from: JRNL
            into:
              entry:
                entry_no: JNO
                voucher_no: VNO
                posted_on: CAST(JDATE AS DATE FORMAT 'DD/MM/RR')
                period_no: PNO
                amount: CAST(DR AS DECIMAL(14,2)) - CAST(CR AS DECIMAL(14,2))
                credit: CR
                narrative: {is: TRIM(TRAILING FROM NARR), changes: trailing blanks removed}
                is_posted: POSTED = 'Y'
        """;

    // The same, as somebody who knows SQLite well would write it. It checks nothing: a wrong date would pass as a wrong text.
    private const string Yardstick = """
        INSERT INTO entry SELECT JNO, VNO,
          CASE WHEN substr(JDATE, 7, 2) < '50' THEN '20' ELSE '19' END || substr(JDATE, 7, 2) || '-' || substr(JDATE, 4,
            2) || '-' || substr(JDATE, 1, 2), PNO,
          CAST(replace(DR, '.', '') AS INTEGER) - CAST(replace(CR, '.', '') AS INTEGER), CR, rtrim(NARR), POSTED = 'Y'
        FROM old.JRNL ORDER BY JNO
        """;

    public static int Run(int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{rows:#,0} rows of eight columns, four expressions, SQLite to SQLite; {rounds} rounds, each side in a process of "
                    + $"its own"));
            Generate(Path.Combine(folder, "old.db"), rows);
            var ours = new List<Measured>();
            var theirs = new List<Measured>();
            for (int round = 0; round < rounds; round++)
            {
                theirs.Add(Measure("yardstick", folder));
                if (round < rounds - 1) File.Delete(Path.Combine(folder, "yardstick.db"));
                ours.Add(Measure("transferra", folder));
                if (round < rounds - 1) File.Delete(Path.Combine(folder, "transferra.db"));
            }
            Compare(folder);
            Tell("yardstick ", rows, theirs, new FileInfo(Path.Combine(folder, "yardstick.db")).Length);
            Tell("transferra", rows, ours, new FileInfo(Path.Combine(folder, "transferra.db")).Length);
            double[] ratios = [.. ours.Zip(theirs, (a, b) => a.Seconds / b.Seconds).Order()];
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"ratio of elapsed times, transferra to yardstick: {ratios[0]:0.00} to {ratios[^1]:0.00}, median "
                    + $"{ratios[ratios.Length / 2]:0.00}"));
            return 0;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private sealed record Measured(double Seconds, long PeakBytes, long Allocated);

    private static void Tell(string side, int rows, List<Measured> all, long bytes)
    {
        Measured[] sorted = [.. all.OrderBy(one => one.Seconds)];
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"{side}: {sorted[0].Seconds:0.00} to {sorted[^1].Seconds:0.00} s, median {sorted[sorted.Length / 2].Seconds:0.00} s; "
                + $"largest memory {all.Max(one => one.PeakBytes) / 1048576.0:0} MB, of which allocated by us in all "
                + $"{all.Max(one => one.Allocated) / (double)rows:0.0} bytes a row; new store {bytes / (double)rows:0.0} bytes a row"));
    }

    private static void Compare(string folder)
    {
        using SqliteConnection connection = Open(Path.Combine(folder, "transferra.db"));
        Execute(connection, $"ATTACH '{Path.Combine(folder, "yardstick.db")}' AS other");
        using SqliteCommand command = connection.CreateCommand();
        command.CommandTimeout = 0;
        command.CommandText = """
            SELECT (SELECT count(*) FROM entry) + (SELECT count(*) FROM other.entry) - 2 * count(*) FROM entry e
              JOIN other.entry o ON o.entry_no = e.entry_no
            WHERE e.voucher_no IS o.voucher_no AND e.posted_on IS o.posted_on AND e.period_no IS o.period_no AND e.amount IS o.amount
              AND e.credit IS o.credit AND e.narrative IS o.narrative AND e.is_posted IS o.is_posted
            """;
        if ((long)command.ExecuteScalar()! != 0) throw new InvalidOperationException("the two sides did not come to the same records");
        Console.WriteLine("both sides came to the same records");
    }

    private static Measured Measure(string what, string folder)
    {
        var start = new ProcessStartInfo(Environment.ProcessPath!, Environment.ProcessPath!.EndsWith("dotnet", StringComparison.Ordinal)
            ? [typeof(ConvertBenchmark).Assembly.Location, "convert-child", what, folder] : ["convert-child", what, folder])
        { RedirectStandardOutput = true };
        using Process child = Process.Start(start)!;
        string[] said = child.StandardOutput.ReadToEnd().Split(' ', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        child.WaitForExit();
        if (child.ExitCode != 0) throw new InvalidOperationException($"the {what} ended with {child.ExitCode}");
        return new Measured(double.Parse(said[0], CultureInfo.InvariantCulture), long.Parse(said[1], CultureInfo.InvariantCulture),
            long.Parse(said[2], CultureInfo.InvariantCulture));
    }

    public static int Child(string what, string folder)
    {
        string old = Path.Combine(folder, "old.db"), into = Path.Combine(folder, what + ".db");
        // Reading the file once puts it into the system's cache for both sides.
        using (FileStream file = File.OpenRead(old)) file.CopyTo(Stream.Null);
        var clock = Stopwatch.StartNew();
        if (what == "yardstick") ByTheEngine(old, into);
        else ByTransferra(old, into, folder);
        clock.Stop();
        long peak = File.ReadLines("/proc/self/status").Where(line => line.StartsWith("VmHWM:", StringComparison.Ordinal))
            .Select(line => long.Parse(line.AsSpan(6).Trim().ToString().Split(' ')[0], CultureInfo.InvariantCulture) * 1024).Single();
        Console.WriteLine(FormattableString.Invariant($"{clock.Elapsed.TotalSeconds} {peak} {GC.GetTotalAllocatedBytes()}"));
        return 0;
    }

    private static void ByTheEngine(string old, string into)
    {
        using (SqliteConnection connection = Open(into))
        {
            Execute(connection, "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA locking_mode = EXCLUSIVE; PRAGMA cache_size "
                + "= -16384; PRAGMA temp_store = MEMORY");
            Execute(connection, $"ATTACH '{old}' AS old");
            Execute(connection, "CREATE TABLE entry (entry_no INTEGER PRIMARY KEY, voucher_no VARCHAR(10), posted_on DATE, period_no "
                + "INTEGER, amount DECIMAL_INT(14,2), credit VARCHAR(12), narrative VARCHAR(40), is_posted BOOLEAN)");
            Execute(connection, Yardstick);
        }
        using FileStream file = new(into, FileMode.Open, FileAccess.ReadWrite);
        file.Flush(flushToDisk: true);
    }

    private static void ByTransferra(string old, string into, string folder)
    {
        string kitFolder = Path.Combine(folder, "kit");
        Directory.CreateDirectory(Path.Combine(kitFolder, "versions"));
        Directory.CreateDirectory(Path.Combine(kitFolder, "hops"));
        File.WriteAllText(Path.Combine(kitFolder, "kit.yaml"), "kit: bench\ntitle: Benchmark\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        File.WriteAllText(Path.Combine(kitFolder, "versions", "1.yaml"), OldVersion);
        File.WriteAllText(Path.Combine(kitFolder, "versions", "2.yaml"), NewVersion);
        File.WriteAllText(Path.Combine(kitFolder, "hops", "1-to-2.yaml"), HopText);
        var errors = new DescriptionErrors();
        Kit kit = KitLoader.Load(kitFolder, "kit", KnownKinds.All, errors)!;
        errors.ThrowIfAny();
        var stores = new StoreOpener();
        using IStore store = stores.Open(new StoreAddress("sqlite", old));
        using IStoreBuilder builder = stores.Create(new StoreAddress("sqlite", into));
        ConversionResult result = ConversionPass.Run(store, builder, kit.Hops[0].Correspondence, new Dictionary<string, string>(), _ =>
            throw new InvalidOperationException("no exception is expected"), new Silent(), CancellationToken.None);
        if (result.Exceptions > 0) throw new InvalidOperationException("no exception is expected");
    }

    private sealed class Silent : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows) { }
    }

    private static void Generate(string path, int rows)
    {
        using SqliteConnection connection = Open(path);
        Execute(connection, "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA user_version = 1");
        Execute(connection, "CREATE TABLE JRNL (JNO INTEGER PRIMARY KEY, VNO TEXT, JDATE TEXT, PNO INTEGER, DR TEXT, CR TEXT, "
            + "NARR TEXT, POSTED TEXT)");
        Execute(connection, string.Create(CultureInfo.InvariantCulture, $"""
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})
            INSERT INTO JRNL SELECT i, printf('V%06d', i / 3), printf('%02d/%02d/%02d', 1 + i % 28, 1 + i % 12, 15 + i % 10), 1 + i % 60,
              CASE i % 2 WHEN 0 THEN printf('%d.%02d', i * 7919 % 100000, i % 100) ELSE '0.00' END, CASE i % 2 WHEN 1
                THEN printf('%d.%02d', i * 104729 % 100000, i % 100) ELSE '0.00' END,
              printf('Hire of %s no %d%s', CASE i % 3 WHEN 0 THEN 'violin' WHEN 1 THEN 'cello' ELSE 'flute' END, i % 997, CASE i % 5
                WHEN 0 THEN '        ' ELSE '' END), CASE i % 7 WHEN 0 THEN 'N' ELSE 'Y' END FROM n
            """));
    }

    private static SqliteConnection Open(string path)
    {
        var connection = new SqliteConnection(new SqliteConnectionStringBuilder
        {
            DataSource = path,
            Pooling = false,
            DefaultTimeout = 0
        }.ToString());
        connection.Open();
        return connection;
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        command.CommandTimeout = 0;
        command.ExecuteNonQuery();
    }
}
