// FileStore.cs: what stores made of plain files have in common: tables by name, no SQL, no order of their own, no snapshot.
// Holds: (1) nothing is written; (2) a file that somebody changes while it is read is refused (FileWatch); (3) two tables of one name are
// refused, also where the names differ by case.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Files;

/// <summary>One table of such a store.</summary>
internal interface IFileTable
{
    /// <summary>The table's name.</summary>
    string Name { get; }

    /// <summary>Its columns.</summary>
    TableShape Shape { get; }

    /// <summary>Its records, counted.</summary>
    long Records { get; }

    /// <summary>A reader in the file's own order.</summary>
    IRecordReader OpenReader(TableShape shape);
}

/// <summary>A store made of plain files.</summary>
/// <param name="where">Its file or folder, for messages.</param>
/// <param name="kind">What it is, for messages: "a folder of .dbf tables".</param>
/// <param name="tables">Its tables, by name.</param>
internal abstract class FileStore<T>(string where, string kind, IReadOnlyList<T> tables) : IStore where T : IFileTable
{
    /// <summary>Its tables.</summary>
    /// <exception cref="TransferraException">Names differ at most by case.</exception>
    protected IReadOnlyList<T> Tables { get; } = WithoutTwins(where, tables);

    private static IReadOnlyList<T> WithoutTwins(string where, IReadOnlyList<T> tables)
    {
        NameTwins.Refuse($"{where} has two tables", tables.Select(table => table.Name),
            "Find out which of them the program uses, and move the other one out of the way.");
        return tables;
    }

    public abstract StoreIdentity Identity { get; }

    /// <summary>A table by name, in any case.</summary>
    protected T Table(string name)
    {
        foreach (T table in Tables)
            if (string.Equals(table.Name, name, StringComparison.OrdinalIgnoreCase)) return table;
        throw new TransferraException($"there is no table {name} in {where}",
            "The store's tables differ from what the kit says of this version; run: transferra check");
    }

    public IReadOnlyList<TableShape> ReadShape() => [.. Tables.Select(table => table.Shape)];

    public IReadOnlyList<StoreObject> ListObjects() => [];

    public long CountRows(string table) => Table(table).Records;

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        IRecordReader reader = Table(table.Name).OpenReader(table);
        if (within is not null) reader = new RangeReader(reader, table, within);
        return orderBy.Count == 0 ? reader : new RecordSorter(reader, table.Columns, [.. orderBy.Select(table.OrdinalOf)]);
    }

    public virtual IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => new ReadToDamage(() => Read(table, []),
        table.Name, lost);

    public virtual IReadOnlyList<StoreRemark> Remarks => [];

    public virtual IReadOnlyList<StoreDoubt> Doubts => [];

    public QueryAnswer Ask(string sql, TimeSpan? limit = null) =>
        throw new TransferraException($"{kind} answers no SQL, and was asked: {sql}",
        "Use a sign or a total that is told by table and column; see docs/kits.md.");

    public abstract IReadOnlyList<string> CheckPhysically();

    public void Dispose() { }
}

/// <summary>A file as it was when the store was opened. Files have no snapshot; what was read counts only if nobody wrote
/// meanwhile.</summary>
internal sealed class FileWatch
{
    private readonly string _path;
    private readonly DateTime _changedAt;
    private readonly long _bytes;

    /// <exception cref="TransferraException">It cannot be read.</exception>
    public FileWatch(string path)
    {
        _path = path;
        try
        {
            (_changedAt, _bytes) = (File.GetLastWriteTimeUtc(path), new FileInfo(path).Length);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw Unreadable(path, error);
        }
    }

    /// <exception cref="TransferraException">Somebody changed it.</exception>
    public void RefuseIfChanged()
    {
        if (File.GetLastWriteTimeUtc(_path) == _changedAt && new FileInfo(_path).Length == _bytes) return;
        throw new TransferraException($"{_path} was changed while it was read",
            "Close the old program on all workstations, or wait for its export to end, then try again.");
    }

    /// <summary>What to say of a file that cannot be opened.</summary>
    public static TransferraException Unreadable(string path, Exception error) => new($"{path} cannot be read: {error.Message}",
        "Run as a user who may read it.", error);
}
