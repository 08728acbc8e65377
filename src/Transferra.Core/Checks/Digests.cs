// Digests.cs: digests of values, by which keys, links and groups are told apart without keeping the values.
// Why 64 bits: of ten million different keys, two share a digest in one of 370,000 tables (n squared over 2 to the 65th); a record that is
// reported for it is there to be looked at, and none is ever passed over for it.
// Why not the canonical bytes of docs/fingerprints.md: these digests never leave the process, and are computed for every record several
// times.
// Holds: equal values of one kind give equal digests whatever table, engine or scale they come from.
using System.Buffers.Binary;
using System.IO.Hashing;
using System.Runtime.CompilerServices;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Digests of single values and of several.</summary>
internal static class Digest
{
    // Odd numbers with well spread bits: those of the fractional parts of the square roots of 2, 3 and 5.
    private const ulong First = 0x6A09E667F3BCC909, Second = 0xBB67AE8584CAA73B, Third = 0x3C6EF372FE94F82B;

    [ThreadStatic]
    private static CanonicalWriter? _bytes;

    /// <summary>The two halves of a product, folded: every bit of the result depends on every bit of both.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static ulong Fold(ulong a, ulong b)
    {
        ulong high = Math.BigMul(a, b, out ulong low);
        return high ^ low;
    }

    /// <summary>The digest of a value; of a missing one a value of its own.</summary>
    public static ulong Of(Vector vector, int row)
    {
        if (vector.IsNull(row)) return Third;
        switch (vector)
        {
            case LongVector longs: return OfWhole(longs.Values[row]);
            case BytesVector bytes: return OfBytes(bytes[row]);
            case WideVector { Type.Kind: FieldKind.Decimal } wides when Whole(wides.Values[row], wides.Type.Scale) is { } whole:
                return OfWhole(whole);
            default:
                CanonicalWriter writer = _bytes ??= new CanonicalWriter();
                writer.Clear();
                vector.Encode(row, writer);
                return XxHash3.HashToUInt64(writer.Written);
        }
    }

    /// <summary>The digests of all rows of a vector.</summary>
    /// <param name="vector">The vector.</param>
    /// <param name="into">As many as it has rows.</param>
    public static void OfAll(Vector vector, Span<ulong> into)
    {
        switch (vector)
        {
            case LongVector longs:
                ReadOnlySpan<long> values = longs.Values;
                for (int row = 0; row < into.Length; row++) into[row] = OfWhole(values[row]);
                break;
            case BytesVector bytes:
                ReadOnlySpan<byte> all = bytes.AllBytes;
                ReadOnlySpan<int> ends = bytes.Ends;
                for (int row = 0, start = 0; row < into.Length; start = ends[row++]) into[row] = OfBytes(all[start..ends[row]]);
                break;
            default:
                for (int row = 0; row < into.Length; row++) into[row] = Of(vector, row);
                return;
        }
        if (!vector.HasNull) return;
        for (int row = 0; row < into.Length; row++)
            if (vector.IsNull(row)) into[row] = Third;
    }

    /// <summary>The digest of a whole number.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static ulong OfWhole(long value) => Fold((ulong)value ^ First, Second) ^ Third;

    /// <summary>The digest of a text or a binary value.</summary>
    // Most that are looked at so are short: two words that overlap hold all of them, and the length tells which bytes they are.
    public static ulong OfBytes(ReadOnlySpan<byte> bytes)
    {
        int length = bytes.Length;
        ulong begin, end;
        if (length > 2 * sizeof(ulong)) return XxHash3.HashToUInt64(bytes);
        if (length >= sizeof(ulong))
        {
            begin = BinaryPrimitives.ReadUInt64LittleEndian(bytes);
            end = BinaryPrimitives.ReadUInt64LittleEndian(bytes[^sizeof(ulong)..]);
        }
        else if (length >= sizeof(uint))
        {
            begin = BinaryPrimitives.ReadUInt32LittleEndian(bytes);
            end = BinaryPrimitives.ReadUInt32LittleEndian(bytes[^sizeof(uint)..]);
        }
        else (begin, end) = length == 0 ? (0UL, 0UL) : (bytes[0] | (ulong)bytes[length >> 1] << 8 | (ulong)bytes[^1] << 16, 0UL);
        return Fold(Fold(begin ^ First, end ^ Second) ^ (ulong)length, Third);
    }

    // A decimal that is a whole number is the same as that number in a column of whole ones.
    private static long? Whole(Int128 units, int scale)
    {
        for (; scale > 0; scale--)
        {
            if (units % 10 != 0) return null;
            units /= 10;
        }
        return units >= long.MinValue && units <= long.MaxValue ? (long)units : null;
    }

    /// <summary>The digest of a value behind others, from the digest of those.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static ulong And(ulong before, Vector vector, int row) => And(before, Of(vector, row));

    /// <summary>The digest of a value behind others, from the digests of both.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public static ulong And(ulong before, ulong digest) => Fold(before ^ Second, digest ^ First);

    /// <summary>The digests of several values of each row, from those of each value.</summary>
    /// <param name="columns">Those of a column each.</param>
    /// <param name="rows">How many rows.</param>
    /// <param name="room">Where they go; made anew when it is too small.</param>
    public static ulong[] Together(ulong[][] columns, int rows, ref ulong[] room)
    {
        if (room.Length < rows) room = new ulong[rows];
        Span<ulong> together = room.AsSpan(0, rows);
        if (columns.Length == 0) together.Clear();
        else columns[0].AsSpan(0, rows).CopyTo(together);
        for (int i = 1; i < columns.Length; i++)
        {
            ReadOnlySpan<ulong> next = columns[i].AsSpan(0, rows);
            for (int row = 0; row < together.Length; row++) together[row] = And(together[row], next[row]);
        }
        return room;
    }
}

/// <summary>The digest of some columns of a row.</summary>
internal sealed class RowDigest(int[] ordinals)
{
    /// <summary>The digest of a row's values.</summary>
    public ulong Of(RecordBatch batch, int row)
    {
        if (ordinals.Length == 0) return 0;
        ulong digest = Digest.Of(batch.Vectors[ordinals[0]], row);
        for (int i = 1; i < ordinals.Length; i++) digest = Digest.And(digest, batch.Vectors[ordinals[i]], row);
        return digest;
    }

    /// <summary>Whether the row has a value in each of the columns.</summary>
    public bool IsWhole(RecordBatch batch, int row)
    {
        foreach (int ordinal in ordinals)
            if (batch.Vectors[ordinal].IsNull(row)) return false;
        return true;
    }
}

/// <summary>The digest of some computed values of a row.</summary>
internal static class ValueDigest
{
    public static ulong Of(ReadOnlySpan<Vector> values, int row)
    {
        if (values.Length == 0) return 0;
        ulong digest = Digest.Of(values[0], row);
        for (int i = 1; i < values.Length; i++) digest = Digest.And(digest, values[i], row);
        return digest;
    }
}
