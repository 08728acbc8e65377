// DbfTable.cs: one table of an opened folder: its header as it was when the store was opened, and whether the file is still the same.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Dbf;

/// <summary>What one pass over all records of a table tells.</summary>
/// <param name="Live">Records that are there.</param>
/// <param name="Deleted">Those that are marked as deleted.</param>
/// <param name="Shape">The table, with numbers as wide as they really are.</param>
internal sealed record DbfScan(long Live, long Deleted, TableShape Shape);

/// <summary>A table of a folder.</summary>
internal sealed class DbfTable : IFileTable
{
    private readonly FileWatch _watch;
    private readonly string? _kitsCodePage;
    private readonly KnownOfFiles<DbfScan>? _scans;
    private readonly MarkedReading _reading;
    private DbfScan? _scan;

    /// <param name="path">The file.</param>
    /// <param name="textEncoding">What the kit says of its text; null for nothing.</param>
    /// <param name="scans">What earlier openings learnt; null where there is nothing to be remembered.</param>
    public DbfTable(string path, string? textEncoding, KnownOfFiles<DbfScan>? scans = null)
    {
        FilePath = path;
        (_scans, _reading) = (scans, KnownOfFiles<DbfScan>.Begin("dbf", path));
        _watch = new FileWatch(path);
        Name = Path.GetFileNameWithoutExtension(path);
        try
        {
            using FileStream file = PlainFile.Open(path);
            Header = DbfHeader.Read(file, path);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw FileWatch.Unreadable(path, error);
        }
        _kitsCodePage = textEncoding;
        CodePage = DbfCodePages.Beside(path) ?? textEncoding ?? DbfCodePages.Of(Header.Driver);
    }

    public string FilePath { get; }

    public string Name { get; }

    public DbfHeader Header { get; }

    /// <summary>Name of the code page of its text; null when nothing tells and only plain ASCII is understood.</summary>
    public string? CodePage { get; }

    public TableShape Shape => Scanned.Shape;

    /// <summary>What is odd about it and no damage.</summary>
    public IEnumerable<StoreRemark> Remarks
    {
        get
        {
            if (DeletedRecords * 5 > Header.Records)
                yield return new StoreRemark(StoreRemark.DeletedRecords,
                    FormattableString.Invariant($"{Name}: {DeletedRecords} of {Header.Records} records are only marked as deleted"));
            foreach (string remark in Header.Remarks) yield return new StoreRemark(StoreRemark.Odd, remark);
            for (int i = 0; i < Header.Fields.Count; i++)
                if (Shape.Columns[i].Type is var type && type != Header.Fields[i].TypeIn(Header.Level))
                    yield return new StoreRemark(StoreRemark.Odd,
                        $"{FilePath}: {Header.Fields[i].Name} is declared as {Header.Fields[i].TypeIn(Header.Level)} and holds numbers "
                            + $"that need {type}");
            if (_kitsCodePage is not null && DbfCodePages.Of(Header.Driver) is { } told && told != CodePage)
                yield return new StoreRemark(StoreRemark.Odd,
                    $"{FilePath}: its header says that its text is in {told}, and it is read as {CodePage}. Where accents look wrong, "
                        + $"put a file {Name}.cpg beside it with the name of the right code page");
        }
    }

    /// <summary>Records that are marked as deleted; the readers pass over them.</summary>
    public long DeletedRecords => Scanned.Deleted;

    public long Records => Scanned.Live;

    public IRecordReader OpenReader(TableShape shape) => new DbfRecordReader(this, shape, Header.Records);

    /// <summary>A reader that also delivers the records which the header should have counted.</summary>
    public IRecordReader OpenWholeReader(TableShape shape) => new DbfRecordReader(this, shape, Header.Records + Header.UncountedRecords);

    /// <summary>Records whose first byte says neither that they are there nor that they are deleted.</summary>
    public IEnumerable<string> BadMarks()
    {
        const int most = 20;
        int told = 0;
        using DbfBlocks blocks = OpenBlocks(Header.Records);
        while (told < most && blocks.Read())
            for (int row = 0; row < blocks.Count && told < most; row++)
            {
                byte mark = blocks[row][0];
                if (mark is DbfRecordReader.Deleted or (byte)' ') continue;
                told++;
                long number = blocks.First + row;
                yield return string.Create(CultureInfo.InvariantCulture,
                    $"{FilePath}: record {number + 1} at offset {Header.HeaderBytes + number * Header.RecordBytes} begins with {mark:X2}, "
                        + $"which marks it neither as there nor as deleted");
            }
        if (told == most) yield return $"{FilePath}: and more of that kind";
    }

    /// <summary>Its first records, as they lie there.</summary>
    public DbfBlocks OpenBlocks(long records) => new(PlainFile.Open(FilePath, 0), Header, records);

    private DbfScan Scanned => _scan ??= _scans?.Of(_reading, FilePath, Name, Scan) ?? Scan(Name);

    private DbfScan Scan(string name)
    {
        long deleted = 0;
        var numbers = new DbfNumbers(Header);
        using (DbfBlocks blocks = OpenBlocks(Header.Records))
            while (blocks.Read())
            {
                for (int row = 0; row < blocks.Count; row++)
                    if (blocks[row][0] == DbfRecordReader.Deleted) deleted++;
                if (numbers.HasAny) numbers.See(blocks);
            }
        var shape = new TableShape(name, [.. Header.Fields.Select((of, index) => new ColumnShape(of.Name, of.Kind is 'N' or 'F'
            ? numbers.TypeOf(index) : of.TypeIn(Header.Level), Header.Level.IsVisual && !of.IsNullable))], [], []);
        return new DbfScan(Header.Records - deleted, deleted, shape);
    }

    /// <exception cref="TransferraException">Somebody changed the file.</exception>
    public void RefuseIfChanged() => _watch.RefuseIfChanged();
}
