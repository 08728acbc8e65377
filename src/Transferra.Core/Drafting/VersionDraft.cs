// VersionDraft.cs: what a store by itself tells of its version: where that stands, whose affair its columns are, codes, links, series.
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="store">What was seen of it.</param>
internal sealed partial class VersionDraft(StoreProfile store)
{
    private const int FewRecords = 500, SomeRecords = 20, MostCodes = 20;

    private const double LeastLike = 0.75, LeastWithin = 0.95;

    private const int FewestTelling = 3;

    private static readonly string[] Numbers = ["no", "nr", "num", "number"];

    /// <summary>The version.</summary>
    /// <param name="name">Its name; null to take what its first sign says.</param>
    public DraftedVersion Of(string? name)
    {
        DraftedSign[] signs = [.. Ranked()];
        return new DraftedVersion(name ?? signs.FirstOrDefault()?.Is ?? "1", store.Engine, signs, [.. store.Tables.Select(Of)], []);
    }

    /// <summary>Where a store tells its version, as well as that can be seen in its header and its small tables; null when nothing
    /// does.</summary>
    /// <param name="store">The store.</param>
    /// <param name="engine">Its engine, as office.yaml calls it.</param>
    /// <param name="tables">Its tables.</param>
    /// <param name="cancel">Stops.</param>
    public static DraftedSign? Told(IStore store, string engine, IReadOnlyList<TableShape> tables, CancellationToken cancel)
    {
        // A record says what people call the version, a header only where none does. One table after the other: nothing is kept of them.
        foreach (TableShape table in tables.Where(table => store.CountRows(table.Name) is > 0 and <= FewRecords))
            if (OfTable(TableProfile.Glimpse(store, table, cancel)).FirstOrDefault() is { } told) return told;
        return OfHeader(engine, store.Identity.HeaderFields).FirstOrDefault();
    }

    // A record says what people call the version; a header may count otherwise.
    private IEnumerable<DraftedSign> Ranked() => Signs().OrderBy(sign => sign.Says.StartsWith("header:", StringComparison.Ordinal) ? 1 : 0);

    private IEnumerable<DraftedSign> Signs() => OfHeader(store.Engine, store.Header).Concat(store.Tables.SelectMany(OfTable));

    private static IEnumerable<DraftedSign> OfHeader(string engine, IReadOnlyDictionary<string, string> header)
    {
        foreach (string field in (string[])["user_version", "application_id", "level"])
            if (header.GetValueOrDefault(field) is { Length: > 0 } value and not "0" && (field != "level" || engine == "dbf"))
                yield return new DraftedSign($"header: {field}", value, $"the store's header says {value}");
    }

    private static IEnumerable<DraftedSign> OfTable(TableProfile table)
    {
        if (table.Rows is 0 or > FewRecords) yield break;
        if (table.Rows == 1)
            foreach (ColumnProfile column in table.Columns.Where(column => IsVersion().IsMatch(column.Name) && column.Filled == 1))
                yield return new DraftedSign($"table: {YamlText.Of(table.Name)}, column: {YamlText.Of(column.Name)}, where: "
                    + YamlText.Quoted($"{Expressions.SqlName.Of(column.Name)} IS NOT NULL"), table.Kept.Vectors[column.Ordinal].Show(0),
                    $"the only record of {table.Name}")
                { Table = table.Name };
        foreach (DraftedSign sign in InRecords(table)) yield return sign;
    }

    // A record whose name is that of a version, and the first value in it that looks like one.
    private static IEnumerable<DraftedSign> InRecords(TableProfile table)
    {
        foreach (ColumnProfile naming in table.Columns.Where(column => column.Shape.Type.Kind == FieldKind.Text))
            for (int row = 0; row < table.Kept.RowCount; row++)
            {
                string name = table.Kept.Vectors[naming.Ordinal].Show(row).TrimEnd();
                if (name.Length == 0 || !(IsVersion().IsMatch(name) || IsVersion().IsMatch(table.Name))) continue;
                if (table.Columns.FirstOrDefault(column => column.Ordinal > naming.Ordinal
                    && LooksLikeVersion().IsMatch(table.Kept.Vectors[column.Ordinal].Show(row).Trim())) is not { } value) continue;
                yield return new DraftedSign($"table: {YamlText.Of(table.Name)}, column: {YamlText.Of(value.Name)}, where: "
                    + YamlText.Quoted($"{Expressions.SqlName.Of(naming.Name)} = '{name.Replace("'", "''", StringComparison.Ordinal)}'"),
                    table.Kept.Vectors[value.Ordinal].Show(row).TrimEnd(), $"the record {name} of {table.Name}")
                {
                    Table = table.Name,
                    Becomes = version => $"{YamlText.Of(value.Name)}: {{is: {YamlText.Quoted($"CASE {Expressions.SqlName.Of(naming.Name)} "
                        + $"WHEN '{name.Replace("'", "''", StringComparison.Ordinal)}' THEN "
                        + $"'{version.Replace("'", "''", StringComparison.Ordinal)}' ELSE {Expressions.SqlName.Of(value.Name)} END")}, "
                        + $"changes: data version, compared-with: {YamlText.Of(value.Name)}}}"
                };
            }
    }

    private DraftedTable Of(TableProfile table)
    {
        DraftedLine[] hidden = [.. table.Columns.Select(column => Private(table, column)).OfType<DraftedLine>()];
        bool IsHidden(ColumnProfile column) => hidden.Any(line => line.IsSure && line.Says == YamlText.Of(column.Name));
        return new DraftedTable(table.Name, table.Rows)
        {
            Key = table.Shape.Key.Count > 0 || table.Key is not [{ IsUnique: true } telling] || table.Read < SomeRecords ? []
                : [new DraftedLine(YamlText.Of(telling.Name), "no two records have the same", IsSure: table.Read == table.Rows
                    && telling.Ordinal == 0)],
            Private = hidden,
            Codes = [.. table.Columns.Where(column => !IsHidden(column) && Relation(table, column) is not { IsSure: true }).Select(column =>
                Codes(table, column)).OfType<DraftedLine>()],
            Relations = [.. table.Columns.Select(column => Relation(table, column)).OfType<DraftedLine>()],
            Series = [.. table.Columns.Select(column => Series(table, column)).OfType<DraftedLine>()],
            Seen = [.. table.Columns.Select(Seen).OfType<DraftedLine>()],
        };
    }

    private static DraftedLine? Private(TableProfile table, ColumnProfile column)
    {
        if (column.Shape.Type.Kind == FieldKind.Boolean) return null;
        if (PersonalNames.IsByItself(column.Name)) return new DraftedLine(YamlText.Of(column.Name), "by its name");
        if (PersonalNames.IsNameOfPerson(table.Name, column.Name))
            return new DraftedLine(YamlText.Of(column.Name), $"names in {table.Name}");
        if (column.Filled >= 5 && column.Personal * 10 >= column.Filled * 7 && !column.IsNumeric && column.Dates.Count == 0)
            return new DraftedLine(YamlText.Of(column.Name), FormattableString.Invariant($"{column.Personal} of {column.Filled} ")
                + "values look like mail addresses, telephone numbers or bank accounts");
        return PersonalNames.EndsAsName(column.Name) && NameLikeness.Words(column.Name).Length == 1 && column.Filled > 0
            && column.Distinct * 2 > column.Filled && column.Longest > 10
            ? new DraftedLine(YamlText.Of(column.Name), "perhaps names of people", IsSure: false) : null;
    }

    private static DraftedLine? Codes(TableProfile table, ColumnProfile column)
    {
        if (column.Shape.Type.Kind != FieldKind.Text || column.Values is not { } values || column.Longest > 12 || column.Dates.Count > 0
            || column.Filled < SomeRecords || table.Shape.Key.Contains(column.Name, StringComparer.OrdinalIgnoreCase)
            || (column.IsNumeric && column.Decimals > 0)) return null;
        string[] codes = [.. values.Keys.Where(value => value.Trim().Length > 0).Order(StringComparer.Ordinal)];
        if (codes.Length is < 2 or > MostCodes || column.Filled < codes.Length * 5 || codes.Any(code => values[code] < 2)) return null;
        return new DraftedLine($"{YamlText.Of(column.Name)}: [{string.Join(", ", codes.Select(YamlText.Quoted))}]",
            FormattableString.Invariant($"{codes.Length} different values in {column.Filled} records"));
    }

    private readonly Dictionary<ColumnProfile, DraftedLine?> _relations = [];

    // Columns that others may point to.
    private readonly (TableProfile To, ColumnProfile Key)[] _targets = [.. store.Tables.SelectMany(to => to.Columns.Where(key =>
        (key.IsUnique && key.Shape.Type.Kind is FieldKind.Integer or FieldKind.Text or FieldKind.Uuid)
        || (to.Key is [var declared] && declared == key)).Select(key => (to, key)))];

    private DraftedLine? Relation(TableProfile table, ColumnProfile column) => _relations.TryGetValue(column, out DraftedLine? known)
        ? known
        : _relations[column] = FindRelation(table, column);

    private DraftedLine? FindRelation(TableProfile table, ColumnProfile column)
    {
        if (column.Distinct < 1 || table.Shape.Relations.Any(link => link.Columns.Contains(column.Name, StringComparer.OrdinalIgnoreCase))
            || column.Shape.Type.Kind is not (FieldKind.Integer or FieldKind.Text or FieldKind.Uuid)
            || (table.Key is [var own] && own == column)) return null;
        foreach ((TableProfile to, ColumnProfile key, double likeness) in _targets.Where(to => to.To != table
            && Kits.ShapesLoader.AreComparable(column.Shape.Type, to.Key.Shape.Type) && column.MayBeWithin(to.Key, LeastWithin))
            .Select(to => (to.To, to.Key, Likeness: Math.Max(NameLikeness.Of(column.Name, to.Key.Name),
                NameLikeness.Of(column.Name, to.To.Name))))
            .Where(to => to.Likeness >= LeastLike).OrderByDescending(to => NameLikeness.Of(column.Name, to.Key.Name)))
        {
            // Every table may have an "id".
            bool isSame = string.Equals(column.Name, key.Name, StringComparison.OrdinalIgnoreCase)
                && !string.Equals(key.Name, "id", StringComparison.OrdinalIgnoreCase);
            double share = column.ShareWithin(key);
            // One or two values, such as 0, are in many a column.
            if (share < LeastWithin || (!isSame && column.Distinct < FewestTelling)) continue;
            string says = $"{{columns: [{YamlText.Of(column.Name)}], to: {YamlText.Of(to.Name)}, on: [{YamlText.Of(key.Name)}]}}";
            bool isSure = share >= 1 && column.Blanks == 0 && !column.IsCapped && (isSame || column.Distinct >= 5);
            return new DraftedLine(says, share >= 1 ? FormattableString.Invariant($"all {column.Distinct} different values are there")
                : FormattableString.Invariant($"{share:P1} of the different values are there; the others would be orphans"), isSure);
        }
        return null;
    }

    private static DraftedLine? Series(TableProfile table, ColumnProfile column)
    {
        string[] words = NameLikeness.Words(column.Name);
        if (column.Shape.Type.Kind != FieldKind.Integer || column.Filled < SomeRecords || column.IsCapped || column.Most < column.Least
            || !(words.Any(Numbers.Contains) || Numbers.Any(end => words[^1].EndsWith(end, StringComparison.Ordinal)))) return null;
        decimal span = (decimal)column.Most - column.Least + 1;
        if (column.Distinct < span * 0.98m || column.Distinct < column.Rows * 0.98) return null;
        bool hasGaps = column.Distinct < span;
        return new DraftedLine($"{{name: {YamlText.Quoted($"{column.Name} of {table.Name}")}, number: {Expressions.SqlName.Of(column.Name)}"
            + $"{(hasGaps ? ", may-have-gaps: yes" : "")}}}", FormattableString.Invariant(
                $"{column.Least} to {column.Most}, {(hasGaps ? $"{span - column.Distinct} missing" : "none missing")}"),
            table.Read == table.Rows);
    }

    private static DraftedLine? Seen(ColumnProfile column)
    {
        if (column.Shape.Type.Kind != FieldKind.Text || column.Filled < 5) return null;
        if (column.Dates.Count > 0) return new DraftedLine($"{column.Name} holds dates as {string.Join(" or ", column.Dates)}",
            "every value is one");
        return column is { IsNumeric: true, HasLeadingZeros: false, Decimals: > 0 }
            ? new DraftedLine(FormattableString.Invariant($"{column.Name} holds numbers with {column.Decimals} decimals"),
                "every value is one") : null;
    }

    [GeneratedRegex(@"\A(data|db|schema|file|format|structure|dataset|company)?[ _.-]?(ver|version|versno|verno|vers)"
        + @"([ _.-]?(no|nr|number|id))?\z", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex IsVersion();

    [GeneratedRegex(@"\Av?\d{1,8}(\.\d{1,6}){0,3}[a-z]?\z", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex LooksLikeVersion();
}
