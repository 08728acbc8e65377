// DbfStore.cs: a folder of .dbf tables opened for reading only.
// Holds: (1) nothing is written; (2) a table that somebody changes while it is read is refused, as files have no snapshot;
// (3) records marked as deleted are counted apart and never delivered.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal sealed class DbfStore : IStore
{
    private readonly string _folder;
    private readonly IReadOnlyList<DbfTable> _tables;

    private DbfStore(string folder, IReadOnlyList<DbfTable> tables)
    {
        (_folder, _tables) = (folder, tables);
        string[] bytes = [.. tables.Select(table => table.Header.Level.Value.ToString("x2", CultureInfo.InvariantCulture)).Distinct()];
        var facts = new Dictionary<string, string>
        {
            ["level"] = string.Join(" ", bytes.Order(StringComparer.Ordinal)),
            ["deleted_records"] = tables.Sum(table => table.DeletedRecords).ToString(CultureInfo.InvariantCulture),
            ["code_page"] = string.Join(" ", tables.Select(table => table.CodePage ?? "unknown").Distinct().Order(StringComparer.Ordinal)),
        };
        Identity = new StoreIdentity("DBF", "level " + string.Join(", ", bytes.Order(StringComparer.Ordinal)), Directory.EnumerateFiles(folder).Sum(file => new FileInfo(file).Length), facts);
    }

    public StoreIdentity Identity { get; }

    public static DbfStore Open(string folder, string? textEncoding)
    {
        if (!Directory.Exists(folder))
            throw new TransferraException(File.Exists(folder) ? $"{folder} is a file, not a folder of .dbf tables" : $"the store {folder} is not there", "Correct the path of the store in office.yaml.");
        IReadOnlyList<string> files = DbfFolder.Tables(folder);
        if (files.Count == 0) throw new TransferraException($"there is no .dbf table in {folder}", "Correct the path of the store in office.yaml, or look where the old program keeps its data.");
        return new DbfStore(folder, [.. files.Select(file => new DbfTable(file, textEncoding))]);
    }

    private DbfTable Table(string name) => _tables.FirstOrDefault(table => string.Equals(table.Name, name, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"there is no table {name} in {_folder}", "The store's tables differ from what the kit says of this version; run: transferra check");

    public IReadOnlyList<TableShape> ReadShape() => [.. _tables.Select(table => table.Shape)];

    public IReadOnlyList<StoreObject> ListObjects() => [];

    public long CountRows(string table) => Table(table).LiveRecords;

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy)
    {
        var reader = new DbfRecordReader(Table(table.Name), table);
        return orderBy.Count == 0 ? reader : new RecordSorter(reader, table.Columns, [.. orderBy.Select(table.OrdinalOf)]);
    }

    public QueryAnswer Ask(string sql) =>
        throw new TransferraException($"a folder of .dbf tables answers no SQL, and was asked: {sql}", "Use a sign or a total that is told by table and column; see docs/kits.md.");

    public IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        foreach (DbfTable table in _tables)
        {
            complaints.AddRange(table.Header.Complaints);
            ColumnShape[] memos = [.. table.Shape.Columns.Where((_, i) => table.Header.Fields[i].IsMemo(table.Header.Level))];
            if (memos.Length == 0) continue;
            foreach (RecordBatch batch in this.Batches(table.Shape with { Columns = memos }, [], CancellationToken.None))
                complaints.AddRange(batch.Faults.Where(fault => fault.Code == FaultCode.MissingReference).Select(fault => $"{table.FilePath}, field {fault.Column}: {fault.Reason}"));
        }
        return complaints;
    }

    public void Dispose() { }
}
