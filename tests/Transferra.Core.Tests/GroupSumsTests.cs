using Transferra.Core.Checks;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class GroupSumsTests(ITestOutputHelper output)
{
    private static GroupAmounts Random(Random random, int groups)
    {
        // Spread over all parts, with many in the same place of the table.
        ulong group = (ulong)random.Next(groups) * 0x0100_0000_0000_0101;
        bool isOther = random.Next(3) == 0;
        return new GroupAmounts(group, isOther ? 0 : random.Next(-50, 50), isOther ? random.Next(-50, 50) : 0,
            (isOther ? GroupAmounts.OnOther : GroupAmounts.OnSide) | (random.Next(200) == 0 ? GroupAmounts.Unreadable : 0));
    }

    private static IEnumerable<GroupAmounts> Expected(IEnumerable<GroupAmounts> added) => added.GroupBy(item => item.Group)
        .Select(group => group.Aggregate(GroupAmounts.Add)).OrderBy(group => group.Group);

    [Theory]
    [InlineData(64, 1L << 22, 40)] // all in memory
    [InlineData(64, 1L << 22, 5_000)] // on disk
    [InlineData(1 << 12, 1L << 22, 5_000)]
    [InlineData(64, 3_000L, 1_000)] // put together again and again
    [InlineData(128, 1L, 20_000)]
    public void Each_group_comes_once_with_all_that_was_added_to_it(int mostPlaces, long fewest, int groups)
    {
        output.WriteLine($"seed {Seeds.Given}");
        var random = new Random(Seeds.Given);
        using var sums = new GroupSums(mostPlaces, fewest);
        var added = new List<GroupAmounts>();
        for (int round = 0; round < 3; round++)
        {
            for (int i = 0; i < 20_000; i++)
            {
                added.Add(Random(random, groups));
                sums.Add(added[^1]);
            }
            if (round == 1) sums.Park();
            Assert.Equal(Expected(added), sums.All().OrderBy(group => group.Group)); // more may be added after
            Assert.Equal(Expected(added), sums.All().OrderBy(group => group.Group));
        }
        // What was written twice is put together: never more than twice the groups, or the fewest it is worth the while for.
        Assert.InRange(sums.Written, 0, Math.Max(fewest, 2L * groups) + groups + mostPlaces);
    }

    [Theory]
    [InlineData(1_000)]
    [InlineData(100_000)] // too many for several parts at a time
    public void Groups_that_are_all_in_one_part_come_once_too(int groups)
    {
        using var sums = new GroupSums(mostPlaces: 1 << 10);
        for (int round = 1; round <= 2; round++)
            for (int i = 1; i <= groups; i++)
                sums.Add(new GroupAmounts((0xABUL << 56) + ((ulong)i * 0x1_0001), round * i, 0, GroupAmounts.OnSide));
        Assert.Equal(Enumerable.Range(1, groups).Select(i => (Int128)3 * i), sums.All().Select(group => group.Side).Order());
        Assert.Equal(7 * 3, Assert.Single(sums.Where(group => group.Side == 7 * 3)).Side);
    }

    [Fact]
    public void A_sum_that_is_too_large_is_marked_and_one_that_is_not_is_exact()
    {
        using var sums = new GroupSums();
        sums.Add(new GroupAmounts(1, Int128.MaxValue, 0, GroupAmounts.OnSide));
        sums.Add(new GroupAmounts(1, 1, 0, GroupAmounts.OnSide));
        sums.Add(new GroupAmounts(2, Int128.MaxValue, 0, GroupAmounts.OnSide));
        sums.Add(new GroupAmounts(2, Int128.MinValue, 7, GroupAmounts.OnOther));
        GroupAmounts[] all = [.. sums.All().OrderBy(group => group.Group)];
        Assert.Equal(GroupAmounts.OnSide | GroupAmounts.TooLarge, all[0].Flags);
        Assert.Equal(new GroupAmounts(2, -1, 7, GroupAmounts.OnSide | GroupAmounts.OnOther), all[1]);
    }
}
