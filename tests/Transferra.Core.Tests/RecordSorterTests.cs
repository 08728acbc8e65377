using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public sealed class RecordSorterTests
{
    private static readonly ColumnShape[] Columns = [new("n", FieldType.Integer), new("amount", FieldType.Decimal(20, 2)),
        new("text", FieldType.Text),
        new("real", new(FieldKind.Double)), new("at", FieldType.Integer)];

    private sealed class RandomRows(int rows, int seed) : IRecordReader
    {
        private readonly Random _random = new(seed);
        private int _row;

        public bool Fill(RecordBatch batch)
        {
            while (!batch.IsFull)
            {
                if (_row == rows) return false;
                if (_random.Next(10) == 0)
                {
                    batch.Faults.Add(new RowFault(batch.RowCount, FaultCode.NotANumber, "n", "x" + _row, "no number"));
                    batch.Vectors[0].AppendNull();
                }
                else ((LongVector)batch.Vectors[0]).Append(_random.Next(-20, 20));
                if (_random.Next(5) == 0) batch.Vectors[1].AppendNull();
                else ((WideVector)batch.Vectors[1]).Append((Int128)_random.NextInt64(long.MinValue, long.MaxValue) * _random.Next(1, 90));
                ((BytesVector)batch.Vectors[2]).Append(Encoding.UTF8.GetBytes(new string('é', _random.Next(4)) + _random.Next(3)));
                ((DoubleVector)batch.Vectors[3]).Append(_random.NextDouble());
                ((LongVector)batch.Vectors[4]).Append(_row++);
            }
            return true;
        }

        public void Dispose() { }
    }

    private static List<string> Rows(IRecordReader reader, int batchRows)
    {
        var rows = new List<string>();
        var batch = new RecordBatch(Columns, new BatchLimits(batchRows, 1 << 20));
        for (bool more = true; more;)
        {
            batch.Reset();
            more = reader.Fill(batch);
            ILookup<int, RowFault> faults = batch.Faults.ToLookup(fault => fault.Row);
            for (int row = 0; row < batch.RowCount; row++)
                rows.Add(string.Join('|', batch.Vectors.Select(vector => vector.IsNull(row) ? "-" : vector.Show(row))
                    .Concat(faults[row].Select(fault => fault.Value))));
        }
        return rows;
    }

    // The oracle: everything in memory, ordered by LINQ, which is stable; texts by their bytes.
    private static List<string> Expected(int rows, int seed)
    {
        var all = new RecordBatch(Columns, new BatchLimits(int.MaxValue, long.MaxValue));
        new RandomRows(rows, seed).Fill(all);
        ILookup<int, RowFault> faults = all.Faults.ToLookup(fault => fault.Row);
        return [.. Enumerable.Range(0, rows)
            .OrderBy(row => all.Vectors[2].IsNull(row) ? "" : Convert.ToHexString(((BytesVector)all.Vectors[2])[row]),
                StringComparer.Ordinal)
            .ThenBy(row => all.Vectors[0].IsNull(row) ? long.MinValue : ((LongVector)all.Vectors[0]).Values[row])
            .Select(row => string.Join('|', all.Vectors.Select(vector => vector.IsNull(row) ? "-" : vector.Show(row))
                .Concat(faults[row].Select(fault => fault.Value))))];
    }

    [Theory]
    [InlineData(0, 1000)]
    [InlineData(1, 1000)]
    [InlineData(500, 1 << 20)] // one run, in memory
    [InlineData(500, 1)] // a run a record
    [InlineData(500, 700)]
    [InlineData(20_000, 40_000)]
    public void Records_come_in_order_once_each_with_their_faults(int rows, int runBytes)
    {
        foreach (int batchRows in (int[])[1, 64, 4096])
        {
            using var sorter = new RecordSorter(new RandomRows(rows, seed: rows + 7), Columns, [2, 0], runBytes);
            Assert.Equal(Expected(rows, seed: rows + 7), Rows(sorter, batchRows));
            Assert.InRange(sorter.MostWaiting, 0, 2 * 32); // 500 runs of one record: 32 of them make one of the next level
        }
    }

    [Fact]
    public void A_run_is_as_long_as_the_budget_lends_and_what_was_lent_comes_back()
    {
        var budget = new MemoryBudget(MemoryBudget.Least);
        Assert.True(budget.TryLend(budget.Room)); // none is left: the shortest runs
        using (var sorter = new RecordSorter(new RandomRows(60_000, 9), Columns, [2, 0], budget: budget))
        {
            Assert.Equal(Expected(60_000, 9), Rows(sorter, 4096));
            Assert.InRange(sorter.MostWaiting, 2, 4);
        }
        budget.GiveBack(budget.Room);
        using (var sorter = new RecordSorter(new RandomRows(60_000, 9), Columns, [2, 0], budget: budget))
        {
            Assert.Equal(Expected(60_000, 9), Rows(sorter, 4096));
            Assert.Equal(0, sorter.MostWaiting);
            Assert.False(budget.TryLend(budget.Room));
        }
        Assert.True(budget.TryLend(budget.Room));
    }

    [Fact]
    public void Nothing_of_the_records_is_left_on_the_disk_not_even_while_it_sorts()
    {
        using var sorter = new RecordSorter(new RandomRows(2000, 3), Columns, [1], runBytes: 1000);
        var batch = new RecordBatch(Columns, new BatchLimits(10, 1 << 20));
        Assert.True(sorter.Fill(batch));
        // Tests beside this one make such files too, each with a name for the blink between making and unlinking it.
        string[] seen = Directory.GetFiles(Path.GetTempPath(), "transferra-????????????????????????????????");
        if (seen.Length > 0) Thread.Sleep(200);
        Assert.DoesNotContain(seen, File.Exists);
    }
}
