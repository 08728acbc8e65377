// ValueRules.cs: what a new column was made of, tried on records that stand side by side: a column as it is or in another form, a date
// written otherwise, blanks cut off, codes for codes, two columns added or joined, a value of another table. Each rule is computed by the
// same expressions as a conversion, and holds only when it gives the new value in every record looked at.
// Holds: (1) a rule is sure only when every record agrees, the values differ enough to tell, and no other rule agrees as well; (2) no
// value stands in a rule but a code of columns that are not private, and what tells the version.
using System.Globalization;
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="old">The old store.</param>
/// <param name="pair">The two tables.</param>
/// <param name="aligned">Records side by side.</param>
/// <param name="isPrivate">Whether a column of a table, by their names, is people's own affair.</param>
/// <param name="tells">What tells the new version in these tables, so that they answer to each other and few records will do; null where
/// the version stands elsewhere.</param>
internal sealed class ValueRules(StoreProfile old, TablePair pair, Alignment aligned, Func<string, string, bool> isPrivate,
    string? tells)
{
    private const int MostCodes = 40, Enough = 12, MostNumeric = 12, MostTexts = 16;

    private readonly string?[][] _old = [.. aligned.Old.Vectors.Select(Shown)], _new = [.. aligned.New.Vectors.Select(Shown)];
    private readonly ExpressionCompiler _compiler = new(new ExpressionScope(pair.Old.Name, pair.Old.Shape.Columns, [],
        new Dictionary<string, string>()));

    private static string?[] Shown(Vector vector) => [.. Enumerable.Range(0, vector.Count).Select(row => vector.IsNull(row) ? null
        : vector.Show(row))];

    /// <summary>What a new column was made of; null when no rule gives all of its values.</summary>
    /// <param name="column">The new column.</param>
    public DraftedColumn? Of(ColumnProfile column)
    {
        string?[] wanted = _new[column.Ordinal];
        if (wanted.All(value => value is null)) return null;
        return AsItIs(column, wanted) ?? Dated(column, wanted) ?? Altered(column, wanted) ?? Excepted(column, wanted)
            ?? LookedUp(column, wanted) ?? Coded(column, wanted) ?? Computed(column, wanted) ?? Joined(column, wanted);
    }

    // An old column with the same values. Where several have them, the names decide, or nobody knows.
    private DraftedColumn? AsItIs(ColumnProfile column, string?[] wanted)
    {
        ColumnProfile[] same = [.. pair.Old.Columns.Where(from => IsSame(_old[from.Ordinal], wanted))
            .OrderByDescending(from => NameLikeness.Of(from.Name, column.Name)).ThenBy(from => Math.Abs(from.Ordinal - column.Ordinal))];
        if (same.Length == 0) return null;
        (ColumnProfile best, string because) = (same[0], "the same value in all " + Count());
        double likeness = NameLikeness.Of(best.Name, column.Name);
        bool isTelling = Distinct(wanted) >= 3 || likeness >= 0.6,
            isAlone = same.Length == 1 || likeness - NameLikeness.Of(same[1].Name, column.Name) >= 0.15;
        if (!isAlone) because += $"; so has {string.Join(", ", same.Skip(1).Select(other => other.Name))}";
        if (!isTelling) because += "; but hardly any differ";
        string name = SqlName.Of(best.Name);
        string cast = $"CAST({name} AS {column.Shape.Type})", filled = $"CAST(NULLIF(TRIM({name}), '') AS {column.Shape.Type})";
        // A text that becomes another text is altered, which needs a rule.
        bool areTexts = best.Shape.Type.Kind == FieldKind.Text && column.Shape.Type.Kind == FieldKind.Text;
        string? value = Tried(name, column, wanted) ? name : areTexts ? null : Tried(cast, column, wanted) ? cast
            : Tried(filled, column, wanted) ? filled : null;
        return value is null ? null : Made(column, value, because, (isTelling && isAlone && IsEnough(wanted, likeness))
            || (tells is not null && isAlone), best);
    }

    private DraftedColumn? Dated(ColumnProfile column, string?[] wanted)
    {
        if (column.Shape.Type.Kind is not (FieldKind.Date or FieldKind.Timestamp)) return null;
        foreach (ColumnProfile from in ByLikeness(column).Where(from => from.Dates.Count > 0))
            foreach (string template in from.Dates)
                foreach (string read in (string[])[SqlName.Of(from.Name), $"NULLIF(TRIM({SqlName.Of(from.Name)}), '')"])
                {
                    string value = $"CAST({read} AS DATE FORMAT '{template}')";
                    if (column.Shape.Type.Kind == FieldKind.Timestamp) value = $"CAST({value} AS TIMESTAMP)";
                    if (Tried(value, column, wanted))
                        return Made(column, value, $"the same day in all {Count()}, read as {template}", Distinct(wanted) >= 3, from);
                }
        return null;
    }

    private DraftedColumn? Altered(ColumnProfile column, string?[] wanted)
    {
        if (column.Shape.Type.Kind != FieldKind.Text) return null;
        foreach (ColumnProfile from in ByLikeness(column).Where(from => from.Shape.Type.Kind == FieldKind.Text))
            foreach ((string form, string rule) in ((string, string)[])[("TRIM(TRAILING FROM {0})", "trailing blanks removed"),
                ("TRIM({0})", "blanks removed"), ("NULLIF({0}, '')", "empty texts become no value"),
                ("NULLIF(TRIM({0}), '')", "blanks removed; nothing is left as no value"), ("UPPER({0})", "written large"),
                ("LOWER({0})", "written small"), ("UPPER(TRIM({0}))", "written large, blanks removed")])
            {
                string value = string.Format(CultureInfo.InvariantCulture, form, SqlName.Of(from.Name));
                if (!Tried(value, column, wanted)) continue;
                return Made(column, value, $"so it is in all {Count()}", Distinct(wanted) >= 3, from) with
                {
                    Changes = rule,
                    ComparedWith = from.Name
                };
            }
        return null;
    }

    // Each old value always became the same new one. The rule lists them, which is nobody's business where they are private.
    private DraftedColumn? Coded(ColumnProfile column, string?[] wanted)
    {
        if (isPrivate(pair.New.Name, column.Name)) return null;
        foreach (ColumnProfile from in ByLikeness(column).Where(from => from.Values is { Count: > 1 and <= MostCodes }
            && !isPrivate(pair.Old.Name, from.Name)
            && !from.IsNearlyUnique && from.Shape.Type.Kind is FieldKind.Text or FieldKind.Integer or FieldKind.Boolean))
        {
            if (Function(_old[from.Ordinal], wanted) is not { } codes || codes.Count < 2 || codes.Values.Distinct().Count() < 2) continue;
            bool isComplete = from.Values!.Keys.All(code => codes.ContainsKey(code));
            bool isSeenOften = codes.Keys.All(code => _old[from.Ordinal].Count(value => value == code) >= 2);
            // Two codes of a few records become two others by chance; the names, or many records, speak against it.
            bool isSure = isComplete && isSeenOften && aligned.Rows >= Enough && (NameLikeness.Of(from.Name, column.Name) >= 0.3
                || aligned.Rows >= 8 * codes.Count) && Rivals(column, wanted, from) == 0;
            string because = FormattableString.Invariant($"each of {codes.Count} values always became the same one, in all {Count()}")
                + (isComplete ? "" : "; not every value was seen");
            if (column.Shape.Type.Kind == FieldKind.Boolean && IsTrueFor(from, codes) is { } condition)
            {
                if (Tried(condition, column, wanted)) return Made(column, condition, because, isSure, from);
                continue;
            }
            if (column.Shape.Type.Kind == FieldKind.Text && from.Shape.Type.Kind == FieldKind.Text)
                return CodeList(column, from, codes, because, isSure);
            string value = $"CASE {SqlName.Of(from.Name)} {string.Concat(codes.Select(code => $"WHEN {Literal(code.Key, from)} THEN "
                + $"{Literal(code.Value, column)} "))}END";
            if (Tried(value, column, wanted)) return Made(column, value, because, isSure, from) with
            {
                Changes = column.Shape.Type.Kind == FieldKind.Text ? "codes of the new version" : "",
                ComparedWith = column.Shape.Type.Kind == FieldKind.Text ? from.Name : ""
            };
        }
        return null;
    }

    // How many other old columns would explain the codes as well.
    private int Rivals(ColumnProfile column, string?[] wanted, ColumnProfile from) => pair.Old.Columns.Count(other => other != from
        && other.Values is { Count: > 1 and <= MostCodes } && NameLikeness.Of(other.Name, column.Name) >= NameLikeness.Of(from.Name,
            column.Name) - 0.1 && Function(_old[other.Ordinal], wanted) is { Count: > 1 });

    private DraftedColumn CodeList(ColumnProfile column, ColumnProfile from, Dictionary<string, string?> codes, string because, bool isSure)
    {
        string lookup = LookupName(column.Name);
        string list = string.Join(", ", codes.Where(code => code.Value is not null).Select(code =>
            $"{YamlText.Quoted(code.Key)}: {YamlText.Quoted(code.Value!)}"));
        return Made(column, $"{lookup}.code", because, isSure && codes.Values.All(code => code is not null), from) with
        {
            Changes = "codes of the new version",
            ComparedWith = from.Name,
            Lookups = [(lookup, $"{{by: {YamlText.Of(SqlName.Of(from.Name))}, codes: {{{list}}}}}")]
        };
    }

    private static string LookupName(string column) => string.Concat(column.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c
        : '_')).Trim('_') is { Length: > 0 } plain && char.IsAsciiLetter(plain[0]) ? plain + "_of" : "value_of";

    private static string? IsTrueFor(ColumnProfile from, Dictionary<string, string?> codes)
    {
        string[] yes = [.. codes.Where(code => string.Equals(code.Value, "TRUE", StringComparison.OrdinalIgnoreCase)).Select(code =>
            Literal(code.Key, from))];
        return yes.Length == 1 ? $"{SqlName.Of(from.Name)} = {yes[0]}" : yes.Length > 1
            ? $"{SqlName.Of(from.Name)} IN ({string.Join(", ", yes)})" : null;
    }

    private static string Literal(string? value, ColumnProfile column) => value is null ? "NULL"
        : column.Shape.Type.Kind is FieldKind.Integer or FieldKind.Decimal or FieldKind.Boolean ? value
        : $"'{value.Replace("'", "''", StringComparison.Ordinal)}'";

    // The value stands in the record of another old table that an old column points to.
    private DraftedColumn? LookedUp(ColumnProfile column, string?[] wanted)
    {
        foreach (ColumnProfile from in ByLikeness(column).Where(from => from.Distinct > 1))
            foreach (TableProfile other in old.Tables.Where(other => other != pair.Old))
                foreach (ColumnProfile key in other.Columns.Where(key => key.IsUnique && Kits.ShapesLoader.AreComparable(from.Shape.Type,
                    key.Shape.Type) && key.Distinct >= from.Distinct * 0.99 && from.ShareWithin(key) >= 0.99))
                    if (LookedUp(column, wanted, from, other, key) is { } found) return found;
        return null;
    }

    private DraftedColumn? LookedUp(ColumnProfile column, string?[] wanted, ColumnProfile from, TableProfile other, ColumnProfile key)
    {
        var rows = new Dictionary<string, int>(StringComparer.Ordinal);
        for (int row = 0; row < other.Kept.RowCount; row++)
            rows.TryAdd(ColumnProfile.Canonical(other.Kept.Vectors[key.Ordinal].Show(row)), row);
        foreach (ColumnProfile value in other.Columns.Where(value => value != key))
        {
            int seen = 0;
            bool agrees = true;
            for (int row = 0; row < aligned.Rows && agrees; row++)
            {
                string? asked = _old[from.Ordinal][row];
                if (asked is null || !rows.TryGetValue(ColumnProfile.Canonical(asked), out int at)) continue;
                Vector found = other.Kept.Vectors[value.Ordinal];
                agrees = Same(found.IsNull(at) ? null : found.Show(at), wanted[row]);
                seen++;
            }
            if (!agrees || seen < 3 || seen * 2 < aligned.Rows || Distinct(wanted) < 2) continue;
            string lookup = LookupName(other.Name);
            bool areTexts = column.Shape.Type.Kind == FieldKind.Text && from.Shape.Type.Kind == FieldKind.Text;
            return Made(column, $"{lookup}.{SqlName.Of(value.Name)}", $"{value.Name} of the record of {other.Name} "
                + FormattableString.Invariant($"that {from.Name} points to, in {seen} records"),
                seen >= Enough && Distinct(wanted) >= 3, from) with
            {
                Lookups = [(lookup, $"{{by: {YamlText.Of(SqlName.Of(from.Name))}, table: {YamlText.Of(other.Name)}, on: "
                    + $"{YamlText.Of(key.Name)}}}")],
                Changes = areTexts ? $"taken from {other.Name}" : "",
                ComparedWith = areTexts ? from.Name : "",
            };
        }
        return null;
    }

    // Sums and differences of two columns, and multiples of one.
    private DraftedColumn? Computed(ColumnProfile column, string?[] wanted)
    {
        if (column.Shape.Type.Kind is not (FieldKind.Integer or FieldKind.Decimal)) return null;
        ColumnProfile[] numbers = [.. ByLikeness(column).Where(from => from.IsNumeric && from.Filled > 0
            && from.Shape.Type.Kind is FieldKind.Integer or FieldKind.Decimal or FieldKind.Text).Take(MostNumeric)];
        foreach (ColumnProfile one in numbers)
            foreach (string form in (string[])["-{0}", "{0} * 100", "{0} / 100", "ABS({0})"])
                if (Fitted(column, wanted, string.Format(CultureInfo.InvariantCulture, form, Number(one, column))) is { } value)
                    return Made(column, value, "so it comes out in all " + Count(), Distinct(wanted) >= 5, one);
        foreach (ColumnProfile first in numbers)
            foreach (ColumnProfile second in numbers.Where(second => second != first))
                foreach (string between in (string[])["-", "+", "*"])
                    if ((between == "-" || first.Ordinal < second.Ordinal) && Fitted(column, wanted, $"{Number(first, column)} {between} "
                        + Number(second, column)) is { } value)
                        return Made(column, value, "so it comes out in all " + Count(),
                            Distinct(wanted) >= 5 && aligned.Rows >= Enough, first, second);
        return null;
    }

    private static string Number(ColumnProfile from, ColumnProfile column) => from.Shape.Type.Kind != FieldKind.Text
        ? SqlName.Of(from.Name) : $"CAST({SqlName.Of(from.Name)} AS {column.Shape.Type})";

    private string? Fitted(ColumnProfile column, string?[] wanted, string value) => Tried(value, column, wanted) ? value
        : Tried($"CAST({value} AS {column.Shape.Type})", column, wanted) ? $"CAST({value} AS {column.Shape.Type})" : null;

    private DraftedColumn? Joined(ColumnProfile column, string?[] wanted)
    {
        if (column.Shape.Type.Kind != FieldKind.Text) return null;
        ColumnProfile[] texts = [.. ByLikeness(column).Where(from => from.Shape.Type.Kind == FieldKind.Text && from.Distinct > 1)
            .Take(MostTexts)];
        foreach (ColumnProfile first in texts)
            foreach (ColumnProfile second in texts.Where(second => second != first))
                foreach (string between in (string[])[" ", ", ", "-", "/", ""])
                {
                    string value = $"{SqlName.Of(first.Name)} || {(between.Length > 0 ? $"'{between}' || " : "")}{SqlName.Of(second.Name)}";
                    if (MayJoin(_old[first.Ordinal], between, _old[second.Ordinal], wanted) && Tried(value, column, wanted))
                        return Made(column, value, "so it is in all " + Count(), Distinct(wanted) >= 5, first, second) with
                        {
                            Changes = "two columns become one",
                            ComparedWith = first.Name
                        };
                }
        return null;
    }

    // One record tells most that are not, without computing all.
    private static bool MayJoin(string?[] first, string between, string?[] second, string?[] wanted)
    {
        int row = Array.FindIndex(wanted, value => value is not null);
        return row >= 0 && first[row] + between + second[row] == wanted[row];
    }

    // Settings: the same but for the record that tells the version. What else changed in them may be a key or a name, and is not written
    // down.
    private DraftedColumn? Excepted(ColumnProfile column, string?[] wanted)
    {
        if (tells is null || column.Shape.Type.Kind != FieldKind.Text || pair.Old.Key is not [{ Shape.Type.Kind: FieldKind.Text } key]
            || pair.Old.Rows > aligned.Rows) return null;
        foreach (ColumnProfile from in pair.Old.Columns.Where(from => from != key && from.Shape.Type.Kind == FieldKind.Text))
        {
            int[] others = [.. Enumerable.Range(0, aligned.Rows).Where(row => !Same(_old[from.Ordinal][row], wanted[row]))];
            if (others is not [var only] || wanted[only]?.TrimEnd() != tells) continue;
            string value = $"CASE {SqlName.Of(key.Name)} WHEN {Literal(_old[key.Ordinal][only], key)} THEN "
                + $"{Literal(wanted[only], column)} ELSE {SqlName.Of(from.Name)} END";
            if (Tried(value, column, wanted)) return Made(column, value, $"the same value in all but one of {Count()}", true, from) with
            {
                Changes = "data version",
                ComparedWith = from.Name
            };
        }
        return null;
    }

    private IEnumerable<ColumnProfile> ByLikeness(ColumnProfile column) => pair.Old.Columns.Where(from => from.Filled > 0)
        .OrderByDescending(from => NameLikeness.Of(from.Name, column.Name)).ThenByDescending(from => from.Overlap(column))
        .ThenBy(from => from.Ordinal);

    private DraftedColumn Made(ColumnProfile column, string value, string because, bool isSure, params ColumnProfile[] of) =>
        new(column.Name, value, because, isSure) { Of = [.. of.Select(from => from.Name)] };

    // What old values became, when each always became the same; null when one became two.
    private static Dictionary<string, string?>? Function(string?[] old, string?[] wanted)
    {
        var codes = new Dictionary<string, string?>(StringComparer.Ordinal);
        for (int row = 0; row < old.Length; row++)
        {
            if (old[row] is not { } code)
            {
                if (wanted[row] is not null) return null;
                continue;
            }
            if (!codes.TryGetValue(code, out string? known)) codes[code] = wanted[row];
            else if (known != wanted[row]) return null;
            if (codes.Count > MostCodes) return null;
        }
        return codes;
    }

    private string Count() => aligned.Rows == 1 ? "1 record" : string.Create(CultureInfo.InvariantCulture, $"{aligned.Rows} records");

    private bool IsEnough(string?[] wanted, double likeness) => aligned.Rows >= Enough || likeness >= 0.6 || (aligned.Rows >= 5
        && Distinct(wanted) >= 5);

    private static int Distinct(string?[] values) => values.Where(value => value is not null).Distinct().Count();

    private static bool Same(string? a, string? b) => a is null || b is null ? a is null && b is null
        : a == b || ColumnProfile.Canonical(a) == ColumnProfile.Canonical(b) && a.Length > 0 == b.Length > 0;

    private static bool IsSame(string?[] a, string?[] b)
    {
        for (int row = 0; row < a.Length; row++)
            if (!Same(string.IsNullOrWhiteSpace(a[row]) && b[row] is null ? null : a[row], b[row])) return false;
        return true;
    }

    // Whether an expression gives the new values, computed as a conversion computes it.
    private bool Tried(string text, ColumnProfile column, string?[] wanted)
    {
        try
        {
            Kernel kernel = _compiler.CompileFor(ExpressionParser.Parse(text), column.Shape with { Required = false });
            var context = new EvaluationContext(aligned.Old, []);
            context.ActivateAll();
            Vector found = kernel.Evaluate(context);
            if (context.Faults.Count > 0) return false;
            for (int row = 0; row < aligned.Rows; row++)
            {
                string? value = found.IsNull(row) ? null : found.Show(row);
                if (value != wanted[row]) return false;
            }
            return true;
        }
        catch (Exception error) when (error is ExpressionException or OverflowException or FormatException) { return false; }
    }
}
