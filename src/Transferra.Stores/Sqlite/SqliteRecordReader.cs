// SqliteRecordReader.cs: one table of a SQLite store as record batches.
// Why cells are looked at one by one: SQLite lets any cell hold any kind of value whatever the column says.
// Holds: (1) a cell that is not what its column is declared for is a fault of its row, never converted silently.
using System.Globalization;
using System.Text;
using System.Text.Unicode;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal sealed unsafe class SqliteRecordReader : IRecordReader
{
    private const int RowsPerByteCheck = 64;

    private readonly nint _database;
    private readonly string _where;
    private readonly bool[] _scaled;
    private readonly TextDecoder? _decoder;
    private readonly Files.FileWatch? _watch;
    private nint _statement;
    private bool _ended;

    public SqliteRecordReader(nint database, string sql, string where, bool[] scaled, TextDecoder? decoder, Files.FileWatch? watch)
    {
        (_database, _where, _scaled, _decoder, _watch) = (database, where, scaled, decoder, watch);
        try
        {
            _statement = SqliteNative.Prepare(database, sql);
        }
        catch (InvalidOperationException error)
        {
            throw new TransferraException($"{where}: {error.Message}", "The store's tables differ from what the kit says of this version; run: transferra check", error);
        }
    }

    public bool Fill(RecordBatch batch)
    {
        if (_ended) return false;
        int rows = batch.RowCount;
        while (rows < batch.Limits.MaxRows)
        {
            int result = SqliteNative.Step(_statement);
            if (result != SqliteNative.Row)
            {
                _ended = true;
                if (result == SqliteNative.Done)
                {
                    _watch?.RefuseIfChanged();
                    return false;
                }
                throw new TransferraException($"{_where}: reading stopped: {SqliteNative.Message(_database)}",
                    "The file is damaged or the disk fails. Run transferra check; restore the store from the office's own backup or send it to the vendor.");
            }
            Vector[] vectors = batch.Vectors;
            for (int column = 0; column < vectors.Length; column++) ReadCell(batch, vectors[column], rows, column);
            rows++;
            // Asking every row would cost more than reading it; a table of wide rows fills the batch past the cap by at most 63 of them.
            if ((rows % RowsPerByteCheck == 0 || vectors[0].Count == 1) && batch.ByteCount >= batch.Limits.MaxBytes) break;
        }
        return true;
    }

    private void ReadCell(RecordBatch batch, Vector vector, int row, int column)
    {
        int kind = SqliteNative.ColumnType(_statement, column);
        if (kind == SqliteNative.Null)
        {
            vector.AppendNull();
            return;
        }
        FaultCode? fault = vector switch
        {
            LongVector longs => ReadLong(longs, kind, column),
            BytesVector bytes => ReadBytes(bytes, kind, column),
            WideVector wides => ReadWide(wides, kind, column),
            _ => ReadDouble((DoubleVector)vector, kind, column),
        };
        if (fault is null) return;
        vector.AppendNull();
        string value = ShowCell(kind, column);
        string reason = fault == FaultCode.NotText ? "the bytes are no text in the declared code page"
            : $"the column is {vector.Type}, but the store holds {KindName(kind)} here";
        batch.Faults.Add(new RowFault(row, fault.Value, batch.Columns[column].Name, value, reason));
    }

    private ReadOnlySpan<byte> Bytes(int column)
    {
        byte* value = SqliteNative.ColumnBlob(_statement, column); // of a text cell: its bytes as stored, without a copy
        return new ReadOnlySpan<byte>(value, SqliteNative.ColumnBytes(_statement, column));
    }

    private FaultCode? ReadLong(LongVector vector, int kind, int column)
    {
        if (kind == SqliteNative.Integer)
        {
            long value = SqliteNative.ColumnInt64(_statement, column);
            if (vector.Type.Kind == FieldKind.Boolean && value is not (0 or 1)) return FaultCode.NotABoolean;
            if (vector.Type.Kind is not (FieldKind.Integer or FieldKind.Boolean)) return FaultCode.WrongKind;
            vector.Append(value);
            return null;
        }
        if (kind != SqliteNative.Text) return FaultCode.WrongKind;
        long read = 0;
        bool understood = vector.Type.Kind switch
        {
            FieldKind.Date => ValueText.TryDate(Bytes(column), out read),
            FieldKind.Time => ValueText.TryTime(Bytes(column), out read),
            FieldKind.Timestamp => ValueText.TryTimestamp(Bytes(column), out read),
            _ => false,
        };
        if (!understood) return FaultCode.WrongKind;
        vector.Append(read);
        return null;
    }

    private FaultCode? ReadBytes(BytesVector vector, int kind, int column)
    {
        if (vector.Type.Kind == FieldKind.Binary)
        {
            if (kind is not (SqliteNative.Blob or SqliteNative.Text)) return FaultCode.WrongKind;
            vector.Append(Bytes(column));
            return null;
        }
        if (kind == SqliteNative.Integer)
        {
            vector.Append(Encoding.ASCII.GetBytes(SqliteNative.ColumnInt64(_statement, column).ToString(CultureInfo.InvariantCulture)));
            return null;
        }
        if (kind != SqliteNative.Text) return FaultCode.WrongKind;
        ReadOnlySpan<byte> text = Bytes(column);
        if (_decoder is not null) return _decoder.TryAppend(text, vector) ? null : FaultCode.NotText;
        if (!Utf8.IsValid(text)) return FaultCode.NotText;
        vector.Append(text);
        return null;
    }

    private FaultCode? ReadWide(WideVector vector, int kind, int column)
    {
        FieldType type = vector.Type;
        if (type.Kind == FieldKind.Uuid)
        {
            if (kind != SqliteNative.Text || !ValueText.TryUuid(Bytes(column), out Int128 uuid)) return FaultCode.WrongKind;
            vector.Append(uuid);
            return null;
        }
        Int128 units;
        FaultCode? fault;
        switch (kind)
        {
            case SqliteNative.Integer:
                long whole = SqliteNative.ColumnInt64(_statement, column);
                fault = DecimalText.TryRescale(whole, _scaled[column] ? type.Scale : 0, type.Scale, type.Precision, out units);
                break;
            case SqliteNative.Text:
                fault = DecimalText.TryParse(Bytes(column), type.Precision, type.Scale, out units);
                break;
            case SqliteNative.Float:
                // The shortest digits that name the double: what was typed in when it came from typing.
                string digits = SqliteNative.ColumnDouble(_statement, column).ToString("R", CultureInfo.InvariantCulture);
                fault = DecimalText.TryParse(Encoding.ASCII.GetBytes(digits), type.Precision, type.Scale, out units);
                break;
            default: return FaultCode.WrongKind;
        }
        if (fault is null) vector.Append(units);
        return fault;
    }

    private FaultCode? ReadDouble(DoubleVector vector, int kind, int column)
    {
        if (kind is not (SqliteNative.Float or SqliteNative.Integer)) return FaultCode.WrongKind;
        vector.Append(SqliteNative.ColumnDouble(_statement, column));
        return null;
    }

    private string ShowCell(int kind, int column) => kind switch
    {
        SqliteNative.Integer => SqliteNative.ColumnInt64(_statement, column).ToString(CultureInfo.InvariantCulture),
        SqliteNative.Float => SqliteNative.ColumnDouble(_statement, column).ToString("R", CultureInfo.InvariantCulture),
        SqliteNative.Text when Utf8.IsValid(Bytes(column)) => Encoding.UTF8.GetString(Bytes(column)),
        _ => "0x" + Convert.ToHexString(Bytes(column)[..Math.Min(32, Bytes(column).Length)]),
    };

    private static string KindName(int kind) => kind switch
    {
        SqliteNative.Integer => "a whole number",
        SqliteNative.Float => "a floating-point number",
        SqliteNative.Text => "a text",
        _ => "binary data",
    };

    public void Dispose()
    {
        if (_statement == 0) return;
        _ = SqliteNative.FinalizeStatement(_statement);
        _statement = 0;
    }
}
