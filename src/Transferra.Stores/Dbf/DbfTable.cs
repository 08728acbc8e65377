// DbfTable.cs: one table of an opened folder: its header as it was when the store was opened, and whether the file is still the same.
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Dbf;

/// <summary>A table of a folder.</summary>
internal sealed class DbfTable : IFileTable
{
    private readonly FileWatch _watch;
    private (long Live, long Deleted)? _counts;

    public DbfTable(string path, string? textEncoding)
    {
        FilePath = path;
        _watch = new FileWatch(path);
        Name = Path.GetFileNameWithoutExtension(path);
        try
        {
            using FileStream file = OpenFile();
            Header = DbfHeader.Read(file, path);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw FileWatch.Unreadable(path, error);
        }
        CodePage = textEncoding ?? DbfCodePages.Of(path, Header.Driver);
        Shape = new TableShape(Name, [.. Header.Fields.Select(field =>
            new ColumnShape(field.Name, field.TypeIn(Header.Level), Header.Level.IsVisual && !field.IsNullable))], [], []);
    }

    public string FilePath { get; }

    public string Name { get; }

    public DbfHeader Header { get; }

    /// <summary>Name of the code page of its text; null when nothing tells and only plain ASCII is understood.</summary>
    public string? CodePage { get; }

    public TableShape Shape { get; }

    /// <summary>Records that are marked as deleted; the readers pass over them.</summary>
    public long DeletedRecords => Counts.Deleted;

    public long Records => Counts.Live;

    public IRecordReader OpenReader(TableShape shape) => new DbfRecordReader(this, shape);

    /// <summary>Records whose first byte says neither that they are there nor that they are deleted.</summary>
    public IEnumerable<string> BadMarks()
    {
        const int most = 20;
        int told = 0;
        using FileStream file = OpenFile();
        file.Position = Header.HeaderBytes;
        byte[] record = new byte[Header.RecordBytes];
        for (long row = 0; row < Header.Records && told < most; row++)
        {
            file.ReadExactly(record);
            if (record[0] is DbfRecordReader.Deleted or (byte)' ') continue;
            told++;
            yield return FormattableString.Invariant($"{FilePath}: record {row + 1} at offset {Header.HeaderBytes + row * Header.RecordBytes} begins with {record[0]:X2}, which marks it neither as there nor as deleted");
        }
        if (told == most) yield return $"{FilePath}: and more of that kind";
    }

    public FileStream OpenFile() => PlainFile.Open(FilePath, 1 << 18);

    private (long Live, long Deleted) Counts
    {
        get
        {
            if (_counts is { } known) return known;
            long deleted = 0;
            using FileStream file = OpenFile();
            file.Position = Header.HeaderBytes;
            byte[] record = new byte[Header.RecordBytes];
            for (long row = 0; row < Header.Records; row++)
            {
                file.ReadExactly(record);
                if (record[0] == DbfRecordReader.Deleted) deleted++;
            }
            _counts = (Header.Records - deleted, deleted);
            return _counts.Value;
        }
    }

    /// <exception cref="TransferraException">Somebody changed the file.</exception>
    public void RefuseIfChanged() => _watch.RefuseIfChanged();
}
