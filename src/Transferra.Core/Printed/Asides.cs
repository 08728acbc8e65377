// Asides.cs: what of a report is left aside, because it is another each time it is printed: page heads, page numbers, the time of printing,
// and what a person names.
// Holds: (1) only what a rule names is left aside, and how much that was is counted; figures elsewhere are never part of it.
using System.Text.RegularExpressions;

namespace Transferra.Core.Printed;

/// <summary>Leaves parts of lines aside.</summary>
/// <param name="more">Further patterns, by what a person says.</param>
public sealed partial class Asides(IReadOnlyList<Regex> more)
{
    private const int HeadLines = 8;

    private const string Aside = "\u2026";

    /// <summary>How long a pattern may take on one line.</summary>
    public static readonly TimeSpan Limit = TimeSpan.FromSeconds(1);

    [GeneratedRegex(@"\b(page|sheet)\s*:?\s*\d+(\s*(of|/)\s*\d+)?", RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex PageNumber();

    private const string Day = @"(\d{1,4}[-./]\d{1,2}[-./]\d{1,4}|\d{1,2}\.? [A-Za-z]{3,9}\.? \d{4})",
        Hour = @"(\d{1,2}:\d{2}(:\d{2})?( ?[ap]\.?m\b\.?)?)";

    [GeneratedRegex(@"(?<=\b(printed|print date|run date|date printed|time printed|created|generated)\b\W{0,6}(on|at)?\W{0,3})"
        + $@"({Day}(\W{{0,6}}{Hour})?|{Hour})", RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex PrintedAt();

    [GeneratedRegex(@"\s+", RegexOptions.None, 1000)]
    private static partial Regex Blanks();

    /// <summary>How many parts of lines, and lines of page heads, were left aside.</summary>
    public int Count { get; private set; }

    /// <summary>What is compared of a report's lines: blanks squeezed, empty lines, heads of later pages
    /// and what is left aside whole gone, each with the number it
    /// has in the report.</summary>
    public IReadOnlyList<(int Number, string Line)> Kept(PrintedReport report)
    {
        var kept = new List<(int, string)>();
        int number = 0;
        List<(int Number, string Line)>[] pages = [.. report.Pages.Select(page => page.Select(line => (Number: ++number,
            Line: Squeezed(line))).Where(line => line.Line.Length > 0).ToList())];
        int head = HeadOf([.. pages.Where(page => page.Count > 0)]);
        bool isFirst = true;
        foreach (List<(int, string)> page in pages.Where(page => page.Count > 0))
        {
            kept.AddRange(isFirst ? page : page.Skip(head));
            if (!isFirst) Count += head;
            isFirst = false;
        }
        return kept;
    }

    // How many lines all pages begin with. A line with a figure is none of them: it may be a record that stands at the top of two pages.
    private static int HeadOf(List<(int Number, string Line)>[] pages)
    {
        if (pages.Length < 2) return 0;
        int head = 0;
        while (head < HeadLines && pages.All(page => page.Count > head && page[head].Line == pages[0][head].Line)
            && !Figure.In(pages[0][head].Line).Any()) head++;
        return head;
    }

    private string Squeezed(string line)
    {
        // What a person names first, as it was printed.
        foreach (Regex pattern in (Regex[])[.. more, PageNumber(), PrintedAt()])
            line = pattern.Replace(line, match =>
            {
                if (match.Length == 0) return "";
                Count++;
                return Aside;
            });
        line = Blanks().Replace(line, " ").Trim();
        return line.Replace(Aside, "", StringComparison.Ordinal).Trim().Length == 0 ? "" : line;
    }
}
