// SqliteFields.cs: where the values of a record or of an entry of an index lie in it, and how the engine would order them.
// Source: "The SQLite Database File Format", section 2.1 (record format); "Datatypes In SQLite", sections 4.1 (sort order) and 7 (collating
// sequences).
// Holds: (1) a record whose header and values do not fill it exactly is refused; (2) two values compare as they do for the engine, whole
// numbers and floating-point ones exactly.
using System.Buffers.Binary;

namespace Transferra.Stores.Sqlite;

/// <summary>How texts of an indexed column are compared.</summary>
internal enum SqliteCollation { Binary, NoCase, RightTrim }

/// <summary>The fields of one record after the other; used by one thread at a time.</summary>
internal sealed class SqliteFields
{
    private const int Real = 7, FirstOfBytes = 12;

    // How the engine orders values of different kinds.
    private enum Class { Null, Number, Text, Blob }

    private struct Field
    {
        public int Kind, At, Bytes;
    }

    private Field[] _fields = new Field[16];

    /// <summary>How many there are.</summary>
    public int Count { get; private set; }

    /// <summary>Where the last of the first so many ends.</summary>
    public int EndOf(int field) => _fields[field].At + _fields[field].Bytes;

    /// <summary>Whether a field has no value.</summary>
    public bool IsNull(int field) => _fields[field].Kind == 0;

    /// <summary>Takes up a record.</summary>
    /// <param name="record">Header and values; of one that goes on elsewhere, its beginning with all of the header.</param>
    /// <param name="bytes">Of the whole record.</param>
    public bool TryTake(ReadOnlySpan<byte> record, long bytes)
    {
        Count = 0;
        ReadOnlySpan<byte> rest = record;
        if (!SqliteBtreePages.TryVarint(ref rest, out long header) || header > record.Length
            || header < record.Length - rest.Length) return false;
        rest = record[(record.Length - rest.Length)..(int)header];
        long at = header;
        while (rest.Length > 0)
        {
            if (!SqliteBtreePages.TryVarint(ref rest, out long kind) || kind < 0
                || SqliteRecordDecoder.BytesOf(kind) is not (>= 0 and var length)) return false;
            if (Count == _fields.Length) Array.Resize(ref _fields, 2 * Count);
            _fields[Count++] = new Field { Kind = (int)kind, At = (int)at, Bytes = length };
            at += length;
            if (at > bytes) return false;
        }
        return at == bytes;
    }

    /// <summary>Compares a field with one of another record.</summary>
    /// <param name="record">Whose fields these are.</param>
    /// <param name="field">Which of them.</param>
    /// <param name="others">The other record's fields.</param>
    /// <param name="other">The other record.</param>
    /// <param name="collation">Of texts.</param>
    /// <returns>Below zero, zero, above zero: less than the other one's, equal, more.</returns>
    public int Compare(ReadOnlySpan<byte> record, int field, SqliteFields others, ReadOnlySpan<byte> other, SqliteCollation collation)
    {
        ref readonly Field left = ref _fields[field], right = ref others._fields[field];
        Class kind = ClassOf(left.Kind), than = ClassOf(right.Kind);
        if (kind != than) return kind - than;
        if (kind == Class.Null) return 0;
        if (kind == Class.Number)
            return left.Kind != Real && right.Kind != Real ? WholeOf(record, left).CompareTo(WholeOf(other, right))
                : left.Kind == Real && right.Kind == Real ? RealOf(record, left).CompareTo(RealOf(other, right))
                : left.Kind == Real ? -Compare(WholeOf(other, right), RealOf(record, left))
                : Compare(WholeOf(record, left), RealOf(other, right));
        ReadOnlySpan<byte> text = record.Slice(left.At, left.Bytes), with = other.Slice(right.At, right.Bytes);
        return kind == Class.Blob || collation == SqliteCollation.Binary ? text.SequenceCompareTo(with)
            : collation == SqliteCollation.RightTrim ? text.TrimEnd((byte)' ').SequenceCompareTo(with.TrimEnd((byte)' '))
            : CompareNoCase(text, with);
    }

    private static Class ClassOf(int kind) => kind >= FirstOfBytes ? ((kind & 1) == 1 ? Class.Text : Class.Blob)
        : kind == 0 ? Class.Null : Class.Number;

    // Letters of ASCII only, and nothing behind a NUL, as the engine's own function has it.
    private static int CompareNoCase(ReadOnlySpan<byte> text, ReadOnlySpan<byte> with)
    {
        for (int i = 0; i < text.Length && i < with.Length; i++)
        {
            int difference = Folded(text[i]) - Folded(with[i]);
            if (difference != 0) return difference;
            if (text[i] == 0) break;
        }
        return text.Length - with.Length;
    }

    private static int Folded(byte letter) => letter is >= (byte)'A' and <= (byte)'Z' ? letter + 32 : letter;

    private static int Compare(long whole, double real)
    {
        if (Whole(real) is { } same) return whole.CompareTo(same);
        if (Math.Abs(real) >= TwoTo63) return real > 0 ? -1 : 1;
        return whole <= (long)Math.Floor(real) ? -1 : 1;
    }

    private const double TwoTo63 = 9223372036854775808.0;

    // The whole number that a floating-point one is; null where it is none.
    private static long? Whole(double real) => real == Math.Floor(real) && real is >= -TwoTo63 and < TwoTo63 ? (long)real : null;

    private static long WholeOf(ReadOnlySpan<byte> record, in Field field) =>
        SqliteRecordDecoder.WholeOf(field.Kind, record, field.At + field.Bytes, field.Bytes);

    private static double RealOf(ReadOnlySpan<byte> record, in Field field) =>
        BinaryPrimitives.ReadDoubleBigEndian(record.Slice(field.At, field.Bytes));

    /// <summary>Adds a field to a key: bytes that are the same for values that are equal to the engine, however they are stored, but for
    /// texts, which have to be the same.</summary>
    /// <param name="record">Whose fields these are.</param>
    /// <param name="field">Which of them.</param>
    /// <param name="key">Gets it.</param>
    /// <returns>False for what the engine never stores.</returns>
    public bool TryAddTo(SqliteKeyBytes key, ReadOnlySpan<byte> record, int field)
    {
        ref readonly Field one = ref _fields[field];
        switch (ClassOf(one.Kind))
        {
            case Class.Null: key.AddNull(); break;
            case Class.Number when one.Kind == Real:
                double real = RealOf(record, one);
                if (double.IsNaN(real)) return false;
                if (Whole(real) is { } whole) key.Add(whole);
                else key.Add(real);
                break;
            case Class.Number: key.Add(WholeOf(record, one)); break;
            case var kind: key.Add(record.Slice(one.At, one.Bytes), isText: kind == Class.Text); break;
        }
        return true;
    }
}
