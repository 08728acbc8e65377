using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Many files that grow in turn have each what was added to it, and few of them are open.</summary>
public sealed class GrowingFilesTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    [Theory]
    [InlineData(1)]
    [InlineData(8)]
    [InlineData(9)]
    [InlineData(60)]
    public void Each_has_what_was_added_to_it_in_that_order(int tables)
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        List<byte>[] expected = [.. Enumerable.Range(0, tables).Select(_ => new List<byte>())];
        string NameOf(int table) => $"t{table}";
        var files = new GrowingFiles(name => _folder[name]);
        for (int table = 0; table < tables; table++) files.Make(NameOf(table));
        for (int step = 0; step < 2000; step++)
        {
            int table = random.Next(tables);
            byte[] bytes = new byte[random.Next(4) == 0 ? 100_000 / tables : random.Next(40)];
            random.NextBytes(bytes);
            files.Add(NameOf(table), bytes);
            files.Count(NameOf(table), 1);
            expected[table].AddRange(bytes);
            if (step % 500 != 499) continue;
            files.Flush();
            Dictionary<string, BuiltTable> built = files.Built();
            for (int i = 0; i < tables; i++) Assert.Equal(expected[i].Count, built[NameOf(i)].Ends[0]);
            if (step % 1000 != 999) continue;
            // What was written behind the mark is dropped when the work is continued.
            files.Add(NameOf(table), [1, 2, 3]);
            files.Dispose();
            files = new GrowingFiles(name => _folder[name]);
            foreach ((string name, BuiltTable so) in built) files.Continue(name, so);
        }
        Assert.Equal(2000, files.Built().Values.Sum(table => table.Rows));
        files.Dispose();
        for (int table = 0; table < tables; table++)
            Assert.True(expected[table].SequenceEqual(File.ReadAllBytes(_folder[NameOf(table)])), $"seed {seed}, table {table}");
    }

    [Fact]
    public void Of_a_hundred_few_are_open()
    {
        using var files = new GrowingFiles(name => _folder[name]);
        int Open() => Directory.EnumerateFiles("/proc/self/fd").Count(link =>
            File.ResolveLinkTarget(link, false)?.FullName.StartsWith(_folder.Path, StringComparison.Ordinal) == true);
        for (int table = 0; table < 100; table++)
        {
            files.Make($"t{table}");
            files.Add($"t{table}", [1]);
        }
        Assert.InRange(Open(), 1, 8);
        files.Flush();
        Assert.All(Directory.EnumerateFiles(_folder.Path), path => Assert.Equal(1, new FileInfo(path).Length));
        Assert.InRange(Open(), 1, 8);
    }

    [Fact]
    public void What_was_begun_and_is_cut_off_is_not_continued()
    {
        File.WriteAllBytes(_folder["t"], [1, 2]);
        using var files = new GrowingFiles(name => _folder[name]);
        Assert.Throws<CannotContinueException>(() => files.Continue("t", new BuiltTable(1, [3])));
        Assert.Throws<CannotContinueException>(() => files.Continue("u", new BuiltTable(1, [0])));
    }
}
