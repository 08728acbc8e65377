// FindingSheet.cs: the findings of checks as a workbook, for those who work a list off in a spreadsheet: one sheet of findings, one of
// records for each finding that has a list. Written as a stream, so that long lists need no memory.
using System.Globalization;
using DocumentFormat.OpenXml;
using DocumentFormat.OpenXml.Packaging;
using DocumentFormat.OpenXml.Spreadsheet;
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
        using var document = SpreadsheetDocument.Create(into, SpreadsheetDocumentType.Workbook);
        WorkbookPart book = document.AddWorkbookPart();
        book.AddNewPart<WorkbookStylesPart>().Stylesheet = Styles();
        var sheets = new Sheets();
        var lists = new List<(string Sheet, string Path)>();
        var rows = new List<object[]>();
        foreach (SheetCompany company in companies)
            foreach (Finding finding in company.Check.Findings)
            {
                string sheet = finding.List.Length > 0 ? $"{rows.Count + 1} {company.Code} {finding.Kind}" : "";
                if (sheet.Length > 31) sheet = sheet[..31];
                if (sheet.Length > 0) lists.Add((sheet, Path.Combine(company.ListFolder, finding.List)));
                rows.Add([(long)rows.Count + 1, company.Code, finding.Grade.ToString().ToLowerInvariant(), finding.Kind, finding.Table,
                    finding.Subject,
                    finding.Count, finding.What, finding.Next, finding.Mend, string.Join("; ", finding.Examples), sheet]);
            }
        Add(book, sheets, "Findings", Widths, rows.Prepend(Heads));
        foreach ((string sheet, string path) in lists) Add(book, sheets, sheet, ListWidths, Records(path));
        book.Workbook = new Workbook(sheets);
        book.Workbook.Save();
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

    // Style 0: plain; 1: a heading; 2: long text that is wrapped.
    private static Stylesheet Styles() => new(
        new Fonts(new Font(), new Font(new Bold())),
        new Fills(new Fill(new PatternFill { PatternType = PatternValues.None }),
            new Fill(new PatternFill { PatternType = PatternValues.Gray125 })),
        new Borders(new Border()),
        new CellStyleFormats(new CellFormat()),
        new CellFormats(new CellFormat(), new CellFormat { FontId = 1, ApplyFont = true },
            new CellFormat(new Alignment { WrapText = true, Vertical = VerticalAlignmentValues.Top }) { ApplyAlignment = true }),
        new CellStyles(new CellStyle { Name = "Normal", FormatId = 0, BuiltinId = 0 }));

    private static void Add(WorkbookPart book, Sheets sheets, string name, double[] widths, IEnumerable<object[]> rows)
    {
        WorksheetPart part = book.AddNewPart<WorksheetPart>();
        sheets.Append(new Sheet { Id = book.GetIdOfPart(part), SheetId = (uint)sheets.ChildElements.Count + 1, Name = name });
        using var writer = OpenXmlWriter.Create(part);
        writer.WriteStartElement(new Worksheet());
        writer.WriteElement(new SheetViews(new SheetView(new Pane
        {
            VerticalSplit = 1,
            TopLeftCell = "A2",
            ActivePane = PaneValues.BottomLeft,
            State = PaneStateValues.Frozen
        })
        { WorkbookViewId = 0 }));
        writer.WriteElement(new Columns(widths.Select((width, i) => new Column
        {
            Min = (uint)i + 1,
            Max = (uint)i + 1,
            Width = width,
            CustomWidth = true
        })));
        writer.WriteStartElement(new SheetData());
        bool isHead = true;
        foreach (object[] row in rows)
        {
            writer.WriteStartElement(new Row());
            foreach (object cell in row) writer.WriteElement(CellOf(cell, isHead));
            writer.WriteEndElement();
            isHead = false;
        }
        writer.WriteEndElement();
        writer.WriteEndElement();
    }

    // What is text stays text, whatever it looks like: a key of 007 is not 7, and a value may begin with "=".
    private static Cell CellOf(object value, bool isHead) => value is long number
        ? new Cell(new CellValue(number.ToString(CultureInfo.InvariantCulture))) { DataType = CellValues.Number }
        : new Cell(new InlineString(new Text(Printable((string)value)) { Space = SpaceProcessingModeValues.Preserve }))
        {
            DataType = CellValues.InlineString,
            StyleIndex = isHead ? 1u : 2u
        };

    // XML 1.0 has no control characters but these three.
    private static string Printable(string text) => text.All(c => c >= ' ' || c is '\t' or '\n' or '\r')
        ? text : string.Concat(text.Select(c => c >= ' ' || c is '\t' or '\n' or '\r' ? c : '\uFFFD'));
}
