// ChecksLoader.cs: reads what a version says of sound data: of its tables, its books, and what may be mended. Format: docs/kits.md.
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="answers">Names of answers that formulas may use.</param>
internal sealed class ChecksLoader(IReadOnlyDictionary<string, string> answers)
{
    /// <summary>What a table's map says beside columns, key and relations.</summary>
    /// <param name="map">The table's map.</param>
    /// <param name="table">The table.</param>
    /// <param name="links">Links that hold for some records only, or lead to one of several tables.</param>
    /// <param name="tables">All tables.</param>
    public TableChecks Table(DescribedMap map, TableShape table, IReadOnlyList<DescribedMap> links, IReadOnlyList<TableShape> tables)
    {
        DescriptionErrors errors = map.Errors;
        var businessKeys = new List<BusinessKey>();
        foreach (DescribedMap alone in map.Maps("no-two", "columns in which no two records may be the same"))
        {
            IReadOnlyList<PlacedText> columns = alone.Texts("columns");
            if (columns.Count == 0) alone.Report("\"columns\" names at least one column");
            businessKeys.Add(new BusinessKey(Known(columns, table, errors), alone.Text("because").Value,
                Condition(alone.Optional("where"), table, [], errors)));
            alone.Done();
        }
        return new TableChecks(table)
        {
            BusinessKeys = businessKeys,
            Filled = Known(map.Texts("filled"), table, errors),
            Codes = Codes(map, table),
            Dates = Dates(map, table),
            Tree = Tree(map, table),
            Series = Series(map, table),
            Files = Files(map, table),
            Links = [.. links.Select(link => Link(link, table, tables)).OfType<CheckedLink>()],
        };
    }

    // Several places that it may lead to, values that mean none, and which records it is said of.
    private CheckedLink? Link(DescribedMap link, TableShape table, IReadOnlyList<TableShape> tables)
    {
        DescriptionErrors errors = link.Errors;
        IReadOnlyList<PlacedText> columns = link.Texts("columns");
        string[] none = [.. link.Texts("none").Select(value => value.Value)];
        Expression? where = Condition(link.Optional("where"), table, [], errors);
        var targets = new List<LinkTarget>();
        bool isOneOf = link.Has("to-one-of");
        foreach (DescribedMap target in isOneOf ? link.Maps("to-one-of", "a table that it may lead to") : [link])
        {
            PlacedText to = target.Text("to");
            IReadOnlyList<PlacedText> on = target.Texts("on");
            if (columns.Count == 0 || columns.Count != on.Count) target.Report("\"columns\" and \"on\" name the same number of columns, "
                + "at least one");
            if (isOneOf) target.Done();
            if (Names.Table(to, tables, errors) is { } there) targets.Add(new LinkTarget(there.Name, Known(on, there, errors)));
        }
        link.Done();
        if (isOneOf && targets.Count == 0 && !errors.StoreIsUnknown) link.Report("\"to-one-of\" names at least one table");
        List<string> from = Known(columns, table, errors);
        foreach (LinkTarget target in targets)
            if (tables.FirstOrDefault(known => Names.Same(known.Name, target.To)) is { } there && from.Zip(target.On).FirstOrDefault(pair =>
                !ShapesLoader.AreComparable(table.Columns[table.OrdinalOf(pair.First)].Type, there.Columns[there.OrdinalOf(pair.Second)]
                    .Type)) is { First: not null } pair)
                link.Report($"{table.Name}.{pair.First} and {target.To}.{pair.Second} are of different types, so that no record could "
                    + "point to another");
        return from.Count == 0 || targets.Any(target => target.On.Count != from.Count) ? null : new CheckedLink(from, targets, none, where);
    }

    private static List<string> Known(IEnumerable<PlacedText> columns, TableShape table, DescriptionErrors errors)
    {
        var known = new List<string>();
        foreach (PlacedText column in columns)
        {
            if (Names.HasColumn(table, column, errors)) known.Add(column.Value);
        }
        return known;
    }

    private static Dictionary<string, IReadOnlyList<string>> Codes(DescribedMap map, TableShape table)
    {
        var codes = new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase);
        DescribedMap? lists = map.Map("codes", "codes by column");
        foreach (string column in lists?.Keys ?? [])
        {
            if (!Names.HasColumn(table, lists!.KeyText(column), map.Errors))
            {
                _ = lists.Has(column);
                continue;
            }
            int ordinal = table.OrdinalOf(column);
            if (table.Columns[ordinal].Type.Kind is not (FieldKind.Text or FieldKind.Integer))
                lists!.Report(column, $"codes are text or whole numbers, and {column} is {table.Columns[ordinal].Type}");
            codes[column] = [.. lists!.Texts(column).Select(code => code.Value)];
        }
        return codes;
    }

    private static Dictionary<string, (long, long)> Dates(DescribedMap map, TableShape table)
    {
        var dates = new Dictionary<string, (long, long)>(StringComparer.OrdinalIgnoreCase);
        DescribedMap? ranges = map.Map("dates", "plausible days by column");
        foreach (string column in ranges?.Keys ?? [])
        {
            DescribedMap? range = ranges!.Map(column, "the first and the last plausible day");
            if (range is null) continue;
            PlacedText from = range.Text("from"), to = range.Text("to");
            range.Done();
            int ordinal = table.OrdinalOf(column);
            if (ordinal < 0 || table.Columns[ordinal].Type.Kind is not (FieldKind.Date or FieldKind.Timestamp))
                map.Errors.NotThere(ranges.KeyText(column), $"the table {table.Name} has no date column {column}");
            if (Day(from) is { } first && Day(to) is { } last) dates[column] = (first, last);
        }
        return dates;

        long? Day(PlacedText text)
        {
            if (ValueText.TryDate(Encoding.UTF8.GetBytes(text.Value), out long day)) return day;
            if (text.Value.Length > 0) text.Report(map.Errors, $"\"{text}\" is not a day; write it as 1990-01-31");
            return null;
        }
    }

    private static TreeShape? Tree(DescribedMap map, TableShape table)
    {
        if (map.Map("tree", "how records are parts of others") is not { } tree) return null;
        PlacedText parent = tree.Text("parent"), of = tree.Text("of");
        tree.Done();
        return Known([parent, of], table, map.Errors).Count == 2 ? new TreeShape(parent.Value, of.Value) : null;
    }

    private List<NumberSeries> Series(DescribedMap map, TableShape table)
    {
        var series = new List<NumberSeries>();
        foreach (DescribedMap one in map.Maps("series", "numbers that count up"))
        {
            PlacedText name = one.Text("name"), number = one.Text("number");
            List<string> by = Known(one.Texts("by"), table, map.Errors);
            bool gaps = one.IsYes("may-have-gaps");
            one.Done();
            if (Compiled(number, table, [], map.Errors) is not { } compiled) continue;
            if (compiled.Kernel.Type.Kind != FieldKind.Integer)
                number.Report(map.Errors, $"numbers that count up are INTEGER, this is {compiled.Kernel.Type}; write CAST(... AS INTEGER)");
            else series.Add(new NumberSeries(name.Value, compiled.Parsed, by, gaps));
        }
        return series;
    }

    private static List<FileLink> Files(DescribedMap map, TableShape table)
    {
        var files = new List<FileLink>();
        foreach (DescribedMap file in map.Maps("files", "a column that names a file"))
        {
            PlacedText column = file.Text("column");
            PlacedText? folder = file.Optional("in");
            file.Done();
            int ordinal = table.OrdinalOf(column.Value);
            if (ordinal < 0 || table.Columns[ordinal].Type.Kind != FieldKind.Text) map.Errors.NotThere(column,
                $"the table {table.Name} has no text column {column}");
            else files.Add(new FileLink(column.Value, folder?.Value));
        }
        return files;
    }

    private (Expression Parsed, Kernel Kernel)? Compiled(PlacedText text, TableShape table, IReadOnlyList<LookupMap> lookups,
        DescriptionErrors errors)
    {
        if (PlacedExpression.Parse(text, errors) is not { } parsed) return null;
        var scope = new ExpressionScope(table.Name, table.Columns, [.. lookups.Select(lookup => lookup.Shape)], answers);
        return PlacedExpression.Compile(text, errors, () => new ExpressionCompiler(scope).Compile(parsed)) is { } kernel
            ? (parsed, kernel) : null;
    }

    private Expression? Condition(PlacedText? text, TableShape table, IReadOnlyList<LookupMap> lookups, DescriptionErrors errors)
    {
        if (text is null || Compiled(text, table, lookups, errors) is not { } compiled) return null;
        if (compiled.Kernel.Type.Kind == FieldKind.Boolean) return compiled.Parsed;
        text.Report(errors, $"this is {compiled.Kernel.Type}, but a condition is needed");
        return null;
    }

    /// <summary>The rules of the books.</summary>
    /// <param name="map">The version's map.</param>
    /// <param name="tables">Its tables.</param>
    /// <param name="isKnown">Whether a rule of this name is passed over; null for none.</param>
    public List<BookRule> Rules(DescribedMap map, List<TableShape> tables, Func<string, bool>? isKnown = null)
    {
        var rules = new List<BookRule>();
        foreach (DescribedMap rule in map.Maps("rules", "a rule of the books"))
        {
            if (isKnown?.Invoke(rule.Text("name").Value) == true) continue;
            BookRule? read = rule.Has("holds") ? ReadRecordRule(rule, tables) : ReadGroupRule(rule, tables);
            rule.Done();
            if (read is not null) rules.Add(read);
        }
        return rules;
    }

    private RecordRule? ReadRecordRule(DescribedMap rule, List<TableShape> tables)
    {
        PlacedText name = rule.Text("name"), tableName = rule.Text("table"), holds = rule.Text("holds");
        PlacedText? where = rule.Optional("where");
        if (Names.Table(tableName, tables, rule.Errors) is not { } table)
        {
            _ = rule.Has("lookups");
            return null;
        }
        List<LookupMap> lookups = HopLoader.ReadLookups(rule, table, tables, [], rule.Errors);
        Expression? condition = Condition(holds, table, lookups, rule.Errors), which = Condition(where, table, lookups, rule.Errors);
        return condition is null ? null : new RecordRule(name.Value, table, condition, which, lookups);
    }

    private GroupRule? ReadGroupRule(DescribedMap rule, List<TableShape> tables)
    {
        PlacedText name = rule.Text("name");
        PlacedText? mustBe = rule.Optional("must-be"), tolerance = rule.Optional("tolerance");
        bool onlyCommon = rule.IsYes("only-common");
        (RuleSide Side, Kernel[] By, Kernel Sum)? side = ReadSide(rule, tables), other = null;
        if (rule.Map("equals", "the sum that it must equal") is { } otherMap)
        {
            other = ReadSide(otherMap, tables);
            otherMap.Done();
            if (mustBe is not null) mustBe.Report(rule.Errors, "a rule has \"must-be\" or \"equals\", not both");
            if (other is null) return null;
        }
        else if (mustBe is null)
        {
            rule.Report("a rule has \"must-be\", \"equals\" or \"holds\"");
            return null;
        }
        if (side is not { } first) return null;
        if (other is { } second)
        {
            if (first.By.Length != second.By.Length) rule.Report("equals", "both sides are grouped by the same number of values");
            for (int i = 0; i < Math.Min(first.By.Length, second.By.Length); i++)
                if (!ShapesLoader.AreComparable(first.By[i].Type, second.By[i].Type))
                    rule.Report("equals", $"{first.Side.ByText[i]} is {first.By[i].Type} and {second.Side.ByText[i]} is "
                        + $"{second.By[i].Type}; groups can only be the same when their types are; write CAST");
        }
        int scale = Math.Max(first.Sum.Type.Scale, other?.Sum.Type.Scale ?? 0);
        return new GroupRule(name.Value, first.Side, other?.Side, Number(mustBe, scale, rule.Errors),
            Number(tolerance, scale, rule.Errors), scale, onlyCommon);
    }

    private static Int128 Number(PlacedText? text, int scale, DescriptionErrors errors)
    {
        Int128 value = 0;
        if (text is not null && DecimalText.TryParse(Encoding.UTF8.GetBytes(text.Value), FieldType.MaxPrecision, scale,
            out value) is not null)
            text.Report(errors, $"\"{text}\" is not a number with at most {scale} decimals");
        return value;
    }

    private (RuleSide Side, Kernel[] By, Kernel Sum)? ReadSide(DescribedMap map, List<TableShape> tables)
    {
        PlacedText tableName = map.Text("table"), sum = map.Text("sum");
        PlacedText? where = map.Optional("where");
        IReadOnlyList<PlacedText> by = map.Texts("by");
        if (Names.Table(tableName, tables, map.Errors) is not { } table)
        {
            _ = map.Has("lookups");
            return null;
        }
        List<LookupMap> lookups = HopLoader.ReadLookups(map, table, tables, [], map.Errors);
        (Expression Parsed, Kernel Kernel)?[] groups = [.. by.Select(text => Compiled(text, table, lookups, map.Errors))];
        Expression? which = Condition(where, table, lookups, map.Errors);
        if (Compiled(sum, table, lookups, map.Errors) is not { } added || groups.Any(group => group is null)) return null;
        if (added.Kernel.Type.Kind is not (FieldKind.Integer or FieldKind.Decimal))
        {
            sum.Report(map.Errors, $"a sum is INTEGER or DECIMAL, this is {added.Kernel.Type}");
            return null;
        }
        return (new RuleSide(table, [.. groups.Select(group => group!.Value.Parsed)], [.. by.Select(text => text.Value)], added.Parsed,
            which)
        { Lookups = lookups },
            [.. groups.Select(group => group!.Value.Kernel)], added.Kernel);
    }

    /// <summary>What may be mended.</summary>
    public static List<Mend> Mends(DescribedMap map, List<TableShape> tables, List<BookRule> rules)
    {
        var mends = new List<Mend>();
        foreach (DescribedMap one in map.Maps("mends", "what may be put right"))
        {
            string[] kinds = [.. Mend.Names.Keys.Where(one.Has)];
            string because = one.Text("because").Value;
            IReadOnlyList<PlacedText> columns = one.Texts("columns");
            if (kinds.Length != 1) one.Report($"a mend is one of {string.Join(", ", Mend.Names.Keys)}");
            else if (ReadMend(one, Mend.Names[kinds[0]], one.Text(kinds[0]), columns, because, tables, rules) is { } mend) mends.Add(mend);
            one.Done();
        }
        return mends;
    }

    private static Mend? ReadMend(DescribedMap map, MendKind kind, PlacedText where, IReadOnlyList<PlacedText> columns, string because,
        List<TableShape> tables, List<BookRule> rules)
    {
        DescriptionErrors errors = map.Errors;
        if (kind is MendKind.RebuildIndexes or MendKind.SetPositions)
        {
            if (where.Value != "all") where.Report(errors, "this is done for the whole store; write: all");
            return new Mend(kind, null, [], null, because);
        }
        if (kind == MendKind.Recompute)
        {
            PlacedText column = map.Text("column");
            if (rules.OfType<GroupRule>().FirstOrDefault(rule => rule.Name == where.Value) is not { Other: not null } rule)
            {
                errors.NotThere(where, $"there is no rule \"{where}\" with \"equals\", by which a stored total could be recomputed");
                return null;
            }
            // The sum must be the stored column itself, or it would not be known what to write there.
            if (rule.Side.Sum is not ColumnReference { Lookup: null } stored || !string.Equals(stored.Name, column.Value,
                StringComparison.OrdinalIgnoreCase))
            {
                column.Report(errors, $"the sum of the rule \"{where}\" must be the column {column} itself");
                return null;
            }
            // Each group must be one record, or it would not be known how the total is spread over several.
            if (rule.Side.Table.Key.Count == 0 || !rule.Side.ByText.ToHashSet(StringComparer.OrdinalIgnoreCase)
                .SetEquals(rule.Side.Table.Key) || rule.Side.Where is not null)
            {
                where.Report(errors, $"the rule \"{where}\" must go by the key of {rule.Side.Table.Name} "
                    + $"({string.Join(", ", rule.Side.Table.Key)}), over all its records, for its totals to be recomputed");
                return null;
            }
            return new Mend(kind, rule.Side.Table, [column.Value], rule, because);
        }
        if (Names.Table(where, tables, errors) is not { } table) return null;
        if (kind is MendKind.DecodeAgain or MendKind.Trim)
        {
            if (columns.Count == 0) map.Report("\"columns\" names at least one column");
            foreach (PlacedText column in columns)
                if (table.OrdinalOf(column.Value) is not (>= 0 and int ordinal) || table.Columns[ordinal].Type.Kind != FieldKind.Text
                    || table.Key.Contains(column.Value, StringComparer.OrdinalIgnoreCase))
                    errors.NotThere(column, $"the table {table.Name} has no text column {column} beside its key");
        }
        if (kind == MendKind.DropCopies && table.Key.Count == 0) errors.NotThere(where,
            $"copies are told by the key, and {table.Name} has none");
        return new Mend(kind, table, [.. columns.Select(column => column.Value)], null, because);
    }
}
