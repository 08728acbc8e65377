using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class ChildrenMatchedTests
{
    private static readonly ColumnShape Id = new("id", FieldType.Integer), Of = new("of", FieldType.Text), Boss = new("boss",
        FieldType.Integer, IsPrivate: true);

    private static readonly TableShape Table = new("line", [Id, Of, Boss], ["id"], [new RelationShape(["of"], "head", ["code"])]);

    private static KitVersion Version(params CheckedLink[] links) => SampleKit.LoadHop().To with
    {
        Checks = [new TableChecks(Table) { Links = links, Tree = new TreeShape("boss", "id") }]
    };

    private static RecordBatch Batch(params (string? Of, long? Boss)[] rows)
    {
        var batch = new RecordBatch(Table.Columns, new BatchLimits(rows.Length + 1, 64 << 20));
        foreach ((string? of, long? boss) in rows)
        {
            ((LongVector)batch.Vectors[0]).Append(batch.RowCount);
            if (of is null) batch.Vectors[1].AppendNull();
            else ((BytesVector)batch.Vectors[1]).Append(System.Text.Encoding.UTF8.GetBytes(of));
            if (boss is { } number) ((LongVector)batch.Vectors[2]).Append(number);
            else batch.Vectors[2].AppendNull();
        }
        return batch;
    }

    private static ChildrenMatched Told(ChildrenChange link, RecordBatch batch, params int[] changes)
    {
        using (link)
        {
            for (int row = 0; row < changes.Length; row++) link.Add(new ComparedRow(batch, row, null), changes[row]);
            return link.Matched("line", name => name.Length);
        }
    }

    [Fact]
    public void Each_link_is_one_be_it_declared_of_the_kit_or_a_tree_and_is_told_once()
    {
        CheckedLink oneOfTwo = new(["of"], [new LinkTarget("head", ["code"]), new LinkTarget("other", ["code"])], ["none"], null),
            again = new(["of"], [new LinkTarget("HEAD", ["code"])], [], null),
            someOnly = new(["id"], [new LinkTarget("head", ["code"])], [], new Core.Expressions.Parameter(0, "x"));
        ChildrenChange[] links = [.. ChildrenChange.Of(Table, Table, Version(oneOfTwo, again, someOnly))];
        Assert.Equal(["of > head", "of > head, other", "boss > line"],
            links.Select(link => $"{link.Columns[0]} > {string.Join(", ", link.Parents)}"));
        // A column that is not read is part of no link.
        Assert.Single(ChildrenChange.Of(Table with { Columns = [Id, Of] }, Table, Version()));
    }

    [Fact]
    public void What_points_nowhere_counts_for_nobody_and_what_goes_and_comes_cancels_out()
    {
        ChildrenChange[] links = [.. ChildrenChange.Of(Table, Table, Version(new CheckedLink(["of"], [new LinkTarget("head", ["code"]),
            new LinkTarget("other", ["code"])], ["none"], null)))];
        RecordBatch batch = Batch(("a", 1), ("b", null), ("a", 1), (null, 2), ("none", 2), ("b", 2), ("b", 3));
        int[] changes = [-1, -1, 1, -1, -1, 1, 1];
        ChildrenMatched head = Told(links[0], batch, changes), either = Told(links[1], batch, changes);
        ChildrenMatched tree = Told(links[2], batch, changes);
        Assert.Equal(["none -1", "b 1"], head.First.Select(one => $"{one.Parent} {one.Change}").OrderDescending(StringComparer.Ordinal));
        Assert.Equal((2, 1, 1), (head.Differing, head.Fewer, head.More));
        Assert.Equal(new ParentChange("b", 1), Assert.Single(either.First));
        Assert.Equal(("head or other", 4L + 5L, true), (either.Parent, either.Parents, head is { IsSame: false, Records: 4 }));
        // A private number is counted and not shown.
        Assert.Equal((2, 1, 1), (tree.Differing, tree.Fewer, tree.More));
        Assert.All(tree.First, one => Assert.Equal(TableShape.Private, one.Parent));
    }

    [Fact]
    public void Holds_1_2_all_are_counted_though_only_some_are_named()
    {
        const int parents = 300_000; // more than are sorted in memory
        RecordBatch batch = Batch([.. Enumerable.Range(0, parents).Select(i => ((string?)$"h{i}", (long?)null))]);
        ChildrenMatched link = Told(ChildrenChange.Of(Table, Table, Version())[0], batch, [.. Enumerable.Range(0, parents)
            .Select(i => i % 3 == 0 ? 1 : -1)]);
        Assert.Equal((parents, parents / 3 * 2, parents / 3, ChildrenMatched.MostNamed),
            ((int)link.Differing, (int)link.Fewer, (int)link.More, link.First.Count));
        Assert.Equal(new ParentChange("h0", 1), link.First[0]);
    }
}
