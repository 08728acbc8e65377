// ServersBenchmark.cs: conversion into a database server, against the fastest thing the engine itself offers:
//   postgresql  a database into another: psql COPY (binary) piped to psql COPY, then the key
//   mariadb     a text file into a table with its key: LOAD DATA by the mariadb program; ours converts from a SQLite store
// firebird    a text file into a table: prepared inserts through the same driver in one transaction, then the key; ours converts from a
// SQLite store Both sides make their database, their table and its key, and alternate; ours also proves its counts. The servers are those
// of tests/servers.sh.
using System.Diagnostics;
using System.Globalization;
using System.Text;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Benchmarks;

internal static class ServersBenchmark
{
    private const string Version = """
        version: "{0}"
        told-by: [{table: entry, column: entry_no, where: entry_no = 1, is: "1"}]
        tables:
          entry:
            columns: {entry_no: INTEGER NOT NULL, voucher_no: VARCHAR(10), posted_on: DATE, period_no: INTEGER, amount: "DECIMAL(14,2)",
              tax: "DECIMAL(14,2)", narrative: VARCHAR(40), is_posted: BOOLEAN}
            key: [entry_no]
        """;

    private const string HopText = """
        hop: {from: "1", to: "2"}
        tables:
          - from: entry
            into: {entry: {entry_no: entry_no, voucher_no: voucher_no, posted_on: posted_on, period_no: period_no, amount: amount,
              tax: tax, narrative: narrative, is_posted: is_posted}}
        """;

    private static ServerAddress Server(string engine)
    {
        string[] parts = (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_" + engine.ToUpperInvariant())
            ?? throw new InvalidOperationException("start the servers first: benchmarks/servers.sh")).Split(':');
        return new ServerAddress(parts[0], int.Parse(parts[1], CultureInfo.InvariantCulture), parts[2], parts[3]);
    }

    internal static StoreAddress At(string engine, string name) =>
        new(engine, engine == "firebird" ? Path.Combine(Environment.GetEnvironmentVariable("TRANSFERRA_TEST_FIREBIRD_FOLDER")!,
            name + ".fdb") : name, Server: Server(engine));

    internal static string Password(ServerAddress server) => File.ReadLines(server.PasswordFile!).First();

    public static int Run(string engine, int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        var stores = new StoreOpener();
        IStoreServer server = stores.ServerOf(At(engine, ""));
        try
        {
            Console.WriteLine(FormattableString.Invariant($"{engine}: {rows:#,0} rows of eight columns; {rounds} rounds, alternating"));
            string source = Path.Combine(folder, "text", "entry.tsv");
            Generate(source, rows);
            string old = Path.Combine(folder, "old.db");
            Child(engine == "postgresql" ? engine : "sqlite", engine == "postgresql" ? "bench_old" : old, Path.GetDirectoryName(source)!);
            var ours = new List<double>();
            var theirs = new List<double>();
            long peak = 0;
            for (int round = 0; round < rounds; round++)
            {
                server.Remove(At(engine, "bench_theirs").Path);
                theirs.Add(engine switch { "postgresql" => Postgresql(), "mariadb" => Mariadb(source), _ => Firebird(source) });
                server.Remove(At(engine, "bench_ours").Path);
                (double seconds, long most) = Measure(engine, "bench_ours", engine == "postgresql" ? "bench_old" : old);
                ours.Add(seconds);
                peak = Math.Max(peak, most);
            }
            using (IStore a = stores.Open(At(engine, "bench_ours")), b = stores.Open(At(engine, "bench_theirs")))
                if (a.CountRows("entry") != rows
                    || b.CountRows("entry") != rows) throw new InvalidOperationException("the two sides did not come to the same records");
            double[] ratios = [.. ours.Zip(theirs, (x, y) => x / y).Order()];
            Console.WriteLine(FormattableString.Invariant($"yardstick  {theirs.Min():0.00} to {theirs.Max():0.00} s"));
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"transferra {ours.Min():0.00} to {ours.Max():0.00} s, largest memory {peak / 1048576.0:0} MB"));
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"ratio of elapsed times, transferra to yardstick: {ratios[0]:0.00} to {ratios[^1]:0.00}, median "
                    + $"{ratios[ratios.Length / 2]:0.00}"));
            return 0;
        }
        finally
        {
            foreach (string name in (string[])["bench_old", "bench_ours", "bench_theirs"]) server.Remove(At(engine, name).Path);
            Directory.Delete(folder, recursive: true);
        }
    }

    private static void Generate(string path, int rows)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        using var writer = new StreamWriter(path, append: false, new UTF8Encoding(false), 1 << 16) { NewLine = "\n" };
        writer.WriteLine("entry_no\tvoucher_no\tposted_on\tperiod_no\tamount\ttax\tnarrative\tis_posted");
        var random = new Random(7);
        string[] words = ["hire of violin", "repair of bassoon", "deposit returned", "strings and reeds", "transport of harp"];
        for (int row = 1; row <= rows; row++)
            writer.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{row}\tV{row / 3:000000000}\t20{20 + row % 6}-{1 + row % 12:00}-{1 + row % 28:00}\t{row % 60}\t"
                    + $"{random.Next(-999_999, 999_999) / 100m:0.00}\t{random.Next(99_999) / 100m:0.00}\t{words[row % 5]} {row % 1000}"
                        + $"\t{row % 2}"));
    }

    private static (double Seconds, long Peak) Measure(string engine, string name, string source)
    {
        var start = new ProcessStartInfo(Environment.ProcessPath!, Environment.ProcessPath!.EndsWith("dotnet", StringComparison.Ordinal)
            ? [typeof(ServersBenchmark).Assembly.Location, "servers-child", engine, name, source] : ["servers-child", engine, name, source])
        { RedirectStandardOutput = true };
        using Process child = Process.Start(start)!;
        string[] said = child.StandardOutput.ReadToEnd().Split(' ', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        child.WaitForExit();
        if (child.ExitCode != 0) throw new InvalidOperationException($"our side ended with {child.ExitCode}");
        return (double.Parse(said[0], CultureInfo.InvariantCulture), long.Parse(said[1], CultureInfo.InvariantCulture));
    }

    public static int Child(string engine, string name, string source)
    {
        string kitFolder = Directory.CreateTempSubdirectory("transferra-bench-kit-").FullName;
        try
        {
            foreach (string version in (string[])["1", "2"]) Write($"versions/{version}.yaml",
                Version.Replace("{0}", version, StringComparison.Ordinal));
            Write("hops/1-to-2.yaml", HopText);
            Write("kit.yaml", "kit: bench\ntitle: Bench\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
            Correspondence hop = KitLoader.Load(kitFolder, "bench", KnownKinds.All, new DescriptionErrors())!.Hops[0].Correspondence;
            var stores = new StoreOpener();
            StoreAddress from = Directory.Exists(source) ? new StoreAddress("delimited", source, new Dictionary<string,
                string>
            { ["separator"] = "tab", ["dates"] = "YYYY-MM-DD" })
                : File.Exists(source) ? new StoreAddress("sqlite", source) : At(engine, source);
            var clock = Stopwatch.StartNew();
            using (IStore old = stores.Open(from))
            using (IStoreBuilder into = stores.Create(engine == "sqlite" ? new StoreAddress(engine, name) : At(engine, name)))
            {
                ConversionResult result = ConversionPass.Run(old, into, hop, new Dictionary<string, string>(), exception =>
                    throw new InvalidOperationException(exception.Causes[0].Reason), new Silent(), CancellationToken.None);
                if (result.Exceptions > 0) throw new InvalidOperationException("there were exceptions");
            }
            clock.Stop();
            long peak = File.ReadLines("/proc/self/status").Where(line => line.StartsWith("VmHWM:", StringComparison.Ordinal))
                .Select(line => long.Parse(line.AsSpan(6).Trim().ToString().Split(' ')[0], CultureInfo.InvariantCulture) * 1024).Single();
            Console.WriteLine(FormattableString.Invariant($"{clock.Elapsed.TotalSeconds} {peak}"));
            return 0;
        }
        finally
        {
            Directory.Delete(kitFolder, recursive: true);
        }

        void Write(string file, string text)
        {
            string path = Path.Combine(kitFolder, file);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            File.WriteAllText(path, text);
        }
    }

    private sealed class Silent : IProgressObserver
    {
        public void Progress(string table, long rows, long ofRows) { }
    }

    private static double Shell(string script, ServerAddress server)
    {
        var start = new ProcessStartInfo("bash", ["-c", "set -e -o pipefail\n" + script]);
        start.Environment["PGPASSWORD"] = start.Environment["MYSQL_PWD"] = Password(server);
        var clock = Stopwatch.StartNew();
        using Process shell = Process.Start(start)!;
        shell.WaitForExit();
        if (shell.ExitCode != 0) throw new InvalidOperationException("the yardstick failed");
        return clock.Elapsed.TotalSeconds;
    }

    private static double Postgresql()
    {
        ServerAddress server = Server("postgresql");
        string psql = FormattableString.Invariant($"psql -q -X -v ON_ERROR_STOP=1 -h {server.Host} -p {server.Port} -U {server.User}");
        return Shell($"""
            {psql} -c 'CREATE DATABASE bench_theirs TEMPLATE template0' postgres
            {psql} -c 'CREATE TABLE entry (entry_no bigint NOT NULL, voucher_no varchar(10), posted_on date, period_no bigint,
                amount numeric(14,2), tax numeric(14,2), narrative varchar(40), is_posted boolean)' bench_theirs
            {psql} -c 'COPY entry TO STDOUT (FORMAT BINARY)' bench_old | {psql} -c 'COPY entry FROM STDIN (FORMAT BINARY)' bench_theirs
            {psql} -c 'ALTER TABLE entry ADD PRIMARY KEY (entry_no)' bench_theirs
            """, server);
    }

    private static double Mariadb(string source)
    {
        ServerAddress server = Server("mariadb");
        string mariadb = string.Create(CultureInfo.InvariantCulture,
            $"mariadb --no-defaults --local-infile=1 -h {server.Host} -P {server.Port} -u {server.User}");
        return Shell($"""
            {mariadb} -e 'CREATE DATABASE bench_theirs CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin'
            {mariadb} bench_theirs -e 'CREATE TABLE entry (entry_no bigint NOT NULL PRIMARY KEY, voucher_no varchar(10),
                posted_on date, period_no bigint, amount decimal(14,2), tax decimal(14,2), narrative varchar(40), is_posted boolean)'
            {mariadb} bench_theirs -e "LOAD DATA LOCAL INFILE '{source}' INTO TABLE entry CHARACTER SET utf8mb4 IGNORE 1 LINES"
            """, server);
    }

    private static double Firebird(string source)
    {
        StoreAddress address = At("firebird", "bench_theirs");
        string connect = new FbConnectionStringBuilder
        {
            DataSource = address.Server!.Host,
            Port = address.Server.Port,
            Database = address.Path,
            UserID = address.Server.User,
            Password = Password(address.Server),
            Charset = "UTF8",
            Pooling = false,
        }.ToString();
        var clock = Stopwatch.StartNew();
        FbConnection.CreateDatabase(connect, 16_384, forcedWrites: false, overwrite: false);
        using var connection = new FbConnection(connect);
        connection.Open();
        using (var table = new FbCommand("CREATE TABLE \"entry\" (\"entry_no\" BIGINT NOT NULL, \"voucher_no\" VARCHAR(10) CHARACTER SET "
            + "UTF8, \"posted_on\" DATE, \"period_no\" BIGINT, \"amount\" NUMERIC(14,2), \"tax\" NUMERIC(14,2), \"narrative\" "
            + "VARCHAR(40) CHARACTER SET UTF8, \"is_posted\" BOOLEAN)", connection))
            table.ExecuteNonQuery();
        using (FbTransaction transaction = connection.BeginTransaction())
        {
            using var insert = new FbCommand("INSERT INTO \"entry\" VALUES (?, ?, ?, ?, ?, ?, ?, ?)", connection, transaction);
            for (int i = 0; i < 8; i++) insert.Parameters.Add(new FbParameter());
            insert.Prepare();
            foreach (string line in File.ReadLines(source).Skip(1))
            {
                string[] fields = line.Split('\t');
                insert.Parameters[0].Value = long.Parse(fields[0], CultureInfo.InvariantCulture);
                insert.Parameters[1].Value = fields[1];
                insert.Parameters[2].Value = DateTime.ParseExact(fields[2], "yyyy-MM-dd", CultureInfo.InvariantCulture);
                insert.Parameters[3].Value = long.Parse(fields[3], CultureInfo.InvariantCulture);
                insert.Parameters[4].Value = decimal.Parse(fields[4], CultureInfo.InvariantCulture);
                insert.Parameters[5].Value = decimal.Parse(fields[5], CultureInfo.InvariantCulture);
                insert.Parameters[6].Value = fields[6];
                insert.Parameters[7].Value = fields[7] == "1";
                insert.ExecuteNonQuery();
            }
            transaction.Commit();
        }
        using (var key = new FbCommand("ALTER TABLE \"entry\" ADD PRIMARY KEY (\"entry_no\")", connection)) key.ExecuteNonQuery();
        return clock.Elapsed.TotalSeconds;
    }
}
