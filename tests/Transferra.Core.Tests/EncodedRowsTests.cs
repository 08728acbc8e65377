using System.Text;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Rows encoded and digested many at a time, against the same row by row; and long values as they are listed.</summary>
public sealed class EncodedRowsTests(ITestOutputHelper output)
{
    private static readonly FieldType[] Types = [FieldType.Text, new(FieldKind.Integer), new(FieldKind.Decimal, 30, 4),
        new(FieldKind.Date), new(FieldKind.Double), new(FieldKind.Uuid), new(FieldKind.Any), new(FieldKind.Boolean), new(FieldKind.Binary)];

    private static void Append(Vector vector, Random random, int longest)
    {
        if (random.Next(5) == 0)
        {
            vector.AppendNull();
            return;
        }
        byte[] bytes = new byte[random.Next(20) == 0 ? random.Next(longest) : random.Next(12)];
        random.NextBytes(bytes);
        switch (vector)
        {
            case LongVector longs: longs.Append(random.NextInt64(long.MinValue, long.MaxValue)); break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                wides.Append(random.Next(6) == 0 ? Specials.NaN : random.Next(3) * Int128.Parse("1500000000000000000000"));
                break;
            case WideVector wides: wides.Append(((Int128)random.NextInt64() << 64) + random.NextInt64()); break;
            case DoubleVector doubles:
                doubles.Append(random.Next(4) == 0 ? -0.0 : random.Next(4) == 0 ? double.NaN : random.NextDouble());
                break;
            case BytesVector { Type.Kind: FieldKind.Any } any when random.Next(2) == 0:
                AnyValue.Append(any, random.Next(2) == 0 ? AnyValue.Text : AnyValue.Blob, bytes); break;
            case BytesVector { Type.Kind: FieldKind.Any } any when random.Next(2) == 0: AnyValue.Append(any, random.NextInt64()); break;
            case BytesVector { Type.Kind: FieldKind.Any } any: AnyValue.Append(any, random.NextDouble()); break;
            default: ((BytesVector)vector).Append(bytes); break;
        }
    }

    [Fact]
    public void Many_rows_at_a_time_give_the_bytes_and_the_fingerprints_of_one_after_the_other()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        foreach ((int rows, int longest) in ((int, int)[])[(1, 10), (255, 40), (256, 40), (257, 40), (1000, 300), (40, 400_000)])
        {
            var table = new TableShape("T", [.. Types.Select((type, i) => new ColumnShape($"C{i}", type))], random.Next(3) switch
            {
                0 => [],
                1 => ["C1"],
                _ => ["C6", "C3"]
            }, []);
            var batch = new RecordBatch(table.Columns, new BatchLimits(10_000, long.MaxValue));
            for (int row = 0; row < rows; row++)
                foreach (Vector vector in batch.Vectors) Append(vector, random, longest);
            int[] some = [.. Enumerable.Range(0, rows).Where(_ => random.Next(4) > 0).OrderBy(_ => random.Next())];
            var one = new RowEncoder(table, batch.Vectors);
            var many = new EncodedRows();
            for (int at = 0; at < some.Length;)
            {
                // (1) the same bytes; (2) in blocks whose bytes have a limit, which one long row may pass.
                int count = many.Encode(batch.Vectors, some.AsSpan(at));
                Assert.InRange(count, 1, EncodedRows.MostRows);
                long bytes = 0;
                for (int i = 0; i < count; i++, bytes += many[i - 1].Length)
                    Assert.True(one.Row(some[at + i]).SequenceEqual(many[i]), $"row {some[at + i]} of {rows}");
                Assert.True(count == 1 || bytes <= 1 << 18);
                at += count;
            }
            BucketedFingerprint slowly = new(), fast = new();
            foreach (int row in some) slowly.Add(one.Key(row), one.Row(row));
            var digests = new RowDigests(table, batch.Vectors);
            digests.Add(fast, some);
            Assert.Equal(slowly.Total(), fast.Total());
            Assert.Equal(slowly.Total(), digests.Of(some));
            Assert.Equal(0, slowly.DifferingFrom(fast).Count);
        }
    }

    private static ComparedRow Row(FieldType type, byte[]? value, bool isPrivate = false)
    {
        var batch = new RecordBatch([new ColumnShape("C", type) { IsPrivate = isPrivate }]);
        if (value is null) batch.Vectors[0].AppendNull();
        else ((BytesVector)batch.Vectors[0]).Append(value);
        return new ComparedRow(batch, 0, null);
    }

    private static byte[] Text(string text) => Encoding.UTF8.GetBytes(text);

    [Fact]
    public void Of_long_values_the_part_in_which_they_differ_is_listed()
    {
        // (1) short, (2) whole characters only, from a little before the difference.
        string many = string.Concat(Enumerable.Repeat("ñ", 4000));
        (string was, string now) = ListedValues.Pair(Row(FieldType.Text, Text(many + "old end")),
            Row(FieldType.Text, Text(many + "new end")), 0);
        Assert.Equal("(4,007 characters, from character 3,991:) ññññññññññold end", was);
        Assert.Equal("(4,007 characters, from character 3,991:) ññññññññññnew end", now);
        Assert.Equal(4001, ListedValues.Place(Row(FieldType.Text, Text(many + "old")), Row(FieldType.Text, Text(many + "new")), 0));
        (was, now) = ListedValues.Pair(Row(FieldType.Text, Text(many)), Row(FieldType.Text, Text("short")), 0);
        Assert.Equal("short", now);
        Assert.EndsWith("ñ...", was, StringComparison.Ordinal);
        Assert.InRange(was.Length, 100, 260);
        (was, now) = ListedValues.Pair(Row(FieldType.Text, Text(many)), Row(FieldType.Text, null), 0);
        Assert.Equal("(no value)", now);
        var blob = new FieldType(FieldKind.Binary);
        byte[] bytes = new byte[5_000_000], changed = new byte[5_000_000];
        changed[4_000_000] = 0xAB;
        (was, now) = ListedValues.Pair(Row(blob, bytes), Row(blob, changed), 0);
        Assert.StartsWith("(5,000,000 bytes, from byte 3,999,981:) 0000000000000000000000000000000000000000AB00", now,
            StringComparison.Ordinal);
        Assert.InRange(now.Length, 128, 200);
        Assert.Equal(TableShape.Private, ListedValues.One(Row(FieldType.Text, Text(many), isPrivate: true), 0));
        Assert.Equal("hello", ListedValues.One(Row(FieldType.Text, Text("hello")), 0));
    }
}
