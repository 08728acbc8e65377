// DifferenceSheet.cs: all differences of a match as a workbook, for those who work a list off in a spreadsheet: one sheet that counts them,
// and one for each table.
using System.Globalization;
using Transferra.Core.Matching;

namespace Transferra.Reports;

/// <summary>Writes workbooks of differences.</summary>
public static class DifferenceSheet
{
    // A sheet has 1,048,576 rows, one of which is its heading.
    private const int MostRows = 1_048_000;

    private static readonly double[] Widths = [12, 30, 22, 26, 40, 40, 10, 16], CountWidths = [12, 24, 24, 30, 12, 18];

    /// <summary>Writes a workbook.</summary>
    /// <param name="matched">What they come to.</param>
    /// <param name="differences">Every difference, each table's together, with the new version of its hop; read once.</param>
    /// <param name="all">Where all of them are, to be named where a sheet is too short.</param>
    /// <param name="into">An empty stream that can be read and sought.</param>
    public static void Write(WayMatched matched, IEnumerable<(string Version, Difference Difference)> differences, string all, Stream into)
    {
        using var book = new SheetBook(into);
        book.Add(book.NameFor("Counted"), CountWidths, Counted(matched));
        using IEnumerator<(string Version, Difference Difference)> each = differences.GetEnumerator();
        for (bool more = each.MoveNext(); more;)
        {
            (string version, string table) = (each.Current.Version, each.Current.Difference.Table);
            string name = matched.Hops.Count > 1 ? $"{version} {table}" : table;
            book.Add(book.NameFor(name), Widths, OfTable());

            IEnumerable<object[]> OfTable()
            {
                yield return ["Version", "Record", "Column", "How it differs", "Expected", "Found", "From character", "Seen to by"];
                for (long rows = 1; more && each.Current.Version == version && each.Current.Difference.Table == table; rows++)
                {
                    if (rows < MostRows) yield return RowOf(version, each.Current.Difference);
                    else if (rows == MostRows) yield return [$"and more: all of them are in {all}"];
                    more = each.MoveNext();
                }
            }
        }
    }

    private static object[] RowOf(string version, Difference one) =>
    [
        version, one.Key, one.Column.Length > 0 ? one.Column : "(whole record)", ChangeKinds.Words(one.Change), one.Expected, one.Found,
        one.At is { } at ? at.ToString(CultureInfo.InvariantCulture) : "", ""
    ];

    private static IEnumerable<object[]> Counted(WayMatched matched)
    {
        yield return ["Version", "Table", "Column", "How it differs", "Count", "Sum of it"];
        foreach (MatchResult hop in matched.Hops)
            foreach (TableMatch table in hop.Tables)
                foreach (ColumnChange change in table.Changes)
                    yield return [hop.ToVersion, table.Table, change.Column.Length > 0 ? change.Column : "(whole record)",
                        ChangeKinds.Words(change.Kind), change.Count, change.Sum ?? ""];
    }
}
