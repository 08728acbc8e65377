using System.Text;
using Transferra.Core.Records;
using Transferra.Stores.Servers;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Rows in the text form of LOAD DATA and COPY, written out while they are read.</summary>
public sealed class LoadTextTests(ITestOutputHelper output)
{
    private static readonly ColumnShape[] Columns = [new("NO", new FieldType(FieldKind.Integer)), new("NAME", FieldType.Text),
        new("ON", new FieldType(FieldKind.Date)), new("SUM", new FieldType(FieldKind.Decimal, 14, 2)),
        new("PICTURE", new FieldType(FieldKind.Binary))];

    private static void Append(RecordBatch batch, long? number, string? name, long? day, Int128? units, byte[]? picture)
    {
        var one = (Vector vector, bool isThere, Action append) =>
        {
            if (isThere) append();
            else vector.AppendNull();
        };
        Vector[] to = batch.Vectors;
        one(to[0], number is not null, () => ((LongVector)to[0]).Append(number!.Value));
        one(to[1], name is not null, () => ((BytesVector)to[1]).Append(Encoding.UTF8.GetBytes(name!)));
        one(to[2], day is not null, () => ((LongVector)to[2]).Append(day!.Value));
        one(to[3], units is not null, () => ((WideVector)to[3]).Append(units!.Value));
        one(to[4], picture is not null, () => ((BytesVector)to[4]).Append(picture));
    }

    private static string Read(Stream text, Func<int> atATime)
    {
        var all = new MemoryStream();
        byte[] buffer = new byte[1 << 20];
        while (text.Read(buffer, 0, atATime()) is > 0 and int read) all.Write(buffer, 0, read);
        return Encoding.UTF8.GetString(all.ToArray());
    }

    [Fact]
    public void Fields_are_parted_by_tabs_and_what_could_be_taken_for_one_is_escaped()
    {
        var batch = new RecordBatch(Columns);
        Append(batch, 7, "a\tb\nc\\d\re\0f", new DateOnly(2026, 2, 28).DayNumber, -5, [0, 255]);
        Append(batch, null, null, null, null, null);
        Append(batch, -1, "", 0, 123_456, []);
        var text = new LoadText("0x");
        Assert.Equal("-1\t\t0001-01-01\t1234.56\t0x\n7\ta\\tb\\nc\\\\d\\re\\0f\t2026-02-28\t-0.05\t0x00FF\n",
            Read(text.Of(batch.Vectors, [2, 0]), () => 1000));
        Assert.Equal("\\N\t\\N\t\\N\t\\N\t\\N\n", Read(text.Of(batch.Vectors, [1]), () => 1000));
        Assert.Equal(15, text.Written);
        Assert.Equal("", Read(text.Of(batch.Vectors, []), () => 1000));
    }

    [Fact]
    public void What_is_read_is_the_same_whatever_is_asked_for_at_a_time()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        var batch = new RecordBatch(Columns, new BatchLimits(10_000, long.MaxValue));
        for (int row = 0; row < 3000; row++)
        {
            byte[] picture = new byte[random.Next(100) == 0 ? random.Next(200_000) : random.Next(30)];
            random.NextBytes(picture);
            Append(batch, random.Next(), new string((char)random.Next(9, 300), random.Next(40)), random.Next(3_000_000), random.NextInt64(),
                random.Next(10) == 0 ? null : picture);
        }
        int[] rows = [.. Enumerable.Range(0, 3000).Where(_ => random.Next(4) > 0)];
        var text = new LoadText();
        string[] one = [.. rows.Select(row => Read(text.Of(batch.Vectors, [row]), () => 1 << 20))];
        Assert.All(one, line => Assert.Equal((1, 4), (line.Count('\n'), line.Count('\t'))));
        string wanted = string.Concat(one);
        foreach (Func<int> atATime in (Func<int>[])[() => 1, () => 1 << 16, () => 1 << 20, () => random.Next(1, 100_000)])
        {
            Assert.Equal(wanted, Read(text.Of(batch.Vectors, rows), atATime));
            Assert.Equal(Encoding.UTF8.GetByteCount(wanted), text.Written);
        }
    }
}
