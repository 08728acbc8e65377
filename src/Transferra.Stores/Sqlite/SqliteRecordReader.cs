// SqliteRecordReader.cs: the answer of the engine to one query as record batches.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal sealed unsafe class SqliteRecordReader : IRecordReader
{
    private readonly nint _database;
    private readonly string _where;
    private readonly SqliteCells _cells;
    private readonly Files.FileWatch? _watch;
    private nint _statement;
    private bool _ended;
    private long _longBytes;

    public SqliteRecordReader(nint database, string sql, string where, SqliteCells cells, Files.FileWatch? watch)
    {
        (_database, _where, _cells, _watch) = (database, where, cells, watch);
        try
        {
            _statement = SqliteNative.Prepare(database, sql);
        }
        catch (InvalidOperationException error)
        {
            throw new TransferraException($"{where}: {error.Message}",
                "The store's tables differ from what the kit says of this version; run: transferra check", error);
        }
    }

    /// <summary>Passes over records.</summary>
    public SqliteRecordReader Without(long records)
    {
        for (long i = 0; i < records && !_ended; i++) Next();
        return this;
    }

    public bool Fill(RecordBatch batch)
    {
        if (_ended) return false;
        _longBytes = 0;
        for (int rows = batch.RowCount; rows < batch.Limits.MaxRows;)
        {
            if (!Next()) return false;
            for (int column = 0; column < batch.Vectors.Length; column++) _cells.Append(batch, rows, column, Cell(column));
            rows++;
            if (IsHeavy(batch, rows, _longBytes)) break;
        }
        return true;
    }

    private bool Next()
    {
        int result = SqliteNative.Step(_statement);
        if (result == SqliteNative.Row) return true;
        _ended = true;
        if (result != SqliteNative.Done)
            throw new TransferraException($"{_where}: reading stopped: {SqliteNative.Message(_database)}",
                "The file is damaged or the disk fails. Run transferra check; "
                    + "restore the store from the office's own backup or send it to the vendor.");
        _watch?.RefuseIfChanged();
        return false;
    }

    /// <summary>Whether a batch has enough bytes. Asking its vectors for every row would cost more than reading it; what lies in the
    /// store's own records is known anyway, so that long values never fill a batch past the cap by more than one record.</summary>
    /// <param name="batch">The batch.</param>
    /// <param name="rows">Its rows.</param>
    /// <param name="stored">Bytes of texts and binary values, or of whole records, that went into it.</param>
    public static bool IsHeavy(RecordBatch batch, int rows, long stored) =>
        stored >= batch.Limits.MaxBytes || (rows % 64 == 0 && batch.IsFull);

    private SqliteCell Cell(int column)
    {
        int kind = SqliteNative.ColumnType(_statement, column);
        return kind switch
        {
            SqliteNative.Integer => SqliteCell.Of(SqliteNative.ColumnInt64(_statement, column)),
            SqliteNative.Float => SqliteCell.Of(SqliteNative.ColumnDouble(_statement, column)),
            SqliteNative.Null => SqliteCell.Null,
            _ => new SqliteCell(kind, 0, 0, Bytes(column)),
        };
    }

    private ReadOnlySpan<byte> Bytes(int column)
    {
        byte* value = SqliteNative.ColumnBlob(_statement, column); // of a text cell: its bytes as stored, without a copy
        int length = SqliteNative.ColumnBytes(_statement, column);
        _longBytes += length;
        return new ReadOnlySpan<byte>(value, length);
    }

    public void Dispose()
    {
        if (_statement == 0) return;
        _ = SqliteNative.FinalizeStatement(_statement);
        _statement = 0;
    }
}
