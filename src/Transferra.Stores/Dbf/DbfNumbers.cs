// DbfNumbers.cs: how wide the numbers of a table really are. Programs write what fits into the bytes of a field: an exponent, more
// decimals than declared, whole numbers where decimals were meant; each is a number, and the type has to be wide enough for all of them.
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

/// <summary>Looks at the numeric fields of records as they pass.</summary>
internal sealed class DbfNumbers(DbfHeader header)
{
    private readonly (DbfField Field, int Index)[] _fields = [.. header.Fields.Select((field, index) => (field, index))
        .Where(entry => entry.field.Kind is 'N' or 'F')];
    private readonly (int Whole, int Scale)[] _most = new (int, int)[header.Fields.Count];

    /// <summary>Whether there are any.</summary>
    public bool HasAny => _fields.Length > 0;

    /// <summary>Looks at records.</summary>
    public void See(DbfBlocks blocks)
    {
        foreach ((DbfField field, int index) in _fields)
        {
            // Nearly all numbers have their point, if any, where the header says.
            int point = field.Length - field.Decimals - 1;
            for (int row = 0; row < blocks.Count; row++)
            {
                if (blocks[row][0] == DbfRecordReader.Deleted) continue;
                ReadOnlySpan<byte> raw = blocks[row].Slice(field.Offset, field.Length);
                if (field.Decimals > 0 ? point >= 0 && raw[point] == '.' && !HasAnExponent(raw)
                    : raw.IndexOf((byte)'.') < 0 && !HasAnExponent(raw)) continue;
                if (Width(raw) is not { } width) continue;
                _most[index] = (Math.Max(_most[index].Whole, width.Whole), Math.Max(_most[index].Scale, width.Scale));
            }
        }
    }

    // Of what numbers are written with, only the letter of an exponent has this bit.
    private static bool HasAnExponent(ReadOnlySpan<byte> raw)
    {
        const byte letters = 0x40;
        byte all = 0;
        foreach (byte one in raw) all |= one;
        return (all & letters) != 0;
    }

    /// <summary>The type that holds all of a field's values; as declared where they fit, or where no type holds them.</summary>
    public FieldType TypeOf(int index)
    {
        DbfField field = header.Fields[index];
        FieldType declared = field.TypeIn(header.Level);
        (int whole, int scale) = _most[index];
        int declaredScale = declared.Kind == FieldKind.Decimal ? declared.Scale : 0, declaredWhole = declared.Kind == FieldKind.Decimal
            ? declared.Precision - declared.Scale : field.Length;
        if (whole <= declaredWhole && scale <= declaredScale) return declared;
        scale = Math.Max(scale, declaredScale);
        // A whole field is declared by its bytes, of which numbers with a point do not have that many digits before it.
        whole = Math.Max(whole, declared.Kind == FieldKind.Decimal ? declaredWhole : scale > 0 ? Math.Min(declaredWhole,
            FieldType.MaxPrecision - scale) : declaredWhole);
        return whole + scale > FieldType.MaxPrecision ? declared : scale == 0 && whole <= 18 ? FieldType.Integer
            : FieldType.Decimal(whole + scale, scale);
    }

    // Digits before and behind the point that a number needs; null when it is none, or beyond all reason.
    private static (int Whole, int Scale)? Width(ReadOnlySpan<byte> raw)
    {
        const int furthest = 60;
        ReadOnlySpan<byte> text = raw.Trim((byte)' ').Trim((byte)0);
        if (text.Length > 0 && text[0] is (byte)'-' or (byte)'+') text = text[1..];
        int exponent = 0, mark = text.IndexOfAny((byte)'e', (byte)'E');
        if (mark >= 0)
        {
            if (!System.Buffers.Text.Utf8Parser.TryParse(text[(mark + 1)..], out exponent, out int used) || used != text.Length - mark - 1
                || Math.Abs(exponent) > furthest) return null;
            text = text[..mark];
        }
        int point = text.IndexOf((byte)'.');
        ReadOnlySpan<byte> whole = (point < 0 ? text : text[..point]).TrimStart((byte)'0'),
            fraction = (point < 0 ? [] : text[(point + 1)..]).TrimEnd((byte)'0');
        if (whole.ContainsAnyExceptInRange((byte)'0', (byte)'9') || fraction.ContainsAnyExceptInRange((byte)'0', (byte)'9')) return null;
        int trailing = fraction.Length > 0 ? 0 : whole.Length - whole.TrimEnd((byte)'0').Length;
        return (Math.Max(0, whole.Length + exponent), Math.Max(0, fraction.Length - trailing - exponent));
    }
}
