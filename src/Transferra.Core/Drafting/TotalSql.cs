// TotalSql.cs: a control total as the engine itself computes it: a second opinion in which none of our own adding up has a hand.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

internal static class TotalSql
{
    /// <summary>The query, in whole units; null for stores that answer none.</summary>
    /// <param name="engine">The engine, as office.yaml calls it.</param>
    /// <param name="total">The total; of one column, or a count.</param>
    public static string? Of(string engine, DraftedTotal total)
    {
        if (engine is not ("sqlite" or "postgresql" or "mariadb" or "firebird")
            || (total.Column is null && total.Sum.Length > 0)) return null;
        string Name(string name) => engine == "mariadb" ? "`" + name.Replace("`", "``", StringComparison.Ordinal) + "`"
            : "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";
        string labels = string.Concat(total.By.Select(column => Name(column) + ", ")),
            sum = total.Column is null ? "COUNT(*)" : $"SUM({Units(engine, Name(total.Column.Name), total)})",
            table = engine == "postgresql" && total.Table.IndexOf('.', StringComparison.Ordinal) is > 0 and int point
                ? $"{Name(total.Table[..point])}.{Name(total.Table[(point + 1)..])}" : Name(total.Table);
        return $"SELECT {labels}{sum} FROM {table}"
            + (total.By.Count > 0 ? $" GROUP BY {string.Join(", ", total.By.Select(Name))}" : "");
    }

    // Whole units record by record, so that the engine's sum is exact.
    private static string Units(string engine, string column, DraftedTotal total)
    {
        string times = total.Decimals == 0 || total.IsInUnits ? "" : " * 1" + new string('0', total.Decimals);
        bool isText = total.Column!.Type.Kind == FieldKind.Text;
        string number = !isText ? column : engine switch
        {
            "sqlite" => $"CAST({column} AS REAL)",
            "mariadb" => string.Create(CultureInfo.InvariantCulture, $"CAST({column} AS DECIMAL(30,{total.Decimals}))"),
            _ => string.Create(CultureInfo.InvariantCulture, $"CAST(NULLIF(TRIM({column}), '') AS NUMERIC(18,{total.Decimals}))"),
        };
        return engine switch
        {
            "sqlite" => $"CAST(ROUND({number}{times}) AS INTEGER)",
            "mariadb" => $"CAST(ROUND({number}{times}) AS SIGNED)",
            _ => $"CAST(ROUND({number}{times}) AS BIGINT)",
        };
    }
}
