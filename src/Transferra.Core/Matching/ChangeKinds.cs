// ChangeKinds.cs: in what way a value differs from the one that should be there, told by the two values alone.
// Why: "rounded" or "another code page" says at a glance what happened to ten thousand records; two columns of values do not.
// Holds: (1) a kind is named only when it accounts for the whole difference; what nothing accounts for is another value.
using System.Text;
using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>In what way one value differs from another.</summary>
[JsonConverter(typeof(InWords<ChangeKind>))]
public enum ChangeKind
{
    /// <summary>Another value.</summary>
    Other,
    /// <summary>The record is not there.</summary>
    Missing,
    /// <summary>A record that nothing stands for.</summary>
    Extra,
    /// <summary>One whose number or date comes after the last one there should be.</summary>
    Later,
    /// <summary>A record that is there once more.</summary>
    Doubled,
    /// <summary>A value that cannot be read.</summary>
    Unreadable,
    /// <summary>Nothing in place of a value.</summary>
    Gone,
    /// <summary>A value where there was none.</summary>
    Filled,
    /// <summary>No value against an empty or blank text.</summary>
    NullOrBlank,
    /// <summary>No value against 0 or FALSE.</summary>
    NullOrZero,
    /// <summary>Rounded to fewer decimals.</summary>
    Rounded,
    /// <summary>The other sign, or the opposite.</summary>
    Sign,
    /// <summary>The same digits with the point elsewhere.</summary>
    Point,
    /// <summary>The beginning of a text only.</summary>
    Cut,
    /// <summary>More or fewer blanks at an end.</summary>
    Blanks,
    /// <summary>Other blanks or line ends within.</summary>
    Spacing,
    /// <summary>Small letters against large ones.</summary>
    Case,
    /// <summary>The same characters, composed otherwise (Unicode normalization).</summary>
    Accents,
    /// <summary>Read in another code page, or characters lost in one.</summary>
    CodePage,
    /// <summary>The same lines in another order.</summary>
    LineOrder,
    /// <summary>A day earlier or later.</summary>
    Day,
    /// <summary>Some hours earlier or later.</summary>
    Hours,
    /// <summary>Day and month exchanged.</summary>
    DayAndMonth,
    /// <summary>Another century.</summary>
    Century,
    /// <summary>The time of the day is gone.</summary>
    TimeOfDay,
    /// <summary>The value of another column, which has this one's.</summary>
    Swapped,
    /// <summary>The same value in all records that differ.</summary>
    Constant,
    /// <summary>Each value always became the same other one.</summary>
    Recoded,
    /// <summary>The same to a reader, kept as another kind of value: a number as a text.</summary>
    Kept,
}

/// <summary>Tells kinds of changes.</summary>
public static partial class ChangeKinds
{
    private const long MicrosPerHour = 3_600_000_000, MicrosPerDay = 24 * MicrosPerHour;

    private const int MostHours = 14, MostShifted = 6;

    /// <summary>The kind in words, as what happened to a value.</summary>
    public static string Words(ChangeKind kind) => kind switch
    {
        ChangeKind.Missing => "missing",
        ChangeKind.Extra => "extra",
        ChangeKind.Later => "added after the last one",
        ChangeKind.Doubled => "there once more",
        ChangeKind.Unreadable => "cannot be read",
        ChangeKind.Gone => "gone",
        ChangeKind.Filled => "filled where there was nothing",
        ChangeKind.NullOrBlank => "no value against blank",
        ChangeKind.NullOrZero => "no value against zero",
        ChangeKind.Rounded => "rounded",
        ChangeKind.Sign => "the opposite sign",
        ChangeKind.Point => "the point moved",
        ChangeKind.Cut => "cut off",
        ChangeKind.Blanks => "blanks at an end",
        ChangeKind.Spacing => "other blanks or line ends",
        ChangeKind.Case => "small and large letters",
        ChangeKind.Accents => "accents composed otherwise",
        ChangeKind.CodePage => "another code page",
        ChangeKind.LineOrder => "lines in another order",
        ChangeKind.Day => "a day off",
        ChangeKind.Hours => "hours off",
        ChangeKind.DayAndMonth => "day and month exchanged",
        ChangeKind.Century => "another century",
        ChangeKind.TimeOfDay => "without the time of day",
        ChangeKind.Swapped => "exchanged with another column",
        ChangeKind.Constant => "the same value everywhere",
        ChangeKind.Recoded => "other codes",
        ChangeKind.Kept => "kept as another kind of value",
        _ => "another value",
    };

    /// <summary>In what way two values differ.</summary>
    /// <param name="expected">Column of the value that should be there.</param>
    /// <param name="row">Its row.</param>
    /// <param name="found">Column of the value that is there, of the same type.</param>
    /// <param name="foundRow">Its row; the values differ.</param>
    public static ChangeKind Of(Vector expected, int row, Vector found, int foundRow)
    {
        bool wasNull = expected.IsNull(row), isNull = found.IsNull(foundRow);
        if (wasNull || isNull)
        {
            (Vector vector, int at) = wasNull ? (found, foundRow) : (expected, row);
            return IsBlank(vector, at) ? ChangeKind.NullOrBlank : IsZero(vector, at) ? ChangeKind.NullOrZero
                : wasNull ? ChangeKind.Filled : ChangeKind.Gone;
        }
        return expected.Type.Kind switch
        {
            FieldKind.Text => OfTexts(Encoding.UTF8.GetString(((BytesVector)expected)[row]),
                Encoding.UTF8.GetString(((BytesVector)found)[foundRow])),
            FieldKind.Integer => OfNumbers(((LongVector)expected).Values[row], ((LongVector)found).Values[foundRow], 0),
            FieldKind.Decimal => OfNumbers(((WideVector)expected).Values[row], ((WideVector)found).Values[foundRow], expected.Type.Scale),
            FieldKind.Double => OfDoubles(((DoubleVector)expected).Values[row], ((DoubleVector)found).Values[foundRow]),
            FieldKind.Boolean => ChangeKind.Sign,
            FieldKind.Date => OfDays(((LongVector)expected).Values[row], ((LongVector)found).Values[foundRow]),
            FieldKind.Timestamp => OfMoments(((LongVector)expected).Values[row], ((LongVector)found).Values[foundRow]),
            FieldKind.Any => OfAnything(((BytesVector)expected)[row], ((BytesVector)found)[foundRow]),
            FieldKind.Time => IsHours(((LongVector)found).Values[foundRow] - ((LongVector)expected).Values[row]) ? ChangeKind.Hours
                : ChangeKind.Other,
            _ => ChangeKind.Other,
        };
    }

    // A column of a table that is compared as it is stored: what its values look like says what they are.
    private static ChangeKind OfAnything(ReadOnlySpan<byte> expected, ReadOnlySpan<byte> found)
    {
        if (expected[0] == AnyValue.Blob || found[0] == AnyValue.Blob) return ChangeKind.Other;
        if (expected[0] != found[0] && AnyValue.Show(expected) == AnyValue.Show(found)) return ChangeKind.Kept;
        if (expected[0] == AnyValue.Text && found[0] == AnyValue.Text)
            return ValueText.TryDate(expected[1..], out long day) && ValueText.TryDate(found[1..], out long now) ? OfDays(day, now)
                : ValueText.TryTimestamp(expected[1..], out long at) && ValueText.TryTimestamp(found[1..], out long moment)
                    ? OfMoments(at, moment) : OfTexts(Encoding.UTF8.GetString(expected[1..]), Encoding.UTF8.GetString(found[1..]));
        if (expected[0] == AnyValue.Text || found[0] == AnyValue.Text) return ChangeKind.Other;
        return expected[0] == AnyValue.Whole && found[0] == AnyValue.Whole
            ? OfNumbers(AnyValue.WholeOf(expected), AnyValue.WholeOf(found), 0)
            : OfDoubles(NumberOf(expected), NumberOf(found));
    }

    private static double NumberOf(ReadOnlySpan<byte> value) => value[0] == AnyValue.Whole ? AnyValue.WholeOf(value)
        : AnyValue.RealOf(value);

    private static bool IsBlank(Vector vector, int row) => vector is BytesVector { Type.Kind: FieldKind.Text or FieldKind.Any } texts
        && (texts.Type.Kind == FieldKind.Text ? texts[row] : texts[row][0] == AnyValue.Text ? texts[row][1..] : "x"u8)
            .Trim((byte)' ').Length == 0;

    private static bool IsZero(Vector vector, int row) => vector switch
    {
        LongVector { Type.Kind: FieldKind.Integer or FieldKind.Boolean } longs => longs.Values[row] == 0,
        WideVector { Type.Kind: FieldKind.Decimal } wides => wides.Values[row] == 0,
        DoubleVector doubles => doubles.Values[row] == 0,
        BytesVector { Type.Kind: FieldKind.Any } any => any[row][0] is AnyValue.Whole or AnyValue.Real && NumberOf(any[row]) == 0,
        _ => false
    };

    private static ChangeKind OfNumbers(Int128 expected, Int128 found, int scale)
    {
        if (Specials.Is(expected) || Specials.Is(found)) return ChangeKind.Other;
        if (found == -expected) return ChangeKind.Sign;
        for (int digits = 1; digits <= scale; digits++)
        {
            Int128 unit = DecimalText.PowerOfTen(digits);
            if (found % unit == 0 && Int128.Abs(found - expected) < unit) return ChangeKind.Rounded;
        }
        for (int digits = 1; digits <= MostShifted && expected != 0 && found != 0; digits++)
        {
            Int128 factor = DecimalText.PowerOfTen(digits);
            if ((expected % factor == 0 && expected / factor == found) || (found % factor == 0 && found / factor == expected))
                return ChangeKind.Point;
        }
        return ChangeKind.Other;
    }

    // A float, or a number of fewer digits, in a column that had more.
    private static ChangeKind OfDoubles(double expected, double found) => found == -expected ? ChangeKind.Sign
        : Math.Abs(found - expected) <= Math.Abs(expected) * 1e-6 ? ChangeKind.Rounded : ChangeKind.Other;

    private static bool IsHours(long micros) => micros != 0 && micros % MicrosPerHour == 0 && Math.Abs(micros) <= MostHours * MicrosPerHour;

    private static ChangeKind OfDays(long expected, long found)
    {
        if (Specials.Is(expected) || Specials.Is(found)) return ChangeKind.Other;
        if (Math.Abs(found - expected) == 1) return ChangeKind.Day;
        if (!IsDay(expected) || !IsDay(found)) return ChangeKind.Other;
        DateOnly was = DateOnly.FromDayNumber((int)expected), now = DateOnly.FromDayNumber((int)found);
        return was.Year == now.Year && was.Day == now.Month && was.Month == now.Day ? ChangeKind.DayAndMonth
            : Math.Abs(was.Year - now.Year) == 100 && (was.Month, was.Day) == (now.Month, now.Day) ? ChangeKind.Century : ChangeKind.Other;
    }

    private static bool IsDay(long day) => day >= DateOnly.MinValue.DayNumber && day <= DateOnly.MaxValue.DayNumber;

    private static ChangeKind OfMoments(long expected, long found)
    {
        if (Specials.Is(expected) || Specials.Is(found)) return ChangeKind.Other;
        (long day, long time) = Math.DivRem(expected, MicrosPerDay);
        (long nowDay, long now) = Math.DivRem(found, MicrosPerDay);
        if (now == 0 && nowDay == day) return ChangeKind.TimeOfDay;
        return now == time ? OfDays(day, nowDay) : IsHours(found - expected) ? ChangeKind.Hours : ChangeKind.Other;
    }

    private static ChangeKind OfTexts(string expected, string found)
    {
        if (expected.Trim(' ') == found.Trim(' ')) return ChangeKind.Blanks;
        if (found.Length > 0 && expected.StartsWith(found, StringComparison.Ordinal)) return ChangeKind.Cut;
        if (string.Equals(expected, found, StringComparison.OrdinalIgnoreCase)) return ChangeKind.Case;
        if (ComposedLetters.Apart(expected) == ComposedLetters.Apart(found)) return ChangeKind.Accents;
        if (Spaces().Replace(expected, " ").Trim() == Spaces().Replace(found, " ").Trim()) return ChangeKind.Spacing;
        if (string.IsNullOrWhiteSpace(found)) return ChangeKind.Gone;
        if (string.IsNullOrWhiteSpace(expected)) return ChangeKind.Filled;
        if (expected.Contains('\n', StringComparison.Ordinal) && expected.Split('\n').Order(StringComparer.Ordinal).SequenceEqual(
            found.Split('\n').Order(StringComparer.Ordinal))) return ChangeKind.LineOrder;
        if ((!Ascii.IsValid(expected) || !Ascii.IsValid(found)) && (Misreading.Explains(expected, found) || HasLost(expected, found)))
            return ChangeKind.CodePage;
        // A beginning that lost the blank it was cut behind.
        return found.Length > 0 && expected.StartsWith(found.TrimEnd(' '), StringComparison.Ordinal) ? ChangeKind.Cut : ChangeKind.Other;
    }

    // Question marks and the like in place of characters that a page does not have.
    private static bool HasLost(string expected, string found)
    {
        if (expected.Length != found.Length) return false;
        for (int i = 0; i < expected.Length; i++)
            if (expected[i] != found[i] && (expected[i] < 128 || found[i] is not ('?' or '\uFFFD' or '_' or ' ' or '\u001A')
                && !IsBareLetter(expected[i], found[i]))) return false;
        return true;
    }

    // e for an e with an accent.
    private static bool IsBareLetter(char accented, char bare) => ComposedLetters.Apart(accented.ToString()) is { Length: > 1 } apart
        && apart[0] == bare;

    [GeneratedRegex(@"\s+", RegexOptions.CultureInvariant)]
    private static partial Regex Spaces();
}
