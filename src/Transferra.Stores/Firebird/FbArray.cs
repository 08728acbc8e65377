// FbArray.cs: columns that hold arrays. No query delivers one as a value, but each of its elements can be asked for; written one behind the
// other they can be compared. Source: Firebird Language Reference, "Array Types", and RDB$FIELD_DIMENSIONS in its appendix.
using System.Globalization;

namespace Transferra.Stores.Firebird;

/// <summary>A column that holds arrays.</summary>
/// <param name="Table">Its table.</param>
/// <param name="Column">Its name.</param>
/// <param name="Sql">Gives all elements as one text; null when they are too many for that.</param>
internal sealed record FbArray(string Table, string Column, string? Sql)
{
    private const int MostElements = 256, MostCharacters = 30_000, NumberCharacters = 64;

    /// <summary>Those of a database.</summary>
    /// <param name="ask">Asks in the store's snapshot.</param>
    /// <param name="quote">Writes a name in the database's dialect.</param>
    public static IReadOnlyList<FbArray> In(Func<string, List<IReadOnlyList<string?>>> ask, Func<string, string> quote) =>
        [.. ask("SELECT TRIM(f.RDB$RELATION_NAME), TRIM(f.RDB$FIELD_NAME), d.RDB$DIMENSION, d.RDB$LOWER_BOUND, d.RDB$UPPER_BOUND, "
            + "IIF(t.RDB$FIELD_TYPE IN (14, 37), COALESCE(t.RDB$CHARACTER_LENGTH, t.RDB$FIELD_LENGTH), 0) FROM RDB$RELATION_FIELDS f JOIN "
            + "RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE JOIN RDB$FIELD_DIMENSIONS d ON d.RDB$FIELD_NAME = t.RDB$FIELD_NAME "
            + "WHERE COALESCE(f.RDB$SYSTEM_FLAG, 0) = 0 ORDER BY 1, 2, 3")
        .GroupBy(row => (Table: row[0]!, Column: row[1]!)).Select(array => new FbArray(array.Key.Table, array.Key.Column,
            SqlOf(quote(array.Key.Column), [.. array.Select(row => (Number(row[3]), Number(row[4])))], Number(array.First()[5]))))];

    private static int Number(string? text) => int.Parse(text ?? "0", CultureInfo.InvariantCulture);

    private static string? SqlOf(string column, IReadOnlyList<(int From, int To)> bounds, int characters)
    {
        int most = characters > 0 ? characters : NumberCharacters;
        long elements = bounds.Aggregate(1L, (product, bound) => product * (bound.To - bound.From + 1));
        if (elements > MostElements || elements * (most + 2) > MostCharacters) return null;
        IEnumerable<string> places = [""];
        foreach ((int from, int to) in bounds)
            places = places.SelectMany(place => Enumerable.Range(from, to - from + 1).Select(at => place.Length == 0
                ? at.ToString(CultureInfo.InvariantCulture) : FormattableString.Invariant($"{place},{at}")));
        string all = string.Join(" || ", places.Select(place =>
            FormattableString.Invariant($"COALESCE('[' || CAST({column}[{place}] AS VARCHAR({most})) || ']', '-')")));
        return FormattableString.Invariant($"CAST({all} AS VARCHAR({elements * (most + 2)}) CHARACTER SET OCTETS)");
    }
}
