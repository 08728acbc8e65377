// DbfStore.cs: a folder of .dbf tables opened for reading only.
// Holds: (1) nothing is written; (2) a table that somebody changes while it is read is refused, as files have no snapshot;
// (3) records marked as deleted are counted apart and never delivered.
using System.Globalization;
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
            ["code_page"] = string.Join(" ", tables.Select(table => table.CodePage ?? "unknown").Distinct().Order(StringComparer.Ordinal)),
        };
        Identity = new StoreIdentity("DBF", "level " + string.Join(", ", bytes.Order(StringComparer.Ordinal)), Directory.EnumerateFiles(folder).Sum(file => new FileInfo(file).Length), facts);
    }

    public override StoreIdentity Identity { get; }

    public static DbfStore Open(string folder, string? textEncoding)
    {
        if (!Directory.Exists(folder))
            throw new TransferraException(File.Exists(folder) ? $"{folder} is a file, not a folder of .dbf tables" : $"the store {folder} is not there", "Correct the path of the store in office.yaml.");
        IReadOnlyList<string> files = DbfFolder.Tables(folder);
        if (files.Count == 0) throw new TransferraException($"there is no .dbf table in {folder}", "Correct the path of the store in office.yaml, or look where the old program keeps its data.");
        return new DbfStore(folder, [.. files.Select(file => new DbfTable(file, textEncoding))]);
    }

    public override IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        foreach (DbfTable table in Tables)
        {
            complaints.AddRange(table.Header.Complaints);
            ColumnShape[] memos = [.. table.Shape.Columns.Where((_, i) => table.Header.Fields[i].IsMemo(table.Header.Level))];
            if (memos.Length == 0) continue;
            foreach (RecordBatch batch in this.Batches(table.Shape with { Columns = memos }, [], CancellationToken.None))
                complaints.AddRange(batch.Faults.Where(fault => fault.Code == FaultCode.MissingReference).Select(fault => $"{table.FilePath}, field {fault.Column}: {fault.Reason}"));
        }
        return complaints;
    }
}
