using System.Text;
using System.Text.Unicode;
using Transferra.Core.Checks;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class ColumnDigestsTests(ITestOutputHelper output)
{
    private static readonly ColumnShape[] Columns = [.. new[] { FieldType.Text, FieldType.Integer, FieldType.Decimal(14, 2), FieldType.Date,
        FieldType.Boolean, new FieldType(FieldKind.Double), new FieldType(FieldKind.Uuid), new FieldType(FieldKind.Binary),
        new FieldType(FieldKind.Any) }.Select((type, i) => new ColumnShape($"C{i}", type))];

    private static void Fill(RecordBatch batch, Random random, int rows)
    {
        batch.Reset();
        for (int row = 0; row < rows; row++)
            foreach (Vector vector in batch.Vectors)
            {
                byte[] bytes = Encoding.ASCII.GetBytes(new string((char)random.Next('a', 'd'), random.Next(40)));
                if (random.Next(6) == 0) vector.AppendNull();
                else if (vector is LongVector longs) longs.Append(random.Next(-5, 5));
                else if (vector is WideVector wides) wides.Append(random.Next(-5, 5) * 50);
                else if (vector is DoubleVector doubles) doubles.Append(random.Next(-5, 5) / 4.0);
                else ((BytesVector)vector).Append(bytes);
            }
    }

    private static TableScan Scan(RecordBatch batch) => new(new TableShape("T", Columns, ["C1"], []), batch);

    [Theory]
    [InlineData(1)]
    [InlineData(63)]
    [InlineData(64)]
    [InlineData(200)]
    public void Columns_together_have_the_digests_that_their_values_have_one_by_one(int rows)
    {
        output.WriteLine($"seed {Seeds.Given}");
        var random = new Random(Seeds.Given + rows);
        var batch = new RecordBatch(Columns);
        TableScan scan = Scan(batch);
        int[][] keys = [[], [0], [1], [2], [0, 1], [4, 3, 2], [.. Enumerable.Range(0, Columns.Length)]];
        KeyDigests[] digests = [.. keys.Select(key => new KeyDigests(scan, key))];
        for (int filling = 0; filling < 3; filling++)
        {
            Fill(batch, random, rows - (filling % 2)); // filled anew: nothing of what was there before is given
            for (int key = 0; key < keys.Length; key++)
            {
                var oneByOne = new RowDigest(keys[key]);
                digests[key].Look();
                for (int row = 0; row < batch.RowCount; row++)
                {
                    Assert.Equal(oneByOne.Of(batch, row), digests[key][row]);
                    Assert.Equal(oneByOne.IsWhole(batch, row), digests[key].IsWhole(row));
                }
            }
            if (filling == 1) scan.Digests.Release();
        }
    }

    [Fact]
    public void What_two_probes_ask_at_once_is_the_same_for_both()
    {
        var batch = new RecordBatch(Columns);
        TableScan scan = Scan(batch);
        Fill(batch, new Random(3), 4096);
        ulong[][] asked = new ulong[8][];
        Parallel.For(0, asked.Length, i => asked[i] = [.. scan.Digests.Of(0).AsSpan(0, batch.RowCount)]);
        Assert.All(asked, digests => Assert.Equal(asked[0], digests));
    }

    [Fact]
    public void Texts_of_all_lengths_differ_in_their_digests_where_they_differ_in_one_byte()
    {
        var digests = new HashSet<ulong>();
        int texts = 0;
        for (int length = 0; length <= 40; length++)
        {
            byte[] text = [.. Enumerable.Repeat((byte)'x', length)];
            Assert.True(digests.Add(Digest.OfBytes(text)), $"{length} bytes");
            texts++;
            for (int at = 0; at < length; at++, texts++)
            {
                text[at]++;
                Assert.True(digests.Add(Digest.OfBytes(text)), $"byte {at} of {length}");
                text[at]--;
            }
        }
        Assert.Equal(texts, digests.Count);
    }

    [Fact]
    public void A_text_is_taken_when_it_is_utf8_whatever_its_length_and_left_when_it_is_not()
    {
        output.WriteLine($"seed {Seeds.Given}");
        var random = new Random(Seeds.Given);
        var taken = new BytesVector(FieldType.Text);
        var expected = new List<byte[]>();
        for (int round = 0; round < 20_000; round++)
        {
            byte[] text = new byte[random.Next(36)];
            for (int i = 0; i < text.Length; i++) text[i] = (byte)random.Next(0x80);
            for (int i = random.Next(3); i > 0 && text.Length > 0; i--) text[random.Next(text.Length)] = (byte)random.Next(0x80, 0x100);
            if (random.Next(4) == 0) text = Encoding.UTF8.GetBytes(new string('ü', random.Next(12)));
            Assert.Equal(Utf8.IsValid(text), taken.TryAppendUtf8(text));
            if (Utf8.IsValid(text)) expected.Add(text);
        }
        Assert.Equal(expected.Count, taken.Count);
        for (int row = 0; row < taken.Count; row++) Assert.Equal(expected[row], taken[row]);
    }
}
