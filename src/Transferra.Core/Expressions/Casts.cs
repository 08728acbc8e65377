// Casts.cs: conversions between types, for CAST and for the assignment of an expression to a column of the new version.
// Holds: (1) a conversion is exact or a fault, never rounded, cut or defaulted.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

internal static class Casts
{
    /// <summary>The kernel that converts; null when there is no such conversion.</summary>
    public static Kernel? Convert(Kernel from, FieldType to, DateTemplate? template, string blame)
    {
        Func<FaultCode, string> word = code => Word(code, to, template);
        Kernel? ofItsKind = from.Type.Kind == FieldKind.Text ? FromText(from, to, template, blame, word)
            : FromNumber(from, to, blame, word) ?? FromMoment(from, to, template, blame, word);
        return ofItsKind ?? (from.Type.Kind, to.Kind) switch
        {
            (FieldKind.Boolean, FieldKind.Integer) => new MapKernel<LongVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                result.Append(v.Values[row]);
                return null;
            }, word),
            (FieldKind.Binary, FieldKind.Text) => null,
            (_, FieldKind.Text) => new MapKernel<Vector, BytesVector>(to, from, blame, (v, row, result) =>
                AppendText(v.Show(row), to, result), word),
            _ => from.Type.Kind == to.Kind ? from : null,
        };
    }

    // Null where there is no conversion of its own, here and in those below.
    private static Kernel? FromText(Kernel from, FieldType to, DateTemplate? template, string blame, Func<FaultCode, string> word) =>
        to.Kind switch
        {
            // What the old column is declared for is not a promise: most old stores do not hold texts to their length.
            FieldKind.Text => to.Length == 0 ? from : new LengthKernel(from, to, blame, word(FaultCode.TooLong)),
            FieldKind.Integer => new MapKernel<BytesVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                FaultCode? fault = ValueText.TryWhole(v[row], out long value);
                if (fault == FaultCode.NotANumber) fault = TryScientific(v[row], out value);
                if (fault is null) result.Append(value);
                return fault;
            }, word),
            FieldKind.Double => new MapKernel<BytesVector, DoubleVector>(to, from, blame, (v, row, result) => AppendDouble(v[row], result),
                word),
            FieldKind.Decimal => new MapKernel<BytesVector, WideVector>(to, from, blame, (v, row, result) =>
            {
                FaultCode? fault = DecimalText.TryParseScientific(v[row], to.Precision, to.Scale, out Int128 units);
                if (fault is null) result.Append(units);
                return fault;
            }, word),
            FieldKind.Date => new MapKernel<BytesVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                ReadOnlySpan<byte> text = v[row].Trim((byte)' ');
                long day = 0;
                if (!(template?.TryRead(text, out day) ?? ValueText.TryDate(text, out day))) return FaultCode.NotADate;
                result.Append(day);
                return null;
            }, word),
            FieldKind.Time => new MapKernel<BytesVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                if (!ValueText.TryTime(v[row].Trim((byte)' '), out long micros)) return FaultCode.NotATime;
                result.Append(micros);
                return null;
            }, word),
            FieldKind.Timestamp => new MapKernel<BytesVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                if (!ValueText.TryTimestamp(v[row].Trim((byte)' '), out long micros)) return FaultCode.NotATime;
                result.Append(micros);
                return null;
            }, word),
            FieldKind.Boolean => new MapKernel<BytesVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                ReadOnlySpan<byte> text = v[row].Trim((byte)' ');
                if (Ascii.EqualsIgnoreCase(text, "true"u8)) result.Append(1);
                else if (Ascii.EqualsIgnoreCase(text, "false"u8)) result.Append(0);
                else return FaultCode.NotABoolean;
                return null;
            }, word),
            FieldKind.Uuid => new MapKernel<BytesVector, WideVector>(to, from, blame, (v, row, result) =>
            {
                if (!ValueText.TryUuid(v[row], out Int128 value)) return FaultCode.NotAUuid;
                result.Append(value);
                return null;
            }, word),
            _ => null,
        };

    private static Kernel? FromNumber(Kernel from, FieldType to, string blame, Func<FaultCode, string> word) =>
        (from.Type.Kind, to.Kind) switch
        {
            (FieldKind.Integer, FieldKind.Decimal) => new RescaleKernel(from, to, blame, word),
            (FieldKind.Decimal, FieldKind.Decimal) when from.Type == to => from,
            (FieldKind.Decimal, FieldKind.Decimal) => new MapKernel<WideVector, WideVector>(to, from, blame, (v, row, result) =>
            {
                FaultCode? fault = DecimalText.TryRescale(v.Values[row], v.Type.Scale, to.Scale, to.Precision, out Int128 units);
                if (fault is null) result.Append(units);
                return fault;
            }, word),
            (FieldKind.Decimal, FieldKind.Integer) => new MapKernel<WideVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                if (Specials.Is(v.Values[row])) return FaultCode.NotFinite;
                FaultCode? fault = DecimalText.TryRescale(v.Values[row], v.Type.Scale, 0, 38, out Int128 units);
                if (fault is null && (units < long.MinValue || units > long.MaxValue)) fault = FaultCode.OutOfRange;
                if (fault is null) result.Append((long)units);
                return fault;
            }, word),
            (FieldKind.Double, FieldKind.Integer) => new MapKernel<DoubleVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                if (!double.IsFinite(v.Values[row])) return FaultCode.NotFinite;
                FaultCode? fault = RealAmount.TryDecimal(v.Values[row], FieldType.MaxPrecision, 0, out Int128 value);
                if (fault is null && (value < long.MinValue || value > long.MaxValue)) fault = FaultCode.OutOfRange;
                if (fault is null) result.Append((long)value);
                return fault;
            }, word),
            (FieldKind.Integer or FieldKind.Decimal, FieldKind.Double) => new MapKernel<Vector, DoubleVector>(to, from, blame, (v, row,
                result) => v is WideVector wide && Specials.Is(wide.Values[row]) ? FaultCode.NotFinite
                    : AppendDouble(Encoding.ASCII.GetBytes(v.Show(row)), result), word),
            (FieldKind.Double, FieldKind.Decimal) => new MapKernel<DoubleVector, WideVector>(to, from, blame, (v, row, result) =>
            {
                double value = v.Values[row];
                if (!double.IsFinite(value))
                {
                    result.Append(double.IsNaN(value) ? Specials.NaN : value > 0 ? Specials.Infinity : Specials.MinusInfinity);
                    return null;
                }
                FaultCode? fault = RealAmount.TryDecimal(value, to.Precision, to.Scale, out Int128 units);
                if (fault is null) result.Append(units);
                return fault;
            }, word),
            _ => null,
        };

    private static readonly System.Buffers.SearchValues<byte> NumberLetters = System.Buffers.SearchValues.Create("0123456789+-.eE"u8);

    private static FaultCode? TryScientific(ReadOnlySpan<byte> text, out long value)
    {
        value = 0;
        FaultCode? fault = DecimalText.TryParseScientific(text, FieldType.MaxPrecision, 0, out Int128 units);
        if (fault is null && (units < long.MinValue || units > long.MaxValue)) fault = FaultCode.OutOfRange;
        if (fault is null) value = (long)units;
        return fault;
    }

    // A double that by its shortest digits is the number that was there; otherwise it would be another one.
    private static FaultCode? AppendDouble(ReadOnlySpan<byte> text, DoubleVector result)
    {
        text = text.Trim((byte)' ');
        if (text.ContainsAnyExcept(NumberLetters) || !double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture,
            out double value)) return FaultCode.NotANumber;
        if (!double.IsFinite(value)) return FaultCode.OutOfRange;
        byte[] shortest = Encoding.ASCII.GetBytes(value.ToString("R", CultureInfo.InvariantCulture));
        for (int scale = 0; scale < FieldType.MaxPrecision; scale++)
            if (DecimalText.TryParseScientific(text, FieldType.MaxPrecision, scale, out Int128 wanted) is { } fault)
            {
                if (fault == FaultCode.NeedsRounding) continue;
                return fault;
            }
            else if (DecimalText.TryParseScientific(shortest, FieldType.MaxPrecision, scale, out Int128 there) is not null
                || there != wanted) return FaultCode.NeedsRounding;
            else
            {
                result.Append(value);
                return null;
            }
        return FaultCode.NeedsRounding;
    }

    private static Kernel? FromMoment(Kernel from, FieldType to, DateTemplate? template, string blame, Func<FaultCode, string> word) =>
        (from.Type.Kind, to.Kind) switch
        {
            (FieldKind.Date, FieldKind.Text) when template is not null => new MapKernel<LongVector,
                BytesVector>(to, from, blame, (v, row, result) =>
            {
                if (Specials.Is(v.Values[row])) return FaultCode.NotFinite;
                if (template.Write(v.Values[row]) is not { } text) return FaultCode.OutOfRange;
                return AppendText(text, to, result);
            }, word),
            (FieldKind.Date, FieldKind.Timestamp) => new MapKernel<LongVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                result.Append(Specials.Is(v.Values[row]) ? v.Values[row] : v.Values[row] * 86_400_000_000);
                return null;
            }, word),
            (FieldKind.Timestamp, FieldKind.Date) => new MapKernel<LongVector, LongVector>(to, from, blame, (v, row, result) =>
            {
                (long day, long rest) = Specials.Is(v.Values[row]) ? (v.Values[row], 0) : Math.DivRem(v.Values[row], 86_400_000_000);
                if (rest != 0) return FaultCode.NeedsRounding;
                result.Append(day);
                return null;
            }, word),
            _ => null,
        };

    /// <summary>Whether a value of one type may be assigned to a column of another without CAST: only where nothing can be lost
    /// but by a fault, and where no text has to be read as something else.</summary>
    public static bool MayAssign(FieldType from, FieldType to) =>
        from.Kind == to.Kind || (from.Kind == FieldKind.Integer && to.Kind == FieldKind.Decimal)
        || (from.Kind == FieldKind.Decimal && to.Kind == FieldKind.Integer);

    public static int Characters(ReadOnlySpan<byte> utf8)
    {
        int characters = 0;
        foreach (byte b in utf8)
            if ((b & 0xC0) != 0x80) characters++;
        return characters;
    }

    public static string Word(FaultCode code, FieldType type, DateTemplate? template = null) => code switch
    {
        FaultCode.NotANumber => type.Kind == FieldKind.Integer ? "this is not a whole number" : "this is not a number",
        FaultCode.NotADate => template is null ? "this is not a date of the form YYYY-MM-DD"
            : $"this is not a date of the form {template.Text}, or no such day exists",
        FaultCode.NotATime => type.Kind == FieldKind.Time ? "this is not a time of the form HH:MM:SS"
            : "this is not a date and time of the form YYYY-MM-DD HH:MM:SS",
        FaultCode.OutOfRange => $"the value does not fit {type}",
        FaultCode.NeedsRounding => $"the value would have to be rounded to fit {type}",
        FaultCode.TooLong => $"the text is longer than {type} allows",
        FaultCode.NotABoolean => "this is neither true nor false",
        FaultCode.NotAUuid => "this is no UUID",
        FaultCode.DivisionByZero => "division by zero",
        FaultCode.NotFinite => "NaN, infinities and dates without end cannot be computed with",
        _ => "the value cannot be converted",
    };

    private static FaultCode? AppendText(string text, FieldType to, BytesVector result)
    {
        if (to.Length > 0 && text.Length > to.Length) return FaultCode.TooLong;
        int length = Encoding.UTF8.GetBytes(text, result.Room(Encoding.UTF8.GetMaxByteCount(text.Length)));
        result.Added(length);
        return null;
    }
}
