// SqliteTypes.cs: how each type is declared and kept in a SQLite store; the table stands in docs/types.md.
// Why own declared types for decimals: SQLite has no exact decimal, and a column declared DECIMAL turns "12.50" into a double.
// A name with INT in it gives integer affinity, so DECIMAL_INT(14,2) keeps whole cents, which the engine itself adds up exactly.
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal static class SqliteTypes
{
    private const string ScaledPrefix = "DECIMAL_INT(", TextPrefix = "DECIMAL_TEXT(";

    // 18 digits always fit the engine's 64-bit integers.
    private const int MostScaledDigits = 18;

    public static string Declare(FieldType type) => type.Kind switch
    {
        FieldKind.Decimal => FormattableString.Invariant($"{(type.Precision <= MostScaledDigits ? ScaledPrefix : TextPrefix)}{type.Precision},{type.Scale})"),
        FieldKind.Text when type.Length == 0 => "TEXT",
        FieldKind.Double => "DOUBLE",
        _ => type.ToString(),
    };

    /// <summary>Whether cells of a column hold units of 10^-scale and not the number itself.</summary>
    public static bool IsScaled(string declared) => declared.StartsWith(ScaledPrefix, StringComparison.OrdinalIgnoreCase);

    public static bool IsScaled(FieldType type) => type.Kind == FieldKind.Decimal && type.Precision <= MostScaledDigits;

    /// <summary>What a declared type holds; text where the declaration says nothing that is known.</summary>
    public static FieldType Of(string declared)
    {
        foreach (string prefix in (string[])[ScaledPrefix, TextPrefix])
            if (declared.StartsWith(prefix, StringComparison.OrdinalIgnoreCase)
                && FieldType.TryParse("DECIMAL(" + declared[prefix.Length..], out FieldType scaled)) return scaled;
        if (FieldType.TryParse(declared, out FieldType type)) return type;
        string upper = declared.ToUpperInvariant();
        return upper.Contains("INT", StringComparison.Ordinal) ? FieldType.Integer
            : upper.Contains("BLOB", StringComparison.Ordinal) ? new FieldType(FieldKind.Binary)
            : upper is "REAL" or "FLOAT" ? new FieldType(FieldKind.Double)
            : FieldType.Text;
    }
}
