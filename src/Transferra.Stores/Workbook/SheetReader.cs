// SheetReader.cs: the rows of one sheet, cell by cell, as text and kind. Rows without any content are passed over.
using System.Globalization;
using System.IO.Compression;
using System.Xml;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Workbook;

/// <summary>What a cell holds.</summary>
internal enum CellKind { Nothing, Text, Number, Moment, Truth, Error }

/// <summary>One cell.</summary>
/// <param name="Kind">What it holds.</param>
/// <param name="Text">Its text; of a number its digits as they are written; of a date ISO 8601.</param>
internal readonly record struct SheetCell(CellKind Kind, string Text)
{
    /// <summary>A cell that holds nothing.</summary>
    public static readonly SheetCell Empty = new(CellKind.Nothing, "");
}

internal sealed class SheetReader : IDisposable
{
    private const int MostColumns = 16_384;

    private readonly string _where;
    private readonly WorkbookParts _parts;
    private readonly ZipArchive _package;
    private readonly XmlReader _xml;
    private readonly List<SheetCell> _cells = [];

    public SheetReader(string path, string sheet, string part, WorkbookParts parts)
    {
        (_where, _parts) = ($"the sheet {sheet} of {path}", parts);
        try
        {
            _package = new ZipArchive(PlainFile.Open(path), ZipArchiveMode.Read);
            _xml = XmlReader.Create(_package.GetEntry(part)!.Open(), WorkbookParts.Settings);
        }
        catch (Exception error) when (error is InvalidDataException or IOException or UnauthorizedAccessException)
        {
            _package?.Dispose();
            throw FileWatch.Unreadable(path, error);
        }
    }

    /// <summary>The cells of the present row, from the first column on; columns at the end that hold nothing may be missing.</summary>
    public IReadOnlyList<SheetCell> Cells => _cells;

    /// <summary>Number of the present row, as the spreadsheet program shows it.</summary>
    public long Row { get; private set; }

    /// <summary>Goes to the next row that holds anything.</summary>
    /// <exception cref="TransferraException">The sheet is damaged.</exception>
    public bool Next()
    {
        try
        {
            while (_xml.Read())
            {
                if (_xml.NodeType != XmlNodeType.Element || _xml.LocalName != "row") continue;
                Row = long.TryParse(_xml.GetAttribute("r"), NumberStyles.None, CultureInfo.InvariantCulture, out long number) ? number
                    : Row + 1;
                _cells.Clear();
                if (!_xml.IsEmptyElement) ReadCells();
                if (_cells.Exists(cell => cell.Kind != CellKind.Nothing)) return true;
            }
            return false;
        }
        catch (Exception error) when (error is XmlException or InvalidDataException or IOException)
        {
            throw new TransferraException($"{_where} is damaged after row {Row}: {error.Message}",
                "Save the workbook anew in the spreadsheet program, or have it exported again.", error);
        }
    }

    private void ReadCells()
    {
        int depth = _xml.Depth;
        while (_xml.Read() && !(_xml.NodeType == XmlNodeType.EndElement && _xml.Depth == depth))
        {
            if (_xml.NodeType != XmlNodeType.Element || _xml.LocalName != "c") continue;
            int place = PlaceOf(_xml.GetAttribute("r")) ?? _cells.Count;
            string type = _xml.GetAttribute("t") ?? "n";
            _ = int.TryParse(_xml.GetAttribute("s"), NumberStyles.None, CultureInfo.InvariantCulture, out int style);
            while (_cells.Count < place) _cells.Add(SheetCell.Empty);
            SheetCell cell = ReadCell(type, style);
            if (place < _cells.Count) _cells[place] = cell;
            else _cells.Add(cell);
        }
    }

    // A1 is the first column: letters count in base 26 without a zero.
    private static int? PlaceOf(string? reference)
    {
        if (reference is null) return null;
        int column = 0;
        foreach (char letter in reference)
        {
            if (letter is < 'A' or > 'Z') break;
            column = column * 26 + letter - 'A' + 1;
            if (column > MostColumns) throw new InvalidDataException($"there is no cell {ValueText.Quote(reference)}");
        }
        return column == 0 ? throw new InvalidDataException($"there is no cell {ValueText.Quote(reference)}") : column - 1;
    }

    private SheetCell ReadCell(string type, int style)
    {
        string value = "", inline = "";
        bool hasValue = false;
        if (!_xml.IsEmptyElement)
        {
            int depth = _xml.Depth;
            while (_xml.Read() && !(_xml.NodeType == XmlNodeType.EndElement && _xml.Depth == depth))
            {
                if (_xml.NodeType != XmlNodeType.Element) continue;
                if (_xml.LocalName == "is") inline = WorkbookParts.TextOf(_xml);
                else if (_xml.LocalName == "v" && !_xml.IsEmptyElement)
                {
                    hasValue = true;
                    int inner = _xml.Depth;
                    while (_xml.Read() && !(_xml.NodeType == XmlNodeType.EndElement && _xml.Depth == inner)) value += _xml.Value;
                }
            }
        }
        return type switch
        {
            "inlineStr" => new SheetCell(CellKind.Text, inline),
            "s" when !hasValue => SheetCell.Empty,
            "s" => int.TryParse(value, NumberStyles.None, CultureInfo.InvariantCulture, out int index) && index < _parts.Texts.Count
                ? new SheetCell(CellKind.Text, _parts.Texts[index])
                : throw new InvalidDataException($"there is no shared text {ValueText.Quote(value)}"),
            "str" => new SheetCell(CellKind.Text, value),
            "b" => hasValue ? new SheetCell(CellKind.Truth, value == "1" ? "true" : "false") : SheetCell.Empty,
            "e" => new SheetCell(CellKind.Error, value),
            "d" => hasValue ? new SheetCell(CellKind.Moment, value.Replace('T', ' ')) : SheetCell.Empty,
            _ when !hasValue => SheetCell.Empty,
            _ when style < _parts.DateStyles.Count && _parts.DateStyles[style] && Moment(value) is { } moment =>
                new SheetCell(CellKind.Moment, moment),
            _ => new SheetCell(CellKind.Number, value),
        };
    }

    // Days since 1899-12-30, or 1904-01-01, with the time as a fraction, to the millisecond that is kept. The first maker's calendar has
    // a 29 February 1900, so days before March of that year are off by one and are left as the number they are.
    private string? Moment(string value)
    {
        const double marchOf1900 = 61, endOf9999 = 2_958_466;
        if (!double.TryParse(value, NumberStyles.Float, CultureInfo.InvariantCulture, out double days)) return null;
        if (days is >= 0 and < 1)
            return TimeOnly.FromTimeSpan(TimeSpan.FromMilliseconds(Math.Min(86_399_999, Math.Round(days * 86_400_000))))
                .ToString("HH:mm:ss.FFF", CultureInfo.InvariantCulture);
        if (!_parts.From1904 && days < marchOf1900 || days >= endOf9999 || days < 0) return null;
        DateTime from = _parts.From1904 ? new DateTime(1904, 1, 1) : new DateTime(1899, 12, 30);
        DateTime moment = from.AddDays(Math.Floor(days)).AddMilliseconds(Math.Round((days - Math.Floor(days)) * 86_400_000));
        return moment.ToString(moment.TimeOfDay == TimeSpan.Zero ? "yyyy-MM-dd" : "yyyy-MM-dd HH:mm:ss.FFF", CultureInfo.InvariantCulture);
    }

    public void Dispose()
    {
        _xml.Dispose();
        _package.Dispose();
    }
}
