// Figure.cs: numbers as reports print them: with thousands apart, a sign in front or behind, or in brackets.
// Holds: (1) a figure is read exactly, or not as one; nothing passes through a floating-point number.
using System.Globalization;
using System.Text.RegularExpressions;

namespace Transferra.Core.Printed;

/// <summary>A number that is printed somewhere.</summary>
/// <param name="At">Where it begins in its line.</param>
/// <param name="Text">As it is printed.</param>
/// <param name="Units">Its value in units of ten to the minus <paramref name="Scale"/>.</param>
/// <param name="Scale">Digits behind the decimal mark.</param>
internal readonly partial record struct Figure(int At, string Text, Int128 Units, int Scale)
{
    private const int MostDigits = 18;

    [GeneratedRegex(@"(?<![\w.,:/-])(?:\((?<in>\d[\d.,'\u00A0\u202F]*)\)|(?<sign>[-+\u2212]?)(?<in>\d[\d.,'\u00A0\u202F]*)(?<behind>-?))"
        + @"(?![\w:/]|-\d)", RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex Printed();

    /// <summary>The figures of a line, in order. Dates, times and numbers with letters in them are none.</summary>
    public static IEnumerable<Figure> In(string line)
    {
        foreach (Match match in Printed().Matches(line))
            if (Of(match) is { } figure) yield return figure;
    }

    // A mark that stands once and has not exactly three digits behind it, or the last one where there are two kinds, is the decimal mark;
    // all others keep thousands apart.
    private static Figure? Of(Match match)
    {
        string text = match.Groups["in"].Value.TrimEnd('.', ',', '\'');
        int last = text.LastIndexOfAny(['.', ',']);
        bool hasDecimals = last >= 0 && text.IndexOf(text[last]) == last
            && (text.Length - last - 1 != 3 || text.AsSpan(0, last).IndexOfAny('.', ',') >= 0);
        Int128 units = 0;
        int digits = 0;
        foreach (char c in text)
        {
            if (!char.IsAsciiDigit(c)) continue;
            if (++digits > MostDigits) return null;
            units = (units * 10) + (c - '0');
        }
        bool isNegative = match.Value[0] is '(' or '-' or '\u2212' || match.Groups["behind"].Length > 0;
        return new Figure(match.Index, match.Value, isNegative ? -units : units, hasDecimals ? text.Length - last - 1 : 0);
    }

    /// <summary>A sum as a person reads it.</summary>
    public static string Shown(Int128 units, int scale)
    {
        string digits = Int128.Abs(units).ToString(CultureInfo.InvariantCulture).PadLeft(scale + 1, '0');
        return (units < 0 ? "-" : "") + (scale == 0 ? digits : $"{digits[..^scale]}.{digits[^scale..]}");
    }
}
