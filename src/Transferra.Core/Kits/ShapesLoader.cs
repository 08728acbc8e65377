// ShapesLoader.cs: reads what a version says of its tables, over what they are anyway: those of another version, or those of the store.
// Holds: (1) a column that is not named is as it is; (2) a table or column that is not there is a mistake, not a new one, where the store
// says what there is.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="tables">As they are before the version says anything: those that it is the same as; none where it says all.</param>
/// <param name="isOfStore">Whether they are a store's, so that nothing can be added to them.</param>
/// <param name="errors">Receives mistakes.</param>
internal sealed class ShapesLoader(IReadOnlyList<TableShape> tables, bool isOfStore, DescriptionErrors errors)
{
    private const string NotNull = " NOT NULL";

    private readonly List<TableShape> _tables = [.. tables];
    private readonly List<(DescribedMap Said, string Table)> _said = [];

    // Links that hold for some records only, or lead to one of several tables, which no engine knows.
    private readonly List<(DescribedMap Link, DescribedMap Said)> _links = [];

    /// <summary>The tables, with all that was said.</summary>
    public List<TableShape> Tables => _tables;

    /// <summary>Takes in what a version says; the one that others are the same as comes first.</summary>
    public void Add(DescribedMap version)
    {
        foreach (PlacedText gone in version.Texts("without")) Remove(gone);
        DescribedMap? map = version.Map("tables", "tables");
        foreach (string name in map?.Keys ?? [])
        {
            if (map!.Map(name, $"the table {name}") is not { } said) continue;
            TableShape? known = _tables.FirstOrDefault(table => Names.Same(table.Name, name));
            if (known is null && !errors.StoreIsUnknown && (isOfStore || (version.Has("same-as") && !said.Has("columns"))))
            {
                map.KeyText(name).Report(errors, $"there is no table {name} {(isOfStore ? "in the store" : "in the version that this one "
                    + "is the same as")}{Names.Meant(name, _tables.Select(table => table.Name))}");
                continue;
            }
            TableShape shape = Over(known, said, name);
            if (known is not null) _tables[_tables.IndexOf(known)] = shape;
            else if (!isOfStore) _tables.Add(shape);
            _said.Add((said, name));
        }
    }

    private void Remove(PlacedText gone)
    {
        int point = gone.Value.IndexOf('.', StringComparison.Ordinal);
        int at = _tables.FindIndex(table => Names.Same(table.Name, gone.Value));
        if (at >= 0)
        {
            _tables.RemoveAt(at);
            return;
        }
        at = point < 0 ? -1 : _tables.FindIndex(table => Names.Same(table.Name, gone.Value[..point]));
        string column = gone.Value[(point + 1)..];
        if (at < 0 || _tables[at].OrdinalOf(column) < 0)
        {
            errors.NotThere(gone, $"there is no {gone} in the version that this one is the same as; \"without\" names tables, and columns "
                + "as TABLE.COLUMN");
            return;
        }
        _tables[at] = _tables[at] with
        {
            Columns = [.. _tables[at].Columns.Where(known => !Names.Same(known.Name, column))],
            Key = _tables[at].Key.Contains(column, StringComparer.OrdinalIgnoreCase) ? [] : _tables[at].Key,
            Relations = [.. _tables[at].Relations.Where(link => !link.Columns.Contains(column, StringComparer.OrdinalIgnoreCase))],
            Indexes = [.. _tables[at].Indexes.Where(index => !index.Columns.Contains(column, StringComparer.OrdinalIgnoreCase))],
            NumberedColumn = Names.Same(_tables[at].NumberedColumn ?? "", column) ? null : _tables[at].NumberedColumn,
        };
    }

    /// <summary>What the records of the tables must be like, once all that is said of the tables is known.</summary>
    public List<TableChecks> Checks(ChecksLoader loader)
    {
        var checks = new List<TableChecks>();
        foreach ((DescribedMap said, string name) in _said)
        {
            TableShape shape = _tables.FirstOrDefault(table => Names.Same(table.Name, name)) ?? new TableShape(name, [], [], []);
            TableChecks read = loader.Table(said, shape, [.. _links.Where(link => link.Said == said).Select(link => link.Link)],
                _tables);
            said.Done();
            if (read.IsEmpty) continue;
            int known = checks.FindIndex(before => before.Table.Name == shape.Name);
            if (known >= 0) checks[known] = checks[known].With(read);
            else checks.Add(read);
        }
        return checks;
    }

    // A table as it is with what is said of it.
    private TableShape Over(TableShape? known, DescribedMap table, string name)
    {
        var columns = new List<ColumnShape>(known?.Columns ?? []);
        foreach ((PlacedText column, PlacedText spec) in table.Map("columns", "columns", required: known is null && !isOfStore)
            ?.Pairs() ?? [])
            ReadColumn(columns, column, spec, known);
        var shape = new TableShape(known?.Name ?? name, columns, known?.Key ?? [], known?.Relations ?? [])
        {
            Indexes = known?.Indexes ?? [],
            NumberedColumn = known?.NumberedColumn,
            IsUndescribed = known?.IsUndescribed ?? false,
        };
        Marked(table, shape, "private", columns, column => column with { IsPrivate = true });
        Marked(table, shape, "masked-outside", columns, column => column with { IsMasked = true });
        if (table.Optional("text-encoding") is { } page && !TextPages.IsKnown(page.Value)) page.Report(errors, $"\"{page}\" is not a known "
            + $"code page; the names are utf-8, {string.Join(", ", TextEncodings.Names)}");
        IReadOnlyList<PlacedText> key = table.Texts("key");
        foreach (PlacedText part in key) Names.HasColumn(shape, part, errors);
        List<RelationShape> relations = [.. shape.Relations, .. ReadRelations(table, shape).Where(link => !shape.Relations.Any(same =>
            Names.Same(same.To, link.To) && same.Columns.SequenceEqual(link.Columns, StringComparer.OrdinalIgnoreCase)))];
        List<IndexShape> indexes = [.. shape.Indexes, .. ReadIndexes(table, shape).Where(index => !shape.Indexes.Any(same =>
            same.IsUnique == index.IsUnique && same.Columns.SequenceEqual(index.Columns, StringComparer.OrdinalIgnoreCase)))];
        PlacedText? numbered = table.Optional("numbered");
        if (numbered is not null && columns.Find(column => Names.Same(column.Name, numbered.Value)) is not { Type.Kind: FieldKind.Integer })
            errors.NotThere(numbered, $"the table {name} has no column {numbered} of whole numbers that could count itself up");
        ReadDefaults(table, shape, columns);
        ReadDeclarations(table, shape, columns);
        return shape with
        {
            Key = table.Has("key") ? [.. key.Select(part => part.Value)] : shape.Key,
            Relations = relations,
            Indexes = indexes,
            NumberedColumn = numbered?.Value ?? shape.NumberedColumn,
        };
    }

    private void ReadColumn(List<ColumnShape> columns, PlacedText column, PlacedText spec, TableShape? known)
    {
        bool required = spec.Value.EndsWith(NotNull, StringComparison.OrdinalIgnoreCase);
        string type = required ? spec.Value[..^NotNull.Length] : spec.Value;
        if (!FieldType.TryParse(type, out FieldType parsed))
            spec.Report(errors, $"\"{type}\" is not a type; the types are {FieldType.KnownNames}");
        int at = columns.FindIndex(there => Names.Same(there.Name, column.Value));
        if (at < 0 && isOfStore && known is not null) errors.NotThere(column, Names.NoColumn(known, column.Value));
        else if (at < 0) columns.Add(new ColumnShape(column.Value, parsed, required));
        // What the store does not take without a value stays so.
        else columns[at] = columns[at] with { Type = parsed, Required = required || (isOfStore && columns[at].Required) };
    }

    // Columns that a list of the table names, each changed as the list means.
    private void Marked(DescribedMap table, TableShape shape, string list, List<ColumnShape> columns, Func<ColumnShape, ColumnShape> change)
    {
        foreach (PlacedText named in table.Texts(list))
            if (Names.HasColumn(shape, named, errors))
                columns[shape.OrdinalOf(named.Value)] = change(columns[shape.OrdinalOf(named.Value)]);
    }

    private void ReadDefaults(DescribedMap table, TableShape shape, List<ColumnShape> columns)
    {
        foreach ((PlacedText column, PlacedText value) in table.Map("defaults",
            "what the engine puts in when nothing is said")?.Pairs() ?? [])
        {
            if (!Names.HasColumn(shape, column, errors)) continue;
            int ordinal = shape.OrdinalOf(column.Value);
            if (!IsLiteral(value.Value)) value.Report(errors,
                $"\"{value}\" is not a default; a default is a number, a text in single quotation marks, TRUE or FALSE");
            else columns[ordinal] = columns[ordinal] with { Default = value.Value };
        }
    }

    private void ReadDeclarations(DescribedMap table, TableShape shape, List<ColumnShape> columns)
    {
        foreach ((PlacedText column, PlacedText words) in table.Map("declared-as", "how the engine declares a column")?.Pairs() ?? [])
        {
            if (!Names.HasColumn(shape, column, errors)) continue;
            int ordinal = shape.OrdinalOf(column.Value);
            if (!IsDeclaration(words.Value)) words.Report(errors,
                $"\"{words}\" is not how a column is declared; write its type only, in the engine's own words, such as NUMERIC(10,2)");
            else columns[ordinal] = columns[ordinal] with { DeclaredAs = words.Value };
        }
    }

    private List<RelationShape> ReadRelations(DescribedMap table, TableShape shape)
    {
        var relations = new List<RelationShape>();
        foreach (DescribedMap relation in table.Maps("relations", "a link to another table"))
        {
            if (((string[])["where", "none", "to-one-of"]).Any(relation.Has))
            {
                _links.Add((relation, table));
                continue;
            }
            IReadOnlyList<PlacedText> from = relation.Texts("columns"), on = relation.Texts("on");
            PlacedText to = relation.Text("to");
            if (from.Count == 0 || from.Count != on.Count) relation.Report("\"columns\" and \"on\" name the same number of columns, "
                + "at least one");
            foreach (PlacedText column in from) Names.HasColumn(shape, column, errors);
            relations.Add(new RelationShape([.. from.Select(c => c.Value)], to.Value, [.. on.Select(c => c.Value)])
            { IsOnlySaid = isOfStore });
            relation.Done();
        }
        return relations;
    }

    private List<IndexShape> ReadIndexes(DescribedMap table, TableShape shape)
    {
        var indexes = new List<IndexShape>();
        foreach (DescribedMap index in table.Maps("indexes", "an index beside the key"))
        {
            IReadOnlyList<PlacedText> over = index.Texts("columns");
            if (over.Count == 0) index.Report("\"columns\" names at least one column");
            foreach (PlacedText column in over) Names.HasColumn(shape, column, errors);
            indexes.Add(new IndexShape("", [.. over.Select(column => column.Value)], index.IsYes("unique")));
            index.Done();
        }
        return indexes;
    }

    /// <summary>Reports links that no record could have.</summary>
    /// <param name="version">The version's map, which is to blame.</param>
    public void CheckRelations(DescribedMap version)
    {
        foreach (TableShape table in _tables.Where(table => _said.Any(said => said.Said.Has("relations") && Names.Same(said.Table,
            table.Name)) || !isOfStore))
            foreach (RelationShape relation in table.Relations)
            {
                TableShape? to = _tables.FirstOrDefault(other => Names.Same(other.Name, relation.To));
                if (to is null) version.Report("tables", $"the table {table.Name} points to {relation.To}, which is not a table of this "
                    + $"version{Names.Meant(relation.To, _tables.Select(known => known.Name))}");
                else if (relation.On.FirstOrDefault(column => to.OrdinalOf(column) < 0) is { } missing)
                    version.Report("tables", $"the table {table.Name} points to {relation.To}.{missing}, which is not one of its columns");
                else if (relation.Columns.Zip(relation.On).FirstOrDefault(pair => table.OrdinalOf(pair.First) is >= 0 and int from
                    && !AreComparable(table.Columns[from].Type, to.Columns[to.OrdinalOf(pair.Second)].Type)) is { First: not null } pair)
                    version.Report("tables", $"{table.Name}.{pair.First} and {relation.To}.{pair.Second} are of different types, so that "
                        + "no record could point to another");
            }
    }

    /// <summary>Whether values of two types can be the same.</summary>
    public static bool AreComparable(FieldType a, FieldType b) => a.Kind == b.Kind
        || (a.Kind is FieldKind.Integer or FieldKind.Decimal && b.Kind is FieldKind.Integer or FieldKind.Decimal);

    // It stands between others in a statement, and must not end it.
    private static bool IsDeclaration(string words) => words.Length is > 0 and < 200 && char.IsLetter(words[0])
        && words.All(c => char.IsLetterOrDigit(c) || c is ' ' or '_' or '(' or ')' or ',' or '\'' or '"' or '.' or '-')
        && !words.Contains("--", StringComparison.Ordinal) && words.Count(c => c == '(') == words.Count(c => c == ')');

    // What every engine understands alike.
    private static bool IsLiteral(string text) => text.ToUpperInvariant() is "TRUE" or "FALSE"
        || DecimalText.TryParse(Encoding.UTF8.GetBytes(text), FieldType.MaxPrecision, 18, out _) is null
        || (text.Length >= 2 && text[0] == '\'' && text[^1] == '\'' && text[1..^1].Replace("''", "", StringComparison.Ordinal)
            .IndexOf('\'', StringComparison.Ordinal) < 0);
}
