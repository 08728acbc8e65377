// CsvFile.cs: lists as comma-separated values (RFC 4180, UTF-8), for a spreadsheet.
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>A list being written.</summary>
public sealed class CsvFile : IDisposable
{
    private readonly StreamWriter _writer;
    private bool _isClosed;

    /// <summary>A new list with a line of headings.</summary>
    public CsvFile(string path, IReadOnlyList<string> headings)
    {
        Name = Path.GetFileName(path);
        _writer = new StreamWriter(path, append: false, new UTF8Encoding(encoderShouldEmitUTF8Identifier: false)) { NewLine = "\r\n" };
        _writer.WriteLine(string.Join(',', headings));
    }

    /// <summary>The file's name.</summary>
    public string Name { get; }

    /// <summary>Adds a line.</summary>
    public void Add(IEnumerable<string> cells) => _writer.WriteLine(Line(cells));

    /// <summary>A line, without its end.</summary>
    public static string Line(IEnumerable<string> cells) => string.Join(',', cells.Select(Cell));

    /// <summary>Where the list ends now, in bytes.</summary>
    public long Mark()
    {
        _writer.Flush();
        return _writer.BaseStream.Position;
    }

    /// <summary>Drops what was added since a mark.</summary>
    public void BackTo(long mark)
    {
        _writer.Flush();
        _writer.BaseStream.SetLength(mark);
        _writer.BaseStream.Seek(0, SeekOrigin.End);
    }

    // A spreadsheet takes what begins so for a formula, and may run it; a quote before it makes it text. A plain number is none.
    private const string Begins = "=+-@\t\r'";

    private static string Guarded(string value) => value.Length > 0 && Begins.Contains(value[0], StringComparison.Ordinal)
        && !decimal.TryParse(value, System.Globalization.NumberStyles.AllowLeadingSign | System.Globalization.NumberStyles.AllowDecimalPoint, System.Globalization.CultureInfo.InvariantCulture, out _)
        ? "'" + value : value;

    /// <summary>A cell as it was before it was guarded against being taken for a formula.</summary>
    public static string Unguarded(string cell) => cell.Length > 1 && cell[0] == '\''
        && Begins.Contains(cell[1], StringComparison.Ordinal) ? cell[1..] : cell;

    private static string Cell(string value) => Quoted(Guarded(value));

    private static string Quoted(string value) =>
        value.AsSpan().IndexOfAny(",\"\r\n") < 0 ? value : "\"" + value.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";

    /// <summary>Closes the list, which is on the disk then.</summary>
    public void Dispose()
    {
        if (_isClosed) return;
        _isClosed = true;
        _writer.Flush();
        ((FileStream)_writer.BaseStream).Flush(flushToDisk: true);
        _writer.Dispose();
    }
}
