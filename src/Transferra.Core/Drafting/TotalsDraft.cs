// TotalsDraft.cs: the sums and counts that a bookkeeper would compare, found by what columns are called and hold.
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="store">What was seen of it.</param>
/// <param name="version">What was drafted of it.</param>
internal sealed class TotalsDraft(StoreProfile store, DraftedVersion version)
{
    // Of two hundred tables nobody reads six hundred totals; those of the largest tables say most.
    private const int MostOfTable = 3, MostTotals = 40, MostGroups = 5000;

    private static readonly string[] Added = ["amount", "amt", "total", "net", "gross", "vat", "tax", "debit", "credit", "dr", "cr", "cost",
        "balance", "value", "qty", "quantity", "hours", "paid", "due", "sum", "fee", "charge", "onhand", "stock"];

    // A price or a rate is no sum, whatever it is counted in.
    private static readonly string[] NotAdded = ["price", "rate", "percent", "pct", "factor", "limit"];

    /// <summary>The totals.</summary>
    public IReadOnlyList<DraftedTotal> All() => [.. store.Tables.Where(table => table.Rows > 0).OrderByDescending(table =>
        table.Rows).SelectMany(Of).Take(MostTotals)];

    private IEnumerable<DraftedTotal> Of(TableProfile table)
    {
        ColumnProfile[] money = [.. table.Columns.Where(column => IsAdded(table, column)).OrderByDescending(Rank)
            .ThenBy(column => column.Ordinal).Take(MostOfTable)];
        ColumnProfile? by = Group(table, money);
        foreach (ColumnProfile column in money)
        {
            (string sum, int decimals) = SumOf(column);
            yield return new DraftedTotal($"{column.Name} of {table.Name}{(by is null ? "" : $" by {by.Name}")}", table.Name,
                by is null ? [] : [by.Name], sum, decimals, column.Shape)
            { IsInUnits = store.InUnits.Contains($"{table.Name}.{column.Name}") };
        }
        if (money.Length > 0 && table.Columns.FirstOrDefault(column => IsCode(table, column)) is { } code)
            yield return new DraftedTotal($"records of {table.Name} by {code.Name}", table.Name, [code.Name], "", 0, null);
    }

    private static int Rank(ColumnProfile column) => NameLikeness.Words(column.Name).Any(Added.Contains) ? 1 : 0;

    private bool IsAdded(TableProfile table, ColumnProfile column)
    {
        if (!column.IsNumeric || column.HasLeadingZeros || column.Filled == 0 || column.Distinct < 2
            || table.Shape.Key.Contains(column.Name, StringComparer.OrdinalIgnoreCase) || IsLink(table, column)) return false;
        string[] words = NameLikeness.Words(column.Name);
        if (words.Any(word => NotAdded.Any(not => word.EndsWith(not, StringComparison.Ordinal)))) return false;
        return column.Shape.Type.Kind switch
        {
            FieldKind.Decimal => column.Shape.Type.Scale is > 0 and <= 4 || words.Any(Added.Contains),
            FieldKind.Text => column.Decimals is > 0 and <= 4,
            FieldKind.Integer => words.Any(Added.Contains),
            _ => false
        };
    }

    private bool IsLink(TableProfile table, ColumnProfile column) => table.Shape.Relations.Any(link =>
        link.Columns.Contains(column.Name, StringComparer.OrdinalIgnoreCase)) || version.Tables.First(known => known.Table == table.Name)
        .Relations.Any(line => line.IsSure && line.Says.Contains($"[{YamlText.Of(column.Name)}]", StringComparison.Ordinal));

    private bool IsCode(TableProfile table, ColumnProfile column) => version.Tables.First(known => known.Table == table.Name).Codes
        .Any(line => line.Says.StartsWith(YamlText.Of(column.Name) + ":", StringComparison.Ordinal));

    // By period where there is one, then by what it points to, then by a code; never by what is private.
    private ColumnProfile? Group(TableProfile table, ColumnProfile[] money) => table.Columns.Where(column => !money.Contains(column)
        && !version.IsPrivate(table.Name, column.Name) && column.Distinct is > 1 and <= MostGroups && column.Distinct < Math.Max(2,
            column.Filled)
        && column.Shape.Type.Kind is FieldKind.Integer or FieldKind.Text && !table.Key.Contains(column))
        .Select(column => (Column: column, Rank: NameLikeness.Words(column.Name).Any(word => word is "period" or "year" or "month" or "pno")
            ? 3 : IsLink(table, column) ? 2 : IsCode(table, column) ? 1 : 0)).Where(found => found.Rank > 0)
        .OrderByDescending(found => found.Rank).ThenBy(found => found.Column.Ordinal).Select(found => found.Column).FirstOrDefault();

    /// <summary>What adds a column up, and its decimals.</summary>
    public static (string Sum, int Decimals) SumOf(ColumnProfile column)
    {
        string name = SqlName.Of(column.Name);
        if (column.Shape.Type.Kind == FieldKind.Integer) return (name, 0);
        if (column.Shape.Type.Kind == FieldKind.Decimal) return (name, column.Shape.Type.Scale);
        return ($"CAST(NULLIF(TRIM({name}), '') AS DECIMAL(18,{column.Decimals}))", column.Decimals);
    }

    /// <summary>The same total of the new version, by what became of its columns; null when that does not say it.</summary>
    /// <param name="total">The old one.</param>
    /// <param name="hop">What answers to what.</param>
    /// <param name="renewed">What was seen of the new store.</param>
    /// <param name="isOurs">Whether our maps make the new store, which then keeps amounts in whole units where it is a SQLite file.</param>
    public static DraftedTotal? After(DraftedTotal total, DraftedHop hop, StoreProfile renewed, bool isOurs)
    {
        // What stands twice in the old store and once in the new one is counted twice there.
        foreach (DraftedPair pair in hop.Pairs.Where(pair => pair is { IsSure: true, Several: 0 } && pair.Old == total.Table))
        {
            string?[] by = [.. total.By.Select(column => AsItIs(pair, column))];
            string? summed = total.Column is null ? "" : AsItIs(pair, total.Column.Name, mayCast: true);
            if (by.Contains(null) || summed is null) continue;
            if (summed.Length == 0) return total with { Table = pair.New, By = [.. by.Select(column => column!)] };
            if (renewed.Table(pair.New)?.Column(summed) is not { } column) continue;
            (string sum, int decimals) = SumOf(column);
            if (column.IsNumeric && decimals == total.Decimals)
                return total with
                {
                    Table = pair.New,
                    By = [.. by.Select(known => known!)],
                    Sum = sum,
                    Column = column.Shape,
                    // A column that a copy has anyway stays as it was declared.
                    IsInUnits = total.Column!.Type == column.Shape.Type && Same(pair, summed, total.Column.Name) ? total.IsInUnits
                        : isOurs || renewed.InUnits.Contains($"{pair.New}.{summed}")
                };
        }
        return null;
    }

    private static bool Same(DraftedPair pair, string column, string old) => pair.Columns.First(made => made.Column == column).Value
        == SqlName.Of(old);

    /// <summary>Totals of what was computed from several columns: the same sum over the old ones and over the new one.</summary>
    /// <param name="hop">What answers to what.</param>
    /// <param name="renewed">What was seen of the new store.</param>
    /// <param name="isOurs">Whether our maps make the new store.</param>
    public IEnumerable<(DraftedTotal Before, DraftedTotal After)> Computed(DraftedHop hop, StoreProfile renewed, bool isOurs)
    {
        foreach (DraftedPair pair in hop.Pairs.Where(pair => pair is { IsSure: true, Several: 0 }))
            foreach (DraftedColumn made in pair.Columns.Where(made => made is
            {
                IsSure: true, Of.Count: 2, Changes.Length: 0,
                Lookups.Count: 0
            }))
            {
                if (renewed.Table(pair.New)?.Column(made.Column) is not { Shape.Type.Kind: FieldKind.Decimal } column
                    || store.Table(pair.Old) is not { } old) continue;
                ColumnProfile? by = Group(old, [.. made.Of.Select(old.Column).OfType<ColumnProfile>()]);
                string? after = by is null ? null : AsItIs(pair, by.Name);
                string name = $"{column.Name} of {pair.New}{(after is null ? "" : $" by {after}")}";
                (string sum, int decimals) = SumOf(column);
                yield return (new DraftedTotal(name, pair.Old, after is null ? [] : [by!.Name], made.Value, decimals, null),
                    new DraftedTotal(name, pair.New, after is null ? [] : [after], sum, decimals, column.Shape)
                    { IsInUnits = isOurs || renewed.InUnits.Contains($"{pair.New}.{column.Name}") });
            }
    }

    private static string? AsItIs(DraftedPair pair, string column, bool mayCast = false) => pair.Columns.FirstOrDefault(made => made.IsSure
        && made.Lookups.Count == 0 && made.Changes.Length == 0 && made.Of is [var of] && of == column
        && (made.Value == SqlName.Of(column) || (mayCast && made.Value.StartsWith("CAST(", StringComparison.Ordinal))))?.Column;
}
