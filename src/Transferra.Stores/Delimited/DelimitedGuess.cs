// DelimitedGuess.cs: looks at the beginning of the files and says how they are probably written. A guess is shown and never converted with:
// `ready` asks for it to be fixed in office.yaml first, as 03/04/05 can be read in more than one way.
using System.Text;
using System.Text.Unicode;
using Transferra.Core.Expressions;
using Transferra.Core.Machine;

namespace Transferra.Stores.Delimited;

internal static class DelimitedGuess
{
    private const int SampleBytes = 1 << 16, SampleRecords = 200;

    private static readonly string[] DateTemplates = ["YYYY-MM-DD", "DD.MM.YYYY", "DD/MM/YYYY", "MM/DD/YYYY", "YYYYMMDD", "DD.MM.RR",
        "DD/MM/RR", "MM/DD/RR"];

    /// <summary>The form that most of the files' beginnings fit.</summary>
    public static DelimitedForm Of(IReadOnlyList<string> files)
    {
        byte[][] samples = [.. files.Select(Sample)];
        DelimitedForm form = DelimitedForm.Standard with
        {
            Encoding = samples.All(sample => Utf8.IsValid(WholeCharacters(sample)))
            ? "utf-8" : "windows-1252"
        };
        form = form with
        {
            Separator = ",;\t|".MaxBy(separator =>
            samples.Sum(sample => Columns(sample, form with { Separator = separator })))
        };
        List<string[]> records = [.. samples.SelectMany(sample => Records(sample, form).Skip(1))];
        string[] fields = [.. records.SelectMany(record => record).Where(field => field.Length > 0)];
        int commas = fields.Count(field => IsNumber(field, ',')), points = fields.Count(field => IsNumber(field, '.'));
        byte[][] dates = [.. fields.Where(field => field.Length is >= 8 and <= 10 && field.Count(char.IsAsciiDigit) >= 6
            && field.IndexOfAny(['/', '.', '-']) > 0).Select(Encoding.UTF8.GetBytes)];
        string template = DateTemplates.MaxBy(candidate => dates.Count(date => DateTemplate.Parse(candidate).TryRead(date, out _)))!;
        bool header = samples.All(sample => Records(sample, form).FirstOrDefault() is not { } first
            || (first.All(name => name.Length > 0 && !char.IsAsciiDigit(name[0])) && first.Distinct().Count() == first.Length));
        return form with
        {
            DecimalMark = commas > points ? ',' : '.',
            Dates = dates.Length > 0 ? template : form.Dates,
            HasHeader = header
        };
    }

    private static bool IsNumber(string field, char mark) => field.Count(c => c == mark) == 1 && field.All(c => char.IsAsciiDigit(c)
        || c == mark || c == '-')
        && char.IsAsciiDigit(field[^1]);

    private static byte[] Sample(string path)
    {
        using FileStream file = PlainFile.Open(path);
        byte[] sample = new byte[Math.Min(SampleBytes, file.Length)];
        file.ReadExactly(sample);
        return sample;
    }

    // A sample may end in the middle of a character.
    private static ReadOnlySpan<byte> WholeCharacters(byte[] sample)
    {
        int end = sample.Length;
        for (int back = 0; back < 3 && end > 0 && sample.Length == SampleBytes && sample[end - 1] >= 0x80; back++) end--;
        return sample.AsSpan(0, end);
    }

    // A good separator splits every record into the same number of fields, and into more than one.
    private static int Columns(byte[] sample, DelimitedForm form)
    {
        string[][] records = [.. Records(sample, form)];
        return records.Length == 0 || records.Any(record => record.Length != records[0].Length) ? 0 : records[0].Length - 1;
    }

    private static IEnumerable<string[]> Records(byte[] sample, DelimitedForm form)
    {
        bool cut = sample.Length == SampleBytes;
        using var parser = new DelimitedParser(new MemoryStream(sample), form);
        string[]? last = null;
        for (int count = 0; count < SampleRecords && parser.Next(); count++)
        {
            if (last is not null) yield return last;
            last = [.. Enumerable.Range(0, parser.FieldCount).Select(i => Encoding.UTF8.GetString(parser.Field(i)))];
        }
        // The last record of a cut sample is cut itself.
        if (last is not null && !cut) yield return last;
    }
}
