// FieldType.cs: what one column holds, said in the SQL standard's type names.
// Why a type of our own: six engines name and store types differently; conversion, matching and fingerprints need one
// answer to "are these two columns of the same type", independent of any engine.
// Holds: (1) Parse and ToString are inverses; (2) an exact number never becomes a double on its own.
using System.Globalization;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>The kinds of value that records hold.</summary>
[JsonConverter(typeof(InWords<FieldKind>))]
public enum FieldKind
{
    /// <summary>Signed 64-bit whole number.</summary>
    Integer,
    /// <summary>Exact decimal of up to 38 digits, kept as an Int128 of its smallest unit.</summary>
    Decimal,
    /// <summary>Calendar day, kept as days since 0001-01-01.</summary>
    Date,
    /// <summary>Time of day, kept as microseconds since midnight.</summary>
    Time,
    /// <summary>Date and time without zone, kept as microseconds since 0001-01-01T00:00.</summary>
    Timestamp,
    /// <summary>Text, kept as UTF-8.</summary>
    Text,
    /// <summary>True or false, kept as 1 or 0.</summary>
    Boolean,
    /// <summary>Bytes without meaning to us.</summary>
    Binary,
    /// <summary>128-bit identifier, kept big-endian in an Int128.</summary>
    Uuid,
    /// <summary>IEEE 754 double; only where the source column is one.</summary>
    Double,
    /// <summary>Several kinds in one column, each value with its own, as SQLite has them; kept as AnyValue.cs says.</summary>
    Any,
}

/// <summary>A column's type.</summary>
/// <param name="Kind">What kind of value.</param>
/// <param name="Precision">Digits in all, for <see cref="FieldKind.Decimal"/>: 1 to 38; otherwise 0.</param>
/// <param name="Scale">Digits after the point, for <see cref="FieldKind.Decimal"/>: 0 to Precision; otherwise 0.</param>
/// <param name="Length">Most characters, for <see cref="FieldKind.Text"/>; 0 means without limit.</param>
public readonly record struct FieldType(FieldKind Kind, int Precision = 0, int Scale = 0, int Length = 0)
{
    /// <summary>The most digits an exact decimal may have; an Int128 holds any number of that many.</summary>
    public const int MaxPrecision = 38;

    /// <summary>Signed 64-bit whole number.</summary>
    public static readonly FieldType Integer = new(FieldKind.Integer);
    /// <summary>Text without a limit of length.</summary>
    public static readonly FieldType Text = new(FieldKind.Text);
    /// <summary>True or false.</summary>
    public static readonly FieldType Boolean = new(FieldKind.Boolean);
    /// <summary>Calendar day.</summary>
    public static readonly FieldType Date = new(FieldKind.Date);

    /// <summary>An exact decimal type.</summary>
    public static FieldType Decimal(int precision, int scale) => new(FieldKind.Decimal, precision, scale);

    /// <summary>Reads a type as SQL writes it: <c>DECIMAL(14,2)</c>, <c>VARCHAR(40)</c>, <c>DATE</c>.</summary>
    /// <returns>False when <paramref name="text"/> is not a type we know; nothing is guessed.</returns>
    public static bool TryParse(ReadOnlySpan<char> text, out FieldType type)
    {
        type = default;
        text = text.Trim();
        int open = text.IndexOf('(');
        ReadOnlySpan<char> name = open < 0 ? text : text[..open].TrimEnd();
        int first = 0, second = 0, given = 0;
        if (open >= 0)
        {
            if (text[^1] != ')') return false;
            ReadOnlySpan<char> inside = text[(open + 1)..^1];
            int comma = inside.IndexOf(',');
            if (!TryWhole(comma < 0 ? inside : inside[..comma], out first)) return false;
            given = 1;
            if (comma >= 0)
            {
                if (!TryWhole(inside[(comma + 1)..], out second)) return false;
                given = 2;
            }
        }
        switch (name.ToString().ToUpperInvariant())
        {
            case "INTEGER" or "INT" or "BIGINT" or "SMALLINT" when given == 0: type = Integer; return true;
            case "DECIMAL" or "NUMERIC" when given >= 1 && first is >= 1 and <= MaxPrecision && second <= first:
                type = Decimal(first, second); return true;
            case "VARCHAR" or "CHARACTER VARYING" or "CHAR" when given == 1 && first > 0:
                type = new(FieldKind.Text, Length: first); return true;
            case "TEXT" or "CLOB" when given == 0: type = Text; return true;
            case "DATE" when given == 0: type = Date; return true;
            case "TIME" when given == 0: type = new(FieldKind.Time); return true;
            case "TIMESTAMP" when given == 0: type = new(FieldKind.Timestamp); return true;
            case "BOOLEAN" when given == 0: type = Boolean; return true;
            case "BLOB" or "BINARY" when given == 0: type = new(FieldKind.Binary); return true;
            case "UUID" when given == 0: type = new(FieldKind.Uuid); return true;
            case "DOUBLE PRECISION" or "DOUBLE" when given == 0: type = new(FieldKind.Double); return true;
            case "ANY" when given == 0: type = new(FieldKind.Any); return true;
            default: return false;
        }
    }

    private static bool TryWhole(ReadOnlySpan<char> text, out int value) =>
        int.TryParse(text.Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out value);

    /// <summary>The names that <see cref="TryParse"/> accepts, for messages.</summary>
    public const string KnownNames =
        "INTEGER, DECIMAL(p,s), VARCHAR(n), TEXT, DATE, TIME, TIMESTAMP, BOOLEAN, BLOB, UUID, DOUBLE PRECISION, ANY";

    /// <summary>The type as SQL writes it.</summary>
    public override string ToString() => Kind switch
    {
        FieldKind.Integer => "INTEGER",
        FieldKind.Decimal => string.Create(CultureInfo.InvariantCulture, $"DECIMAL({Precision},{Scale})"),
        FieldKind.Text => Length > 0 ? string.Create(CultureInfo.InvariantCulture, $"VARCHAR({Length})") : "TEXT",
        FieldKind.Date => "DATE",
        FieldKind.Time => "TIME",
        FieldKind.Timestamp => "TIMESTAMP",
        FieldKind.Boolean => "BOOLEAN",
        FieldKind.Binary => "BLOB",
        FieldKind.Uuid => "UUID",
        FieldKind.Any => "ANY",
        _ => "DOUBLE PRECISION",
    };
}
