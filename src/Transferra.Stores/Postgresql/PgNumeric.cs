// PgNumeric.cs: exact decimals in PostgreSQL's binary form: groups of four decimal digits, the most significant first.
// Source: numeric_send and numeric_recv of the server; the layout is int16 groups, int16 weight of the first group, int16 sign, int16
// scale shown, then the groups as int16 each, all big-endian.
// Holds: (1) read exactly or not at all; (2) what Write writes, TryRead reads back.
using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

internal static class PgNumeric
{
    private const int Header = 8, GroupBase = 10_000, GroupDigits = 4;
    private const int SmallDigits = 18;
    private static readonly int[] SmallPowers = [1, 10, 100, 1000, GroupBase];
    private static readonly long[] LongPowers = [.. Enumerable.Range(0, SmallDigits + 1)
        .Select(exponent => (long)DecimalText.PowerOfTen(exponent))];
    private const ushort Positive = 0, Negative = 0x4000, NaN = 0xC000, Infinity = 0xD000, MinusInfinity = 0xF000;

    /// <summary>Most bytes that Write needs.</summary>
    public const int MostBytes = Header + 2 * 11;

    /// <summary>Reads a value into units of 10^-scale.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    public static FaultCode? TryRead(ReadOnlySpan<byte> value, int scale, int precision, out Int128 units)
    {
        units = 0;
        int groups = BinaryPrimitives.ReadInt16BigEndian(value), weight = BinaryPrimitives.ReadInt16BigEndian(value[2..]);
        ushort sign = BinaryPrimitives.ReadUInt16BigEndian(value[4..]);
        if (sign is not (Positive or Negative))
        {
            units = sign switch { NaN => Specials.NaN, Infinity => Specials.Infinity, _ => Specials.MinusInfinity };
            return null;
        }
        if (groups == 0) return null;
        // Of the last group, which is never zero, only the first digits count when it reaches past the scale; the others must be zeros.
        int exponent = GroupDigits * (weight - groups + 1) + scale, past = Math.Max(0, -exponent), last = Group(value, groups - 1);
        if (past >= GroupDigits) return FaultCode.NeedsRounding;
        (last, int rest) = Math.DivRem(last, SmallPowers[past]);
        if (rest != 0) return FaultCode.NeedsRounding;
        Int128 whole = 0;
        if (groups <= 4)
        {
            long small = 0;
            for (int i = 0; i < groups - 1; i++) small = small * GroupBase + Group(value, i);
            small = small * SmallPowers[GroupDigits - past] + last;
            // Sixteen digits at most: nearly every amount there is, and done without 128-bit arithmetic.
            if (exponent <= 0 && precision <= SmallDigits)
            {
                if (small >= LongPowers[precision]) return FaultCode.OutOfRange;
                units = sign == Negative ? -small : small;
                return null;
            }
            whole = small;
        }
        else
        {
            for (int i = 0; i < groups - 1; i++)
            {
                if (whole > (Int128.MaxValue - GroupBase) / GroupBase) return FaultCode.OutOfRange;
                whole = whole * GroupBase + Group(value, i);
            }
            if (whole > (Int128.MaxValue - GroupBase) / SmallPowers[GroupDigits - past]) return FaultCode.OutOfRange;
            whole = whole * SmallPowers[GroupDigits - past] + last;
        }
        if (exponent > 0)
        {
            if (exponent > FieldType.MaxPrecision
                || whole > Int128.MaxValue / DecimalText.PowerOfTen(exponent)) return FaultCode.OutOfRange;
            whole *= DecimalText.PowerOfTen(exponent);
        }
        if (!DecimalText.Fits(whole, precision)) return FaultCode.OutOfRange;
        units = sign == Negative ? -whole : whole;
        return null;
    }

    private static int Group(ReadOnlySpan<byte> value, int index) => BinaryPrimitives.ReadInt16BigEndian(value[(Header + 2 * index)..]);

    /// <summary>Writes a value; <paramref name="room"/> has <see cref="MostBytes"/>.</summary>
    /// <returns>Bytes written.</returns>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    public static int Write(Int128 units, int scale, Span<byte> room)
    {
        if (Specials.Is(units))
        {
            BinaryPrimitives.WriteUInt64BigEndian(room, (ulong)(units == Specials.NaN ? NaN : units == Specials.Infinity ? Infinity
                : MinusInfinity) << 16);
            return Header;
        }
        bool negative = units < 0;
        UInt128 rest = negative ? (UInt128)(-units) : (UInt128)units;
        Span<short> groups = stackalloc short[12];
        int count = 0, fractionGroups = (scale + GroupDigits - 1) / GroupDigits, partial = scale % GroupDigits;
        if (partial > 0 && rest <= ulong.MaxValue)
        {
            // The last group behind the point is filled up with zeros to four digits.
            (ulong quotient, ulong remainder) = Math.DivRem((ulong)rest, (ulong)SmallPowers[partial]);
            groups[count++] = (short)((int)remainder * SmallPowers[GroupDigits - partial]);
            rest = quotient;
        }
        else if (partial > 0)
        {
            uint cut = (uint)SmallPowers[partial];
            groups[count++] = (short)((int)(rest % cut) * SmallPowers[GroupDigits - partial]);
            rest /= cut;
        }
        while (rest > ulong.MaxValue)
        {
            groups[count++] = (short)(rest % GroupBase);
            rest /= GroupBase;
        }
        for (ulong small = (ulong)rest; small > 0; small /= GroupBase) groups[count++] = (short)(small % GroupBase);
        int weight = count - fractionGroups - 1, first = 0;
        while (count > first && groups[count - 1] == 0) { count--; weight--; }
        while (first < count && groups[first] == 0) first++;
        int written = count - first;
        BinaryPrimitives.WriteInt16BigEndian(room, (short)written);
        BinaryPrimitives.WriteInt16BigEndian(room[2..], (short)(written == 0 ? 0 : weight));
        BinaryPrimitives.WriteUInt16BigEndian(room[4..], negative ? Negative : Positive);
        BinaryPrimitives.WriteInt16BigEndian(room[6..], (short)scale);
        for (int i = 0; i < written; i++) BinaryPrimitives.WriteInt16BigEndian(room[(Header + 2 * i)..], groups[count - 1 - i]);
        return Header + 2 * written;
    }
}
