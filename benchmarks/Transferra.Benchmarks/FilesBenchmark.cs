// FilesBenchmark.cs: reading of .dbf tables and delimited text into typed batches, on one core. Yardsticks: for .dbf, reading the same
// file with a SHA-256 over it; for delimited text, CsvHelper's parser at its fastest setting, which splits fields and converts nothing.
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using CsvHelper;
using CsvHelper.Configuration;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Benchmarks;

internal static class FilesBenchmark
{
    private static readonly TableShape Table = new("JRNL",
    [
        new("JNO", FieldType.Integer, true), new("VNO", new(FieldKind.Text, Length: 10), true), new("POSTED", FieldType.Date, true),
            new("PNO", FieldType.Integer, true), new("DEBIT", FieldType.Decimal(12, 2), true),
        new("CREDIT", FieldType.Decimal(12, 2), true), new("NARR", new(FieldKind.Text, Length: 40), true),
            new("CLOSED", FieldType.Boolean, true),
    ], ["JNO"], []);

    public static int Run(int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            StoreAddress dbf = new("dbf", Path.Combine(folder, "dbf")), text =
                new("delimited", Path.Combine(folder, "text"), new Dictionary<string, string> { ["separator"] = "," });
            foreach (StoreAddress address in (StoreAddress[])[dbf, text]) Write(address, rows);
            string dbfFile = Directory.GetFiles(dbf.Path, "*.dbf").Single(), textFile = Directory.GetFiles(text.Path).Single();
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{rows:#,0} rows of eight columns; .dbf {new FileInfo(dbfFile).Length / 1048576.0:0} MB, delimited "
                    + $"{new FileInfo(textFile).Length / 1048576.0:0} MB; {rounds} rounds, alternating, processor time of one thread"));
            Compare(".dbf into typed batches", () => Read(dbf, rows), "the file with SHA-256", () => Digest(dbfFile), rounds);
            Compare("delimited into typed batches", () => Read(text, rows), "CsvHelper's parser, fields as strings",
                () => ByCsvHelper(textFile, rows), rounds);
            return 0;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static void Compare(string ours, Action run, string theirs, Action yardstick, int rounds)
    {
        var ratios = new List<double>();
        double best = double.MaxValue, bestYardstick = double.MaxValue;
        for (int round = 0; round < rounds; round++)
        {
            double a = Time(run), b = Time(yardstick);
            ratios.Add(a / b);
            (best, bestYardstick) = (Math.Min(best, a), Math.Min(bestYardstick, b));
        }
        ratios.Sort();
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"{ours}: {best:0.00} s; {theirs}: {bestYardstick:0.00} s; ratio {ratios[0]:0.00} to {ratios[^1]:0.00}, median "
                + $"{ratios[ratios.Count / 2]:0.00}"));
    }

    private static double Time(Action action)
    {
        TimeSpan before = Environment.CpuUsage.TotalTime;
        action();
        return (Environment.CpuUsage.TotalTime - before).TotalSeconds;
    }

    private static void Write(StoreAddress address, int rows)
    {
        using IStoreBuilder builder = new StoreOpener().Create(address);
        builder.CreateTable(Table);
        var batch = new RecordBatch(Table.Columns);
        int[] all = [.. Enumerable.Range(0, 4096)];
        for (int start = 0; start < rows; start += 4096)
        {
            batch.Reset();
            int count = Math.Min(4096, rows - start);
            for (int i = start; i < start + count; i++)
            {
                ((LongVector)batch.Vectors[0]).Append(i);
                ((BytesVector)batch.Vectors[1])
                    .Append(Encoding.ASCII.GetBytes("V" + (i / 3).ToString("000000", CultureInfo.InvariantCulture)));
                ((LongVector)batch.Vectors[2]).Append(735_000 + i % 3000);
                ((LongVector)batch.Vectors[3]).Append(1 + i % 60);
                ((WideVector)batch.Vectors[4]).Append(i % 2 == 0 ? i * 7919L % 10_000_000 : 0);
                ((WideVector)batch.Vectors[5]).Append(i % 2 == 1 ? i * 104_729L % 10_000_000 : 0);
                ((BytesVector)batch.Vectors[6])
                    .Append(Encoding.ASCII.GetBytes("Hire of violin no " + (i % 997).ToString(CultureInfo.InvariantCulture)));
                ((LongVector)batch.Vectors[7]).Append(i % 7 == 0 ? 0 : 1);
            }
            builder.Write([new TableOutput(Table, batch.Vectors)], all.AsSpan(0, count), []);
        }
        builder.Complete(new Dictionary<string, string>());
    }

    private static void Read(StoreAddress address, int rows)
    {
        using IStore store = new StoreOpener().Open(address);
        long read = 0;
        foreach (RecordBatch batch in store.Batches(Table, [], CancellationToken.None))
        {
            if (batch.Faults.Count > 0) throw new InvalidOperationException(batch.Faults[0].Reason);
            read += batch.RowCount;
        }
        if (read != rows) throw new InvalidOperationException("not all rows were read");
    }

    private static void Digest(string path)
    {
        using FileStream file = File.OpenRead(path);
        SHA256.HashData(file);
    }

    private static void ByCsvHelper(string path, int rows)
    {
        var configuration = new CsvConfiguration(CultureInfo.InvariantCulture)
        {
            CacheFields = false,
            BufferSize = 1 << 16,
            ProcessFieldBufferSize = 1 << 12,
            LineBreakInQuotedFieldIsBadData = false
        };
        using var parser = new CsvParser(new StreamReader(path, Encoding.UTF8, false, 1 << 16), configuration);
        long read = -1, characters = 0;
        while (parser.Read())
        {
            read++;
            for (int i = 0; i < parser.Count; i++) characters += parser[i].Length;
        }
        if (read != rows || characters == 0) throw new InvalidOperationException("not all rows were read");
    }
}
