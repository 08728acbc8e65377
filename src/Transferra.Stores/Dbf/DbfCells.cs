// DbfCells.cs: reads the cells of one field that are written as nearly all are: text in ASCII, numbers with their point where the header
// says, dates of eight digits, logical values. What is written otherwise is left to DbfRecordReader, which knows every way.
// Why one field of many records at a time: what is to be done is then known before the first of them.
// Holds: (1) a cell that is read here is read as DbfRecordReader reads it alone; (2) what may be read in another way is not read here.
using System.Buffers.Binary;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal static class DbfCells
{
    // Those of the largest number that a long holds.
    private const int DigitsOfLong = 19;

    /// <summary>How the cells of a field are usually written.</summary>
    public enum Form { Other, Text, Whole, Decimal, Date, Logical }

    /// <summary>How the cells of a field are usually written, when they are to be of a type.</summary>
    public static Form FormOf(DbfField field, FieldType type) => field.NullBit >= 0 ? Form.Other : (field.Kind, type.Kind) switch
    {
        ('C', FieldKind.Text) when field.LengthBit < 0 => Form.Text,
        ('N' or 'F', FieldKind.Integer) when field.Decimals == 0 => Form.Whole,
        ('N' or 'F', FieldKind.Decimal) when field.Decimals == type.Scale => Form.Decimal,
        ('D', FieldKind.Date) when field.Length == sizeof(ulong) => Form.Date,
        ('L', FieldKind.Boolean) => Form.Logical,
        _ => Form.Other,
    };

    /// <summary>Reads the cells of some records up to the first that is written in another way.</summary>
    /// <param name="form">How they are usually written.</param>
    /// <param name="field">The field.</param>
    /// <param name="vector">Where they go.</param>
    /// <param name="blocks">The records.</param>
    /// <param name="rows">Which of them.</param>
    /// <returns>How many were read.</returns>
    public static int Read(Form form, DbfField field, Vector vector, DbfBlocks blocks, ReadOnlySpan<int> rows) => form switch
    {
        Form.Text => ReadTexts(field, (BytesVector)vector, blocks, rows),
        Form.Whole => ReadWholes(field, (LongVector)vector, blocks, rows),
        Form.Decimal => ReadDecimals(field, (WideVector)vector, blocks, rows),
        Form.Date => ReadDates(field, (LongVector)vector, blocks, rows),
        Form.Logical => ReadLogicals(field, (LongVector)vector, blocks, rows),
        _ => 0,
    };

    /// <summary>A text without the blanks, or as some programs write, zeros, that it is filled up with.</summary>
    public static ReadOnlySpan<byte> WithoutFilling(ReadOnlySpan<byte> raw)
    {
        if (raw.Length > 0 && raw[^1] == 0) raw = raw.TrimEnd((byte)0);
        return raw[..(raw.LastIndexOfAnyExcept((byte)' ') + 1)];
    }

    /// <summary>The day that eight digits name: year, month, day.</summary>
    public static bool TryDate(ReadOnlySpan<byte> raw, out long day)
    {
        day = 0;
        return ValueText.Digits(raw[..4], out int year) && ValueText.Digits(raw[4..6], out int month)
            && ValueText.Digits(raw[6..], out int dayOfMonth) && ValueText.TryDay(year, month, dayOfMonth, out day);
    }

    /// <summary>What a logical value's letter says: 1 for yes, 0 for no.</summary>
    public static bool TryLogical(byte mark, out long value)
    {
        value = mark is (byte)'T' or (byte)'t' or (byte)'Y' or (byte)'y' ? 1 : 0;
        return value == 1 || mark is (byte)'F' or (byte)'f' or (byte)'N' or (byte)'n';
    }

    private static int ReadTexts(DbfField field, BytesVector vector, DbfBlocks blocks, ReadOnlySpan<int> rows)
    {
        for (int i = 0; i < rows.Length; i++)
        {
            ReadOnlySpan<byte> text = WithoutFilling(blocks[rows[i]].Slice(field.Offset, field.Length));
            if (!Ascii.IsValid(text)) return i;
            vector.Append(text);
        }
        return rows.Length;
    }

    private static int ReadWholes(DbfField field, LongVector vector, DbfBlocks blocks, ReadOnlySpan<int> rows)
    {
        for (int i = 0; i < rows.Length; i++)
        {
            ReadOnlySpan<byte> raw = blocks[rows[i]].Slice(field.Offset, field.Length);
            if (!DecimalText.TryShort(raw.TrimStart((byte)' '), DigitsOfLong, 0, out long value)) return i;
            vector.Append(value);
        }
        return rows.Length;
    }

    private static int ReadDecimals(DbfField field, WideVector vector, DbfBlocks blocks, ReadOnlySpan<int> rows)
    {
        for (int i = 0; i < rows.Length; i++)
        {
            ReadOnlySpan<byte> raw = blocks[rows[i]].Slice(field.Offset, field.Length);
            if (!DecimalText.TryShort(raw.TrimStart((byte)' '), vector.Type.Precision, vector.Type.Scale, out long units)) return i;
            vector.Append(units);
        }
        return rows.Length;
    }

    private static int ReadDates(DbfField field, LongVector vector, DbfBlocks blocks, ReadOnlySpan<int> rows)
    {
        ulong known = 0; // dates come many records behind one another
        long day = 0;
        for (int i = 0; i < rows.Length; i++)
        {
            ReadOnlySpan<byte> raw = blocks[rows[i]].Slice(field.Offset, sizeof(ulong));
            ulong bytes = BinaryPrimitives.ReadUInt64LittleEndian(raw);
            if (bytes != known)
            {
                if (!TryDate(raw, out long found)) return i;
                (known, day) = (bytes, found);
            }
            vector.Append(day);
        }
        return rows.Length;
    }

    private static int ReadLogicals(DbfField field, LongVector vector, DbfBlocks blocks, ReadOnlySpan<int> rows)
    {
        for (int i = 0; i < rows.Length; i++)
        {
            if (!TryLogical(blocks[rows[i]][field.Offset], out long value)) return i;
            vector.Append(value);
        }
        return rows.Length;
    }
}
