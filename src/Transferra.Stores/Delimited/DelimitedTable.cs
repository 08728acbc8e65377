// DelimitedTable.cs: one file of a folder of delimited text: its columns, and whether the file is still as it was.
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedTable : IFileTable
{
    private readonly FileWatch _watch;
    private readonly KnownOfFiles<long> _counts;
    private readonly MarkedReading _reading;
    private long? _records;

    /// <param name="path">The file.</param>
    /// <param name="form">How it is written.</param>
    /// <param name="counts">What earlier openings learnt.</param>
    public DelimitedTable(string path, DelimitedForm form, KnownOfFiles<long> counts)
    {
        (FilePath, Form, Name) = (path, form, Path.GetFileNameWithoutExtension(path));
        (_counts, _reading) = (counts, KnownOfFiles<long>.Begin("delimited", path));
        _watch = new FileWatch(path);
        try
        {
            using DelimitedParser parser = OpenParser();
            Columns = !parser.Next() ? [] : form.HasHeader ? [.. Enumerable.Range(0, parser.FieldCount).Select(i => Text(parser.Field(i)))]
                : [.. Enumerable.Range(1, parser.FieldCount).Select(i => FormattableString.Invariant($"column{i}"))];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw FileWatch.Unreadable(path, error);
        }
        if (Columns.GroupBy(name => name, StringComparer.OrdinalIgnoreCase).FirstOrDefault(group => group.Count() > 1) is { } twice)
            throw new TransferraException($"{path} names the column {ValueText.Quote(twice.Key)} twice in its first line",
                "Have the export name its columns differently; or, when the first line is not a header, say so in office.yaml: "
                    + "header: no.");
    }

    public string FilePath { get; }

    public DelimitedForm Form { get; }

    public string Name { get; }

    /// <summary>From the header; column1 and so on when there is none.</summary>
    public IReadOnlyList<string> Columns { get; }

    public TableShape Shape => new(Name, [.. Columns.Select(name => new ColumnShape(name, FieldType.Text))], [], []);

    // How many there are depends on how the file is said to be written.
    public long Records => _records ??= _counts.Of(_reading, FilePath, Form.ToString(), _ => Count());

    private long Count()
    {
        using DelimitedParser parser = OpenParser();
        long records = Form.HasHeader ? -1 : 0;
        while (parser.Next()) records++;
        return Math.Max(0, records);
    }

    public IRecordReader OpenReader(TableShape shape) => new DelimitedRecordReader(this, shape);

    public DelimitedParser OpenParser() =>
        new(PlainFile.Open(FilePath, 1 << 16), Form);

    private string Text(ReadOnlySpan<byte> bytes) => Form.TextEncoding is UnicodeEncoding ? Encoding.UTF8.GetString(bytes)
        : Form.TextEncoding.GetString(bytes);

    /// <exception cref="TransferraException">Somebody changed the file.</exception>
    public void RefuseIfChanged() => _watch.RefuseIfChanged();
}
