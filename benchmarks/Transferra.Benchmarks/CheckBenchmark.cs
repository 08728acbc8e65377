// CheckBenchmark.cs: all rules of one large table in one check, against the engine's own shell reading every column of it once, and against
// one plain full scan of it by the same reader. Each side runs in a process of its own, alternately. The engine's own check of its pages is
// left out on all sides.
using System.Diagnostics;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Benchmarks;

internal static class CheckBenchmark
{
    private const string Version = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          JRNL:
            columns: {JNO: INTEGER NOT NULL, VNO: VARCHAR(10), JDATE: DATE, PNO: INTEGER, ACODE: VARCHAR(8), AMOUNT: "DECIMAL(14,2)",
              NARR: VARCHAR(40), STATUS: VARCHAR(1)}
            key: [JNO]
            relations: [{columns: [ACODE], to: ACCTS, on: [ACODE]}, {columns: [PNO], to: PERIODS, on: [PNO]}]
            no-two: [{columns: [VNO, ACODE], because: an account stands once in a voucher}]
            filled: [NARR]
            codes: {STATUS: [P, D]}
            dates: {JDATE: {from: 2000-01-01, to: 2040-12-31}}
            series: [{name: journal numbers, number: JNO}]
          ACCTS:
            columns: {ACODE: VARCHAR(8) NOT NULL, BALANCE: "DECIMAL(14,2)"}
            key: [ACODE]
          PERIODS:
            columns: {PNO: INTEGER NOT NULL, CLOSED_ON: DATE}
            key: [PNO]
        rules:
          - {name: voucher balances, table: JRNL, by: [VNO], sum: AMOUNT, must-be: "0"}
          - {name: balance of an account, table: ACCTS, by: [ACODE], sum: BALANCE, equals: {table: JRNL, by: [ACODE], sum: AMOUNT}}
          - {name: drafts have no amount beyond a million, table: JRNL, where: "STATUS = 'D'", holds: AMOUNT < 1000000}
          - name: no entry in a closed period
            table: JRNL
            lookups: {period: {by: PNO, table: PERIODS, on: PNO}}
            holds: period.CLOSED_ON IS NULL OR JDATE <= period.CLOSED_ON
        """;

    public static int Run(int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{rows:#,0} rows of eight columns in SQLite without a declared key; key, business key, two relations, codes, dates, "
                    + $"blanks, text, a series, two sums, two conditions; {rounds} rounds, each side in a process of its own"));
            Generate(Path.Combine(folder, "old.db"), rows);
            var ours = new List<Measured>();
            var scans = new List<Measured>();
            var shells = new List<Measured>();
            for (int round = 0; round < rounds; round++)
            {
                shells.Add(WholeCommand.Measure("sqlite3", Path.Combine(folder, "old.db"), "SELECT count(JNO) + sum(length(VNO)) + "
                    + "sum(length(JDATE)) + sum(PNO) + sum(length(ACODE)) + sum(AMOUNT) + sum(length(NARR)) + sum(length(STATUS)) FROM "
                    + "JRNL"));
                scans.Add(Measure("scan", folder));
                ours.Add(Measure("check", folder));
            }
            WholeCommand.Tell("sqlite3 shell, every column once", shells);
            WholeCommand.Tell("one full scan", scans);
            WholeCommand.Tell("check", ours);
            Console.WriteLine($"ratio of elapsed times, check to shell: {WholeCommand.Ratio(ours, shells)}");
            Console.WriteLine($"ratio of elapsed times, check to scan: {WholeCommand.Ratio(ours, scans)}");
            return 0;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static Measured Measure(string what, string folder)
    {
        var start = new ProcessStartInfo(Environment.ProcessPath!, Environment.ProcessPath!.EndsWith("dotnet", StringComparison.Ordinal)
            ? [typeof(CheckBenchmark).Assembly.Location, "check-child", what, folder] : ["check-child", what, folder])
        { RedirectStandardOutput = true };
        using Process child = Process.Start(start)!;
        string[] said = child.StandardOutput.ReadToEnd().Split(' ', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        child.WaitForExit();
        if (child.ExitCode != 0) throw new InvalidOperationException($"the {what} ended with {child.ExitCode}");
        return new Measured(double.Parse(said[0], CultureInfo.InvariantCulture), long.Parse(said[1], CultureInfo.InvariantCulture));
    }

    public static int Child(string what, string folder)
    {
        string old = Path.Combine(folder, "old.db");
        using (FileStream file = File.OpenRead(old)) file.CopyTo(Stream.Null); // into the system's cache for both sides
        KitVersion version = Load(folder);
        using IStore store = new StoreOpener().Open(new StoreAddress("sqlite", old));
        var clock = Stopwatch.StartNew();
        if (what == "scan")
        {
            long read = 0;
            foreach (RecordBatch batch in store.Batches(version.Table("JRNL")!, [], CancellationToken.None)) read += batch.RowCount;
            if (read == 0) throw new InvalidOperationException("nothing was read");
        }
        else
        {
            CheckResult result = new CompanyCheck(version, null, new Dictionary<string, string>(), new Silent(), CancellationToken.None)
                .Run(new WithoutPages(store));
            if (result.Findings.Count > 0) throw new InvalidOperationException($"no finding is expected: {result.Findings[0].What}");
        }
        clock.Stop();
        long peak = File.ReadLines("/proc/self/status").Where(line => line.StartsWith("VmHWM:", StringComparison.Ordinal))
            .Select(line => long.Parse(line.AsSpan(6).Trim().ToString().Split(' ')[0], CultureInfo.InvariantCulture) * 1024).Single();
        Console.WriteLine(FormattableString.Invariant($"{clock.Elapsed.TotalSeconds} {peak}"));
        return 0;
    }

    /// <summary>The store without the engine's check of its pages, which is a scan of its own.</summary>
    private sealed class WithoutPages(IStore store) : IStore
    {
        public StoreIdentity Identity => store.Identity;

        public IReadOnlyList<TableShape> ReadShape() => store.ReadShape();

        public IReadOnlyList<StoreObject> ListObjects() => store.ListObjects();

        public long CountRows(string table) => store.CountRows(table);

        public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null) =>
            store.Read(table, orderBy, within);

        public QueryAnswer Ask(string sql, TimeSpan? limit = null) => store.Ask(sql, limit);

        public IReadOnlyList<string> CheckPhysically() => [];

        public void Dispose() { }
    }

    private sealed class Silent : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows) { }
    }

    private static KitVersion Load(string folder)
    {
        string kit = Path.Combine(folder, "kit");
        Directory.CreateDirectory(Path.Combine(kit, "versions"));
        File.WriteAllText(Path.Combine(kit, "kit.yaml"), "kit: bench\ntitle: Benchmark\nversions: [\"1\"]\n");
        File.WriteAllText(Path.Combine(kit, "versions", "1.yaml"), Version);
        var errors = new DescriptionErrors();
        Kit loaded = KitLoader.Load(kit, "kit", KnownKinds.All, errors)!;
        errors.ThrowIfAny();
        return loaded.Versions[0];
    }

    // Vouchers of four lines, two against two, over 400 accounts and 120 periods.
    private static void Generate(string path, int rows)
    {
        using var connection = new SqliteConnection($"Data Source={path};Pooling=false");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandTimeout = 0;
#pragma warning disable CA2100 // numbers of our own
        command.CommandText = FormattableString.Invariant($"""
            PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;
            CREATE TABLE JRNL (JNO INTEGER, VNO VARCHAR(10), JDATE DATE, PNO INTEGER, ACODE VARCHAR(8), AMOUNT DECIMAL_INT(14,2),
              NARR VARCHAR(40), STATUS VARCHAR(1));
            WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {rows / 4 * 4 - 1})
              INSERT INTO JRNL SELECT i + 1, printf('V%08d', i / 4), date('2014-01-01', (i / 4 % 3600) || ' days'), i / 4 % 120 + 1,
                printf('%04d', (i / 4 * 7 + i % 4) % 400 + 1000),
                CASE i % 4 WHEN 0 THEN 1 WHEN 1 THEN -1 WHEN 2 THEN 2 ELSE -2 END * (i / 4 % 90000 + 100),
                  'hire of instrument ' || (i % 977), CASE WHEN i % 50 = 0 THEN 'D' ELSE 'P' END FROM n;
            CREATE TABLE ACCTS (ACODE VARCHAR(8), BALANCE DECIMAL_INT(14,2));
            INSERT INTO ACCTS SELECT ACODE, sum(AMOUNT) FROM JRNL GROUP BY ACODE;
            CREATE TABLE PERIODS (PNO INTEGER, CLOSED_ON DATE);
            INSERT INTO PERIODS SELECT DISTINCT PNO, CASE WHEN PNO % 2 = 0 THEN '2030-01-01' END FROM JRNL;
            """);
#pragma warning restore CA2100
        command.ExecuteNonQuery();
    }
}
