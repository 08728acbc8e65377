// HopByNames.cs: what answers to what where others convert: tables and columns of the same name, in any case, and what the hop says that
// differs. It is known only when both stores are there.
// Holds: (1) every old table and column is in a map, left out with a reason, or listed as gone; (2) every table and column that only the
// new store has is listed as added.
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="words">The hop's file.</param>
/// <param name="kinds">The kinds there are.</param>
/// <param name="settings">Answers that formulas may use.</param>
internal sealed class HopByNames(DescribedMap words, HopKinds kinds, IReadOnlyList<NewSetting> settings)
{
    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>What answers to what between two stores.</summary>
    /// <param name="hop">As the kit has it.</param>
    /// <param name="from">The old version, with the tables and columns that the old store has.</param>
    /// <param name="to">The new version, with those that the new store has.</param>
    /// <exception cref="TransferraException">What the hop says does not fit what is there.</exception>
    public Correspondence Of(Correspondence hop, KitVersion from, KitVersion to)
    {
        int mistakes = words.Errors.Count;
        var loader = new HopLoader(words, [from, to], kinds, settings);
        var maps = new List<TableMap>();
        var gone = new List<NamedPart>();
        foreach (DescribedMap said in words.Maps("tables", "what becomes of an old table"))
            if (loader.ReadTable(said, from, to) is { } read)
            {
                TableMap map = WithRules(read);
                if (maps.Any(known => known.From == map.From))
                    said.Report($"the table {map.From.Name} has two entries; put them into one");
                maps.Add(WithNames(map, to, gone));
            }
        NewRecord[] added = [.. words.Maps("new-records", "a record that is new").Select(record => loader.ReadNewRecord(record, to))
            .OfType<NewRecord>()];
        foreach (string unknown in hop.TablesLeftOut.Keys.Where(name => from.Table(name) is null))
            words.Report("tables-left-out", $"there is no table {unknown} in version {from.Name}");
        if (words.Errors.Count > mistakes)
            throw new TransferraException("the hop does not fit the stores: " + string.Join("; ", words.Errors.Since(mistakes)),
                "Correct it, then convert again.");
        foreach (TableShape table in from.Tables.Where(table => !hop.TablesLeftOut.Keys.Any(name => Same(name, table.Name))
            && !maps.Any(map => Same(map.From.Name, table.Name))))
        {
            if (to.Table(table.Name) is not { } same) gone.Add(new NamedPart(table.Name, ""));
            else maps.Add(WithNames(new TableMap(table, [new TargetMap(same, [])], [], new Dictionary<string, string>(), [], null,
                null), to, gone));
        }
        if (maps.SelectMany(map => map.Into).GroupBy(target => target.Table.Name).FirstOrDefault(same => same.Count() > 1) is { } twice)
            throw new TransferraException($"{hop.File}: the new table {twice.Key} is fed by several old tables; that is not possible in "
                + $"one "
                + "hop yet", "A table of its own name goes into it without being named; leave out one of them with a reason.");
        return hop with
        {
            From = from,
            To = to with { Tables = [.. maps.SelectMany(map => map.Into).Select(target => target.Table)] },
            Tables = maps,
            NewRecords = added,
            IsByOthers = true,
            Gone = gone,
            Added = [.. to.Tables.SelectMany(table => AddedIn(table, maps))],
        };
    }

    // A text that replaces all that stood in a column of its name is a rule, by which the records it changes are counted.
    private static TableMap WithRules(TableMap map) => map with
    {
        Into = [.. map.Into.Select(target => target with
        {
            Columns = [.. target.Columns.Select(column => column.Changes is null && column.Column.Type.Kind == FieldKind.Text
                && !column.Value.ColumnReferences.Any() && map.From.OrdinalOf(column.Column.Name) is >= 0 and int at
                && map.From.Columns[at].Type.Kind == FieldKind.Text
                ? column with { Changes = $"{column.Column.Name} is set", ComparedWith = map.From.Columns[at].Name } : column)]
        })]
    };

    private static IEnumerable<NamedPart> AddedIn(TableShape table, List<TableMap> maps)
    {
        if (maps.SelectMany(map => map.Into).FirstOrDefault(target => Same(target.Table.Name, table.Name)) is not { } target)
            return [new NamedPart(table.Name, "")];
        return table.Columns.Where(column => target.Table.OrdinalOf(column.Name) < 0)
            .Select(column => new NamedPart(table.Name, column.Name));
    }

    // Adds the columns that answer to each other by their names, and takes those out of the new table that nothing old answers to.
    private static TableMap WithNames(TableMap map, KitVersion to, List<NamedPart> gone)
    {
        if (map.Into.Count == 0 && to.Table(map.From.Name) is { } same) map = map with { Into = [new TargetMap(same, [])] };
        var carried = new HashSet<string>(map.ColumnsLeftOut.Keys, StringComparer.OrdinalIgnoreCase);
        foreach (ColumnMap column in map.Into.SelectMany(target => target.Columns))
        {
            // What replaces every value of a column is said of the old one of its name, too; another column in its place says nothing of
            // it.
            if (!column.Value.ColumnReferences.Any()) carried.Add(column.Column.Name);
            carried.UnionWith(column.Value.ColumnReferences.Where(reference => reference.Lookup is null)
                .Select(reference => reference.Name));
        }
        carried.UnionWith(map.Lookups.SelectMany(lookup => lookup.Shape.Key.ColumnReferences).Select(reference => reference.Name));
        var targets = new List<TargetMap>();
        foreach (TargetMap target in map.Into)
        {
            var columns = new List<ColumnMap>(target.Columns);
            foreach (ColumnShape old in map.From.Columns.Where(old => !map.ColumnsLeftOut.Keys.Any(left => Same(left, old.Name))))
            {
                if (target.Table.OrdinalOf(old.Name) is not (>= 0 and int at)
                    || columns.Any(known => Same(known.Column.Name, old.Name))) continue;
                if (Carried(map.From, old, target.Table.Columns[at]) is { } column)
                {
                    columns.Add(column);
                    carried.Add(old.Name);
                }
                else gone.Add(new NamedPart(map.From.Name, old.Name, $"it is {old.Type} in the old store and "
                    + $"{target.Table.Columns[at].Type} in "
                    + "the new one, and the hop does not say how one becomes the other"));
            }
            columns = [.. columns.OrderBy(column => target.Table.OrdinalOf(column.Column.Name)).Select(column => Hidden(map, column))];
            targets.Add(new TargetMap(Narrowed(target.Table, columns), columns));
        }
        gone.AddRange(map.From.Columns.Where(column => !carried.Contains(column.Name)
            && !gone.Any(known => known.Table == map.From.Name && known.Column == column.Name))
            .Select(column => new NamedPart(map.From.Name, column.Name)));
        return map with { Into = targets };
    }

    // What is made of a private value is private, whatever its column is called by now.
    private static ColumnMap Hidden(TableMap map, ColumnMap column) => column.Column.IsPrivate || !column.Value.ColumnReferences
        .Any(from => from.Lookup is null && map.From.OrdinalOf(from.Name) is >= 0 and int at && map.From.Columns[at].IsPrivate) ? column
        : column with { Column = column.Column with { IsPrivate = true } };

    private static TableShape Narrowed(TableShape table, List<ColumnMap> columns)
    {
        bool Has(string name) => columns.Any(column => Same(column.Column.Name, name));
        return columns.Count == table.Columns.Count && columns.All(column => table.Columns.Contains(column.Column)) ? table : table with
        {
            Columns = [.. columns.Select(column => column.Column)],
            Key = table.Key.All(Has) ? table.Key : [],
        };
    }

    // Types that hold the same values are compared as the wider of the two; others as the new one, where values can be brought into it.
    private static ColumnMap? Carried(TableShape table, ColumnShape old, ColumnShape renewed)
    {
        Expression value = new ColumnReference(0, null, old.Name);
        FieldType type = Wider(old.Type, renewed.Type);
        ColumnShape column = type == renewed.Type && old.Required == renewed.Required ? renewed : renewed with
        {
            Type = type,
            Required = false
        };
        if (old.Type.Kind != type.Kind)
        {
            if (!HoldsAll(old.Type.Kind, type.Kind)) return null;
            value = new Cast(0, value, type, null);
        }
        try
        {
            new ExpressionCompiler(new ExpressionScope(table.Name, table.Columns, [], new Dictionary<string, string>())).CompileFor(value,
                column);
        }
        catch (ExpressionException) { return null; }
        return new ColumnMap(column, value, null, null);
    }

    // A value that loses something on the way, such as the time of a timestamp that becomes a date, would come out even all the same.
    private static bool HoldsAll(FieldKind old, FieldKind renewed) => (old, renewed) is (FieldKind.Integer, FieldKind.Decimal)
        or (FieldKind.Integer, FieldKind.Text) or (FieldKind.Date, FieldKind.Timestamp);

    /// <summary>The type that holds the values of both, where they are of one kind; otherwise the new one.</summary>
    internal static FieldType Wider(FieldType old, FieldType renewed)
    {
        if (old == renewed) return old;
        if (old.Kind == FieldKind.Text && renewed.Kind == FieldKind.Text) return FieldType.Text;
        if (old.Kind == FieldKind.Decimal && renewed.Kind == FieldKind.Decimal)
        {
            int scale = Math.Max(old.Scale, renewed.Scale);
            return FieldType.Decimal(Math.Min(38, Math.Max(old.Precision - old.Scale, renewed.Precision - renewed.Scale) + scale), scale);
        }
        return renewed;
    }
}
