// ExceptionList.cs: the exceptions of a company, one line a cause, for a spreadsheet.
using Transferra.Core.Conversion;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

internal sealed class ExceptionList(string path) : IDisposable
{
    private readonly CsvFile _file = new(path, ["table", "key", "column", "for", "value", "reason"]);

    public void Add(ExceptionRow exception)
    {
        foreach (ExceptionCause cause in exception.Causes) _file.Add([exception.Table, exception.Key, cause.Column, cause.Into,
            cause.Value, cause.Reason]);
    }

    /// <summary>Where the list ends now, in bytes.</summary>
    public long Mark() => _file.Mark();

    /// <summary>Drops what was added since a mark.</summary>
    public void BackTo(long mark) => _file.BackTo(mark);

    public void Dispose() => _file.Dispose();
}
