using Transferra.Core.Checks;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class NumberRunsTests(ITestOutputHelper output)
{
    private static (bool AreFew, List<long> All, List<(long, int)> Repeated) Of(IEnumerable<long> numbers)
    {
        var runs = new NumberRuns();
        foreach (long number in numbers) runs.Add(number);
        return (runs.AreFew, [.. runs.All()], [.. runs.Repeated()]);
    }

    [Theory]
    [InlineData("")]
    [InlineData("5")]
    [InlineData("1 2 3 4")]
    [InlineData("4 3 2 1")]
    [InlineData("1 2 3 2 3 4 3")]
    [InlineData("1 2 3 4 5 1 2 3 4 5 6 7 8 9")] // one run ends where another goes on
    [InlineData("1 2 3 4 5 2 3 4 5 6 7 1 2 3")]
    [InlineData("7 7 7")]
    // No run goes round the end.
    [InlineData("9223372036854775806 9223372036854775807 -9223372036854775808 -9223372036854775807 9223372036854775807")]
    [InlineData("-9223372036854775808 -9223372036854775808 9223372036854775807 9223372036854775807")]
    [InlineData("1 3 5 2 4 3")]
    public void All_numbers_come_back_as_they_came_and_those_that_are_there_again_are_counted(string numbers)
    {
        long[] given = [.. numbers.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(number => long.Parse(number, null))];
        (bool areFew, List<long> all, List<(long, int)> repeated) = Of(given);
        Assert.True(areFew);
        Assert.Equal(given, all);
        Assert.Equal(given.CountBy(number => number).Where(same => same.Value > 1).Select(same => (same.Key, same.Value)).Order(),
            repeated);
    }

    [Fact]
    public void Any_order_with_any_repetition_is_told_exactly()
    {
        output.WriteLine($"seed {Seeds.Given}");
        var random = new Random(Seeds.Given);
        for (int round = 0; round < 300; round++)
        {
            var given = new List<long>();
            for (int run = random.Next(12); run >= 0; run--)
            {
                long from = random.Next(-30, 30);
                for (int length = random.Next(1, 15); length > 0; length--) given.Add(from++);
            }
            (_, List<long> all, List<(long, int)> repeated) = Of(given);
            Assert.Equal(given, all);
            Assert.Equal(given.CountBy(number => number).Where(same => same.Value > 1).Select(same => (same.Key, same.Value)).Order(),
                repeated);
        }
    }

    [Fact]
    public void Numbers_without_order_are_not_worth_keeping_so_and_those_with_some_are()
    {
        Assert.False(Of(Enumerable.Range(0, 1_100).Select(i => 2L * i)).AreFew);
        Assert.True(Of(Enumerable.Range(0, 20_000).Select(i => (long)i + (i / 10))).AreFew); // a gap after every ten
        Assert.False(Of(Enumerable.Range(0, 700_000).Select(i => (long)i + (i / 10))).AreFew); // and no more than so many gaps
    }
}
