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

    private static string Cell(string value) =>
        value.AsSpan().IndexOfAny(",\"\r\n") < 0 ? value : "\"" + value.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";

    public void Dispose()
    {
        _writer.Flush();
        ((FileStream)_writer.BaseStream).Flush(flushToDisk: true);
        _writer.Dispose();
    }
}
