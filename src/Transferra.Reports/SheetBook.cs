// SheetBook.cs: a workbook that is written as a stream, so that long lists need no memory.
// Form: Office Open XML spreadsheet (ISO/IEC 29500).
using System.Globalization;
using SpreadCheetah;
using SpreadCheetah.Styling;
using SpreadCheetah.Worksheets;

namespace Transferra.Reports;

/// <summary>Writes one workbook; it is whole once it is disposed.</summary>
internal sealed class SheetBook : IDisposable
{
    private const int LongestName = 31;

    private readonly Spreadsheet _book;
    private readonly StyleId _heading, _text;
    private readonly HashSet<string> _names = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Begins one.</summary>
    /// <param name="into">An empty stream.</param>
    public SheetBook(Stream into)
    {
        _book = Spreadsheet.CreateNewAsync(into, new SpreadCheetahOptions { PreserveStringWhitespace = true }).AsTask().GetAwaiter()
            .GetResult();
        _heading = _book.AddStyle(new Style { Font = { Bold = true } });
        _text = _book.AddStyle(new Style { Alignment = { WrapText = true, Vertical = VerticalAlignment.Top } });
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
        var options = new WorksheetOptions { FrozenRows = 1 };
        for (int i = 0; i < widths.Length; i++) options.Column(i + 1).Width = widths[i];
        Wait(_book.StartWorksheetAsync(name, options));
        StyleId style = _heading;
        foreach (object[] row in rows)
        {
            StyledCell[] cells = [.. row.Select(cell => CellOf(cell, style))];
            Wait(_book.AddRowAsync(cells));
            style = _text;
        }
    }

    // What is text stays text, whatever it looks like: a key of 007 is not 7, and a value may begin with "=".
    private static StyledCell CellOf(object value, StyleId ofText) =>
        value is long number ? new StyledCell(number, null) : new StyledCell(Printable((string)value), ofText);

    private static void Wait(ValueTask written)
    {
        if (written.IsCompletedSuccessfully) written.GetAwaiter().GetResult();
        else written.AsTask().GetAwaiter().GetResult();
    }

    // XML 1.0 has no control characters but these three.
    private static string Printable(string text) => text.All(c => c >= ' ' || c is '\t' or '\n' or '\r')
        ? text : string.Concat(text.Select(c => c >= ' ' || c is '\t' or '\n' or '\r' ? c : '\uFFFD'));

    /// <summary>Writes what is left of it.</summary>
    public void Dispose()
    {
        Wait(_book.FinishAsync());
        _book.Dispose();
    }
}
