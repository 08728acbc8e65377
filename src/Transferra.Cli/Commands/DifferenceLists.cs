// DifferenceLists.cs: every difference of a match in files: as JSON lines, one for each, and as a workbook.
// Holds: files are there whole or not at all; nothing is listed twice, and nothing is left out, whatever is shown on the screen.
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

/// <summary>The lists of one match.</summary>
internal sealed class DifferenceLists : IDisposable
{
    internal sealed record Line(string Version, string Table, string Key, string Column, DifferenceKind Kind, ChangeKind Change,
        string Expected, string Found, int? At);

    private readonly IVolume _volume;
    private readonly string _lines, _sheet;
    private readonly FileStream _spill = SpillFile.Create(1 << 16);
    private long _count;

    /// <summary>Begins lists in a folder.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="folder">Where the files go; made when it is not there.</param>
    /// <param name="name">Their name without its ending.</param>
    public DifferenceLists(IVolume volume, string folder, string name)
    {
        _volume = volume;
        _lines = Path.Combine(folder, name + ".jsonl");
        _sheet = Path.Combine(folder, name + ".xlsx");
        if (Directory.Exists(folder)) return;
        volume.CreateFolder(folder);
    }

    /// <summary>Takes a difference.</summary>
    public void Add(string version, Difference one)
    {
        JsonSerializer.Serialize(_spill, new Line(version, one.Table, one.Key, one.Column, one.Kind, one.Change, one.Expected, one.Found,
            one.At), LineJson.Form.Line);
        _spill.WriteByte((byte)'\n');
        _count++;
    }

    /// <summary>Writes the files, in place of those of a match before.</summary>
    /// <returns>In words, what was written.</returns>
    public string Write(WayMatched matched)
    {
        long counted = matched.Hops.Where(hop => hop.MatchedAt is null).Sum(hop => hop.DifferenceCount);
        if (_count != counted) throw new InvalidOperationException($"{_count} differences listed of {counted}");
        _spill.Position = 0;
        Put(_lines, file => _spill.CopyTo(file));
        Put(_sheet, file => DifferenceSheet.Write(matched, Read(), _lines, file));
        return $"All {Rendering.Results.Count(counted, "difference")}: {_lines} and {_sheet}";
    }

    private void Put(string path, Action<FileStream> write)
    {
        string part = path + ".part";
        try
        {
            using (var file = new FileStream(part, new FileStreamOptions
            {
                Mode = FileMode.Create,
                Access = FileAccess.ReadWrite,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite
            })) write(file);
            _volume.ReplaceWith(path, part);
        }
        finally { _volume.Remove(part); }
    }

    private IEnumerable<(string, Difference)> Read()
    {
        _spill.Position = 0;
        using var reader = new StreamReader(_spill, leaveOpen: true);
        while (reader.ReadLine() is { } text)
        {
            Line one = JsonSerializer.Deserialize(text, LineJson.Form.Line)!;
            yield return (one.Version, new Difference(one.Table, one.Key, one.Column, one.Kind, one.Expected, one.Found)
            {
                Change = one.Change,
                At = one.At
            });
        }
    }

    public void Dispose() => _spill.Dispose();
}

/// <summary>Lines of the list.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(DifferenceLists.Line))]
internal sealed partial class LineJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly LineJson Form = new(new JsonSerializerOptions(ResultJson.Form()) { WriteIndented = false });
}
