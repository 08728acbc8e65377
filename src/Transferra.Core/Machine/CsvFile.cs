// CsvFile.cs: lists as comma-separated values (RFC 4180, UTF-8), for a spreadsheet: written, and read back.
using System.Globalization;
using System.Text;
using CsvHelper;
using CsvHelper.Configuration;

namespace Transferra.Core.Machine;

/// <summary>A list being written.</summary>
public sealed class CsvFile : IDisposable
{
    private static readonly CsvConfiguration Form = new(CultureInfo.InvariantCulture)
    {
        NewLine = "\r\n",
        HasHeaderRecord = false,
        ShouldQuote = quoting => quoting.Field is { } field && field.AsSpan().IndexOfAny(",\"\r\n") >= 0,
        BadDataFound = null, // a quote in the middle of a cell stands for itself
        MissingFieldFound = null,
    };

    private readonly FileStream _file;
    private readonly CsvWriter _writer;
    private bool _isClosed;

    /// <summary>A new list with a line of headings.</summary>
    public CsvFile(string path, IReadOnlyList<string> headings)
    {
        Name = Path.GetFileName(path);
        _file = new FileStream(path, FileMode.Create, FileAccess.Write, FileShare.Read);
        _writer = new CsvWriter(new StreamWriter(_file, new UTF8Encoding(encoderShouldEmitUTF8Identifier: false)), Form);
        Add(headings);
    }

    /// <summary>The file's name.</summary>
    public string Name { get; }

    /// <summary>Adds a line.</summary>
    public void Add(IEnumerable<string> cells) => Write(_writer, cells);

    /// <summary>A line, without its end.</summary>
    public static string Line(IEnumerable<string> cells)
    {
        using var text = new StringWriter(CultureInfo.InvariantCulture);
        using (var writer = new CsvWriter(text, Form)) Write(writer, cells);
        return text.ToString().TrimEnd('\r', '\n');
    }

    /// <summary>The lines of a list, headings first.</summary>
    public static IEnumerable<string[]> Read(string path)
    {
        using var reader = new CsvParser(new StreamReader(path), Form);
        while (reader.Read()) yield return [.. reader.Record!.Select(Unguarded)];
    }

    private static void Write(CsvWriter writer, IEnumerable<string> cells)
    {
        foreach (string cell in cells) writer.WriteField(Guarded(cell));
        writer.NextRecord();
    }

    // A spreadsheet takes what begins so for a formula, and may run it; a quote before it makes it text. A plain number is none.
    private const string Begins = "=+-@\t\r'";

    private static string Guarded(string value) => value.Length > 0 && Begins.Contains(value[0], StringComparison.Ordinal)
        && !decimal.TryParse(value, NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out _)
        ? "'" + value : value;

    // A cell as it was before it was guarded against being taken for a formula.
    private static string Unguarded(string cell) => cell.Length > 1 && cell[0] == '\''
        && Begins.Contains(cell[1], StringComparison.Ordinal) ? cell[1..] : cell;

    /// <summary>Closes the list, which is on the disk then.</summary>
    public void Dispose()
    {
        if (_isClosed) return;
        _isClosed = true;
        _writer.Flush();
        _file.Flush(flushToDisk: true);
        _writer.Dispose();
    }
}
