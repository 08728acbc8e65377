// CellText.cs: values as servers and open formats write them in text: ISO dates, decimal points, no culture.
// Holds: (1) a text is read exactly or not at all; (2) what TryAppend refuses, it does not append.
using System.Globalization;
using System.Text;
using System.Text.Unicode;
using Transferra.Core.Records;

namespace Transferra.Stores.Text;

internal static class CellText
{
    /// <summary>Appends the value that a text stands for.</summary>
    /// <param name="vector">Of any kind but binary.</param>
    /// <param name="text">UTF-8.</param>
    /// <returns>Null when appended; otherwise why not.</returns>
    public static FaultCode? TryAppend(Vector vector, ReadOnlySpan<byte> text) => vector switch
    {
        BytesVector bytes => AppendBytes(bytes, text),
        LongVector longs => AppendLong(longs, text),
        WideVector wides => AppendWide(wides, text),
        _ => AppendDouble((DoubleVector)vector, text),
    };

    private static FaultCode? AppendBytes(BytesVector vector, ReadOnlySpan<byte> text)
    {
        if (vector.Type.Kind is FieldKind.Text or FieldKind.Any) return vector.TryAppendUtf8(text) ? null : FaultCode.NotText;
        vector.Append(text);
        return null;
    }

    private static FaultCode? AppendLong(LongVector vector, ReadOnlySpan<byte> text)
    {
        FaultCode? fault = null;
        long value;
        switch (vector.Type.Kind)
        {
            case FieldKind.Integer: fault = ValueText.TryWhole(text, out value); break;
            case FieldKind.Date:
                fault = ValueText.TryDate(text, out value) || Specials.TryMoment(text, out value) ? null
                : FaultCode.NotADate; break;
            case FieldKind.Time: fault = ValueText.TryTime(text, out value) ? null : FaultCode.NotATime; break;
            case FieldKind.Timestamp:
                fault = ValueText.TryTimestamp(text, out value) || Specials.TryMoment(text, out value) ? null
                : FaultCode.NotATime; break;
            default:
                value = text is [(byte)'1'] || (text is not [(byte)'0'] && IsOneOf(text, "true", "t", "yes", "y")) ? 1 : 0;
                if (value == 0 && text is not [(byte)'0'] && !IsOneOf(text, "false", "f", "no", "n")) fault = FaultCode.NotABoolean;
                break;
        }
        if (fault is null) vector.Append(value);
        return fault;
    }

    /// <summary>Whether a text is one of some words, in any case.</summary>
    public static bool IsOneOf(ReadOnlySpan<byte> text, params ReadOnlySpan<string> words)
    {
        foreach (string word in words)
            if (Ascii.EqualsIgnoreCase(text, word)) return true;
        return false;
    }

    private static FaultCode? AppendWide(WideVector vector, ReadOnlySpan<byte> text)
    {
        FieldType type = vector.Type;
        if (type.Kind == FieldKind.Decimal && DecimalText.TryShort(text, type.Precision, type.Scale, out long few))
        {
            vector.Append(few);
            return null;
        }
        FaultCode? fault = type.Kind == FieldKind.Uuid
            ? ValueText.TryUuid(text, out Int128 value) ? null : FaultCode.NotAUuid
            : Specials.TryNumber(text, out value) ? null : DecimalText.TryParse(text, type.Precision, type.Scale, out value);
        if (fault is null) vector.Append(value);
        return fault;
    }

    private static FaultCode? AppendDouble(DoubleVector vector, ReadOnlySpan<byte> text)
    {
        if (!double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out double value)) return FaultCode.NotANumber;
        vector.Append(value);
        return null;
    }

    /// <summary>The start of a text for a message; hexadecimal when it is not a text.</summary>
    public static string Shown(ReadOnlySpan<byte> text)
    {
        ReadOnlySpan<byte> cut = text[..Math.Min(60, text.Length)];
        while (cut.Length > 0 && cut.Length < text.Length && (text[cut.Length] & 0xC0) == 0x80) cut = cut[..^1];
        return Utf8.IsValid(cut) ? Encoding.UTF8.GetString(cut) : "0x" + Convert.ToHexString(cut[..Math.Min(32, cut.Length)]);
    }

    /// <summary>Why a cell is not a value of its column, in words.</summary>
    public static string Reason(FaultCode fault, FieldType type) => fault switch
    {
        FaultCode.NotText => "the bytes are not text in the declared code page",
        FaultCode.NeedsRounding => $"the number has more decimals than {type}",
        FaultCode.OutOfRange => $"the value is outside of {type}",
        _ => $"this is no {type}",
    };
}
