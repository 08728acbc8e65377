using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Lists of digests on both sides of the number from which on they are kept in parts; and what a run notes of its disks.</summary>
public sealed class DigestListTests(ITestOutputHelper output)
{
    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(8191)]
    [InlineData(8192)]
    [InlineData(8193)]
    [InlineData(300_000)]
    public void All_come_back_in_order_and_those_that_are_there_again_are_counted(int count)
    {
        var random = new Random(Seeds.Given + count);
        output.WriteLine($"seed {Seeds.Given}");
        ulong[] digests = [.. Enumerable.Range(0, count).Select(_ => (ulong)random.NextInt64(long.MinValue, long.MaxValue))];
        for (int i = 3; i < count; i += 1 + random.Next(50)) digests[i] = digests[random.Next(i)];
        using var list = new DigestList();
        foreach (ulong digest in digests) list.Add(digest);
        Assert.Equal(digests.Order(), list.Sorted());
        Assert.Equal(digests.CountBy(digest => digest).Where(same => same.Value > 1).Select(same => (same.Key, same.Value)).Order(),
            list.Repeated());
        // What is added after it was gone through is there as well.
        list.Add(5);
        Assert.Equal(digests.Append(5UL).Order(), list.Sorted());
    }

    [Fact]
    public void A_set_tells_what_no_other_has_however_often_each_was_added()
    {
        var random = new Random(Seeds.Given);
        foreach (int many in (int[])[10, 1023, 1024, 1025, 20_000])
        {
            using var mine = new DigestSet();
            using var theirs = new DigestSet();
            for (int i = 0; i < 3 * many; i++) mine.Add((ulong)random.Next(many) << 40);
            for (int i = 0; i < many; i++) mine.Add((ulong)i << 40);
            for (int i = 0; i < many; i += 2) theirs.Add((ulong)i << 40);
            Assert.Equal(Enumerable.Range(0, many).Where(i => i % 2 == 1).Select(i => (ulong)i << 40), mine.NotIn(theirs));
        }
    }

    [Fact]
    public void The_room_on_a_disk_is_noted_once_for_all_folders_on_it_and_read_back()
    {
        using var folder = new TempFolder();
        string odd = Directory.CreateDirectory(folder["a folder of 3 at 5"]).FullName;
        Dictionary<string, string> facts = DiskRoom.Facts([odd, folder.Path, Path.Combine(odd, "not", "there", "yet")]).ToDictionary();
        Assert.Single(facts);
        DiskRoom begun = Assert.Single(DiskRoom.Of(facts, null)), ended = Assert.Single(DiskRoom.Of(facts, facts));
        Assert.Equal((odd, null, begun.FreeBefore), (begun.At, begun.FreeAfter, ended.FreeAfter));
        Assert.InRange(begun.FreeBefore, 1, begun.Total);
        Assert.Empty(DiskRoom.Of(new Dictionary<string, string> { ["disk.0"] = "much of it", ["office"] = "x" }, null));
    }
}
