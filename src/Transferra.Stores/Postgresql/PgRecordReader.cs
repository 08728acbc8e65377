// PgRecordReader.cs: one table of a PostgreSQL store as record batches, from COPY in its binary form.
// Source of the layout: PostgreSQL documentation, COPY, "Binary Format": an 11-byte signature, two int32 of header; then for each record
// an int16 of fields, and for each field an int32 of bytes (-1: no value) and the bytes as the type's send function writes them; int16 -1
// at the end.
// Holds: (1) a value that does not fit its column is a fault of its row; (2) memory is bounded by one field and the batch's caps.
using System.Buffers.Binary;
using System.Globalization;
using System.Runtime.CompilerServices;
using Npgsql;
using Transferra.Core.Records;
using Transferra.Stores.Text;

namespace Transferra.Stores.Postgresql;

internal sealed class PgRecordReader : IRecordReader
{
    /// <summary>How a field comes in.</summary>
    internal enum How { Int2, Int4, Int8, Bool, Date, Time, Timestamp, Numeric, Text, Bytes, Uuid, Float4, Float8, Written }

    private const int RowsPerByteCheck = 64, BufferBytes = 1 << 17;
    private const int HeaderBytes = 19; // signature 11, flags 4, length of extension 4

    // PostgreSQL counts from 2000-01-01, we from 0001-01-01.
    private static readonly long DaysTo2000 = new DateOnly(2000, 1, 1).DayNumber;
    private static readonly long MicrosTo2000 = DaysTo2000 * 86_400_000_000, MicrosToEnd = (ValueText.LastDay + 1) * 86_400_000_000;

    private readonly NpgsqlConnection _connection;
    private readonly Stream _stream;
    private readonly How[] _how;
    private readonly string _where;
    private readonly TextDecoder? _decoder;
    private byte[] _buffer = new byte[BufferBytes];
    private int _start, _end;
    private bool _ended, _isDisposed;

    /// <param name="connection">In a transaction of its own on the store's snapshot; disposed with this.</param>
    /// <param name="select">The query, its columns in the batch's order.</param>
    /// <param name="how">How each of its fields comes in.</param>
    /// <param name="where">For messages.</param>
    /// <param name="decoder">Of texts in databases without an encoding; null where the server delivers UTF-8.</param>
    public PgRecordReader(NpgsqlConnection connection, string select, How[] how, string where, TextDecoder? decoder)
    {
        (_connection, _how, _where, _decoder) = (connection, how, where, decoder);
        try
        {
            _stream = connection.BeginRawBinaryCopy($"COPY ({select}) TO STDOUT (FORMAT BINARY)");
            Need(HeaderBytes);
            _start += HeaderBytes;
        }
        catch (Exception error) when (error is NpgsqlException or IOException)
        {
            connection.Dispose();
            throw PgConnection.Stopped($"{where}: reading cannot begin", error);
        }
    }

    public bool Fill(RecordBatch batch)
    {
        if (_ended) return false;
        try
        {
            int rows = batch.RowCount;
            Vector[] vectors = batch.Vectors;
            while (rows < batch.Limits.MaxRows)
            {
                int fields = ReadInt16();
                if (fields < 0)
                {
                    _ended = true;
                    return false;
                }
                for (int column = 0; column < vectors.Length; column++)
                {
                    int bytes = ReadInt32();
                    if (bytes < 0) vectors[column].AppendNull();
                    else
                    {
                        Need(bytes);
                        ReadOnlySpan<byte> field = _buffer.AsSpan(_start, bytes);
                        _start += bytes;
                        FaultCode? fault = Append(vectors[column], _how[column], field);
                        if (fault is not null) Fault(batch, vectors[column], rows, column, fault.Value, field);
                    }
                }
                rows++;
                if (batch.IsHeavy || (rows % RowsPerByteCheck == 0 && batch.IsFull)) break;
            }
            return true;
        }
        catch (Exception error) when (error is NpgsqlException or IOException)
        {
            throw PgConnection.Stopped($"{_where}: reading stopped", error);
        }
    }

    private int ReadInt16()
    {
        Need(2);
        int value = BinaryPrimitives.ReadInt16BigEndian(_buffer.AsSpan(_start));
        _start += 2;
        return value;
    }

    private int ReadInt32()
    {
        Need(4);
        int value = BinaryPrimitives.ReadInt32BigEndian(_buffer.AsSpan(_start));
        _start += 4;
        return value;
    }

    private void Need(int bytes)
    {
        if (_end - _start < bytes) Refill(bytes);
    }

    private void Refill(int bytes)
    {
        _buffer.AsSpan(_start, _end - _start).CopyTo(_buffer);
        _end -= _start;
        _start = 0;
        if (bytes > _buffer.Length) Array.Resize(ref _buffer, (int)Math.Min(Array.MaxLength, Math.Max(bytes, 2L * _buffer.Length)));
        // A read brings at most one record; reading on while there is room saves moving the rest once a record.
        while (_end < bytes)
        {
            int read = _stream.Read(_buffer, _end, _buffer.Length - _end);
            if (read == 0) throw new EndOfStreamException("the server's answer ends within a record");
            _end += read;
        }
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private FaultCode? Append(Vector vector, How how, ReadOnlySpan<byte> field)
    {
        switch (how)
        {
            case How.Int8: return AppendWhole(vector, BinaryPrimitives.ReadInt64BigEndian(field));
            case How.Int4: return AppendWhole(vector, BinaryPrimitives.ReadInt32BigEndian(field));
            case How.Int2: return AppendWhole(vector, BinaryPrimitives.ReadInt16BigEndian(field));
            case How.Bool: ((LongVector)vector).Append(field[0]); return null;
            case How.Numeric:
                int scale = vector.Type.Kind == FieldKind.Decimal ? vector.Type.Scale : 0;
                int precision = vector.Type.Kind == FieldKind.Decimal ? vector.Type.Precision : FieldType.MaxPrecision;
                if (PgNumeric.TryRead(field, scale, precision, out Int128 units) is { } wrong) return wrong;
                if (vector is WideVector wides) { wides.Append(units); return null; }
                if (Specials.Is(units)) return FaultCode.NotFinite;
                if (units < long.MinValue || units > long.MaxValue) return FaultCode.OutOfRange;
                return AppendWhole(vector, (long)units);
            case How.Date:
                int days = BinaryPrimitives.ReadInt32BigEndian(field);
                long day = days switch { int.MaxValue => Specials.Never, int.MinValue => Specials.Always, _ => days + DaysTo2000 };
                if (!Specials.Is(day) && (day < 0 || day > ValueText.LastDay)) return FaultCode.NotADate;
                ((LongVector)vector).Append(day);
                return null;
            case How.Time:
                long time = BinaryPrimitives.ReadInt64BigEndian(field);
                if (time >= 86_400_000_000) return FaultCode.NotATime; // 24:00:00 is a time of its own there
                ((LongVector)vector).Append(time);
                return null;
            case How.Timestamp:
                long counted = BinaryPrimitives.ReadInt64BigEndian(field);
                if (Specials.Is(counted))
                {
                    ((LongVector)vector).Append(counted); // the same ends there and here
                    return null;
                }
                if (counted < -MicrosTo2000 || counted >= MicrosToEnd - MicrosTo2000) return FaultCode.NotATime;
                ((LongVector)vector).Append(counted + MicrosTo2000);
                return null;
            case How.Text:
                var texts = (BytesVector)vector;
                if (_decoder is not null) return _decoder.TryAppend(field, texts) ? null : FaultCode.NotText;
                return texts.TryAppendUtf8(field) ? null : FaultCode.NotText;
            case How.Bytes: ((BytesVector)vector).Append(field); return null;
            case How.Uuid: ((WideVector)vector).Append(BinaryPrimitives.ReadInt128BigEndian(field)); return null;
            case How.Float8: ((DoubleVector)vector).Append(BinaryPrimitives.ReadDoubleBigEndian(field)); return null;
            case How.Float4: ((DoubleVector)vector).Append(BinaryPrimitives.ReadSingleBigEndian(field)); return null;
            default: return CellText.TryAppend(vector, field);
        }
    }

    private static FaultCode? AppendWhole(Vector vector, long value)
    {
        if (vector is LongVector longs)
        {
            if (vector.Type.Kind == FieldKind.Boolean && value is not (0 or 1)) return FaultCode.NotABoolean;
            longs.Append(value);
            return null;
        }
        FaultCode? fault = DecimalText.TryRescale(value, 0, vector.Type.Scale, vector.Type.Precision, out Int128 units);
        if (fault is null) ((WideVector)vector).Append(units);
        return fault;
    }

    private void Fault(RecordBatch batch, Vector vector, int row, int column, FaultCode fault, ReadOnlySpan<byte> field)
    {
        vector.AppendNull();
        batch.Faults.Add(new RowFault(row, fault, batch.Columns[column].Name, Shown(_how[column], field),
            CellText.Reason(fault, vector.Type)));
    }

    private static string Shown(How how, ReadOnlySpan<byte> field) => how switch
    {
        How.Int2 => BinaryPrimitives.ReadInt16BigEndian(field).ToString(CultureInfo.InvariantCulture),
        How.Int4 => BinaryPrimitives.ReadInt32BigEndian(field).ToString(CultureInfo.InvariantCulture),
        How.Int8 => BinaryPrimitives.ReadInt64BigEndian(field).ToString(CultureInfo.InvariantCulture),
        How.Date => string.Create(CultureInfo.InvariantCulture, $"{BinaryPrimitives.ReadInt32BigEndian(field)} days from 2000-01-01"),
        How.Time => "24:00:00",
        How.Timestamp => string.Create(CultureInfo.InvariantCulture,
            $"{BinaryPrimitives.ReadInt64BigEndian(field)} microseconds from 2000-01-01"),
        How.Numeric => ShownNumeric(field),
        _ => CellText.Shown(field),
    };

    // Whatever scale it has, for the message; what is larger than our largest decimal is not written out.
    private static string ShownNumeric(ReadOnlySpan<byte> field)
    {
        ushort sign = BinaryPrimitives.ReadUInt16BigEndian(field[4..]);
        int scale = BinaryPrimitives.ReadInt16BigEndian(field[6..]);
        return sign switch
        {
            0xC000 => "NaN",
            0xD000 => "Infinity",
            0xF000 => "-Infinity",
            _ when PgNumeric.TryRead(field, Math.Min(scale, FieldType.MaxPrecision), FieldType.MaxPrecision, out Int128 units) is null
            => DecimalText.Format(units, Math.Min(scale, FieldType.MaxPrecision)),
            _ => "a number of more than 38 digits"
        };
    }

    /// <summary>Takes the connection when the table was read to its end; otherwise it is closed.</summary>
    public Action<NpgsqlConnection>? WhenEnded { get; init; }

    public void Dispose()
    {
        if (_isDisposed) return;
        _isDisposed = true;
        // Given up before its end, the copy is cancelled; the connection is of no use after that and goes with it.
        try
        {
            _stream.Dispose();
            if (_ended && WhenEnded is not null)
            {
                WhenEnded(_connection);
                return;
            }
        }
        catch (Exception error) when (error is NpgsqlException or OperationCanceledException
            or IOException)
        { /* that is what cancelling says */ }
        _connection.Dispose();
    }
}
