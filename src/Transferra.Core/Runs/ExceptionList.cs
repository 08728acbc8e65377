// ExceptionList.cs: the exceptions of a company as comma-separated values (RFC 4180, UTF-8), one line a cause, for a spreadsheet.
using System.Text;
using Transferra.Core.Conversion;

namespace Transferra.Core.Runs;

internal sealed class ExceptionList : IDisposable
{
    private readonly StreamWriter _writer;

    public ExceptionList(string path)
    {
        _writer = new StreamWriter(path, append: false, new UTF8Encoding(encoderShouldEmitUTF8Identifier: false)) { NewLine = "\r\n" };
        _writer.WriteLine("table,key,column,for,value,reason");
    }

    public void Add(ExceptionRow exception)
    {
        foreach (ExceptionCause cause in exception.Causes)
            _writer.WriteLine(string.Join(',', ((string[])[exception.Table, exception.Key, cause.Column, cause.Into, cause.Value, cause.Reason]).Select(Cell)));
    }

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

    private static string Cell(string value) =>
        value.AsSpan().IndexOfAny(",\"\r\n") < 0 ? value : "\"" + value.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";

    public void Dispose()
    {
        _writer.Flush();
        ((FileStream)_writer.BaseStream).Flush(flushToDisk: true);
        _writer.Dispose();
    }
}
