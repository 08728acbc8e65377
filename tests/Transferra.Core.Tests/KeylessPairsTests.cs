using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Records of tables without a key, paired by what they share.</summary>
public sealed class KeylessPairsTests(ITestOutputHelper output)
{
    private static RecordBatch Batch(int columns, IEnumerable<string?[]> rows)
    {
        var batch = new RecordBatch([.. Enumerable.Range(0, columns).Select(i => new ColumnShape($"C{i}", new FieldType(FieldKind.Text)))],
            new BatchLimits(1_000_000, long.MaxValue));
        foreach (string?[] row in rows)
            for (int column = 0; column < columns; column++) MemoryStore.Append(batch.Vectors[column], row[column]);
        return batch;
    }

    private static string Pairs(string missing, string extra)
    {
        string?[][] rows(string text) => [.. text.Split(';').Where(row => row.Length > 0).Select(row => row.Split(',')
            .Select(cell => cell == "-" ? null : cell).ToArray())];
        int columns = rows(missing + ";" + extra)[0].Length;
        return string.Join(" ", new KeylessPairs(Batch(columns, rows(missing)), Batch(columns, rows(extra))).Pairs());
    }

    [Theory]
    [InlineData("a,1,x", "a,2,x", "0")]
    [InlineData("a,1,x;b,1,y", "b,2,y;a,2,x", "1 0")]
    [InlineData("a,1,x", "b,2,y", "-1")]                    // nothing in common
    [InlineData("a,1,x,q", "a,1,y,r", "-1")]                // only half of it
    [InlineData("a,1,x,q,z", "a,1,x,r,y", "0")]             // more than half
    [InlineData("a,1", "a,2", "0")]                         // all but one of two, and nobody else
    [InlineData("a,1;a,3", "a,2", "-1 -1")]                 // of two, but it could be either
    [InlineData("a", "b", "-1")]                            // one column tells nothing
    [InlineData("a,-,-,-", "b,-,-,-", "-1")]                // what neither has is not shared
    [InlineData("a,x,y,-", "a,x,y,1", "0")]
    [InlineData("a,1,x;a,1,x", "a,2,x;a,2,x", "0 1")]       // the same record twice
    public void Pairs_share_more_than_half(string missing, string extra, string expected) => Assert.Equal(expected, Pairs(missing, extra));

    [Fact]
    public void Thousands_of_changed_records_find_each_other_and_none_is_in_two_pairs()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        const int columns = 8, rows = 4000;
        string?[][] old = [.. Enumerable.Range(0, rows).Select(i => (string?[])[$"name {random.Next(2000)}", $"town {random.Next(30)}",
            $"{random.Next(100_000)}", random.Next(3) == 0 ? null : "A", $"2024-{1 + random.Next(12):00}-{1 + random.Next(28):00}",
            $"{random.Next(50)}", "same", $"{random.Next(1000)}"])];
        string?[][] renewed = [.. old.Select(row => (string?[])[.. row])];
        foreach (string?[] row in renewed)
            foreach (int column in Enumerable.Range(0, columns).OrderBy(_ => random.Next()).Take(1
                + random.Next(3))) row[column] = "changed";
        int[] places = [.. Enumerable.Range(0, rows).OrderBy(_ => random.Next())];
        int[] pairs = new KeylessPairs(Batch(columns, old), Batch(columns, places.Select(at => renewed[at]))).Pairs();
        int[] paired = [.. pairs.Where(pair => pair >= 0)];
        Assert.Equal(paired.Length, paired.Distinct().Count());
        int right = Enumerable.Range(0, rows).Count(i => pairs[i] >= 0 && places[pairs[i]] == i);
        output.WriteLine($"{right} of {rows} found each other, {paired.Length} paired");
        Assert.True(right >= rows * 0.9, $"{right} of {rows}");
    }
}
