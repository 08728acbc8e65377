using Transferra.Core.Machine;

namespace Transferra.Core.Tests;

public class MemoryBudgetTests
{
    private const long Megabyte = 1 << 20;

    [Fact]
    public void No_more_is_lent_than_there_is_room_and_what_came_back_is_lent_again()
    {
        var budget = new MemoryBudget(MemoryBudget.Usual);
        long held = 0, most = 0;
        Parallel.For(0, 8, thread =>
        {
            var random = new Random(thread);
            for (int i = 0; i < 20_000; i++)
            {
                long bytes = random.NextInt64(1, budget.Room / 4);
                if (!budget.TryLend(bytes)) continue;
                long now = Interlocked.Add(ref held, bytes);
                for (long seen = Interlocked.Read(ref most); now > seen; seen = Interlocked.Read(ref most))
                    Interlocked.CompareExchange(ref most, now, seen);
                Interlocked.Add(ref held, -bytes);
                budget.GiveBack(bytes);
            }
        });
        Assert.InRange(most, budget.Room / 8, budget.Room);
        Assert.True(budget.TryLend(budget.Room));
        Assert.False(budget.TryLend(1));
    }

    [Theory]
    [InlineData(200, 32, 2, 512, 32)] // what is usual
    [InlineData(96, 32, 2, 512, 4)]
    [InlineData(320, 32, 2, 512, 64)]
    [InlineData(96, 32, 8, 512, 8)] // the borders that the work names
    [InlineData(8_000, 32, 2, 512, 512)]
    [InlineData(1, 32, 2, 512, 4)] // less than the least is the least
    public void Sizes_go_with_the_budget(long budget, long usual, long least, long most, long size)
    {
        long suiting = new MemoryBudget(budget * Megabyte).Suiting(usual * Megabyte, least * Megabyte, most * Megabyte);
        Assert.Equal(size, (suiting + Megabyte / 2) / Megabyte);
    }

    [Theory]
    [InlineData("MemFree: 5 kB\nMemTotal:        1024000 kB\n", null, 1_048_576_000)]
    [InlineData("MemTotal:        1024000 kB\n", "max\n", 1_048_576_000)]
    [InlineData("MemTotal:        1024000 kB\n", "268435456\n", 268_435_456)] // a container on it
    [InlineData("MemTotal:        1024000 kB\n", "99999999999999\n", 1_048_576_000)] // more than there is
    [InlineData(null, "268435456\n", 268_435_456)]
    [InlineData("nothing of use", null, 0)]
    [InlineData(null, null, 0)]
    public void What_there_is_is_what_the_machine_or_the_container_tells(string? machine, string? group, long available)
    {
        using var folder = new Transferra.Tests.TempFolder();
        if (machine is not null) File.WriteAllText(folder["machine"], machine);
        if (group is not null) File.WriteAllText(folder["group"], group);
        Assert.Equal(available, MemoryBudget.Available(folder["machine"], folder["group"]));
    }

    [Theory]
    [InlineData(0, 200)] // not known
    [InlineData(24_000, 200)]
    [InlineData(600, 150)] // a container, or a very small machine
    [InlineData(256, 96)]
    public void A_small_machine_is_not_filled(long available, long taken) =>
        Assert.Equal(taken * Megabyte, MemoryBudget.UsualOn(available * Megabyte));
}
