// PgCopyWriter.cs: rows of a batch in COPY's binary form. Source of the layout: PgRecordReader.cs.
using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <summary>Writes rows of outputs into one buffer that is sent when it has grown.</summary>
internal sealed class PgCopyWriter
{
    private const int SendBytes = 1 << 16, FixedRoom = 64;

    private static readonly byte[] Signature = [.. "PGCOPY\n"u8, 0xFF, (byte)'\r', (byte)'\n', 0, 0, 0, 0, 0, 0, 0, 0, 0];
    private static readonly int DaysTo2000 = new DateOnly(2000, 1, 1).DayNumber;
    private static readonly long MicrosTo2000 = DaysTo2000 * 86_400_000_000;

    private readonly Stream _stream;
    private byte[] _buffer = new byte[2 * SendBytes];
    private int _length;

    /// <param name="stream">Of a COPY that has just begun; not disposed.</param>
    public PgCopyWriter(Stream stream)
    {
        _stream = stream;
        Signature.CopyTo(_buffer, 0);
        _length = Signature.Length;
    }

    // What a column's values become; found out once for a batch, as it would take longer than writing when it were for each value.
    private enum Form { Long, Timestamp, Date, Boolean, Bytes, Decimal, Wide, Double }

    // One column of a batch, of which only the vector of its form is there.
    private readonly struct Column(Vector vector)
    {
        public readonly Vector Vector = vector;
        public readonly LongVector Longs = (vector as LongVector)!;
        public readonly WideVector Wides = (vector as WideVector)!;
        public readonly BytesVector Bytes = (vector as BytesVector)!;
        public readonly int Scale = vector.Type.Scale;
        public readonly Form Form = (vector, vector.Type.Kind) switch
        {
            (LongVector, FieldKind.Timestamp) => Form.Timestamp,
            (LongVector, FieldKind.Date) => Form.Date,
            (LongVector, FieldKind.Boolean) => Form.Boolean,
            (LongVector, _) => Form.Long,
            (WideVector, FieldKind.Decimal) => Form.Decimal,
            (WideVector, _) => Form.Wide,
            (BytesVector, _) => Form.Bytes,
            _ => Form.Double,
        };
    }

    /// <summary>Adds the rows.</summary>
    public void Add(IReadOnlyList<Vector> vectors, ReadOnlySpan<int> rows)
    {
        Column[] columns = [.. vectors.Select(vector => new Column(vector))];
        foreach (int row in rows)
        {
            Add(columns, row);
            if (_length >= SendBytes) Send();
        }
    }

    // Compiled for speed at once: code that touches 128-bit numbers is not compiled ahead of time, and this runs once a record.
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private void Add(ReadOnlySpan<Column> columns, int row)
    {
        Room(2);
        BinaryPrimitives.WriteInt16BigEndian(_buffer.AsSpan(_length), (short)columns.Length);
        _length += 2;
        foreach (ref readonly Column column in columns)
        {
            Room(4 + FixedRoom);
            Span<byte> room = _buffer.AsSpan(_length + 4);
            int written = column.Vector.IsNull(row) ? -1 : column.Form switch
            {
                Form.Bytes => Write(column.Bytes[row]),
                Form.Decimal => PgNumeric.Write(column.Wides.Values[row], column.Scale, room),
                Form.Wide => Write(column.Wides.Values[row], room),
                Form.Double => Write(((DoubleVector)column.Vector).Values[row], room),
                _ => Write(column.Form, column.Longs.Values[row], room),
            };
            BinaryPrimitives.WriteInt32BigEndian(_buffer.AsSpan(_length), written);
            _length += 4 + Math.Max(0, written);
        }
    }

    private static int Write(Form form, long value, Span<byte> room)
    {
        switch (form)
        {
            case Form.Date:
                BinaryPrimitives.WriteInt32BigEndian(room, value switch
                {
                    Specials.Never => int.MaxValue,
                    Specials.Always => int.MinValue,
                    _ => (int)value - DaysTo2000
                });
                return 4;
            case Form.Boolean:
                room[0] = (byte)value;
                return 1;
            default:
                BinaryPrimitives.WriteInt64BigEndian(room, form == Form.Timestamp && !Specials.Is(value) ? value - MicrosTo2000 : value);
                return 8;
        }
    }

    // Behind the room for its length.
    private int Write(ReadOnlySpan<byte> value)
    {
        if (value.Length > FixedRoom) Room(4 + value.Length);
        value.CopyTo(_buffer.AsSpan(_length + 4));
        return value.Length;
    }

    private static int Write(Int128 value, Span<byte> room)
    {
        BinaryPrimitives.WriteInt128BigEndian(room, value);
        return 16;
    }

    private static int Write(double value, Span<byte> room)
    {
        BinaryPrimitives.WriteDoubleBigEndian(room, value);
        return 8;
    }

    private void Room(int bytes)
    {
        if (_buffer.Length - _length < bytes) Grow(bytes);
    }

    private void Grow(int bytes) => Array.Resize(ref _buffer,
        (int)Math.Min(Array.MaxLength, Math.Max(_length + (long)bytes, 2L * _buffer.Length)));

    private void Send()
    {
        _stream.Write(_buffer, 0, _length);
        _length = 0;
    }

    /// <summary>Adds the end mark and sends what is left.</summary>
    public void End()
    {
        Room(2);
        BinaryPrimitives.WriteInt16BigEndian(_buffer.AsSpan(_length), -1);
        _length += 2;
        Send();
    }
}
