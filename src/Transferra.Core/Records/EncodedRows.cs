// EncodedRows.cs: the canonical bytes of many rows at a time (docs/fingerprints.md), one column after the other.
// Why not row by row: a call for every cell costs several times what the writing of it does, and matches encode every cell of two stores.
// Holds: (1) the bytes are those that RowEncoder gives for each row; (2) at most MostRows rows and, but for a single row that is longer,
// MostBytes bytes are held at a time.
using System.Buffers.Binary;

namespace Transferra.Core.Records;

/// <summary>Encodes rows; reused from one block of rows to the next.</summary>
internal sealed class EncodedRows
{
    /// <summary>Most rows that are encoded at a time.</summary>
    public const int MostRows = 256;

    private const int MostBytes = 1 << 18;

    private readonly int[] _ends = new int[MostRows], _at = new int[MostRows];
    private byte[] _bytes = new byte[1 << 12];

    /// <summary>The bytes of a row of the block; valid until the next one.</summary>
    public ReadOnlySpan<byte> this[int row]
    {
        get
        {
            int start = row == 0 ? 0 : _ends[row - 1];
            return _bytes.AsSpan(start, _ends[row] - start);
        }
    }

    /// <summary>Encodes as many rows as fit.</summary>
    /// <param name="vectors">The columns.</param>
    /// <param name="rows">Row numbers.</param>
    /// <returns>How many of them were encoded, at least one.</returns>
    public int Encode(ReadOnlySpan<Vector> vectors, ReadOnlySpan<int> rows)
    {
        rows = rows[..Math.Min(rows.Length, MostRows)];
        Span<int> lengths = _at.AsSpan(0, rows.Length);
        lengths.Clear();
        foreach (Vector vector in vectors) AddLengths(vector, rows, lengths);
        int count = 0, end = 0;
        for (; count < rows.Length && (count == 0 || end + lengths[count] <= MostBytes); count++)
        {
            end = checked(end + lengths[count]);
            _ends[count] = end;
        }
        if (_bytes.Length < end) _bytes = new byte[Math.Max(end, Math.Min(MostBytes, _bytes.Length * 2))];
        for (int i = count - 1; i > 0; i--) _at[i] = _ends[i - 1];
        _at[0] = 0;
        foreach (Vector vector in vectors) Write(vector, rows[..count], _at.AsSpan(0, count), _bytes);
        return count;
    }

    private static void AddLengths(Vector vector, ReadOnlySpan<int> rows, Span<int> lengths)
    {
        switch (vector)
        {
            case BytesVector bytes: AddLengths(bytes, rows, lengths); break;
            case WideVector { Type.Kind: FieldKind.Decimal } decimals: AddLengths(decimals, rows, lengths); break;
            default:
                int length = vector is WideVector ? 17 : 9;
                for (int i = 0; i < rows.Length; i++) lengths[i] += vector.IsNull(rows[i]) ? 1 : length;
                break;
        }
    }

    private static void AddLengths(BytesVector vector, ReadOnlySpan<int> rows, Span<int> lengths)
    {
        bool isAny = vector.Type.Kind == FieldKind.Any;
        ReadOnlySpan<int> ends = vector.Ends;
        ReadOnlySpan<byte> all = vector.AllBytes;
        for (int i = 0; i < rows.Length; i++)
        {
            int row = rows[i], start = row == 0 ? 0 : ends[row - 1];
            lengths[i] = checked(lengths[i] + (vector.IsNull(row) ? 1
                : 5 + ends[row] - start - (isAny && all[start] == AnyValue.Text ? 1 : 0)));
        }
    }

    private static void AddLengths(WideVector vector, ReadOnlySpan<int> rows, Span<int> lengths)
    {
        ReadOnlySpan<Int128> values = vector.Values;
        for (int i = 0; i < rows.Length; i++)
            lengths[i] += vector.IsNull(rows[i]) ? 1 : Specials.Is(values[rows[i]]) ? 2 : 18;
    }

    private static void Write(Vector vector, ReadOnlySpan<int> rows, Span<int> at, Span<byte> into)
    {
        switch (vector)
        {
            case LongVector longs: Write(longs, rows, at, into); break;
            case BytesVector bytes: Write(bytes, rows, at, into); break;
            default:
                var one = new CanonicalWriter();
                for (int i = 0; i < rows.Length; i++)
                {
                    one.Clear();
                    vector.Encode(rows[i], one);
                    one.Written.CopyTo(into[at[i]..]);
                    at[i] += one.Written.Length;
                }
                break;
        }
    }

    private static void Write(LongVector vector, ReadOnlySpan<int> rows, Span<int> at, Span<byte> into)
    {
        ReadOnlySpan<long> values = vector.Values;
        for (int i = 0; i < rows.Length; i++)
        {
            Span<byte> room = into[at[i]..];
            if (vector.IsNull(rows[i]))
            {
                room[0] = 0;
                at[i]++;
                continue;
            }
            room[0] = 1;
            BinaryPrimitives.WriteInt64LittleEndian(room[1..], values[rows[i]]);
            at[i] += 9;
        }
    }

    private static void Write(BytesVector vector, ReadOnlySpan<int> rows, Span<int> at, Span<byte> into)
    {
        bool isAny = vector.Type.Kind == FieldKind.Any;
        ReadOnlySpan<int> ends = vector.Ends;
        ReadOnlySpan<byte> all = vector.AllBytes;
        for (int i = 0; i < rows.Length; i++)
        {
            int row = rows[i], to = at[i];
            if (vector.IsNull(row))
            {
                into[to] = 0;
                at[i] = to + 1;
                continue;
            }
            int start = row == 0 ? 0 : ends[row - 1], length = ends[row] - start;
            byte kind = 4;
            if (isAny)
            {
                if (all[start] == AnyValue.Text) (start, length) = (start + 1, length - 1);
                else kind = 6;
            }
            into[to] = kind;
            BinaryPrimitives.WriteInt32LittleEndian(into[(to + 1)..], length);
            to += 5;
            all.Slice(start, length).CopyTo(into[to..]);
            at[i] = to + length;
        }
    }
}
