// HtmlKit.cs: a package as a page: its versions and the ways between them as a drawing, and what becomes of every table.
using System.Globalization;
using System.Xml.Linq;
using Transferra.Core.Kits;
using Transferra.Core.Runs;
using static Transferra.Reports.HtmlPage;

namespace Transferra.Reports;

/// <summary>Renders a kit as HTML.</summary>
public static class HtmlKit
{
    private const int BoxWidth = 120, BoxHeight = 46, Gap = 150, Row = 92;

    /// <summary>The page.</summary>
    public static string Render(Kit kit) => Page($"Package: {kit.Title}", [Head(kit), Drawing(kit), Versions(kit), kit.Hops.Select(Hop),
        Runs(kit)]);

    private static IEnumerable<XElement> Head(Kit kit)
    {
        yield return new XElement("h1", kit.Title);
        yield return new XElement("p", Class("soft"), $"What the kit {kit.Id} knows of it");
    }

    private static IEnumerable<XElement> Runs(Kit kit)
    {
        yield return new XElement("h2", "What it runs");
        IReadOnlyList<KitRun> runs = KitRuns.Of(kit);
        yield return runs.Count == 0 ? new XElement("p", "No program and no script.") : new XElement("ul", runs.Select(run =>
            new XElement("li", $"For {run.For}: {run.What}")));
        yield return new XElement("p", Class("soft"), $"The kit: {KitSeal.Of(kit.Folder).Words}.");
    }

    // Versions from left to right in the kit's order, eight to a row, hops as arrows with who converts.
    private static XElement Drawing(Kit kit)
    {
        const int perRow = 4;
        (int X, int Y) At(string version)
        {
            int i = kit.Versions.Select(known => known.Name).ToList().IndexOf(version);
            return ((i % perRow * (BoxWidth + Gap)) + 2, (i / perRow * Row) + 20);
        }
        int width = (Math.Min(perRow, kit.Versions.Count) * (BoxWidth + Gap)) - Gap + 4,
            height = (((kit.Versions.Count - 1) / perRow) * Row) + BoxHeight + 24;
        var parts = new List<XElement>();
        foreach (Hop hop in kit.Hops)
        {
            ((int fromX, int fromY), (int toX, int toY)) = (At(hop.From.Name), At(hop.To.Name));
            bool isBeside = fromY == toY && toX == fromX + BoxWidth + Gap;
            (int x1, int y1, int x2, int y2) = isBeside ? (fromX + BoxWidth, fromY + (BoxHeight / 2), toX, toY + (BoxHeight / 2))
                : (fromX + (BoxWidth / 2), fromY + BoxHeight, toX + (BoxWidth / 2), toY);
            // One that leads back, or past a version, goes round above them.
            parts.Add(isBeside || fromY != toY ? Svg.Line(x1, y1, x2, y2, Svg.Ink, hasTip: isBeside)
                : Svg.Arc(x1, fromY, x2, toY, fromY - 34));
            parts.Add(Svg.Text((x1 + x2) / 2, isBeside ? y1 - 7 : ((y1 + y2) / 2) + 4, hop.Means.Name, 12, Svg.Soft, "middle"));
        }
        foreach (KitVersion version in kit.Versions)
        {
            (int x, int y) = At(version.Name);
            parts.Add(Svg.Box(x, y, BoxWidth, BoxHeight, "#fff", 5));
            parts.Add(Svg.Text(x + (BoxWidth / 2), y + 28, Svg.Short(version.Name, 12), 16, anchor: "middle"));
        }
        return Svg.Drawing("Versions, and the hops between them", width, height, parts);
    }

    private static IEnumerable<XElement> Versions(Kit kit)
    {
        yield return new XElement("h2", "Versions");
        yield return Table(["Version", "Told by", ">Tables", ">Rules", ">Totals", "Needs"], kit.Versions.Select(version => new object[]
        {
            version.Name, string.Join("; ", version.Evidence.Select(sign => sign.IsByTables ? sign.Where : $"{sign.Where}: {sign.Value}")),
            version.IsOfStore && version.Tables.Count == 0 ? "as the store has them" : Number(version.Tables.Count),
            Number(version.Rules.Count), Number(version.ControlTotals.Count),
            string.Join("; ", [.. version.Needs.Keys.Select(key => key.Name), .. version.Needs.Words.Select(asked => asked.Question)])
        }));
        string[] hidden = [.. kit.Versions.SelectMany(version => version.Private.Concat(version.Tables.SelectMany(table =>
            table.Columns.Where(column => column.IsPrivate).Select(column => $"{table.Name}.{column.Name}")))).Distinct()];
        if (hidden.Length > 0) yield return new XElement("p", Class("soft"), "Never shown: " + string.Join(", ", hidden));
    }

    private static IEnumerable<XElement> Hop(Hop hop)
    {
        yield return new XElement("h2", $"Version {hop.From.Name} to {hop.To.Name}");
        yield return new XElement("dl", Pair("Who converts", KitOverStore.Converts(hop)),
            Pair("The new store begins as", KitOverStore.Begins(hop)),
            hop.ReleaseNotes.Select(note => Pair("To be known", note)), hop.Settings.Select(setting => Pair("Asked before",
                setting.Question)));
        foreach (TableMap map in hop.Correspondence.Tables)
            foreach (TargetMap target in map.Into)
            {
                yield return new XElement("h3", Mono(map.From.Name), " \u2192 ", Mono(target.Table.Name));
                ColumnMap[] told = [.. target.Columns.Where(column => !Correspondence.IsColumn(column.Value, column.Column.Name))];
                if (told.Length > 0) yield return Table(["New column", "Type", "Gets"], told.Select(column => new object[]
                {
                    Mono(column.Column.Name), column.Column.Type.ToString(), KitOverStore.InWords(column)
                }));
                int same = target.Columns.Count - told.Length;
                if (same > 0) yield return new XElement("p", Class("soft"), same == 1 ? "1 column as it is" : string.Create(
                    CultureInfo.InvariantCulture, $"{same} columns as they are"));
                foreach ((string column, string why) in map.ColumnsLeftOut)
                    yield return new XElement("p", "Left out: ", Mono(column), $", {why}");
                foreach (RowsLeftOut rows in map.RowsLeftOut) yield return new XElement("p", $"Records left out: {rows.Because}");
                if (map.ExactCopies is { } copies) yield return new XElement("p", $"Exact copies left out but one: {copies}");
                if (map.Combining is { } combining) yield return new XElement("p", $"Records combined: {combining.Because}");
            }
        foreach ((string table, string why) in hop.Correspondence.TablesLeftOut)
            yield return new XElement("p", "Left out: ", Mono(table), $", {why}");
        yield return new XElement("p", Class("soft"), hop.Correspondence.IsAwaited || hop.Correspondence.IsByOthers
            ? "Tables and columns of the same name answer to each other; what they are is known when a store is there."
            : "Nothing else is carried.");
    }
}
