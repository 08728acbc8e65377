// ExceptionLog.cs: the exceptions of a company as they come: exceptions.jsonl, a JSON object a line (docs/json.md); and the list that is
// made of it for a spreadsheet, exceptions.csv, a line a cause.
// Holds: (1) what is behind a mark can be dropped; (2) a line that a stop left half-written is not read.
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>A line of the log.</summary>
/// <param name="Hop">The versions of its hop, "5-6".</param>
/// <param name="Exception">The exception.</param>
/// <param name="Record">Its record by content.</param>
/// <param name="IsRefused">Whether the new store's engine refused it.</param>
internal sealed record LoggedException(string Hop, ExceptionRow Exception, string Record, bool IsRefused);

internal sealed class ExceptionLog : IDisposable
{
    private readonly FileStream _file;

    /// <summary>Opens the log, without what is behind a mark.</summary>
    /// <param name="path">The file; made when it is not there.</param>
    /// <param name="end">The mark, in bytes.</param>
    public ExceptionLog(string path, long end)
    {
        _file = new FileStream(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.Read, 1 << 16);
        BackTo(Math.Min(end, _file.Length));
    }

    public void Add(string hop, ExceptionRow exception)
    {
        JsonSerializer.Serialize(_file, new LoggedException(hop, exception, exception.Record, exception.IsRefused),
            ExceptionLogJson.Form.LoggedException);
        _file.WriteByte((byte)'\n');
    }

    /// <summary>Where it ends now, in bytes; all before is on the disk.</summary>
    public long Mark()
    {
        _file.Flush(flushToDisk: true);
        return _file.Position;
    }

    /// <summary>Drops what was added since a mark.</summary>
    public void BackTo(long mark)
    {
        _file.SetLength(mark);
        _file.Seek(0, SeekOrigin.End);
    }

    /// <summary>What was logged; nothing when there is no log.</summary>
    public static IEnumerable<LoggedException> Read(string path)
    {
        if (!File.Exists(path)) yield break;
        using var reader = new StreamReader(new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite));
        while (reader.ReadLine() is { } line)
        {
            LoggedException? read;
            try { read = JsonSerializer.Deserialize(line, ExceptionLogJson.Form.LoggedException); }
            catch (JsonException) { yield break; }
            if (read is not null) yield return read with
            {
                Exception = read.Exception with { Record = read.Record, IsRefused = read.IsRefused }
            };
        }
    }

    /// <summary>Writes the list for a spreadsheet.</summary>
    /// <param name="path">The list.</param>
    /// <returns>Whether there is anything in it; without, there is no list.</returns>
    public bool WriteList(string path)
    {
        _file.Flush();
        CsvFile? list = null;
        try
        {
            foreach (LoggedException logged in Read(_file.Name))
            {
                list ??= new CsvFile(path, ["table", "key", "column", "for", "value", "reason"]);
                foreach (ExceptionCause cause in logged.Exception.Causes)
                    list.Add([logged.Exception.Table, logged.Exception.Key, cause.Column, cause.Into, cause.Value, cause.Reason]);
            }
            return list is not null;
        }
        finally
        {
            list?.Dispose();
        }
    }

    public void Dispose() => _file.Dispose();
}

/// <summary>Lines of the log.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(LoggedException))]
internal sealed partial class ExceptionLogJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly ExceptionLogJson Form = new(new JsonSerializerOptions(ResultJson.Form())
    {
        WriteIndented = false,
        DefaultIgnoreCondition = JsonIgnoreCondition.Never
    });
}
