// CopyBenchmark.cs: a hop that changes nothing of a table, on the same engine, against the engine's own INSERT ... SELECT of the table with
// its key. Ours copies the whole store, makes it ready for the new version, and completes it, as a run does; both end on the disk.
using System.Data.Common;
using System.Diagnostics;
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Microsoft.Data.Sqlite;
using MySqlConnector;
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Benchmarks;

internal static class CopyBenchmark
{
    private const string Columns = "entry_no, voucher_no, posted_on, period_no, amount, tax, narrative, is_posted";

    private static readonly TableShape Entry = new("entry", [new("entry_no", FieldType.Integer, Required: true),
        new("voucher_no", new FieldType(FieldKind.Text, Length: 10)), new("posted_on", FieldType.Date), new("period_no", FieldType.Integer),
        new("amount", FieldType.Decimal(14, 2)), new("tax", FieldType.Decimal(14, 2)),
        new("narrative", new FieldType(FieldKind.Text, Length: 40)), new("is_posted", FieldType.Boolean)], ["entry_no"], []);

    public static int Run(string engine, int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        var stores = new StoreOpener();
        StoreAddress At(string name) => engine == "sqlite" ? new StoreAddress(engine, Path.Combine(folder, name))
            : ServersBenchmark.At(engine, name);
        StoreAddress old = At("bench_old"), ours = At("bench_ours");
        try
        {
            Console.WriteLine(FormattableString.Invariant($"{engine}: {rows:#,0} rows of eight columns; {rounds} rounds, alternating"));
            Remove(stores, old);
            Fill(stores, old, rows);
            var seconds = new List<(double Ours, double Theirs)>();
            for (int round = 0; round < rounds; round++)
            {
                Remove(stores, ours);
                double theirs = Theirs(old);
                seconds.Add((Ours(stores, old, ours), theirs));
            }
            using (IStore copy = stores.Open(ours))
                if (copy.CountRows("entry") != rows) throw new InvalidOperationException("the copy does not have the same records");
            double[] ratios = [.. seconds.Select(one => one.Ours / one.Theirs).Order()];
            Console.WriteLine(FormattableString.Invariant(
                $"yardstick  {seconds.Min(one => one.Theirs):0.00} to {seconds.Max(one => one.Theirs):0.00} s"));
            Console.WriteLine(FormattableString.Invariant(
                $"transferra {seconds.Min(one => one.Ours):0.00} to {seconds.Max(one => one.Ours):0.00} s"));
            Console.WriteLine(FormattableString.Invariant(
                $"ratio, transferra to yardstick: {ratios[0]:0.00} to {ratios[^1]:0.00}, median {ratios[ratios.Length / 2]:0.00}"));
            return 0;
        }
        finally
        {
            foreach (StoreAddress store in (StoreAddress[])[old, ours]) Remove(stores, store);
            Directory.Delete(folder, recursive: true);
        }
    }

    private static void Remove(StoreOpener stores, StoreAddress store)
    {
        if (store.IsOnServer) stores.ServerOf(store).Remove(store.Path);
        else File.Delete(store.Path);
    }

    private static void Fill(StoreOpener stores, StoreAddress old, int rows)
    {
        var batch = new RecordBatch(Entry.Columns);
        using IStoreBuilder builder = stores.Create(old);
        builder.CreateTable(Entry);
        var rejects = new List<RowReject>();
        for (int row = 1; row <= rows; row++)
        {
            ((LongVector)batch.Vectors[0]).Append(row);
            ((BytesVector)batch.Vectors[1]).Append(Text($"V{row / 3:000000000}"));
            ((LongVector)batch.Vectors[2]).Append(new DateOnly(2020 + (row % 6), 1 + (row % 12), 1 + (row % 28)).DayNumber);
            ((LongVector)batch.Vectors[3]).Append(row % 60);
            ((WideVector)batch.Vectors[4]).Append(row * 7919L % 1_999_999 - 999_999);
            ((WideVector)batch.Vectors[5]).Append(row * 104_729L % 99_999);
            ((BytesVector)batch.Vectors[6]).Append(Text($"hire of violin {row % 1000}"));
            ((LongVector)batch.Vectors[7]).Append(row % 2);
            if (row % 4096 != 0 && row < rows) continue;
            int count = row % 4096 == 0 ? 4096 : row % 4096;
            builder.Write([new TableOutput(Entry, batch.Vectors)], [.. Enumerable.Range(0, count)], rejects);
            batch.Reset();
        }
        builder.Complete(new Dictionary<string, string>());
        if (rejects.Count > 0) throw new InvalidOperationException(rejects[0].Reason);
    }

    private static byte[] Text(FormattableString text) => System.Text.Encoding.UTF8.GetBytes(FormattableString.Invariant(text));

    private static double Ours(StoreOpener stores, StoreAddress old, StoreAddress ours)
    {
        var clock = Stopwatch.StartNew();
        stores.Copy(old, ours);
        BuildMark mark = stores.Revise(ours, new StoreRevision([], [Entry.Name], []));
        using (IStoreBuilder builder = stores.Continue(ours, [Entry], mark)) builder.Complete(new Dictionary<string, string>());
        return clock.Elapsed.TotalSeconds;
    }

    // As the engine offers it: into an empty table beside the old one, then its key; SQLite into a file of its own.
    private static double Theirs(StoreAddress old)
    {
        using DbConnection connection = Connect(old);
        connection.Open();
        string q = old.Engine == "mariadb" ? "`" : "\"", names = string.Join(", ", Columns.Split(", ").Select(column => q + column + q));
        string[] before = old.Engine switch
        {
            "sqlite" => [$"ATTACH '{old.Path}.theirs' AS o", "PRAGMA o.journal_mode = OFF", "PRAGMA o.synchronous = OFF",
                "CREATE TABLE o.theirs (entry_no INTEGER PRIMARY KEY, voucher_no VARCHAR(10), posted_on DATE, period_no INTEGER, amount "
                    + "DECIMAL_INT(14,2), tax DECIMAL_INT(14,2), narrative VARCHAR(40), is_posted BOOLEAN)"],
            "mariadb" => ["CREATE TABLE theirs LIKE entry"],
            "firebird" => ["CREATE TABLE \"theirs\" (\"entry_no\" BIGINT NOT NULL, \"voucher_no\" VARCHAR(10) CHARACTER SET UTF8, "
                + "\"posted_on\" DATE, \"period_no\" BIGINT, \"amount\" NUMERIC(14,2), \"tax\" NUMERIC(14,2), \"narrative\" VARCHAR(40) "
                + "CHARACTER SET UTF8, \"is_posted\" BOOLEAN)"],
            _ => ["CREATE TABLE theirs AS SELECT * FROM entry WITH NO DATA"],
        };
        string[] after = old.Engine switch
        {
            "sqlite" => ["DETACH o"],
            "mariadb" => [],
            _ => [$"ALTER TABLE {q}theirs{q} ADD PRIMARY KEY ({q}entry_no{q})"],
        };
        var clock = Stopwatch.StartNew();
        foreach (string statement in (string[])[.. before, $"INSERT INTO {(old.Engine == "sqlite" ? "o.theirs" : $"{q}theirs{q}")} "
            + $"({names}) SELECT {names} FROM {q}entry{q}", .. after]) Execute(connection, statement);
        if (old.Engine == "sqlite") new DiskVolume().FlushFile(old.Path + ".theirs");
        double seconds = clock.Elapsed.TotalSeconds;
        if (old.Engine == "sqlite") File.Delete(old.Path + ".theirs");
        else Execute(connection, $"DROP TABLE {q}theirs{q}");
        return seconds;
    }

    private static void Execute(DbConnection connection, string sql)
    {
        using DbCommand command = connection.CreateCommand();
        command.CommandTimeout = 0;
#pragma warning disable CA2100 // statements of this file
        command.CommandText = sql;
#pragma warning restore CA2100
        command.ExecuteNonQuery();
    }

    private static DbConnection Connect(StoreAddress store)
    {
        if (store.Server is not { } server) return new SqliteConnection($"Data Source={store.Path};Pooling=False");
        string password = ServersBenchmark.Password(server), port = server.Port.ToString(CultureInfo.InvariantCulture);
        return store.Engine switch
        {
            "postgresql" => new NpgsqlConnection($"Host={server.Host};Port={port};Username={server.User};Password={password};"
                + $"Database={store.Path};Pooling=false"),
            "mariadb" => new MySqlConnection($"Server={server.Host};Port={port};User ID={server.User};Password={password};"
                + $"Database={store.Path};Pooling=false"),
            _ => new FbConnection($"DataSource={server.Host};Port={port};Database={store.Path};User={server.User};Password={password};"
                + "Charset=UTF8;Pooling=false"),
        };
    }
}
