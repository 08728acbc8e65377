// DbfStore.cs: a folder of .dbf tables opened for reading only.
// Holds: (1) nothing is written; (2) a table that somebody changes while it is read is refused, as files have no snapshot;
// (3) records marked as deleted are counted apart and never delivered.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Dbf;

internal sealed class DbfStore : FileStore<DbfTable>
{
    private DbfStore(string folder, IReadOnlyList<DbfTable> tables) : base(folder, "a folder of .dbf tables", tables)
    {
        string[] bytes = [.. tables.Select(table => table.Header.Level.Value.ToString("x2", CultureInfo.InvariantCulture)).Distinct()];
        var facts = new Dictionary<string, string>
        {
            ["level"] = string.Join(" ", bytes.Order(StringComparer.Ordinal)),
            ["deleted_records"] = tables.Sum(table => table.DeletedRecords).ToString(CultureInfo.InvariantCulture),
            ["code_page"] = CodePages(tables),
        };
        Identity = new StoreIdentity("DBF", "level " + string.Join(", ", bytes.Order(StringComparer.Ordinal)),
            Directory.EnumerateFiles(folder)
            .Sum(file => new FileInfo(file).Length), facts);
    }

    public override StoreIdentity Identity { get; }

    // One for all, or each table with its own.
    private static string CodePages(IReadOnlyList<DbfTable> tables)
    {
        ILookup<string, string> pages = tables.ToLookup(table => table.CodePage ?? "unknown", table => table.Name);
        return pages.Count == 1 ? pages.First().Key
            : string.Join("; ", pages.OrderBy(page => page.Key, StringComparer.Ordinal)
                .Select(page => $"{page.Key} ({string.Join(", ", page)})"));
    }

    public static DbfStore Open(string folder, string? textEncoding, KnownOfFiles<DbfScan> scans)
    {
        if (!Directory.Exists(folder))
            throw new TransferraException(File.Exists(folder) ? $"{folder} is a file, not a folder of .dbf tables"
                : $"the store {folder} is not there",
                "Correct the path of the store in office.yaml.");
        IReadOnlyList<string> files = DbfFolder.Tables(folder);
        if (files.Count == 0)
            throw new TransferraException($"there is no .dbf table in {folder}",
                "Correct the path of the store in office.yaml, or look where the old program keeps its data.");
        return new DbfStore(folder, [.. files.Select(file => new DbfTable(file, TextPages.OfTable(textEncoding,
            Path.GetFileNameWithoutExtension(file)), scans))]);
    }

    public override IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        foreach (DbfTable table in Tables)
        {
            complaints.AddRange(table.Header.Complaints);
            complaints.AddRange(table.BadMarks());
            complaints.AddRange(DbfMemoCheck.Run(this, table));
        }
        return complaints;
    }

    public override IReadOnlyList<StoreRemark> Remarks => [.. Tables.SelectMany(table => table.Remarks)];

    public override IReadOnlyList<StoreDoubt> Doubts => [.. Tables.SelectMany(table => table.Header.Complaints
        .Select(complaint => new StoreDoubt(table.Name, table.Header.RecordsInDoubt, complaint)))];

    // Records are of one length, so those before and behind a damaged one are found by counting, and so are those that the header does
    // not count; what the file does not have is lost.
    public override IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost)
    {
        DbfHeader header = Table(table.Name).Header;
        if (header.CountedRecords > header.Records)
            lost.Add(new LostPart(table.Name,
                string.Create(CultureInfo.InvariantCulture,
                    $"record {header.Records + 1} to {header.CountedRecords}, from offset "
                        + $"{header.HeaderBytes + header.Records * header.RecordBytes}"), "the file ends before them"));
        foreach (string memo in DbfMemoCheck.Run(this, Table(table.Name))) lost.Add(new LostPart(table.Name, "a memo", memo));
        return Table(table.Name).OpenWholeReader(table);
    }
}
