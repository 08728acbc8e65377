// DerivedTables.cs: the tables of a new version that nobody described, made from the old ones and from what a hop says of them.
// Holds: (1) a column is there under its own name unless it is left out, or something with a new name is made of it; (2) what is made of
// a private value is private; (3) keys, indexes and links follow the columns that are carried as they are; (4) a column becomes no
// narrower by a value that it could hold.
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="words">What the hop says; mistakes in it are told elsewhere.</param>
/// <param name="from">The old version over its store.</param>
/// <param name="hop">Which tables are left out.</param>
/// <param name="settings">Answers that formulas may use.</param>
internal sealed class DerivedTables(DescribedMap words, KitVersion from, Correspondence hop, IReadOnlyList<NewSetting> settings)
{
    private const int MostDigits = 18;

    private readonly List<(TableShape Old, TableShape New, Dictionary<string, string> Renamed)> _tables = [];

    /// <summary>The tables.</summary>
    public List<TableShape> All()
    {
        var named = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (DescribedMap entry in words.Maps("tables", "what becomes of an old table"))
        {
            if (from.Table(entry.Text("from").Value) is not { } old || !named.Add(old.Name)) continue;
            OfEntry(entry, old);
        }
        foreach (TableShape table in from.Tables.Where(table => !named.Contains(table.Name)
            && !hop.TablesLeftOut.Keys.Any(name => Names.Same(name, table.Name))))
            if (!_tables.Any(known => Names.Same(known.New.Name, table.Name)))
                _tables.Add((table, table, table.Columns.ToDictionary(column => column.Name, column => column.Name,
                    StringComparer.OrdinalIgnoreCase)));
        return [.. _tables.Select(Linked)];
    }

    private void OfEntry(DescribedMap entry, TableShape old)
    {
        var used = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        List<LookupMap> lookups = HopLoader.ReadLookups(entry, old, from.Tables, [], words.Errors);
        used.UnionWith(entry.Map("columns-left-out", "")?.Pairs().Select(pair => pair.Key.Value) ?? []);
        DescribedMap? combined = entry.Map("lines-combined", "");
        if (combined is not null) used.UnionWith(old.Key);
        DescribedMap? into = entry.Map("into", "");
        var targets = new List<(string Name, List<(string Name, Expression Value)> Columns)>();
        foreach (string name in into?.Keys ?? [old.Name])
        {
            var columns = new List<(string, Expression)>();
            foreach (string column in into?.Map(name, "")?.Keys ?? [])
                if (ValueOf(into!.Map(name, "")!, column) is { } value)
                {
                    columns.Add((column, value));
                    // What only has a part in what an old column becomes is still needed for itself, unless another table takes it.
                    if (old.OrdinalOf(column) < 0 || targets.Count > 0) used.UnionWith(ReplacedBy(value, lookups));
                }
            targets.Add((name, columns));
        }
        used.ExceptWith(combined is null ? old.Key : []);
        var scope = new ExpressionScope(old.Name, old.Columns, [.. lookups.Select(lookup => lookup.Shape)],
            settings.ToDictionary(setting => setting.Name, _ => ""));
        string[] by = [.. combined?.Texts("by").Select(column => column.Value) ?? []];
        for (int i = 0; i < targets.Count; i++)
            Derive(old, targets[i].Name, targets[i].Columns, i == 0 ? used : null, scope, combined is null ? old.Key : by, lookups);
    }

    private Expression? ValueOf(DescribedMap columns, string name) => PlacedExpression.Parse(columns.IsMap(name)
        ? columns.Map(name, "")!.Text("is") : columns.Text(name), words.Errors);

    // The columns that a value is made of, also by way of a lookup.
    private static IEnumerable<string> ReplacedBy(Expression value, List<LookupMap> lookups) => value.ColumnReferences.SelectMany(column =>
        column.Lookup is null ? [column.Name] : lookups.Where(lookup => lookup.Shape.Name == column.Lookup)
            .SelectMany(lookup => lookup.Shape.Key.ColumnReferences.Select(key => key.Name)));

    // Columns stand where the old ones stood; what is new stands behind them. used: null where the rest goes into another table.
    private void Derive(TableShape old, string name, List<(string Name, Expression Value)> said, HashSet<string>? used,
        ExpressionScope scope, IReadOnlyList<string> key, List<LookupMap> lookups)
    {
        var renamed = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        var columns = new List<ColumnShape>();
        var left = new List<(string Name, Expression Value)>(said);
        foreach (ColumnShape column in old.Columns)
        {
            int at = left.FindIndex(into => Correspondence.IsColumn(into.Value, column.Name));
            if (at < 0) at = left.FindIndex(into => Names.Same(into.Name, column.Name));
            if (at >= 0)
            {
                if (Correspondence.IsColumn(left[at].Value, column.Name)) renamed.TryAdd(column.Name, left[at].Name);
                ColumnShape made = ShapeOf(left[at].Name, left[at].Value, old, scope, lookups);
                columns.Add(Names.Same(made.Name, column.Name) ? Kept(column, made, left[at].Value) : made);
                left.RemoveAt(at);
            }
            else if (used is not null && !used.Contains(column.Name))
            {
                renamed[column.Name] = column.Name;
                columns.Add(column);
            }
        }
        columns.AddRange(left.Select(into => ShapeOf(into.Name, into.Value, old, scope, lookups)));
        string? numbered = old.NumberedColumn is { } counted && used is not null ? renamed.GetValueOrDefault(counted) : null;
        _tables.Add((old, new TableShape(name, columns, key.All(renamed.ContainsKey) ? [.. key.Select(part => renamed[part])] : [], [])
        {
            NumberedColumn = numbered,
            IsUndescribed = old.IsUndescribed && Names.Same(name, old.Name),
            Indexes = [.. old.Indexes.Where(index => !index.IsSpecial && index.Columns.All(renamed.ContainsKey))
                .Select(index => index with { Columns = [.. index.Columns.Select(column => renamed[column])] })],
        }, renamed));
    }

    private static ColumnShape ShapeOf(string name, Expression value, TableShape old, ExpressionScope scope, List<LookupMap> lookups)
    {
        if (value is ColumnReference { Lookup: null } reference && old.OrdinalOf(reference.Name) is >= 0 and int at)
            return old.Columns[at] with { Name = name };
        FieldType type;
        try { type = new ExpressionCompiler(scope).Compile(value).Type; }
        catch (ExpressionException) { type = FieldType.Text; } // told where the hop is read
        // What is computed could have more digits than any engine but one keeps; nobody's amounts do. One that has is an exception.
        if (type is { Kind: FieldKind.Decimal, Precision: > MostDigits })
            type = FieldType.Decimal(Math.Max(MostDigits, type.Scale), type.Scale);
        bool isPrivate = value.ColumnReferences.Any(from => (from.Lookup is null ? old : lookups.FirstOrDefault(lookup =>
            lookup.Shape.Name == from.Lookup)?.Table) is { } table && table.OrdinalOf(from.Name) is >= 0 and int column
            && table.Columns[column].IsPrivate);
        return new ColumnShape(name, type, false, isPrivate);
    }

    // A value that the old column of that name could hold makes it no narrower: the next one, which the new program writes, may be longer.
    // Another type is meant where it is written as one.
    private static ColumnShape Kept(ColumnShape old, ColumnShape made, Expression value)
    {
        if (value is Cast or ColumnReference || !Holds(old.Type, made.Type, value)) return made;
        return made with
        {
            Type = old.Type,
            DeclaredAs = old.DeclaredAs,
            Default = old.Default,
            Required = old.Required && value is Literal { Kind: not LiteralKind.Null }
        };
    }

    private static bool Holds(FieldType old, FieldType made, Expression value) => old.Kind switch
    {
        FieldKind.Text => made.Kind == FieldKind.Text && (old.Length == 0 || (made.Length > 0 && made.Length <= old.Length)),
        FieldKind.Decimal => (made.Kind == FieldKind.Integer && value is Literal) || (made.Kind == FieldKind.Decimal
            && made.Scale <= old.Scale && made.Precision - made.Scale <= old.Precision - old.Scale),
        _ => made.Kind == old.Kind
    };

    private TableShape Linked((TableShape Old, TableShape New, Dictionary<string, string> Renamed) table)
    {
        var links = new List<RelationShape>();
        foreach (RelationShape link in table.Old.Relations.Where(link => !link.IsOnlySaid
            && link.Columns.All(table.Renamed.ContainsKey)))
        {
            (TableShape Old, TableShape New, Dictionary<string, string> Renamed)[] to = [.. _tables.Where(other =>
                Names.Same(other.Old.Name, link.To) && link.On.All(other.Renamed.ContainsKey))];
            if (to.Length > 0) links.Add(link with
            {
                Columns = [.. link.Columns.Select(column => table.Renamed[column])],
                To = to[0].New.Name,
                On = [.. link.On.Select(column => to[0].Renamed[column])]
            });
        }
        return table.New with { Relations = links };
    }

    /// <summary>A link to a table that is carried: to where the columns it points to have gone, as they are; null when they have
    /// not.</summary>
    public static RelationShape? Followed(RelationShape link, IEnumerable<TargetMap> into)
    {
        foreach (TargetMap target in into)
        {
            string[] on = [.. link.On.Select(column => target.Columns.FirstOrDefault(known => Correspondence.IsColumn(known.Value, column))
                ?.Column.Name).OfType<string>()];
            if (on.Length == link.On.Count) return link with { To = target.Table.Name, On = on };
        }
        return null;
    }

    /// <summary>That a link has no place in the new version.</summary>
    public static string NotLinked(TableShape table, RelationShape link) => $"the link from {table.Name} "
        + $"({string.Join(", ", link.Columns)}) to {link.To} ({string.Join(", ", link.On)}): the new version has no such columns";
}
