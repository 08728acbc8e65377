// DecimalText.cs: exact decimals from and to text, as Int128 in units of 10^-scale.
// Why our own: decimal.TryParse rounds past 28 digits without a word, and its scale is the text's and not the column's.
// Holds: (1) a text is read exactly or not at all; (2) Format and TryParse are inverses at the same scale; (3) no double, no culture.
namespace Transferra.Core.Records;

/// <summary>Reads and writes exact decimals.</summary>
public static class DecimalText
{
    private static readonly Int128[] PowersOfTen = BuildPowers();

    private static Int128[] BuildPowers()
    {
        var powers = new Int128[39];
        powers[0] = 1;
        for (int i = 1; i < powers.Length; i++) powers[i] = powers[i - 1] * 10;
        return powers;
    }

    /// <summary>10 to the power of <paramref name="exponent"/>, 0 to 38.</summary>
    public static Int128 PowerOfTen(int exponent) => PowersOfTen[exponent];

    /// <summary>Whether a number of units has at most <paramref name="precision"/> digits.</summary>
    public static bool Fits(Int128 units, int precision) => units < PowersOfTen[precision] && units > -PowersOfTen[precision];

    // So many digits fit into a long.
    private const int ShortDigits = 18;

    /// <summary>Reads what nearly all numbers are: a sign for negative ones, digits, a point and more digits, few enough for a
    /// long.</summary>
    /// <returns>False, with nothing said about the text, where it is not of this form or does not surely fit.</returns>
    /// <inheritdoc cref="TryParse"/>
    public static bool TryShort(ReadOnlySpan<byte> text, int precision, int scale, out long units)
    {
        units = 0;
        int first = text.Length > 0 && text[0] == '-' ? 1 : 0, at = first;
        if (text.Length - first is 0 or > ShortDigits + 1) return false;
        for (; at < text.Length; at++)
        {
            uint digit = text[at] - (uint)'0';
            if (digit > 9) break;
            units = units * 10 + digit;
        }
        int whole = at - first;
        if (whole == 0 || whole + scale > Math.Min(precision, ShortDigits)) return false;
        int fraction = 0;
        if (at < text.Length)
        {
            fraction = text.Length - at - 1;
            if (text[at] != '.' || fraction > scale) return false;
            for (at++; at < text.Length; at++)
            {
                uint digit = text[at] - (uint)'0';
                if (digit > 9) return false;
                units = units * 10 + digit;
            }
        }
        if (fraction < scale) units *= (long)PowersOfTen[scale - fraction];
        if (first > 0) units = -units;
        return true;
    }

    /// <summary>Reads an SQL exact numeric literal with optional sign and surrounding blanks, such as <c>-1234.50</c>.</summary>
    /// <param name="text">UTF-8.</param>
    /// <param name="precision">Most digits allowed in all, 1 to 38.</param>
    /// <param name="scale">Digits after the point that the result has; further ones must be zero.</param>
    /// <param name="units">The value in units of 10^-scale; 0 on failure.</param>
    /// <returns>Null when read; otherwise <see cref="FaultCode.NotANumber"/>, <see cref="FaultCode.OutOfRange"/> or
    /// <see cref="FaultCode.NeedsRounding"/>.</returns>
    public static FaultCode? TryParse(ReadOnlySpan<byte> text, int precision, int scale, out Int128 units)
    {
        if (TryShort(text, precision, scale, out long few))
        {
            units = few;
            return null;
        }
        units = 0;
        text = text.Trim((byte)' ');
        bool negative = false;
        int at = 0;
        if (text.Length > 0 && text[0] is (byte)'-' or (byte)'+') { negative = text[0] == '-'; at = 1; }
        int digits = 0, fraction = 0, point = -1;
        long low = 0;          // the first 18 significant digits need no 128-bit arithmetic
        Int128 value = 0;
        bool rounding = false;
        int significant = 0;
        for (; at < text.Length; at++)
        {
            byte c = text[at];
            if (c == '.')
            {
                if (point >= 0) return FaultCode.NotANumber;
                point = at;
                continue;
            }
            int digit = c - '0';
            if ((uint)digit > 9) return FaultCode.NotANumber;
            digits++;
            if (point >= 0)
            {
                if (fraction == scale)
                {
                    rounding |= digit != 0;
                    continue;
                }
                fraction++;
            }
            if (significant == 0 && digit == 0) continue;
            significant++;
            if (significant > FieldType.MaxPrecision) continue;
            if (significant <= 18) low = low * 10 + digit;
            else value = (significant == 19 ? low : value) * 10 + digit;
        }
        if (digits == 0) return FaultCode.NotANumber;
        if (rounding) return FaultCode.NeedsRounding;
        if (significant > FieldType.MaxPrecision) return FaultCode.OutOfRange;
        if (significant <= 18) value = low;
        if (significant + (scale - fraction) > FieldType.MaxPrecision && value != 0) return FaultCode.OutOfRange;
        if (scale > fraction) value *= PowersOfTen[scale - fraction];
        if (!Fits(value, precision)) return FaultCode.OutOfRange;
        units = negative ? -value : value;
        return null;
    }

    /// <summary>Reads a decimal that may be written with an exponent, as in <c>2.035947E-01</c>; exactly, or not at all.</summary>
    /// <inheritdoc cref="TryParse"/>
    public static FaultCode? TryParseScientific(ReadOnlySpan<byte> text, int precision, int scale, out Int128 units)
    {
        units = 0;
        text = text.Trim((byte)' ');
        int mark = text.IndexOfAny((byte)'e', (byte)'E');
        if (mark < 0) return TryParse(text, precision, scale, out units);
        if (!System.Buffers.Text.Utf8Parser.TryParse(text[(mark + 1)..], out int exponent, out int used)
            || used != text.Length - mark - 1) return FaultCode.NotANumber;
        // The digits with the point moved: as many zeros as it takes, within reason, stand for themselves.
        const int furthest = 400;
        ReadOnlySpan<byte> mantissa = text[..mark];
        bool negative = mantissa.Length > 0 && mantissa[0] == '-';
        if (mantissa.Length > 0 && mantissa[0] is (byte)'-' or (byte)'+') mantissa = mantissa[1..];
        int point = mantissa.IndexOf((byte)'.');
        ReadOnlySpan<byte> whole = point < 0 ? mantissa : mantissa[..point], fraction = point < 0 ? [] : mantissa[(point + 1)..];
        if (whole.Length + fraction.Length == 0 || whole.ContainsAnyExceptInRange((byte)'0', (byte)'9')
            || fraction.ContainsAnyExceptInRange((byte)'0', (byte)'9')) return FaultCode.NotANumber;
        if (!whole.ContainsAnyExcept((byte)'0') && !fraction.ContainsAnyExcept((byte)'0')) return null;
        if (Math.Abs((long)exponent) > furthest) return exponent > 0 ? FaultCode.OutOfRange : FaultCode.NeedsRounding;
        byte[] digits = [.. whole, .. fraction];
        int pointAt = whole.Length + exponent; // counted in digits
        var plain = new System.Text.StringBuilder(negative ? "-" : "");
        for (int i = Math.Min(0, pointAt - 1); i < Math.Max(digits.Length, pointAt); i++)
        {
            if (i == pointAt) plain.Append('.');
            plain.Append(i >= 0 && i < digits.Length ? (char)digits[i] : '0');
        }
        return TryParse(System.Text.Encoding.ASCII.GetBytes(plain.ToString()), precision, scale, out units);
    }

    /// <summary>Brings a value to another scale.</summary>
    /// <returns>Null when exact; <see cref="FaultCode.NeedsRounding"/> or <see cref="FaultCode.OutOfRange"/> otherwise.</returns>
    public static FaultCode? TryRescale(Int128 units, int fromScale, int toScale, int precision, out Int128 result)
    {
        result = units;
        if (Specials.Is(units)) return null;
        if (toScale > fromScale)
        {
            int by = toScale - fromScale;
            if (!Fits(units, FieldType.MaxPrecision - by)) { result = 0; return FaultCode.OutOfRange; }
            result = units * PowersOfTen[by];
        }
        else if (toScale < fromScale)
        {
            (Int128 quotient, Int128 rest) = Int128.DivRem(units, PowersOfTen[fromScale - toScale]);
            if (rest != 0) { result = 0; return FaultCode.NeedsRounding; }
            result = quotient;
        }
        if (Fits(result, precision)) return null;
        result = 0;
        return FaultCode.OutOfRange;
    }

    /// <summary>The value with exactly <paramref name="scale"/> digits after the point.</summary>
    public static string Format(Int128 units, int scale)
    {
        Span<byte> room = stackalloc byte[LongestText];
        return System.Text.Encoding.ASCII.GetString(room[..Format(units, scale, room)]);
    }

    private const int LongestText = 44, DigitsOfPart = 18;
    private const ulong Part = 1_000_000_000_000_000_000;

    /// <summary>Writes the value with exactly <paramref name="scale"/> digits after the point, as UTF-8.</summary>
    /// <returns>Bytes written; <paramref name="room"/> must have 44.</returns>
    public static int Format(Int128 units, int scale, Span<byte> room)
    {
        if (Specials.Is(units)) return System.Text.Encoding.ASCII.GetBytes(Specials.Show(units), room);
        Span<byte> text = stackalloc byte[LongestText];
        int at = text.Length, digits = 0;
        UInt128 rest = units < 0 ? (UInt128)(-units) : (UInt128)units;
        // Dividing 128 bits takes many times as long as dividing 64.
        for (; rest > ulong.MaxValue; rest /= Part) Put(text, ref at, ref digits, scale, (ulong)(rest % Part), DigitsOfPart);
        Put(text, ref at, ref digits, scale, (ulong)rest, Math.Max(0, scale + 1 - digits));
        if (units < 0) text[--at] = (byte)'-';
        text[at..].CopyTo(room);
        return text.Length - at;
    }

    // Puts digits before what is there: at least so many, and the point where it belongs.
    private static void Put(Span<byte> text, ref int at, ref int digits, int scale, ulong part, int least)
    {
        for (int put = 0; part != 0 || put < least; put++, digits++, part /= 10)
        {
            if (digits == scale && scale > 0) text[--at] = (byte)'.';
            text[--at] = (byte)('0' + (part % 10));
        }
    }
}
