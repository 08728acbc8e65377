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

    /// <summary>Adds the rows.</summary>
    public void Add(IReadOnlyList<Vector> vectors, ReadOnlySpan<int> rows)
    {
        Vector[] columns = [.. vectors];
        foreach (int row in rows)
        {
            Room(2);
            BinaryPrimitives.WriteInt16BigEndian(_buffer.AsSpan(_length), (short)columns.Length);
            _length += 2;
            foreach (Vector column in columns) Add(column, row);
            if (_length >= SendBytes) Send();
        }
    }

    // Compiled for speed at once: code that touches 128-bit numbers is not compiled ahead of time, and this runs once a value.
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private void Add(Vector vector, int row)
    {
        if (_buffer.Length - _length < 4 + FixedRoom) Room(4 + FixedRoom);
        Span<byte> room = _buffer.AsSpan(_length + 4);
        int written;
        if (vector.IsNull(row)) written = -1;
        else if (vector is LongVector longs) written = Write(longs.Type.Kind, longs.Values[row], room);
        else if (vector is BytesVector bytes)
        {
            ReadOnlySpan<byte> value = bytes[row];
            if (value.Length > FixedRoom)
            {
                Room(4 + value.Length);
                room = _buffer.AsSpan(_length + 4);
            }
            value.CopyTo(room);
            written = value.Length;
        }
        else if (vector is WideVector wides)
        {
            if (wides.Type.Kind == FieldKind.Decimal) written = PgNumeric.Write(wides.Values[row], wides.Type.Scale, room);
            else
            {
                BinaryPrimitives.WriteInt128BigEndian(room, wides.Values[row]);
                written = 16;
            }
        }
        else
        {
            BinaryPrimitives.WriteDoubleBigEndian(room, ((DoubleVector)vector).Values[row]);
            written = 8;
        }
        BinaryPrimitives.WriteInt32BigEndian(_buffer.AsSpan(_length), written);
        _length += 4 + Math.Max(0, written);
    }

    private static int Write(FieldKind kind, long value, Span<byte> room)
    {
        switch (kind)
        {
            case FieldKind.Date:
                BinaryPrimitives.WriteInt32BigEndian(room, value switch
                {
                    Specials.Never => int.MaxValue,
                    Specials.Always => int.MinValue,
                    _ => (int)value - DaysTo2000
                });
                return 4;
            case FieldKind.Boolean:
                room[0] = (byte)value;
                return 1;
            default:
                BinaryPrimitives.WriteInt64BigEndian(room, kind == FieldKind.Timestamp && !Specials.Is(value) ? value - MicrosTo2000
                    : value);
                return 8;
        }
    }

    private void Room(int bytes)
    {
        if (_buffer.Length - _length < bytes) Array.Resize(ref _buffer,
            (int)Math.Min(Array.MaxLength, Math.Max(_length + (long)bytes, 2L * _buffer.Length)));
    }

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
