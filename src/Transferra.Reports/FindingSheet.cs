// FindingSheet.cs: the findings of checks as a workbook, for those who work a list off in a spreadsheet: one sheet of findings, one of
// records for each finding that has a list.
using Transferra.Core.Checks;
using Transferra.Core.Machine;

namespace Transferra.Reports;

/// <summary>A company's findings, with the folder of their lists.</summary>
public sealed record SheetCompany(string Code, CheckResult Check, string ListFolder);

/// <summary>Writes workbooks of findings.</summary>
public static class FindingSheet
{
    // A sheet has 1,048,576 rows; long before that nobody works a list off by hand, and the list as text has all of it.
    private const int MaxRecords = 100_000;

    private static readonly string[] Heads = ["No", "Company", "Grade", "Kind", "Table", "About", "Count", "What", "What to do", "Mend",
        "First examples",
        "Sheet", "Done by", "Done on"];
    private static readonly double[] Widths = [5, 10, 9, 20, 16, 26, 10, 60, 60, 18, 40, 24, 12, 12], ListWidths = [30, 50, 60];

    /// <summary>Writes a workbook.</summary>
    /// <param name="companies">Whose findings.</param>
    /// <param name="into">An empty stream that can be read and sought.</param>
    public static void Write(IReadOnlyList<SheetCompany> companies, Stream into)
    {
        using var book = new SheetBook(into);
        string findings = book.NameFor("Findings");
        var lists = new List<(string Sheet, string Path)>();
        var rows = new List<object[]>();
        foreach (SheetCompany company in companies)
            foreach (Finding finding in company.Check.Findings)
            {
                string sheet = finding.List.Length > 0 ? book.NameFor($"{rows.Count + 1} {company.Code} {finding.Kind}") : "";
                if (sheet.Length > 0) lists.Add((sheet, Path.Combine(company.ListFolder, finding.List)));
                rows.Add([(long)rows.Count + 1, company.Code, finding.Grade.ToString().ToLowerInvariant(), finding.Kind, finding.Table,
                    finding.Subject,
                    finding.Count, finding.What, finding.Next, finding.Mend, string.Join("; ", finding.Examples), sheet]);
            }
        book.Add(findings, Widths, rows.Prepend(Heads));
        foreach ((string sheet, string path) in lists) book.Add(sheet, ListWidths, Records(path));
    }

    private static IEnumerable<object[]> Records(string path)
    {
        int rows = 0;
        foreach (string[] cells in CsvFile.Read(path))
        {
            if (rows++ > MaxRecords)
            {
                yield return [$"and more: all of them are in {path}"];
                yield break;
            }
            yield return cells;
        }
    }
}
