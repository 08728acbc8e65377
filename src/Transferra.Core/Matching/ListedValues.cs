// ListedValues.cs: the values of a difference as they are listed: whole, or of long ones the part in which they differ.
// Why: a picture or a long note would fill a screen, a cell of a workbook and the memory, and show nothing.
// Holds: (1) what is listed of a value is never longer than MostShown bytes of a text or MostOfBinary of others, and a few words;
//        (2) of two long values both are shown from the same place, a little before the first difference, and whole characters only.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Shows values of one record on two sides.</summary>
internal static class ListedValues
{
    /// <summary>Bytes of a text, and of a binary value, that is listed whole.</summary>
    public const int MostShown = 500, MostOfBinary = 64;

    /// <summary>Bytes that are listed of a longer text.</summary>
    public const int OfALongOne = 200;

    private const int Before = 20;

    /// <summary>The value of a column on both sides.</summary>
    public static (string Was, string Now) Pair(ComparedRow wanted, ComparedRow real, int column)
    {
        if (!IsLong(wanted, column) && !IsLong(real, column)) return (One(wanted, column), One(real, column));
        int from = 0;
        if (Bytes(wanted, column) is { IsEmpty: false } was && Bytes(real, column) is { IsEmpty: false } now)
            from = Math.Max(0, was.CommonPrefixLength(now) - Before);
        return (Long(wanted, column, from), Long(real, column, from));
    }

    /// <summary>The value of a column on one side; "(no value)" for none.</summary>
    public static string One(ComparedRow side, int column) => side.Batch.Vectors[column].IsNull(side.Row) ? "(no value)"
        : IsLong(side, column) ? Part(side, column, 0) : side.Batch.Show(side.Row, column);

    /// <summary>All values of a record.</summary>
    public static string Row(ComparedRow side) => string.Join(" | ", Enumerable.Range(0, side.Batch.Vectors.Length)
        .Select(column => side.Batch.Vectors[column].IsNull(side.Row) ? "" : One(side, column)));

    /// <summary>From which character on, counted from 1, two texts of a column differ.</summary>
    public static int? Place(ComparedRow wanted, ComparedRow real, int column)
    {
        if (wanted.Batch.Vectors[column] is not BytesVector { Type.Kind: FieldKind.Text or FieldKind.Any } was
            || wanted.Batch.Columns[column].IsPrivate || IsBlob(was, wanted.Row)
            || real.Batch.Vectors[column] is not BytesVector now) return null;
        ReadOnlySpan<byte> before = was[wanted.Row], after = now[real.Row];
        int same = Whole(before, before.CommonPrefixLength(after));
        return Encoding.UTF8.GetCharCount(Text(was, before[..same])) + 1;
    }

    private static bool IsBlob(BytesVector vector, int row) => vector.Type.Kind == FieldKind.Binary
        || (vector.Type.Kind == FieldKind.Any && vector[row] is [AnyValue.Blob, ..]);

    private static ReadOnlySpan<byte> Text(BytesVector vector, ReadOnlySpan<byte> value) =>
        vector.Type.Kind == FieldKind.Any && value.Length > 0 ? value[1..] : value;

    private static ReadOnlySpan<byte> Bytes(ComparedRow side, int column) => side.Batch.Vectors[column] is BytesVector vector
        && !vector.IsNull(side.Row) ? Text(vector, vector[side.Row]) : default;

    private static bool IsLong(ComparedRow side, int column) => !side.Batch.Columns[column].IsPrivate
        && Bytes(side, column) is { IsEmpty: false } bytes && bytes.Length > MostOf(side, column);

    private static int MostOf(ComparedRow side, int column) => IsBlob((BytesVector)side.Batch.Vectors[column], side.Row) ? MostOfBinary
        : MostShown;

    // Beside a long value a short one is shown whole, unless the difference is behind its beginning.
    private static string Long(ComparedRow side, int column, int from) => IsLong(side, column) || from > 0 ? Part(side, column, from)
        : One(side, column);

    private static string Part(ComparedRow side, int column, int from)
    {
        var vector = (BytesVector)side.Batch.Vectors[column];
        ReadOnlySpan<byte> all = Bytes(side, column);
        bool isBlob = IsBlob(vector, side.Row);
        from = isBlob ? Math.Min(from, all.Length) : Whole(all, Math.Min(from, all.Length));
        ReadOnlySpan<byte> part = all[from..];
        part = part[..(isBlob ? Math.Min(part.Length, MostOfBinary) : Whole(part, Math.Min(part.Length, OfALongOne)))];
        long length = isBlob ? all.Length : Encoding.UTF8.GetCharCount(all), at = isBlob ? from : Encoding.UTF8.GetCharCount(all[..from]);
        string unit = isBlob ? "byte" : "character";
        return string.Create(CultureInfo.InvariantCulture, $"({length:#,0} {unit}s, from {unit} {at + 1:#,0}:) {(isBlob
            ? Convert.ToHexString(part) : Encoding.UTF8.GetString(part))}{(from + part.Length < all.Length ? "..." : "")}");
    }

    // As many bytes, or a few fewer, as end with a whole character.
    private static int Whole(ReadOnlySpan<byte> text, int bytes)
    {
        while (bytes > 0 && bytes < text.Length && (text[bytes] & 0xC0) == 0x80) bytes--;
        return bytes;
    }
}
