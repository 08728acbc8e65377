// PrintedMatch.cs: whether two reports say the same: page for page, line for line, figure for figure.
// Holds: (1) they are the same only when every line that is not left aside is there in the same order with the same words and figures;
//        (2) what is counted is complete, only what is listed has a limit.
namespace Transferra.Core.Printed;

/// <summary>A line that is not the same.</summary>
/// <param name="LineBefore">Its number before; null when it is new.</param>
/// <param name="LineAfter">Its number after; null when it is gone.</param>
/// <param name="Before">What it said.</param>
/// <param name="After">What it says.</param>
/// <param name="Figures">Figures that are others, as "1.20 became 1.30".</param>
public sealed record PrintedDifference(int? LineBefore, int? LineAfter, string Before, string After, IReadOnlyList<string> Figures);

/// <summary>Size and figures of a report.</summary>
/// <param name="Pages">Its pages.</param>
/// <param name="Lines">Lines that were compared.</param>
/// <param name="Figures">Numbers in them.</param>
/// <param name="Sum">All of them added up.</param>
public sealed record PrintedExtent(int Pages, int Lines, int Figures, string Sum);

/// <summary>Two reports that were compared, or one that nothing answers to.</summary>
/// <param name="Pair">Their files.</param>
/// <param name="Before">Of the old program; null when it has none.</param>
/// <param name="After">Of the new one; null when it has none.</param>
/// <param name="Differences">The first lines that are not the same.</param>
/// <param name="DifferenceCount">How many there are.</param>
/// <param name="LeftAside">Parts of lines and lines of page heads that were not compared.</param>
public sealed record PrintedMatched(PrintedPair Pair, PrintedExtent? Before, PrintedExtent? After,
    IReadOnlyList<PrintedDifference> Differences, int DifferenceCount, int LeftAside)
{
    /// <summary>Why one of them could not be read; "" when both could.</summary>
    public string NotRead { get; init; } = "";

    /// <summary>How a file was read where that is not a matter of course; "" otherwise.</summary>
    public string ReadAs { get; init; } = "";

    /// <summary>Whether both say the same.</summary>
    public bool IsSame => Before is not null && After is not null && DifferenceCount == 0 && NotRead.Length == 0;
}

/// <summary>Compares reports.</summary>
public static class PrintedMatch
{
    private const int MostListed = 100;

    /// <summary>Compares two.</summary>
    /// <param name="pair">Their files.</param>
    /// <param name="before">Of the old program; null when it has none.</param>
    /// <param name="after">Of the new one; null when it has none.</param>
    /// <param name="asides">What is left aside.</param>
    public static PrintedMatched Of(PrintedPair pair, PrintedReport? before, PrintedReport? after, Asides asides)
    {
        int aside = asides.Count;
        IReadOnlyList<(int Number, string Line)> old = before is null ? [] : asides.Kept(before), renewed = after is null ? []
            : asides.Kept(after);
        var differences = new List<PrintedDifference>();
        int count = 0;
        if (before is not null && after is not null)
            foreach (PrintedDifference difference in Differing(old, renewed))
                if (++count <= MostListed) differences.Add(difference);
        return new PrintedMatched(pair, before is null ? null : ExtentOf(before, old), after is null ? null : ExtentOf(after, renewed),
            differences, count, asides.Count - aside)
        {
            ReadAs = string.Join(", ", ((PrintedReport?[])[before, after]).OfType<PrintedReport>().Select(report => report.ReadAs)
                .Where(how => how.Length > 0).Distinct())
        };
    }

    private static PrintedExtent ExtentOf(PrintedReport report, IReadOnlyList<(int Number, string Line)> kept)
    {
        Figure[] figures = [.. kept.SelectMany(line => Figure.In(line.Line))];
        return new PrintedExtent(report.Pages.Count, kept.Count, figures.Length, SumOf(figures));
    }

    private static string SumOf(Figure[] figures)
    {
        int scale = figures.Length == 0 ? 0 : figures.Max(figure => figure.Scale);
        try
        {
            Int128 sum = 0;
            foreach (Figure figure in figures)
            {
                Int128 units = figure.Units;
                for (int i = figure.Scale; i < scale; i++) units = checked(units * 10);
                sum = checked(sum + units);
            }
            return Figure.Shown(sum, scale);
        }
        catch (OverflowException) { return "too large to add up"; }
    }

    private static IEnumerable<PrintedDifference> Differing(IReadOnlyList<(int Number, string Line)> old,
        IReadOnlyList<(int Number, string Line)> renewed)
    {
        (int i, int j) = (0, 0);
        foreach ((int before, int after) in LineAlignment.Of([.. old.Select(line => line.Line)], [.. renewed.Select(line => line.Line)])
            .Append((old.Count, renewed.Count)))
        {
            foreach (PrintedDifference difference in Gap([.. old.Skip(i).Take(before - i)], [.. renewed.Skip(j).Take(after - j)]))
                yield return difference;
            (i, j) = (before + 1, after + 1);
        }
    }

    // Lines that stand in the same place and are the same but for their figures are one line that was changed.
    private static IEnumerable<PrintedDifference> Gap(List<(int Number, string Line)> old, List<(int Number, string Line)> renewed)
    {
        if (old.Count == 1 && renewed.Count == 1)
        {
            yield return Changed(old[0], renewed[0]);
            yield break;
        }
        Dictionary<string, Queue<(int, string)>> waiting = renewed.GroupBy(line => Words(line.Line))
            .ToDictionary(same => same.Key, same => new Queue<(int, string)>(same));
        var answered = new HashSet<int>();
        foreach ((int number, string line) in old)
            if (waiting.TryGetValue(Words(line), out Queue<(int, string)>? same) && same.TryDequeue(out (int Number, string Line) one))
            {
                answered.Add(one.Number);
                yield return Changed((number, line), one);
            }
            else yield return new PrintedDifference(number, null, line, "", []);
        foreach ((int number, string line) in renewed.Where(line => !answered.Contains(line.Number)))
            yield return new PrintedDifference(null, number, "", line, []);
    }

    private static PrintedDifference Changed((int Number, string Line) old, (int Number, string Line) renewed) =>
        new(old.Number, renewed.Number, old.Line, renewed.Line, FiguresOf(old.Line, renewed.Line));

    private static string Words(string line)
    {
        var words = new System.Text.StringBuilder();
        int at = 0;
        foreach (Figure figure in Figure.In(line))
        {
            words.Append(line, at, figure.At - at).Append('#');
            at = figure.At + figure.Text.Length;
        }
        return words.Append(line, at, line.Length - at).ToString();
    }

    private static IReadOnlyList<string> FiguresOf(string before, string after)
    {
        Figure[] old = [.. Figure.In(before)], renewed = [.. Figure.In(after)];
        return old.Length != renewed.Length ? [] : [.. old.Zip(renewed).Where(pair => (pair.First.Units, pair.First.Scale)
            != (pair.Second.Units, pair.Second.Scale)).Select(pair => $"{pair.First.Text} became {pair.Second.Text}")];
    }
}
