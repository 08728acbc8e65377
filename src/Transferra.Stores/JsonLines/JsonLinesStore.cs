// JsonLinesStore.cs: a folder of .jsonl files opened for reading only; each is a table, each line of it a record: one JSON object, UTF-8.
// What a file's columns are is known only after all of it was looked at, as any line may name one that no other does.
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.JsonLines;

internal sealed class JsonLinesStore : FileStore<JsonLinesTable>
{
    private JsonLinesStore(string folder, IReadOnlyList<JsonLinesTable> tables) : base(folder, "a folder of JSON lines", tables) =>
        Identity = new StoreIdentity("JsonLines", "text", tables.Sum(table => new FileInfo(table.FilePath).Length), new Dictionary<string,
            string>
        { ["character_set"] = "UTF-8" });

    public override StoreIdentity Identity { get; }

    public static JsonLinesStore Open(string folder, KnownOfFiles<JsonLinesScan> scans)
    {
        if (!Directory.Exists(folder))
            throw new TransferraException(File.Exists(folder) ? $"{folder} is a file, not a folder of JSON lines"
                : $"the store {folder} is not there",
                "Correct the path of the store in office.yaml.");
        IReadOnlyList<string> files = TableFiles.In(folder, JsonLinesTable.Ending);
        if (files.Count == 0)
            throw new TransferraException($"there is no {JsonLinesTable.Ending} file in {folder}",
                "Correct the path of the store in office.yaml, or have the old program export its data there.");
        return new JsonLinesStore(folder, [.. files.Select(file => new JsonLinesTable(file, scans))]);
    }

    public override IReadOnlyList<string> CheckPhysically() => [.. Tables.SelectMany(table => table.Complaints())];
}

/// <summary>What one pass over all lines of a table tells.</summary>
/// <param name="Columns">All names that any of them has.</param>
/// <param name="Records">How many they are.</param>
internal sealed record JsonLinesScan(IReadOnlyList<string> Columns, long Records);

internal sealed class JsonLinesTable : IFileTable
{
    public const string Ending = ".jsonl";

    private readonly FileWatch _watch;
    private readonly KnownOfFiles<JsonLinesScan> _scans;
    private readonly MarkedReading _reading;
    private JsonLinesScan? _scanned;

    /// <param name="path">The file.</param>
    /// <param name="scans">What earlier openings learnt.</param>
    public JsonLinesTable(string path, KnownOfFiles<JsonLinesScan> scans)
    {
        (FilePath, Name, _scans) = (path, Path.GetFileNameWithoutExtension(path), scans);
        _reading = KnownOfFiles<JsonLinesScan>.Begin("json-lines", path);
        _watch = new FileWatch(path);
    }

    public string FilePath { get; }

    public string Name { get; }

    public TableShape Shape => new(Name, [.. Scanned.Columns.Select(name => new ColumnShape(name, FieldType.Text))], [], []);

    public long Records => Scanned.Records;

    public IRecordReader OpenReader(TableShape shape)
    {
        foreach (ColumnShape column in shape.Columns)
            if (Scanned.Records > 0 && !Scanned.Columns.Contains(column.Name, StringComparer.OrdinalIgnoreCase))
                throw new TransferraException($"no line of {FilePath} names {column.Name}; they name {string.Join(", ", Scanned.Columns)}",
                    "The store's files differ from what the kit says of this version; run: transferra check");
        return new JsonLinesRecordReader(OpenLines(), shape, Path.GetFileName(FilePath), _watch);
    }

    private LineReader OpenLines()
    {
        try { return new LineReader(FilePath); }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { throw FileWatch.Unreadable(FilePath, error); }
    }

    private JsonLinesScan Scanned => _scanned ??= _scans.Of(_reading, FilePath, Name, _ => Scan());

    private JsonLinesScan Scan()
    {
        var names = new List<string>();
        var known = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        long records = 0;
        using LineReader lines = OpenLines();
        while (lines.Next())
        {
            records++;
            try
            {
                var json = new Utf8JsonReader(lines.Line);
                while (json.Read())
                    if (json.TokenType == JsonTokenType.PropertyName && json.CurrentDepth == 1 && json.GetString() is { } name
                        && known.Add(name)) names.Add(name);
            }
            catch (Exception error) when (error is JsonException or InvalidOperationException)
            { /* a fault of its record,
                told when it is read */
            }
        }
        _watch.RefuseIfChanged();
        return new JsonLinesScan(names, records);
    }

    public IEnumerable<string> Complaints()
    {
        using LineReader lines = OpenLines();
        while (lines.Next())
            if (JsonLinesRecordReader.Complaint(lines.Line) is { } complaint) yield return string.Create(CultureInfo.InvariantCulture,
                $"{FilePath}, line {lines.Number}: {complaint}");
    }
}
