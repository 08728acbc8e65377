using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Printed;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Reports that are printed before and after: figures, lines, pages, and what is left aside.</summary>
public sealed class PrintedTests(ITestOutputHelper output)
{
    [Theory]
    [InlineData("Total 1,234.50", "1234.50")]
    [InlineData("Total 1.234,50", "1234.50")]
    [InlineData("owed (12.00) and 3.10- and -4", "-12.00 -3.10 -4")]
    [InlineData("1'234'567.05", "1234567.05")]
    [InlineData("12.345 kg", "12345")]                     // three digits behind the only mark are thousands
    [InlineData("2026-11-29 10:30 A12 7b 3/4 INV-0012", "")] // dates, times, names
    [InlineData("qty 5, at 2.", "5 2")]
    [InlineData("99999999999999999999", "")]               // longer than is read exactly
    public void Figures(string line, string expected) => Assert.Equal(expected, string.Join(' ', Figure.In(line).Select(figure =>
        Figure.Shown(figure.Units, figure.Scale))));

    private static PrintedReport Report(string text) => new("r.txt", [.. text.Split('\f').Select(page => page.Split('\n'))]);

    private static PrintedMatched Compared(string before, string after, params string[] asides) => PrintedMatch.Of(
        new PrintedPair("r.txt", "r.txt"), Report(before), Report(after), new Asides([.. asides.Select(text => new Regex(text))]));

    [Theory]
    [InlineData("a 1.00\nb 2.00", "a 1.00\nb 2.00", 0)]
    [InlineData("a   1.00\n\nb 2.00", "a 1.00\nb 2.00  ", 0)]                              // blanks are no difference
    [InlineData("a 1.00\nb 2.00", "a 1.00\nb 2.01", 1)]
    [InlineData("a 1.00\nb 2.00\nc 3.00", "a 1.00\nc 3.00", 1)]
    [InlineData("a 1.00\nb 2.00", "b 2.00\na 1.00", 2)]                                    // another order is another report
    [InlineData("Printed on 2026-11-28 10:31\na 1", "Printed on 2026-11-29 9:02\na 1", 0)]
    [InlineData("Due on 2026-11-28\na 1", "Due on 2026-11-29\na 1", 1)]                    // no time of printing
    [InlineData("a 1\nCreated at 10:31", "a 1", 1)]                                         // the words are there, whatever the time
    [InlineData("a 1\nCreated by A. Clerk 2026", "a 1\nCreated by B. Clerk 2026", 1)]
    [InlineData("Page 1 of 2\na 1", "Page 1 of 3\na 1", 0)]
    [InlineData("Ledger Page 1\na 1\fLedger Page 2\nb 2", "Ledger Page 1\na 1\nb 2", 0)]   // paper of another length
    [InlineData("Ledger\na 1\fLedger\nb 2\nLedger", "Ledger\na 1\nb 2", 1)]                // what stands elsewhere is not a head
    [InlineData("Ledger\na 1\fLedger\na 1", "Ledger\na 1\fLedger", 1)]                    // a record at the top of two pages is not a head
    [InlineData("Title\fLedger\nb 2\fLedger\nc 3", "Title\nLedger\nb 2\nc 3", 1)]          // what not all pages begin with is not one
    public void Lines(string before, string after, int differences) => Assert.Equal(differences, Compared(before, after).DifferenceCount);

    [Fact]
    public void A_changed_figure_is_named_with_its_line_and_what_a_person_names_is_left_aside()
    {
        PrintedMatched report = Compared("Clerk: A. Clerk\nAged debtors\nBrook 1,204.00\nTotal 1,204.00",
            "Clerk: B. Clerk\nAged debtors\nBrook 1,240.00\nTotal 1,204.00", "Clerk: .*");
        Assert.Equal([new[] { "1,204.00 became 1,240.00" }], report.Differences.Select(line => line.Figures));
        Assert.Equal((3, 3, "2408.00", "2444.00", 2), (report.Differences[0].LineBefore, report.Differences[0].LineAfter,
            report.Before!.Sum,
            report.After!.Sum, report.LeftAside));
    }

    [Theory]
    [InlineData("a.txt b.txt", "a.txt b.txt", "a.txt=a.txt b.txt=b.txt")]
    [InlineData("a.txt", "a.pdf", "a.txt=a.pdf")]
    [InlineData("debtors-2026-11-28.txt", "debtors-2026-11-29.csv", "debtors-2026-11-28.txt=debtors-2026-11-29.csv")]
    [InlineData("d1.txt d2.txt", "d3.txt", "d1.txt= d2.txt= =d3.txt")] // it could be either
    [InlineData("x/a.txt", "y/a.txt", "x/a.txt= =y/a.txt")]
    public void Pairs(string before, string after, string expected) => Assert.Equal(expected, string.Join(' ', PrintedPairs.Of(
        before.Split(' '), after.Split(' ')).OrderBy(pair => pair.Before is null).Select(pair => $"{pair.Before}={pair.After}")));

    [Fact]
    public void Aligned_lines_are_equal_and_go_up_and_as_many_as_can_be()
    {
        var random = new Random(Seeds.Given);
        output.WriteLine($"seed {Seeds.Given}");
        for (int round = 0; round < 400; round++)
        {
            string[] text() => [.. Enumerable.Range(0, random.Next(30)).Select(_ => random.Next(6).ToString(CultureInfo.InvariantCulture))];
            string[] before = text(), after = random.Next(3) == 0 ? [.. before.Where(_ => random.Next(5) > 0)] : text();
            IReadOnlyList<(int Before, int After)> pairs = LineAlignment.Of(before, after);
            Assert.All(pairs, pair => Assert.Equal(before[pair.Before], after[pair.After]));
            Assert.Equal(pairs, pairs.OrderBy(pair => pair.Before).DistinctBy(pair => pair.Before));
            Assert.Equal(pairs, pairs.OrderBy(pair => pair.After).DistinctBy(pair => pair.After));
            Assert.Equal(Longest(before, after), pairs.Count);
        }
        // Nothing in common, and much of it.
        Assert.Empty(LineAlignment.Of([.. Enumerable.Range(0, 20_000).Select(i => $"a{i}")], [.. Enumerable.Range(0, 20_000).Select(i =>
            $"b{i}")]));
    }

    // The length of the longest common run, by the table of the textbook.
    private static int Longest(string[] a, string[] b)
    {
        int[,] best = new int[a.Length + 1, b.Length + 1];
        for (int i = 1; i <= a.Length; i++)
            for (int j = 1; j <= b.Length; j++)
                best[i, j] = a[i - 1] == b[j - 1] ? best[i - 1, j - 1] + 1 : Math.Max(best[i - 1, j], best[i, j - 1]);
        return best[a.Length, b.Length];
    }
}
