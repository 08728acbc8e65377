using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Stores.Delimited;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>A line, written in bytes, is the one that a plain way with texts comes to.</summary>
public sealed class DelimitedLineTests
{
    private static readonly string[] _texts = ["", " ", "a", "NIL", "a,b", "a;b", "say \"so\"", "\"", "'", "it's", "two\r\nlines", " ahead",
        "behind ", "Caf\u00e9", "\U0001F3BB", "\t", "x|y", new('z', 5000), "\"" + new string('q', 300) + "\"\""];

    private static readonly TableShape _table = new("t", [new("s", FieldType.Text), new("n", FieldType.Decimal(12, 2)),
        new("d", FieldType.Date), new("i", FieldType.Integer), new("b", new FieldType(FieldKind.Binary))], [], []);

    private static string Plain(DelimitedForm form, string text)
    {
        char[] special = [form.Separator, form.Quote, '\r', '\n'];
        bool isPlain = text.Length > 0 && text != form.Null && text[0] != ' ' && text[^1] != ' ' && text.IndexOfAny(special) < 0;
        string quote = form.Quote.ToString();
        return isPlain ? text : quote + text.Replace(quote, quote + quote, StringComparison.Ordinal) + quote;
    }

    [Theory]
    [InlineData(',', '"', "utf-8", '.', "YYYY-MM-DD", "")]
    [InlineData(';', '"', "utf-8", ',', "DD.MM.YYYY", "NIL")]
    [InlineData('\t', '\'', "utf-16", '.', "YYYYMMDD", "")]
    [InlineData('|', '"', "windows-1252", ',', "DD/MM/YYYY", "a")]
    public void It_is_what_the_form_says(char separator, char quote, string encoding, char mark, string dates, string nothing)
    {
        int seed = Seeds.Given;
        var random = new Random(seed);
        var form = new DelimitedForm(separator, quote, encoding, true, mark, dates, nothing);
        var line = new DelimitedLine(form);
        Encoding pages = DelimitedLine.EncodingOf(form);
        for (int round = 0; round < 400; round++)
        {
            var batch = new RecordBatch(_table.Columns);
            string text = _texts[random.Next(_texts.Length)];
            long units = random.NextInt64(-99_999_999, 99_999_999), number = random.NextInt64();
            var day = new DateOnly(random.Next(1, 10_000), random.Next(1, 13), random.Next(1, 29));
            byte[] bytes = new byte[random.Next(3) * 7];
            random.NextBytes(bytes);
            ((BytesVector)batch.Vectors[0]).Append(Encoding.UTF8.GetBytes(text));
            ((WideVector)batch.Vectors[1]).Append(units);
            ((LongVector)batch.Vectors[2]).Append(day.DayNumber);
            if (round % 5 == 0) batch.Vectors[3].AppendNull();
            else ((LongVector)batch.Vectors[3]).Append(number);
            ((BytesVector)batch.Vectors[4]).Append(bytes);
            RowReject? refused = line.Write(new TableOutput(_table, batch.Vectors), 0);
            if (encoding == "windows-1252" && text.Contains('\uD83C', StringComparison.Ordinal))
            {
                Assert.Equal(FaultCode.NotText, refused?.Code);
                continue;
            }
            Assert.Null(refused);
            string[] fields = [text, DecimalText.Format(units, 2).Replace('.', mark),
                day.ToString(dates.Replace('Y', 'y').Replace('D', 'd'), CultureInfo.InvariantCulture),
                round % 5 == 0 ? "" : number.ToString(CultureInfo.InvariantCulture), Convert.ToHexString(bytes)];
            string expected = string.Join(separator, fields.Select((field, i) => i == 3 && round % 5 == 0 ? nothing : Plain(form,
                field))) + "\r\n";
            Assert.True(line.Bytes.SequenceEqual(pages.GetBytes(expected)), $"seed {seed}, round {round}: {expected}");
        }
    }
}
