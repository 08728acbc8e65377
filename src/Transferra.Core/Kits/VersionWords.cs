// VersionWords.cs: what a kit says of a version's tables, rules and totals, kept so that it can be read over the tables of a store.
// Why kept: what the store itself tells need not be written down, and is known only when it is there.
// Holds: (1) read over a store, nothing that the kit names may be missing there; (2) what a version says replaces what the version it is
// the same as says under the same name.
using System.Globalization;
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>What is said of the tables of a version.</summary>
internal sealed record SaidOfTables(List<TableShape> Tables, List<TableChecks> Checks, List<BookRule> Rules, List<Mend> Mends,
    List<ControlTotal> Totals);

/// <param name="maps">The version's map first, then those of the versions that it is the same as.</param>
/// <param name="isOfStore">Whether the tables are as a store has them.</param>
/// <param name="answers">Names of answers that formulas may use.</param>
internal sealed class VersionWords(IReadOnlyList<DescribedMap> maps, bool isOfStore, IReadOnlyDictionary<string, string> answers)
{
    /// <summary>The version's map first, then those of the versions that it is the same as.</summary>
    public IReadOnlyList<DescribedMap> Maps => maps;

    /// <summary>The maps of the versions that it is the same as, the nearest first.</summary>
    public IReadOnlyList<DescribedMap> Inherited => [.. maps.Skip(1)];

    /// <summary>Whether the tables are as a store has them.</summary>
    public bool IsOfStore => isOfStore;

    /// <summary>Columns that a list of their tables names, as TABLE.COLUMN.</summary>
    public IReadOnlyList<string> Marked(string list) => [.. maps.Select(map => map.Again(new DescriptionErrors()).Map("tables", ""))
        .OfType<DescribedMap>().SelectMany(tables => tables.Keys.SelectMany(name => tables.Map(name, "")?.Texts(list)
            .Select(column => $"{name}.{column}") ?? []))];

    /// <summary>Tables whose text is in a code page of their own.</summary>
    public IReadOnlyList<(string Table, string Page)> Pages() => [.. maps.Select(map => map.Again(new DescriptionErrors())
        .Map("tables", "")).OfType<DescribedMap>().SelectMany(tables => tables.Keys.Where(tables.IsMap).Select(name => (name,
            Page: tables.Map(name, "")?.Optional("text-encoding")?.Value))).Where(table => table.Page is not null
                && TextPages.IsKnown(table.Page)).Select(table => (table.name, table.Page!))];

    /// <summary>The version over the tables of a store.</summary>
    /// <param name="version">As the kit has it.</param>
    /// <param name="tables">The store's.</param>
    /// <exception cref="TransferraException">The kit names what the store does not have, or says of it what cannot be.</exception>
    public KitVersion Over(KitVersion version, IReadOnlyList<TableShape> tables)
    {
        var errors = new DescriptionErrors();
        KitVersion over = Over(version, tables, areAll: true, errors);
        return errors.Count == 0 ? over
            : throw new TransferraException($"the kit does not fit the store: {string.Join("; ", errors.Since(0).Distinct())}",
                "Correct it, then do it again.");
    }

    /// <summary>The version over tables.</summary>
    /// <param name="version">As the kit has it.</param>
    /// <param name="tables">The tables.</param>
    /// <param name="areAll">Whether they are all that there are; otherwise the version may add some.</param>
    /// <param name="errors">Receives mistakes.</param>
    public KitVersion Over(KitVersion version, IReadOnlyList<TableShape> tables, bool areAll, DescriptionErrors errors)
    {
        if (maps.Count == 0) return version with { Tables = tables };
        SaidOfTables said = Read(maps[0].Again(errors), areAll, tables, errors);
        return version with
        {
            Tables = said.Tables,
            Checks = said.Checks,
            Rules = said.Rules,
            Mends = said.Mends,
            ControlTotals = said.Totals
        };
    }

    /// <summary>Reads what is said.</summary>
    /// <param name="own">The version's map.</param>
    /// <param name="areOfStore">Whether the tables are a store's.</param>
    /// <param name="tables">The store's tables; none otherwise.</param>
    /// <param name="errors">Receives mistakes.</param>
    public SaidOfTables Read(DescribedMap own, bool areOfStore, IReadOnlyList<TableShape> tables, DescriptionErrors errors)
    {
        // What is wrong in the version it is the same as is told there; what only does not hold here, at the one that says so.
        var others = new DescriptionErrors { StoreIsUnknown = errors.StoreIsUnknown };
        DescribedMap[] before = [.. Inherited.Select(map => map.Again(others))];
        var shapes = new ShapesLoader(tables, areOfStore, errors);
        foreach (DescribedMap map in before.Reverse()) shapes.Add(map);
        shapes.Add(own);
        var loader = new ChecksLoader(answers);
        List<TableChecks> checks = shapes.Checks(loader);
        if (!errors.StoreIsUnknown) shapes.CheckRelations(own);
        List<BookRule> rules = loader.Rules(own, shapes.Tables);
        foreach (DescribedMap map in before)
            rules.AddRange(loader.Rules(map, shapes.Tables, name => rules.Any(rule => rule.Name == name)));
        List<Mend> mends = [.. ChecksLoader.Mends(own, shapes.Tables, rules), .. before.SelectMany(map => ChecksLoader.Mends(map,
            shapes.Tables, rules))];
        List<ControlTotal> totals = Totals(own, shapes.Tables, []);
        foreach (DescribedMap map in before) totals.AddRange(Totals(map, shapes.Tables, totals));
        if (others.Count > 0) own.Report("same-as", $"not all of it holds here: {others.Since(0)[0].What}; say it anew under the same name "
            + "in this version");
        return new SaidOfTables(shapes.Tables, checks, rules, mends, totals);
    }

    private List<ControlTotal> Totals(DescribedMap map, List<TableShape> tables, IReadOnlyList<ControlTotal> known)
    {
        var totals = new List<ControlTotal>();
        foreach (DescribedMap total in map.Maps("control-totals", "a control total"))
        {
            string name = total.Text("name").Value;
            if (known.Any(said => said.Name == name)) continue;
            PlacedText? scale = total.Optional("decimals");
            int digits = 0;
            if (scale is not null && (!int.TryParse(scale.Value, NumberStyles.None, CultureInfo.InvariantCulture, out digits)
                || digits > 18))
                scale.Report(map.Errors, "\"decimals\" is a whole number from 0 to 18");
            Dictionary<string, string> sql = total.Map("sql", "queries by engine")?.Pairs()
                .ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value) ?? [];
            foreach ((string engine, string question) in sql)
                if (StoreAddress.Engines.Contains(engine)
                    && KitQuestion.WhyNot(question) is { } why) total.Report($"{why} (sql, {engine})");
            GroupSum? sum = ReadGroupSum(total, tables, digits);
            if (sql.Count == 0 && !total.Has("table")) total.Report("a control total has \"sql\" for engines that answer it, \"table\" "
                + "for those that do not, or both");
            totals.Add(new ControlTotal(name, digits, sql, sum));
            total.Done();
        }
        return totals;
    }

    private GroupSum? ReadGroupSum(DescribedMap total, List<TableShape> tables, int scale)
    {
        PlacedText? tableName = total.Optional("table"), sum = total.Optional("sum"), where = total.Optional("where");
        IReadOnlyList<PlacedText> by = total.Texts("by");
        if (tableName is null || Names.Table(tableName, tables, total.Errors) is not { } table)
        {
            _ = total.Has("lookups");
            return null;
        }
        List<LookupMap> lookups = HopLoader.ReadLookups(total, table, tables, [], total.Errors);
        var scope = new ExpressionScope(table.Name, table.Columns, [.. lookups.Select(lookup => lookup.Shape)], answers);
        Expression[] groups = [.. by.Select(group => GroupOf(group, table, scope, total.Errors)).OfType<Expression>()];
        Expression? parsed = sum is null ? null : PlacedExpression.Parse(sum, total.Errors);
        if (parsed is not null)
        {
            Kernel? kernel = PlacedExpression.Compile(sum!, total.Errors, () => new ExpressionCompiler(scope).Compile(parsed));
            bool fits = kernel?.Type is { Kind: FieldKind.Integer } && scale == 0 || kernel?.Type is { Kind: FieldKind.Decimal } type
                && type.Scale == scale;
            if (kernel is not null && !fits)
                sum!.Report(total.Errors, $"a total with {scale} decimals adds up {(scale == 0 ? "INTEGER" : $"DECIMAL(p,{scale})")}, "
                    + $"this is {kernel.Type}");
        }
        Expression? which = where is null ? null : PlacedExpression.Parse(where, total.Errors);
        if (which is not null && PlacedExpression.Compile(where!, total.Errors, () => new ExpressionCompiler(scope)
            .CompileCondition(which)) is null) which = null;
        return new GroupSum(table, groups, parsed, which) { Lookups = lookups };
    }

    // A column by its name, whatever it looks like; otherwise an expression. What is private makes no group, as groups are shown.
    private static Expression? GroupOf(PlacedText group, TableShape table, ExpressionScope scope, DescriptionErrors errors)
    {
        Expression? parsed = table.OrdinalOf(group.Value) >= 0 ? new ColumnReference(0, null, group.Value)
            : PlacedExpression.Parse(group, errors);
        if (parsed is null || PlacedExpression.Compile(group, errors, () => new ExpressionCompiler(scope).Compile(parsed)) is null)
            return null;
        if (parsed.ColumnReferences.FirstOrDefault(column => column.Lookup is null ? !table.MayShow(column.Name)
            : scope.Lookups.First(lookup => Names.Same(lookup.Name, column.Lookup)).Columns.Any(of => Names.Same(of.Name, column.Name)
                && of.IsPrivate)) is { } hidden)
            group.Report(errors, $"a total is shown by its groups, and {hidden.Name} is private");
        return parsed;
    }

    /// <summary>A condition; null when there is none, or when it is wrong, which is then reported.</summary>
    public static Expression? Condition(PlacedText? where, TableShape table, DescriptionErrors errors)
    {
        if (where is null || PlacedExpression.Parse(where, errors) is not { } parsed) return null;
        var scope = new ExpressionScope(table.Name, table.Columns, [], new Dictionary<string, string>());
        return PlacedExpression.Compile(where, errors, () => new ExpressionCompiler(scope).CompileCondition(parsed)) is null ? null
            : parsed;
    }
}
