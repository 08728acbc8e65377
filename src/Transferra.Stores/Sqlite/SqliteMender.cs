// SqliteMender.cs: changes records of a copied SQLite file, by their record numbers, which a copy shares with its original.
// Holds: (1) the bytes of text go in as the version's code page has them, and a number keeps the kind of storage that it had; (2) no
// trigger runs.
using System.Data.Common;
using System.Text;
using Microsoft.Data.Sqlite;
using SQLitePCL;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteMender : SqlMender
{
    private const string RecordNumber = "_rowid_";

    private readonly string _path;
    private readonly string? _pages;

    public SqliteMender(string path, string? textEncoding) : base(Open(path), path)
    {
        _path = path;
        _pages = textEncoding;
        // What a trigger of the program would do beside the mend is not wanted, and would not be listed.
        var handle = ((SqliteConnection)Connection).Handle!;
        raw.sqlite3_db_config(handle, raw.SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, out _);
        Execute("PRAGMA foreign_keys = OFF");
        Transaction = Connection.BeginTransaction();
    }

    private static SqliteConnection Open(string path) => SqliteEngine.Open(path, SqliteOpenMode.ReadWrite);

    public override bool HasPlacesOfOriginal => true;

    public override ColumnShape Prepare(TableShape table)
    {
        try
        {
            Rows($"SELECT {RecordNumber} FROM {SqliteEngine.Quote(table.Name)} LIMIT 1");
        }
        catch (SqliteException error)
        {
            throw new TransferraException($"records of {table.Name} in {_path} have no numbers, by which one could be told from its copy",
                "Take the mend of this table out of the kit, and mend it in the old program.", error);
        }
        return new ColumnShape(RecordNumber, FieldType.Integer);
    }

    protected override string Name(string table, string? column = null) => SqliteEngine.Quote(column ?? table);

    protected override string AtPlace(string table) => $"{RecordNumber} = @place";

    protected override object Place(Vector places, int row) => ((LongVector)places).Values[row];

    private Encoding EncodingOf(string table) => TextPages.EncodingOf(_pages, table) ?? Encoding.UTF8;

    public override bool CanHold(TableShape table, ColumnShape column, string value)
    {
        if (column.Type.Kind != FieldKind.Text) return true;
        try { EncodingOf(table.Name).GetByteCount(value); }
        catch (EncoderFallbackException) { return false; }
        return true;
    }

    protected override string Setting(string table, ColumnShape column, string value, string parameter, DbCommand command)
    {
        string name = SqliteEngine.Quote(column.Name);
        if (column.Type.Kind == FieldKind.Text)
        {
            Add(command, parameter[1..], EncodingOf(table).GetBytes(value));
            return $"CAST({parameter} AS TEXT)";
        }
        // Our own stores keep decimals as whole numbers of the last digit.
        bool isScaled = Rows($"SELECT type FROM pragma_table_info('{table.Replace("'", "''", StringComparison.Ordinal)}') WHERE name = "
            + $"'{column.Name.Replace("'", "''", StringComparison.Ordinal)}' COLLATE "
            + "NOCASE") is [var declared, ..] && SqliteTypes.IsScaled(declared[0] ?? "");
        Add(command, parameter[1..], isScaled ? value.Replace(".", "", StringComparison.Ordinal) : value);
        return isScaled ? $"CAST({parameter} AS INTEGER)"
            : $"CASE typeof({name}) WHEN 'text' THEN {parameter} WHEN 'integer' THEN CAST({parameter} AS NUMERIC) WHEN 'real' THEN "
                + $"CAST({parameter} AS REAL) ELSE {parameter} END";
    }

    protected override bool IsOfEngine(Exception error) => error is SqliteException;

    public override string RebuildIndexes()
    {
        Execute("REINDEX");
        return "all indexes were built anew";
    }

    public override IReadOnlyList<PositionChange> SetPositions()
    {
        var changes = new List<PositionChange>();
        if (Rows("SELECT name FROM sqlite_schema WHERE name = 'sqlite_sequence'").Count == 0) return changes;
        foreach (string?[] row in Rows("SELECT name, seq FROM sqlite_sequence WHERE name IN (SELECT name FROM sqlite_schema WHERE type = "
            + "'table') ORDER BY name"))
        {
            long before = Whole(row[1]), most = Whole(Rows($"SELECT coalesce(max({RecordNumber}), 0) FROM "
                + $"{SqliteEngine.Quote(row[0]!)}")[0][0]);
            if (before >= most) continue;
            using DbCommand command = Command("UPDATE sqlite_sequence SET seq = @most WHERE name = @name");
            Add(command, "most", most);
            Add(command, "name", row[0]!);
            command.ExecuteNonQuery();
            changes.Add(new PositionChange(row[0]!, before, most));
        }
        return changes;
    }

    public override void Complete()
    {
        Transaction!.Commit();
        Transaction.Dispose();
        Transaction = null;
        // Of a file in write-ahead mode everything goes into the file itself, so that a rename takes all of it along.
        Rows("PRAGMA wal_checkpoint(TRUNCATE)");
        Connection.Close();
        new Core.Machine.DiskVolume().FlushFile(_path);
    }
}
