// SignOffDrawings.cs: what a sign-off draws: the closed hours with the stages in them, the disks, the way, and the records of each table
// old against new.
using System.Globalization;
using System.Xml.Linq;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Runs;

namespace Transferra.Reports;

/// <summary>The drawings.</summary>
internal static class SignOffDrawings
{
    private const int Width = 960, Names = 170, RowHeight = 26, MostCompanies = 40, MostTables = 14;

    /// <summary>Each company's stages as bars over the hours of the run, under the time in which the office was closed.</summary>
    public static XElement? Hours(RunReport report)
    {
        CompanyReport[] companies = [.. report.Companies.Where(company => company.Stages.Any(stage => stage is
            { Began: not null, Seconds: not null })).Take(MostCompanies)];
        if (companies.Length == 0) return null;
        (DateTimeOffset from, DateTimeOffset to) = Span(report, companies);
        double seconds = Math.Max(1, (to - from).TotalSeconds), scale = (Width - Names - 10) / seconds;
        double x(DateTimeOffset at) => Names + ((at - from).TotalSeconds * scale);
        var parts = new List<XElement>();
        int y = 6;
        if (report.Closing is { } closing)
        {
            parts.Add(Svg.Text(0, y + 15, "Office closed"));
            parts.Add(Svg.Box(x(closing.BegunAt), y, Math.Max(3, x(closing.OpenAt ?? to) - x(closing.BegunAt)), 18, "#fff"));
            if (closing.ClosedAt is { } empty) parts.Add(Svg.Line(x(empty), y, x(empty), y + 18, Svg.Ink));
            y += RowHeight;
        }
        string[] stages = [.. companies.SelectMany(company => company.Stages.Select(stage => stage.Stage)).Distinct()];
        foreach (CompanyReport company in companies)
        {
            parts.Add(Svg.Text(0, y + 15, Svg.Short($"{company.Code}, {company.Outcome}", 24)));
            foreach (StageReport stage in company.Stages.Where(stage => stage is { Began: not null, Seconds: not null }))
            {
                int number = Array.IndexOf(stages, stage.Stage) + 1;
                double left = x(stage.Began!.Value), width = Math.Max(2, stage.Seconds!.Value * scale);
                parts.Add(Svg.Box(left, y, width, 18, number % 2 == 1 ? Svg.Wash : "#fff"));
                if (width >= 14) parts.Add(Svg.Text(left + (width / 2), y + 13, number.ToString(CultureInfo.InvariantCulture), 11,
                    anchor: "middle"));
            }
            y += RowHeight;
        }
        parts.AddRange(Scale(from, seconds, scale, y));
        string legend = string.Join(" \u00B7 ", stages.Select((stage, i) => string.Create(CultureInfo.InvariantCulture,
            $"{i + 1} {stage}")));
        parts.Add(Svg.Text(Names, y + 38, legend, 12, Svg.Soft));
        return Svg.Drawing("When each stage of each company was under way", Width, y + 46, parts);
    }

    private static (DateTimeOffset From, DateTimeOffset To) Span(RunReport report, IEnumerable<CompanyReport> companies)
    {
        StageReport[] stages = [.. companies.SelectMany(company => company.Stages).Where(stage => stage is
            { Began: not null, Seconds: not null })];
        DateTimeOffset from = stages.Min(stage => stage.Began!.Value), to = stages.Max(stage => stage.Began!.Value
            + TimeSpan.FromSeconds(stage.Seconds!.Value));
        if (report.Closing is not { } closing) return (from, to);
        return (closing.BegunAt < from ? closing.BegunAt : from, closing.OpenAt is { } open && open > to ? open : to);
    }

    private static readonly int[] Steps = [1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 14_400, 43_200, 86_400];

    // The hours below the bars: few enough to be read.
    private static IEnumerable<XElement> Scale(DateTimeOffset from, double seconds, double scale, int y)
    {
        int step = Steps.FirstOrDefault(step => seconds / step <= 8, Steps[^1]);
        yield return Svg.Line(Names, y + 2, Names + (seconds * scale), y + 2);
        long first = from.ToUnixTimeSeconds() / step * step;
        for (long at = first; at <= from.ToUnixTimeSeconds() + seconds; at += step)
        {
            double x = Names + ((at - (from.ToUnixTimeMilliseconds() / 1000.0)) * scale);
            if (x < Names) continue;
            yield return Svg.Line(x, y + 2, x, y + 7);
            yield return Svg.Text(x, y + 20, DateTimeOffset.FromUnixTimeSeconds(at).ToString(step < 60 ? "HH:mm:ss" : "HH:mm",
                CultureInfo.InvariantCulture), 11, Svg.Soft, "middle");
        }
    }

    /// <summary>How full each disk was before the run, and after it.</summary>
    public static XElement? Disks(IReadOnlyList<DiskRoom> disks)
    {
        if (disks.Count == 0) return null;
        const int left = 330, right = 330, height = 34;
        var parts = new List<XElement>();
        for (int i = 0; i < disks.Count; i++)
        {
            (DiskRoom disk, int y) = (disks[i], (i * height) + 4);
            double scale = (double)(Width - left - right) / disk.Total;
            double before = (disk.Total - disk.FreeBefore) * scale, after = (disk.Total - (disk.FreeAfter ?? disk.FreeBefore)) * scale;
            parts.Add(Svg.Text(0, y + 16, Svg.Short(disk.At, 44)));
            parts.Add(Svg.Box(left, y, Width - left - right, 22, "#fff"));
            parts.Add(Svg.Box(left, y, Math.Max(1, before), 11, Svg.Wash));
            if (disk.FreeAfter is not null) parts.Add(Svg.Box(left, y + 11, Math.Max(1, after), 11, Svg.Soft));
            parts.Add(Svg.Text(Width - right + 8, y + 16, $"{Sizes.Of(disk.FreeBefore)} free before, "
                + $"{(disk.FreeAfter is { } free ? Sizes.Of(free) : "not known")} after, of {Sizes.Of(disk.Total)}", 11, Svg.Soft));
        }
        return Svg.Drawing("How full the disks were before (above) and after (below)", Width, (disks.Count * height) + 4, parts);
    }

    /// <summary>The versions a company went through, with who converted and how long each hop took.</summary>
    public static XElement? Way(CompanyReport company)
    {
        if (company.Conversion?.Hops is not { Count: > 0 } hops) return null;
        const int box = 96, gap = 150, perRow = 4, row = 70;
        var parts = new List<XElement>();
        (double X, double Y) at(int i) => (i % perRow * (box + gap), 24 + (i / perRow * row));
        for (int i = 0; i <= hops.Count; i++)
        {
            (double x, double y) = at(i);
            parts.Add(Svg.Box(x + 1, y, box - 2, 34, "#fff", 5));
            parts.Add(Svg.Text(x + (box / 2), y + 22, Svg.Short(i == 0 ? hops[0].From : hops[i - 1].To, 11), 15, anchor: "middle"));
            if (i == 0) continue;
            (double fromX, double fromY) = at(i - 1);
            string words = $"{MeansOf(hops[i - 1])}, {Durations.Of(hops[i - 1].Seconds)}";
            if (fromY == y)
            {
                parts.Add(Svg.Line(fromX + box, y + 17, x - 2, y + 17, Svg.Ink, hasTip: true));
                parts.Add(Svg.Text(fromX + box + (gap / 2), y + 9, words, 11, Svg.Soft, "middle"));
            }
            else parts.Add(Svg.Text(x + 2, y - 6, words, 11, Svg.Soft));
        }
        int rows = (hops.Count / perRow) + 1;
        return Svg.Drawing("The versions it went through", (Math.Min(perRow, hops.Count + 1) * (box + gap)) - gap + 2, 24
            + (rows * row) - 30,
            parts);
    }

    private static string MeansOf(HopResult hop) => hop.Conversion switch
    {
        { Steps.Count: > 0 } => "by hand",
        { Program: not null } => "vendor's program",
        { Scripts.Count: > 0 } => "vendor's scripts",
        { Export: not null } => "export and import",
        _ => "by the kit's maps"
    };

    /// <summary>How many records the largest tables should have, and have.</summary>
    public static XElement? Tables(MatchResult match)
    {
        TableMatch[] tables = [.. match.Tables.Where(table => table.Expected + table.Found > 0)
            .OrderByDescending(table => Math.Max(table.Expected, table.Found)).Take(MostTables)];
        if (tables.Length == 0) return null;
        const int left = 240, numbers = 250, height = 30;
        double scale = (double)(Width - left - numbers) / tables.Max(table => Math.Max(table.Expected, table.Found));
        var parts = new List<XElement>();
        for (int i = 0; i < tables.Length; i++)
        {
            (TableMatch table, int y) = (tables[i], (i * height) + 4);
            double expected = Math.Max(2, table.Expected * scale), found = Math.Max(2, table.Found * scale);
            parts.Add(Svg.Text(0, y + 16, Svg.Short(table.Table, 32)));
            parts.Add(Svg.Box(left, y, expected, 9, "#fff"));
            parts.Add(Svg.Box(left, y + 11, found, 9, Svg.Soft));
            parts.Add(Svg.Text(left + Math.Max(expected, found) + 8, y + 16, string.Create(CultureInfo.InvariantCulture,
                $"{table.Expected:#,0} should be, {table.Found:#,0} are{(table.IsSame ? "" : ", NOT the same")}"), 11, Svg.Soft));
        }
        return Svg.Drawing("Records of each table, as they should be and as they are", Width, (tables.Length * height) + 4, parts);
    }
}
