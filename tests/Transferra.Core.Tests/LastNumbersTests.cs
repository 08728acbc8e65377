using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>What comes after the last number of the old data.</summary>
public sealed class LastNumbersTests
{
    [Theory]
    [InlineData("1 2 3", "4", true)]
    [InlineData("1 2 3", "2", false)]
    [InlineData("", "1", false)]                    // of an empty table nothing is the last
    [InlineData("INV007 INV012", "INV013", true)]
    [InlineData("INV007 INV012", "INV9", false)]
    [InlineData("INV007 CRD001", "CRD002", true)]
    [InlineData("INV007", "CRD008", false)]         // another series
    [InlineData("0099", "0100", true)]
    [InlineData("ABC", "ABD", false)]               // no number at all
    [InlineData("1", "123456789012345678901", false)]
    public void Texts(string there, string found, bool isBeyond) => Assert.Equal(isBeyond, Is(FieldKind.Text, there.Split(' ',
        StringSplitOptions.RemoveEmptyEntries), found));

    [Theory]
    [InlineData(new long[] { 1, 5 }, 6, true)]
    [InlineData(new long[] { 1, 5 }, 5, false)]
    [InlineData(new long[] { -9, -5 }, -4, true)]
    public void Numbers(long[] there, long found, bool isBeyond) => Assert.Equal(isBeyond, Is(FieldKind.Integer, [.. there.Cast<object>()],
        found));

    [Theory] // as a store without types has them
    [InlineData("1 5", "6", true)]
    [InlineData("1 5", "5", false)]
    [InlineData("INV007", "INV008", true)]
    public void Of_any_kind(string there, string found, bool isBeyond) => Assert.Equal(isBeyond, Is(FieldKind.Any, [.. there.Split(' ')
        .Select(Any)], Any(found)));

    private static object Any(string text) => long.TryParse(text, out long number) ? number : text;

    private static bool Is(FieldKind kind, object[] there, object found)
    {
        var table = new TableShape("T", [new ColumnShape("CO", new FieldType(FieldKind.Text)), new ColumnShape("NO", new FieldType(kind))],
            ["CO", "NO"], []);
        var last = new LastNumbers(table);
        var batch = new RecordBatch(table.Columns);
        foreach (object value in there.Append(found))
        {
            MemoryStore.Append(batch.Vectors[0], "A");
            MemoryStore.Append(batch.Vectors[1], value);
        }
        // As two threads take note of them, each of a part.
        var other = new LastNumbers(table);
        for (int row = 0; row < there.Length; row++) (row % 2 == 0 ? last : other).Add(batch.Vectors, row);
        last.Add(other);
        return last.IsBeyond(batch.Vectors, there.Length);
    }
}
