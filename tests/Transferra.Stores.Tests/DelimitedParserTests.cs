using System.Text;
using Transferra.Stores.Delimited;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public class DelimitedParserTests
{
    /// <summary>Gives no more than so many bytes a reading, so that no record is in the buffer as a whole before it is asked for.</summary>
    private sealed class SlowStream(byte[] bytes, int most) : MemoryStream(bytes)
    {
        public override int Read(byte[] buffer, int offset, int count) => base.Read(buffer, offset, Math.Min(count, most));
    }

    private static List<string> Records(Stream stream, DelimitedForm form)
    {
        var records = new List<string>();
        using var parser = new DelimitedParser(stream, form);
        while (parser.Next())
            records.Add($"{parser.Line}: " + string.Join('|', Enumerable.Range(0, parser.FieldCount)
                .Select(i => $"{Convert.ToHexString(parser.Field(i))}{(parser.IsQuoted(i) ? "q" : "")}")) + " " + parser.Fault);
        return records;
    }

    [Fact]
    public void Records_that_are_read_where_they_lie_are_those_that_are_read_byte_by_byte()
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        string[] parts = ["a", "bc", "a longer text without anything odd in it", ",", ",", ",", ";", "\"", "\"\"", "\n", "\n", "\r\n", "\r",
            "é", "\0", "\u2028", new string('z', 40)];
        for (int trial = 0; trial < 3000; trial++)
        {
            var text = new StringBuilder();
            for (int part = random.Next(60); part > 0; part--) text.Append(parts[random.Next(random.Next(2) == 0 ? 6 : parts.Length)]);
            if (random.Next(4) == 0) text.Append('\n', 3).Append('x', 70_000).Append(",\r\ny"); // longer than the buffer
            byte[] bytes = Encoding.UTF8.GetBytes(text.ToString());
            DelimitedForm form = DelimitedForm.Standard with { Separator = random.Next(2) == 0 ? ',' : ';' };
            List<string> slow = Records(new SlowStream(bytes, 1), form);
            foreach (int most in (int[])[int.MaxValue, 33, 1000])
            {
                List<string> quick = Records(new SlowStream(bytes, most), form);
                Assert.True(slow.SequenceEqual(quick), $"seed {seed}, trial {trial}, {most} bytes at a time: {text}");
            }
        }
    }
}
