// DateTemplate.cs: datetime templates of formatted casts, ISO/IEC 9075-2:2016 feature T839: YYYY, RR, MM, DD and separators.
// Why YY is refused: the standard lets it take the present century's digits, so that the same record would convert
// differently after a turn of the century. RR is fixed here: 00 to 49 mean 20xx, 50 to 99 mean 19xx.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>A template of dates in text.</summary>
public sealed class DateTemplate
{
    private enum Part { Year4, Year2, Month, Day, Separator }

    private readonly List<(Part Part, byte Separator)> _parts = [];

    private readonly int _length;

    private DateTemplate(string text)
    {
        Text = text;
        int at = 0;
        while (at < text.Length)
        {
            if (Follows("YYYY")) Add(Part.Year4, 4);
            else if (Follows("RR")) Add(Part.Year2, 2);
            else if (Follows("MM")) Add(Part.Month, 2);
            else if (Follows("DD")) Add(Part.Day, 2);
            else if (text[at] is '/' or '-' or '.' or ',' or ';' or ':' or ' ') _parts.Add((Part.Separator, (byte)text[at++]));
            else if (Follows("YY")) throw new FormatException("YY depends on the day it is read; write RR (00-49 are 20xx, "
                + "50-99 are 19xx) or YYYY");
            else throw new FormatException($"\"{text[at..]}\" is not part of a date template; the parts are YYYY, RR, MM, DD and the "
                + "separators / - . , ; : and blank");
        }
        _length = _parts.Sum(part => part.Part switch { Part.Year4 => 4, Part.Separator => 1, _ => 2 });
        int years = _parts.Count(part => part.Part is Part.Year4 or Part.Year2);
        if (years != 1 || _parts.Count(part => part.Part == Part.Month) != 1 || _parts.Count(part => part.Part == Part.Day) != 1)
            throw new FormatException("a date template names the year, the month and the day once each");

        bool Follows(string token) => string.CompareOrdinal(text, at, token, 0, token.Length) == 0;
        void Add(Part part, int length) { _parts.Add((part, 0)); at += length; }
    }

    /// <summary>The template as written.</summary>
    public string Text { get; }

    /// <summary>Reads a template.</summary>
    /// <exception cref="FormatException">With the reason.</exception>
    public static DateTemplate Parse(string text) => new(text);

    /// <summary>Reads a date that has exactly the template's form; days since 0001-01-01.</summary>
    public bool TryRead(ReadOnlySpan<byte> text, out long day)
    {
        day = 0;
        if (text.Length != _length) return false;
        int at = 0, year = 0, month = 0, dayOfMonth = 0;
        foreach ((Part part, byte separator) in _parts)
        {
            if (part == Part.Separator)
            {
                if (text[at++] != separator) return false;
                continue;
            }
            int width = part == Part.Year4 ? 4 : 2;
            if (!ValueText.Digits(text.Slice(at, width), out int value)) return false;
            at += width;
            switch (part)
            {
                case Part.Year4: year = value; break;
                case Part.Year2: year = value < 50 ? 2000 + value : 1900 + value; break;
                case Part.Month: month = value; break;
                default: dayOfMonth = value; break;
            }
        }
        return ValueText.TryDay(year, month, dayOfMonth, out day);
    }

    /// <summary>Writes a date; null when a two-digit year could not be read back as the same year.</summary>
    public string? Write(long day)
    {
        var date = DateOnly.FromDayNumber((int)day);
        var text = new System.Text.StringBuilder();
        foreach ((Part part, byte separator) in _parts)
        {
            if (part == Part.Year2 && date.Year is < 1950 or > 2049) return null;
            text.Append(part switch
            {
                Part.Year4 => Digits(date.Year, 4),
                Part.Year2 => Digits(date.Year % 100, 2),
                Part.Month => Digits(date.Month, 2),
                Part.Day => Digits(date.Day, 2),
                _ => ((char)separator).ToString(),
            });
        }
        return text.ToString();

        static string Digits(int value, int width) => value.ToString(System.Globalization.CultureInfo.InvariantCulture).PadLeft(width, '0');
    }
}
