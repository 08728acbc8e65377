// CanonicalWriter.cs: the one encoding of values that fingerprints are computed from; layout in docs/fingerprints.md.
// Holds: (1) equal values give equal bytes on every engine: 1.50 and 1.5 do; (2) no two different rows of the same shape
//        give the same bytes: every value carries its own length or is of fixed length.
using System.Buffers.Binary;

namespace Transferra.Core.Records;

/// <summary>Collects the canonical bytes of one row; reused from row to row.</summary>
public sealed class CanonicalWriter
{
    private byte[] _bytes = new byte[256];
    private int _length;

    /// <summary>The bytes so far; valid until the next call.</summary>
    public ReadOnlySpan<byte> Written => _bytes.AsSpan(0, _length);

    /// <summary>Starts a new row.</summary>
    public void Clear() => _length = 0;

    /// <summary>Adds a missing value.</summary>
    public void Null() => Room(1)[0] = 0;

    /// <summary>Adds a whole number, a day, a time or a boolean.</summary>
    public void Long(long value)
    {
        Span<byte> room = Room(9);
        room[0] = 1;
        BinaryPrimitives.WriteInt64LittleEndian(room[1..], value);
    }

    /// <summary>Adds a 128-bit value as it is.</summary>
    public void Wide(Int128 value)
    {
        Span<byte> room = Room(17);
        room[0] = 2;
        BinaryPrimitives.WriteInt128LittleEndian(room[1..], value);
    }

    /// <summary>Adds an exact decimal without its trailing zeros, so that the declared scale does not matter.</summary>
    public void Decimal(Int128 units, int scale)
    {
        if (Specials.Is(units))
        {
            Span<byte> special = Room(2);
            special[0] = 5;
            special[1] = (byte)(units == Specials.NaN ? 0 : units == Specials.Infinity ? 1 : 2);
            return;
        }
        if (units >= long.MinValue && units <= long.MaxValue)
        {
            long small = (long)units;
            if (small == 0) scale = 0;
            while (scale > 0 && small % 10 == 0) { small /= 10; scale--; }
            units = small;
        }
        else
        {
            while (scale > 0 && units % 10 == 0) { units /= 10; scale--; }
        }
        Span<byte> room = Room(18);
        room[0] = 3;
        room[1] = (byte)scale;
        BinaryPrimitives.WriteInt128LittleEndian(room[2..], units);
    }

    /// <summary>Adds text or binary: length, then bytes.</summary>
    public void Bytes(ReadOnlySpan<byte> value)
    {
        Span<byte> room = Room(5 + value.Length);
        room[0] = 4;
        BinaryPrimitives.WriteInt32LittleEndian(room[1..], value.Length);
        value.CopyTo(room[5..]);
    }

    /// <summary>Adds a value of a column of several kinds that is no text: length, then the form of <see cref="AnyValue"/>.</summary>
    public void Any(ReadOnlySpan<byte> value)
    {
        Span<byte> room = Room(5 + value.Length);
        room[0] = 6;
        BinaryPrimitives.WriteInt32LittleEndian(room[1..], value.Length);
        value.CopyTo(room[5..]);
    }

    private Span<byte> Room(int bytes)
    {
        if (_bytes.Length - _length < bytes) Array.Resize(ref _bytes, Math.Max(_length + bytes, _bytes.Length * 2));
        Span<byte> room = _bytes.AsSpan(_length, bytes);
        _length += bytes;
        return room;
    }
}
