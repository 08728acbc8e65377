// FbRecordReader.cs: one table of a Firebird store as record batches.
// Why texts come in as bytes: a column of character set NONE may hold any code page, and only the bytes tell which is right.
// Holds: (1) a value that does not fit its column is a fault of its row; (2) memory is bounded by one row and the batch's caps.
using System.Globalization;
using System.Text;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Text;

namespace Transferra.Stores.Firebird;

/// <summary>How a field is asked for and comes in.</summary>
/// <param name="Sql">Its expression.</param>
/// <param name="IsPadded">Whether blanks at the end are filling.</param>
/// <param name="Decoder">Of its texts; null for UTF-8.</param>
/// <param name="Scale">Of its numbers.</param>
internal sealed record FbField(string Sql, bool IsPadded, TextDecoder? Decoder, int Scale = 0);

internal sealed class FbRecordReader : RowReader
{
    private readonly FbCommand _command;
    private readonly FbDataReader _reader;
    private readonly FbField[] _fields;
    private readonly string _where;

    public FbRecordReader(FbConnection connection, FbTransaction transaction, string select, FbField[] fields, string where)
    {
        (_fields, _where) = (fields, where);
        _command = new FbCommand(select, connection, transaction) { FetchSize = 1000 };
        try
        {
            _reader = _command.ExecuteReader();
        }
        catch (FbException error)
        {
            _command.Dispose();
            throw FbLink.Stopped($"{where}: reading cannot begin", error);
        }
    }

    protected override bool Next() => _reader.Read();

    protected override void ReadRow(RecordBatch batch, int row)
    {
        for (int column = 0; column < _fields.Length; column++)
        {
            Vector vector = batch.Vectors[column];
            object value = _reader.GetValue(column);
            if (value is DBNull) vector.AppendNull();
            else if (Append(vector, value, _fields[column]) is { } fault)
            {
                vector.AppendNull();
                batch.Faults.Add(new RowFault(row, fault, batch.Columns[column].Name, Shown(value), CellText.Reason(fault, vector.Type)));
            }
        }
    }

    protected override TransferraException? Stopped(Exception error) => error is FbException
        ? FbLink.Stopped($"{_where}: reading stopped", error) : null;

    private static FaultCode? Append(Vector vector, object value, FbField field)
    {
        switch (value)
        {
            case byte[] bytes: return AppendBytes(vector, bytes, field);
            case Guid guid: return AppendGuid(vector, guid);
            case short or int or long: return AppendWhole(vector, Convert.ToInt64(value, CultureInfo.InvariantCulture));
            case decimal number: return AppendDecimal(vector, number, field.Scale);
            case double number when vector is DoubleVector doubles: doubles.Append(number); return null;
            case float number when vector is DoubleVector doubles: doubles.Append(number); return null;
            case bool truth when vector is LongVector { Type.Kind: FieldKind.Boolean or FieldKind.Integer } longs:
                longs.Append(truth ? 1
                : 0); return null;
            case DateTime moment when vector is LongVector { Type.Kind: FieldKind.Timestamp } longs:
                longs.Append(moment.Ticks / 10);
                return null;
            case DateTime day when vector is LongVector { Type.Kind: FieldKind.Date } longs
                && day.TimeOfDay == TimeSpan.Zero:
                longs.Append(DateOnly.FromDateTime(day).DayNumber); return null;
            case TimeSpan time when vector is LongVector { Type.Kind: FieldKind.Time } longs: longs.Append(time.Ticks / 10); return null;
            default: return CellText.TryAppend(vector, Encoding.UTF8.GetBytes(Shown(value)));
        }
    }

    private static FaultCode? AppendBytes(Vector vector, ReadOnlySpan<byte> bytes, FbField field)
    {
        if (field.IsPadded) bytes = bytes.TrimEnd((byte)' ');
        if (vector.Type.Kind == FieldKind.Uuid && bytes.Length == 16)
        {
            ((WideVector)vector).Append(System.Buffers.Binary.BinaryPrimitives.ReadInt128BigEndian(bytes));
            return null;
        }
        if (vector.Type.Kind == FieldKind.Text && field.Decoder is not null) return field.Decoder.TryAppend(bytes, (BytesVector)vector)
            ? null : FaultCode.NotText;
        return CellText.TryAppend(vector, bytes);
    }

    private static FaultCode? AppendGuid(Vector vector, Guid guid)
    {
        Span<byte> bytes = stackalloc byte[16];
        guid.TryWriteBytes(bytes, bigEndian: true, out _);
        switch (vector)
        {
            case WideVector { Type.Kind: FieldKind.Uuid } wides:
                wides.Append(System.Buffers.Binary.BinaryPrimitives.ReadInt128BigEndian(bytes));
                return null;
            case BytesVector { Type.Kind: FieldKind.Binary } binary: binary.Append(bytes); return null;
            default: return CellText.TryAppend(vector, Encoding.ASCII.GetBytes(guid.ToString("D")));
        }
    }

    private static FaultCode? AppendWhole(Vector vector, long value)
    {
        switch (vector)
        {
            case LongVector { Type.Kind: FieldKind.Boolean } when value is not (0 or 1): return FaultCode.NotABoolean;
            case LongVector { Type.Kind: FieldKind.Boolean or FieldKind.Integer } longs: longs.Append(value); return null;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                FaultCode? fault = DecimalText.TryRescale(value, 0, vector.Type.Scale, vector.Type.Precision, out Int128 units);
                if (fault is null) wides.Append(units);
                return fault;
            default: return CellText.TryAppend(vector, Encoding.ASCII.GetBytes(value.ToString(CultureInfo.InvariantCulture)));
        }
    }

    private static FaultCode? AppendDecimal(Vector vector, decimal value, int declaredScale)
    {
        Span<int> parts = stackalloc int[4];
        decimal.GetBits(value, parts);
        Int128 units = (Int128)(((UInt128)(uint)parts[2] << 64) | ((UInt128)(uint)parts[1] << 32) | (uint)parts[0]);
        if (parts[3] < 0) units = -units;
        int scale = parts[3] >> 16 & 0xFF;
        bool isWhole = vector is LongVector { Type.Kind: FieldKind.Integer };
        if (!isWhole && vector is not WideVector { Type.Kind: FieldKind.Decimal })
            return CellText.TryAppend(vector,
                Encoding.ASCII.GetBytes(value.ToString(FormattableString.Invariant($"F{Math.Max(scale, declaredScale)}"),
                    CultureInfo.InvariantCulture)));
        FaultCode? fault = DecimalText.TryRescale(units, scale, vector.Type.Scale, isWhole ? 19 : vector.Type.Precision, out Int128 scaled);
        if (fault is not null) return fault;
        if (vector is WideVector wides) wides.Append(scaled);
        else if (scaled < long.MinValue || scaled > long.MaxValue) return FaultCode.OutOfRange;
        else ((LongVector)vector).Append((long)scaled);
        return null;
    }

    private static string Shown(object value) => value switch
    {
        byte[] bytes => CellText.Shown(bytes),
        double number => number.ToString("R", CultureInfo.InvariantCulture),
        float number => number.ToString("R", CultureInfo.InvariantCulture),
        DateTime moment => moment.ToString(moment.TimeOfDay == TimeSpan.Zero ? "yyyy-MM-dd" : "yyyy-MM-dd HH:mm:ss.FFFFFF",
            CultureInfo.InvariantCulture),
        TimeSpan time => time.ToString("hh':'mm':'ss'.'ffffff", CultureInfo.InvariantCulture),
        bool truth => truth ? "true" : "false",
        _ => Convert.ToString(value, CultureInfo.InvariantCulture) ?? "",
    };

    public override void Dispose()
    {
        _reader.Dispose();
        _command.Dispose();
    }
}
