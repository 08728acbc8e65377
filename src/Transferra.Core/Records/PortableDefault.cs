// PortableDefault.cs: the default of a column in words that every engine here takes, from those of the engine it was read from.
// Why so few: a default that means something else on the new engine would fill books with wrong values and say nothing.
using System.Globalization;
using System.Text.RegularExpressions;

namespace Transferra.Core.Records;

/// <summary>Puts defaults into words that PostgreSQL, MariaDB, Firebird and SQLite share: numbers, texts, truth values, dates as texts, and
/// the present day and time.</summary>
public static partial class PortableDefault
{
    /// <summary>In those words.</summary>
    /// <param name="text">As the engine has it; null for none.</param>
    /// <param name="type">What the column holds.</param>
    /// <returns>Null when there is none, or when it is of that engine alone.</returns>
    public static string? Of(string? text, FieldType type)
    {
        if (text is null) return null;
        string plain = WithoutCasts(text.Trim());
        bool isText = Quoted().IsMatch(plain);
        string inside = isText ? plain[1..^1] : plain;
        return type.Kind switch
        {
            FieldKind.Integer or FieldKind.Decimal or FieldKind.Double => Number().IsMatch(inside) ? inside : null,
            FieldKind.Boolean => inside.ToUpperInvariant() switch
            {
                "TRUE" or "1" or "T" => "TRUE",
                "FALSE" or "0" or "F" => "FALSE",
                _ => null
            },
            FieldKind.Text => isText && !plain.Contains('\\', StringComparison.Ordinal) ? plain : null,
            FieldKind.Date => isText && DateOnly.TryParseExact(inside, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None,
                out _) ? plain : IsToday(plain) ? "CURRENT_DATE" : null,
            FieldKind.Timestamp => isText && DateTime.TryParseExact(inside, "yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture,
                DateTimeStyles.None, out _) ? plain : IsNow(plain) ? "CURRENT_TIMESTAMP" : null,
            _ => null,
        };
    }

    private static bool IsToday(string text) => text.ToUpperInvariant() is "CURRENT_DATE" or "CURDATE()" or "CURRENT_DATE()" or "'TODAY'";

    private static bool IsNow(string text) => text.ToUpperInvariant() is "CURRENT_TIMESTAMP" or "CURRENT_TIMESTAMP()" or "NOW()"
        or "LOCALTIMESTAMP" or "'NOW'";

    // PostgreSQL writes the type behind every text, and brackets round what is more than one word: ('x'::character varying)::text.
    private static string WithoutCasts(string text)
    {
        while (true)
        {
            string shorter = Cast().Replace(text, "");
            if (shorter is ['(', .., ')'])
            {
                string inner = shorter[1..^1].Trim();
                if (Quoted().IsMatch(Cast().Replace(inner, "")) || !inner.AsSpan().ContainsAny('(', ')', '\'')) shorter = inner;
            }
            if (shorter == text) return text;
            text = shorter;
        }
    }

    [GeneratedRegex(@"::[a-z][a-z ]*(\([0-9, ]+\))?\z", RegexOptions.CultureInvariant | RegexOptions.IgnoreCase)]
    private static partial Regex Cast();

    [GeneratedRegex(@"\A'(?:[^']|'')*'\z", RegexOptions.CultureInvariant)]
    private static partial Regex Quoted();

    [GeneratedRegex(@"\A[+-]?[0-9]+(\.[0-9]+)?\z", RegexOptions.CultureInvariant)]
    private static partial Regex Number();
}
