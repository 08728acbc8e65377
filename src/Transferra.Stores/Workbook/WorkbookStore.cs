// WorkbookStore.cs: a spreadsheet export (.xlsx) opened for reading only; each sheet is a table, its first row names the columns.
// Source of the format: ECMA-376 (Office Open XML), part 1: workbook 18.2, sheets 18.3, shared strings 18.4, number formats 18.8.30; part
// 2: packages.
// Why our own reader: it takes half the time of the common library's (docs/decisions/libraries.md).
// Holds: (1) nothing is written; (2) memory is bounded by the shared texts and one row; (3) a file that is no workbook, or a damaged one,
// is told in words.
using System.IO.Compression;
using System.Xml;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Workbook;

internal sealed class WorkbookStore : FileStore<WorkbookTable>
{
    private WorkbookStore(string path, IReadOnlyList<WorkbookTable> tables) : base(path, "a workbook", tables) =>
        Identity = new StoreIdentity("Workbook", "xlsx", new FileInfo(path).Length, new Dictionary<string, string>());

    public override StoreIdentity Identity { get; }

    public static WorkbookStore Open(string path)
    {
        if (!File.Exists(path))
            throw new TransferraException(Directory.Exists(path) ? $"{path} is a folder, not a workbook" : $"the store {path} is not there",
                "Correct the path of the store in office.yaml.");
        var watch = new FileWatch(path);
        try
        {
            using ZipArchive package = new ZipArchive(PlainFile.Open(path), ZipArchiveMode.Read);
            var parts = WorkbookParts.Read(package);
            return new WorkbookStore(path, [.. parts.Sheets.Select(sheet => new WorkbookTable(path, sheet.Name, sheet.Part, parts, watch))
                .OrderBy(table => table.Name, StringComparer.OrdinalIgnoreCase)]);
        }
        catch (Exception error) when (error is InvalidDataException or XmlException or FormatException)
        {
            throw new TransferraException($"{path} is not a readable workbook: {error.Message}",
                "Save it anew as .xlsx in the spreadsheet program, without a password.", error);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw FileWatch.Unreadable(path, error);
        }
    }

    public override IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        foreach (WorkbookTable table in Tables)
        {
            try { _ = table.Records; }
            catch (TransferraException error) { complaints.Add(error.Message); }
        }
        return complaints;
    }
}

internal sealed class WorkbookTable(string path, string name, string part, WorkbookParts parts, FileWatch watch) : IFileTable
{
    private (IReadOnlyList<string> Columns, long Records)? _scanned;

    public string Name => name;

    public TableShape Shape => new(name, [.. Scanned.Columns.Where(column => column.Length > 0)
        .Select(column => new ColumnShape(column, FieldType.Text))], [], []);

    public long Records => Scanned.Records;

    private (IReadOnlyList<string> Columns, long Records) Scanned => _scanned ??= Scan();

    private (IReadOnlyList<string>, long) Scan()
    {
        using SheetReader rows = OpenRows();
        if (!rows.Next()) return ([], 0);
        string[] columns = [.. rows.Cells.Select(cell => cell.Text.Trim())];
        if (columns.Where(column => column.Length > 0).GroupBy(column => column, StringComparer.OrdinalIgnoreCase)
            .FirstOrDefault(group => group.Count() > 1) is { } twice)
            throw new TransferraException($"the sheet {name} of {path} names the column {ValueText.Quote(twice.Key)} "
                + "twice in its first row", "Name its columns differently.");
        long records = 0;
        while (rows.Next()) records++;
        watch.RefuseIfChanged();
        return (columns, records);
    }

    private SheetReader OpenRows() => new(path, name, part, parts);

    public IRecordReader OpenReader(TableShape shape)
    {
        int[] places = [.. shape.Columns.Select(column =>
        {
            for (int i = 0; i < Scanned.Columns.Count; i++)
                if (string.Equals(Scanned.Columns[i], column.Name, StringComparison.OrdinalIgnoreCase)) return i;
            throw new TransferraException($"the sheet {name} of {path} has no column {column.Name}; its first row names "
                + $"{string.Join(", ", Scanned.Columns)}",
                "The workbook differs from what the kit says of this version; run: transferra check");
        })];
        SheetReader rows = OpenRows();
        rows.Next();
        return new WorkbookRecordReader(rows, places, watch);
    }
}
