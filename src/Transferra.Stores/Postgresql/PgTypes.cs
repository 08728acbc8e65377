// PgTypes.cs: PostgreSQL's types and ours; the table stands in docs/types.md.
// Source of the type numbers: the system catalog pg_type; they are fixed.
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <summary>A column as the catalog has it.</summary>
/// <param name="Name">As it is spelt.</param>
/// <param name="Oid">Of its type; of the base type when it is a domain.</param>
/// <param name="Modifier">The type's modifier; -1 when there is none.</param>
/// <param name="Required">Whether null is not allowed.</param>
/// <param name="Default">The default's expression; null when there is none.</param>
/// <param name="IsNumbered">Whether it is an identity column or draws from a sequence.</param>
internal sealed record PgColumn(string Name, uint Oid, int Modifier, bool Required, string? Default, bool IsNumbered);

internal static class PgTypes
{
    public const uint Bool = 16, Bytea = 17, Name = 19, Int8 = 20, Int2 = 21, Int4 = 23, Text = 25, Oid = 26, Float4 = 700, Float8 = 701,
        Money = 790, Bpchar =
        1042, Varchar = 1043,
        Date = 1082, Time = 1083, Timestamp = 1114, Timestamptz = 1184, Numeric = 1700, Uuid = 2950;

    // A modifier counts its own four bytes.
    private const int ModifierHeader = 4;

    /// <summary>What a column holds; text where we have no kind for it, as the engine itself writes it.</summary>
    public static FieldType Of(PgColumn column) => column.Oid switch
    {
        Int2 or Int4 or Int8 or Oid => FieldType.Integer,
        Bool => FieldType.Boolean,
        Bytea => new FieldType(FieldKind.Binary),
        Float4 or Float8 => new FieldType(FieldKind.Double),
        Money => FieldType.Decimal(19, 2),
        Bpchar or Varchar when column.Modifier > ModifierHeader => new FieldType(FieldKind.Text, Length: column.Modifier - ModifierHeader),
        Date => FieldType.Date,
        Time => new FieldType(FieldKind.Time),
        Timestamp or Timestamptz => new FieldType(FieldKind.Timestamp),
        Uuid => new FieldType(FieldKind.Uuid),
        Numeric when NumericOf(column.Modifier) is { } numeric => numeric,
        _ => FieldType.Text,
    };

    // Without a modifier a numeric may have any number of digits, and a scale below zero or above the precision is none of ours: those
    // are read as text.
    private static FieldType? NumericOf(int modifier)
    {
        if (modifier < ModifierHeader) return null;
        int packed = modifier - ModifierHeader, precision = packed >> 16 & 0xFFFF, scale = packed & 0x7FF;
        return (scale & 0x400) == 0 && precision <= FieldType.MaxPrecision && scale <= precision ? FieldType.Decimal(precision, scale)
            : null;
    }

    public static string Declare(FieldType type) => type.Kind switch
    {
        FieldKind.Integer => "bigint",
        FieldKind.Decimal => FormattableString.Invariant($"numeric({type.Precision},{type.Scale})"),
        FieldKind.Date => "date",
        FieldKind.Time => "time",
        FieldKind.Timestamp => "timestamp",
        FieldKind.Text => type.Length > 0 ? FormattableString.Invariant($"varchar({type.Length})") : "text",
        FieldKind.Boolean => "boolean",
        FieldKind.Binary => "bytea",
        FieldKind.Uuid => "uuid",
        _ => "double precision",
    };
}
