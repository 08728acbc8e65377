// VectorBenchmark.cs: the batch's inner work on our own vectors against Apache Arrow's arrays: fill a batch of 4,096 rows (integer, exact
// decimal, text, one null in sixteen), then read every value once. Decision: docs/decisions/record-vectors.md.
using System.Diagnostics;
using System.Globalization;
using System.Text;
using Apache.Arrow;
using Apache.Arrow.Types;
using Transferra.Core.Records;
using RecordBatch = Transferra.Core.Records.RecordBatch;

namespace Transferra.Benchmarks;

internal static class VectorBenchmark
{
    private const int Rows = 4096, Batches = 600, Rounds = 7;

    private static readonly byte[][] Texts = [.. Enumerable.Range(0, 64)
        .Select(i => Encoding.UTF8.GetBytes($"Hire of violin no {i * 37}"))];

    public static int Run()
    {
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"{Batches} batches of {Rows:#,0} rows, three columns: fill, then read; best of {Rounds} rounds, alternating"));
        double own = double.MaxValue, arrow = double.MaxValue;
        long ownBytes = 0, arrowBytes = 0, ownSum = 0, arrowSum = 0;
        for (int round = 0; round < Rounds; round++)
        {
            long before = GC.GetAllocatedBytesForCurrentThread();
            var clock = Stopwatch.StartNew();
            ownSum = Own();
            own = Math.Min(own, clock.Elapsed.TotalSeconds);
            ownBytes = GC.GetAllocatedBytesForCurrentThread() - before;
            before = GC.GetAllocatedBytesForCurrentThread();
            clock.Restart();
            arrowSum = OfArrow();
            arrow = Math.Min(arrow, clock.Elapsed.TotalSeconds);
            arrowBytes = GC.GetAllocatedBytesForCurrentThread() - before;
        }
        if (ownSum != arrowSum) throw new InvalidOperationException("the two sides did not read the same values");
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"own vectors:  {own * 1e9 / (Rows * (double)Batches):0.0} ns a row, {ownBytes / (double)Batches:0} bytes allocated a "
                + $"batch"));
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"Arrow arrays: {arrow * 1e9 / (Rows * (double)Batches):0.0} ns a row, {arrowBytes / (double)Batches:0} bytes allocated a "
                + $"batch"));
        Console.WriteLine(FormattableString.Invariant($"ratio Arrow to own: {arrow / own:0.00}"));
        return 0;
    }

    private static long Own()
    {
        var batch = new RecordBatch([new("n", FieldType.Integer), new("amount", FieldType.Decimal(14, 2)), new("text", FieldType.Text)]);
        long sum = 0;
        for (int b = 0; b < Batches; b++)
        {
            batch.Reset();
            var numbers = (LongVector)batch.Vectors[0];
            var amounts = (WideVector)batch.Vectors[1];
            var texts = (BytesVector)batch.Vectors[2];
            for (int row = 0; row < Rows; row++)
            {
                numbers.Append(b + row);
                if ((row & 15) == 0) amounts.AppendNull();
                else amounts.Append(row * 100L + b);
                texts.Append(Texts[row & 63]);
            }
            ReadOnlySpan<long> n = numbers.Values;
            ReadOnlySpan<Int128> a = amounts.Values;
            for (int row = 0; row < Rows; row++)
            {
                sum += n[row];
                if (!amounts.IsNull(row)) sum += (long)a[row];
                sum += texts[row].Length;
            }
        }
        return sum;
    }

    private static long OfArrow()
    {
        long sum = 0;
        for (int b = 0; b < Batches; b++)
        {
            Int64Array.Builder numbers = new Int64Array.Builder().Reserve(Rows);
            Decimal128Array.Builder amounts = new Decimal128Array.Builder(new Decimal128Type(14, 2)).Reserve(Rows);
            StringArray.Builder texts = new StringArray.Builder().Reserve(Rows);
            for (int row = 0; row < Rows; row++)
            {
                numbers.Append(b + row);
                if ((row & 15) == 0) amounts.AppendNull();
                else amounts.Append((row * 100L + b) / 100m);
                texts.Append(Texts[row & 63].AsSpan());
            }
            using Int64Array n = numbers.Build();
            using Decimal128Array a = amounts.Build();
            using StringArray t = texts.Build();
            for (int row = 0; row < Rows; row++)
            {
                sum += n.Values[row];
                if (!a.IsNull(row)) sum += (long)(a.GetValue(row)!.Value * 100m);
                sum += t.GetBytes(row).Length;
            }
        }
        return sum;
    }
}
