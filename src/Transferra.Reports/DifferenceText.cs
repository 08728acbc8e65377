// DifferenceText.cs: two values that differ, written so that the difference is seen: blanks at an end, characters that have no form of
// their own, line ends.
using System.Globalization;
using System.Text;
using Transferra.Core.Matching;

namespace Transferra.Reports;

/// <summary>Shows values that differ.</summary>
public static class DifferenceText
{
    /// <summary>Kinds whose difference lies in what is not seen otherwise.</summary>
    private static readonly HashSet<ChangeKind> Hidden = [ChangeKind.Blanks, ChangeKind.Spacing, ChangeKind.Accents, ChangeKind.NullOrBlank,
        ChangeKind.LineOrder, ChangeKind.Cut];

    /// <summary>A value of a difference.</summary>
    public static string Of(Difference difference, string value) => Hidden.Contains(difference.Change) ? Visible(value) : value;

    /// <summary>The column, and from which character on the values differ where that is far behind.</summary>
    public static string ColumnOf(Difference difference) => difference.Column.Length == 0 ? "(whole record)" : difference.At is { } at
        ? string.Create(CultureInfo.InvariantCulture, $"{difference.Column}, from character {at}") : difference.Column;

    /// <summary>A text with what is not seen made visible: blanks at its ends as a middle dot, all else by its code point.</summary>
    public static string Visible(string text)
    {
        int first = text.Length - text.TrimStart(' ').Length, last = text.TrimEnd(' ').Length;
        var shown = new StringBuilder();
        for (int i = 0; i < text.Length; i++)
            if (text[i] == ' ') shown.Append(i < first || i >= last ? '\u00B7' : ' ');
            else if (char.IsControl(text[i]) || CharUnicodeInfo.GetUnicodeCategory(text[i]) is UnicodeCategory.NonSpacingMark
                or UnicodeCategory.Format or UnicodeCategory.SpaceSeparator)
                shown.Append(CultureInfo.InvariantCulture, $"[U+{(int)text[i]:X4}]");
            else shown.Append(text[i]);
        return shown.Length == 0 ? "(empty)" : shown.ToString();
    }
}
