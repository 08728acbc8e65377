using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class SpillSorterTests
{
    [Theory]
    [InlineData(1)]
    [InlineData(3)]
    [InlineData(64)]
    [InlineData(100_000)]
    public void Sorting_gives_every_item_once_whatever_fits_in_memory(int runLength)
    {
        var random = new Random(7);
        ulong[] items = [.. Enumerable.Range(0, 5_000).Select(_ => (ulong)random.Next(2_000))];
        using var all = new SpillSorter<ulong>(null, runLength);
        using var distinct = new SpillSorter<ulong>((a, _) => a, runLength);
        foreach (ulong item in items)
        {
            all.Add(item);
            distinct.Add(item);
        }
        Assert.Equal(items.Order(), all.Sorted());
        Assert.InRange(all.Files, 0, 3); // 5,000 runs of one item: 64 of them make one of the next level
        distinct.Park();
        distinct.Add(3_000);
        Assert.Equal(items.Append(3_000UL).Distinct().Order(), distinct.Sorted());
        Assert.Equal(items.Append(3_000UL).Distinct().Order(), distinct.Sorted()); // may be asked for again
    }

    [Theory]
    [InlineData(0)] // there is room
    [InlineData(1)] // there is none, from the beginning
    [InlineData(2)] // it comes and goes
    public void A_run_grows_with_what_the_budget_lends_and_what_is_sorted_is_the_same(int how)
    {
        var budget = new MemoryBudget(MemoryBudget.Least);
        if (how > 0) Assert.True(budget.TryLend(budget.Room));
        var random = new Random(11);
        int[] items = [.. Enumerable.Range(0, 200_000).Select(_ => random.Next(50_000))];
        using (var sorter = new SpillSorter<int>(null, null, budget))
        {
            for (int i = 0; i < items.Length; i++)
            {
                sorter.Add(items[i]);
                if (how == 2 && i % 40_000 == 20_000) budget.GiveBack(budget.Room);
                if (how == 2 && i % 40_000 == 39_999) while (!budget.TryLend(budget.Room)) sorter.Park();
            }
            Assert.Equal(items.Order(), sorter.Sorted());
        }
        // All of it came back.
        if (how > 0) budget.GiveBack(budget.Room);
        Assert.True(budget.TryLend(budget.Room));
    }
}
