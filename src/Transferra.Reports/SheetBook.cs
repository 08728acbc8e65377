// SheetBook.cs: a workbook that is written as a stream, so that long lists need no memory.
// Form: Office Open XML spreadsheet (ISO/IEC 29500).
using System.Globalization;
using DocumentFormat.OpenXml;
using DocumentFormat.OpenXml.Packaging;
using DocumentFormat.OpenXml.Spreadsheet;

namespace Transferra.Reports;

/// <summary>Writes one workbook; it is whole once it is disposed.</summary>
internal sealed class SheetBook : IDisposable
{
    private const int LongestName = 31;

    private readonly SpreadsheetDocument _document;
    private readonly WorkbookPart _book;
    private readonly Sheets _sheets = new();
    private readonly HashSet<string> _names = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Begins one.</summary>
    /// <param name="into">An empty stream that can be read and sought.</param>
    public SheetBook(Stream into)
    {
        _document = SpreadsheetDocument.Create(into, SpreadsheetDocumentType.Workbook);
        _book = _document.AddWorkbookPart();
        _book.AddNewPart<WorkbookStylesPart>().Stylesheet = Styles();
    }

    /// <summary>A name for a sheet as the form allows it, that no other sheet has.</summary>
    public string NameFor(string wanted)
    {
        string name = string.Concat(wanted.Select(c => c is '[' or ']' or ':' or '*' or '?' or '/' or '\\' or '\'' || c < ' ' ? '_' : c));
        if (name.Length == 0) name = "_";
        string unique = name[..Math.Min(name.Length, LongestName)];
        for (int again = 2; !_names.Add(unique); again++)
        {
            string ending = string.Create(CultureInfo.InvariantCulture, $" {again}");
            unique = name[..Math.Min(name.Length, LongestName - ending.Length)] + ending;
        }
        return unique;
    }

    /// <summary>Adds a sheet; the first row is its heading.</summary>
    /// <param name="name">From <see cref="NameFor"/>.</param>
    /// <param name="widths">Of the columns, in characters.</param>
    /// <param name="rows">Texts, and numbers as long.</param>
    public void Add(string name, double[] widths, IEnumerable<object[]> rows)
    {
        WorksheetPart part = _book.AddNewPart<WorksheetPart>();
        _sheets.Append(new Sheet { Id = _book.GetIdOfPart(part), SheetId = (uint)_sheets.ChildElements.Count + 1, Name = name });
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

    /// <summary>Writes what is left of it.</summary>
    public void Dispose()
    {
        if (_book.Workbook is null)
        {
            _book.Workbook = new Workbook(_sheets);
            _book.Workbook.Save();
        }
        _document.Dispose();
    }
}
