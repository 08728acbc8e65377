// SqliteTypes.cs: how each type is declared and kept in a SQLite store; the table stands in docs/types.md.
// Why own declared types for decimals: SQLite has no exact decimal, and a column declared DECIMAL turns "12.50" into a double.
// A name with INT in it gives integer affinity, so DECIMAL_INT(14,2) keeps whole cents, which the engine itself adds up exactly.
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal static partial class SqliteTypes
{
    private const string ScaledPrefix = "DECIMAL_INT(", TextPrefix = "DECIMAL_TEXT(";

    // 18 digits always fit the engine's 64-bit integers.
    private const int MostScaledDigits = 18;

    public static string Declare(FieldType type) => type.Kind switch
    {
        FieldKind.Decimal => string.Create(CultureInfo.InvariantCulture,
            $"{(type.Precision <= MostScaledDigits ? ScaledPrefix : TextPrefix)}{type.Precision},{type.Scale})"),
        FieldKind.Text when type.Length == 0 => "TEXT",
        FieldKind.Double => "DOUBLE",
        FieldKind.Any => "", // a declared type would make the engine turn texts into numbers, or numbers into texts
        _ => type.ToString(),
    };

    /// <summary>Whether cells of a column hold units of 10^-scale and not the number itself.</summary>
    public static bool IsScaled(string declared) => declared.StartsWith(ScaledPrefix, StringComparison.OrdinalIgnoreCase);

    public static bool IsScaled(FieldType type) => type.Kind == FieldKind.Decimal && type.Precision <= MostScaledDigits;

    /// <summary>A column's default as its cells are kept.</summary>
    /// <param name="column">The column of a new table.</param>
    /// <param name="value">The default as SQL writes it.</param>
    public static string Kept(ColumnShape column, string value) => column.DeclaredAs is null && IsScaled(column.Type)
        && DecimalText.TryParse(Encoding.ASCII.GetBytes(value.Trim('\'')), column.Type.Precision, column.Type.Scale,
            out Int128 units) is null ? units.ToString(CultureInfo.InvariantCulture) : value;

    /// <summary>The default that a column is declared to have, as SQL writes it.</summary>
    /// <param name="declared">The column's type as it was declared.</param>
    /// <param name="kept">The default as its cells are kept; null for none.</param>
    public static string? Meant(string declared, string? kept) => kept is not null && IsScaled(declared)
        && Of(declared) is { } type && Int128.TryParse(kept, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out Int128 units)
        ? DecimalText.Format(units, type.Scale) : kept;

    /// <summary>Whether the engine gives a column's whole numbers out as floating-point ones ("Datatypes In SQLite", section 3.1, rule
    /// 4).</summary>
    public static bool IsReal(string declared)
    {
        string upper = declared.ToUpperInvariant();
        return !Holds("INT", "CHAR", "CLOB", "TEXT", "BLOB") && Holds("REAL", "FLOA", "DOUB");

        bool Holds(params string[] words) => words.Any(word => upper.Contains(word, StringComparison.Ordinal));
    }

    /// <summary>What the engine gives out for a column where a record was stored before the column was added.</summary>
    /// <param name="declared">The column's type as it was declared.</param>
    /// <param name="initial">The value it was declared to have when none is given; null for none.</param>
    /// <returns>Null when only the engine knows: the value is not a plain number or text.</returns>
    public static SqliteConstant? ConstantOf(string declared, string? initial)
    {
        if (initial is null || string.Equals(initial, "NULL", StringComparison.OrdinalIgnoreCase)) return SqliteConstant.Null;
        if (!PlainValue().IsMatch(initial)) return null;
        try
        {
            using SqliteConnection scratch = SqliteEngine.Open(":memory:", SqliteOpenMode.Memory);
            SqliteEngine.Execute(scratch, "CREATE TABLE t(k); INSERT INTO t "
                + $"VALUES (1); ALTER TABLE t ADD COLUMN c {declared} DEFAULT {initial}");
            using SqliteCommand command = scratch.CreateCommand();
            command.CommandText = "SELECT c FROM t";
            using SqliteDataReader reader = command.ExecuteReader();
            reader.Read();
            return reader.GetValue(0) switch
            {
                long whole => new SqliteConstant(SqliteNative.Integer, whole, whole, []),
                double real => new SqliteConstant(SqliteNative.Float, 0, real, []),
                string text => new SqliteConstant(SqliteNative.Text, 0, 0, Encoding.UTF8.GetBytes(text)),
                _ => null,
            };
        }
        catch (SqliteException)
        {
            return null;
        }
    }

    [GeneratedRegex(@"\A(?:[+-]?[0-9]+(?:\.[0-9]+)?|'(?:[^']|'')*')\z", RegexOptions.CultureInvariant)]
    private static partial Regex PlainValue();

    /// <summary>Whether a column turns texts of numbers into numbers, by the engine's rules of affinity, and is meant to: other words give
    /// it, too, and in a STRICT table they mean something else.</summary>
    public static bool MakesNumbers(string declared) => Holds(declared, "DEC", "NUM", "REAL", "FLOA", "DOUB")
        && !Holds(declared, "INT", "CHAR", "CLOB", "TEXT", "BLOB");

    private static bool Holds(string declared, params ReadOnlySpan<string> words)
    {
        foreach (string word in words)
            if (declared.Contains(word, StringComparison.OrdinalIgnoreCase)) return true;
        return false;
    }

    /// <summary>What a declared type holds; null where the declaration says nothing that is known, and only the values tell.</summary>
    public static FieldType? Of(string declared)
    {
        foreach (string prefix in (string[])[ScaledPrefix, TextPrefix])
            if (declared.StartsWith(prefix, StringComparison.OrdinalIgnoreCase)
                && FieldType.TryParse("DECIMAL(" + declared[prefix.Length..], out FieldType scaled)) return scaled;
        if (FieldType.TryParse(declared, out FieldType type)) return type;
        return declared.ToUpperInvariant() is "REAL" or "FLOAT" ? new FieldType(FieldKind.Double) : null;
    }

    /// <summary>What a column holds whose declaration says nothing that is known.</summary>
    /// <param name="declared">The declaration; "" for none.</param>
    /// <param name="classes">Storage classes of its values, as typeof names them; none when there are no values, or they cannot be
    /// read.</param>
    public static FieldType Of(string declared, IReadOnlyCollection<string> classes)
    {
        string[] kinds = [.. classes.Where(kind => kind != "null")];
        if (kinds.Length > 1) return new FieldType(FieldKind.Any);
        if (kinds is [var only])
            return only switch
            {
                "integer" => FieldType.Integer,
                "real" => new FieldType(FieldKind.Double),
                "blob" =>
                new FieldType(FieldKind.Binary),
                _ => FieldType.Text
            };
        // The engine's own rules of affinity ("Datatypes In SQLite", section 3.1).
        return Holds(declared, "INT") ? FieldType.Integer : Holds(declared, "CHAR", "CLOB", "TEXT") ? FieldType.Text
            : Holds(declared, "BLOB") ? new FieldType(FieldKind.Binary)
            : Holds(declared, "REAL", "FLOA", "DOUB") ? new FieldType(FieldKind.Double) : new FieldType(FieldKind.Any);
    }
}
