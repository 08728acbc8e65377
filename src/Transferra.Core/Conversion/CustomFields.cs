// CustomFields.cs: columns and tables that somebody added to a store and that no kit knows: they are carried as they are.
// Why carried: every old record and every old column is accounted for, and an office's own fields are what it would miss first.
// Holds: (1) each goes through every hop of the way under its own name, or one with a number behind it when that is taken; (2) what would
// have to be
// combined with others is not carried but stays unknown, which stops the company; (3) in a table with private columns it is private, too.
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>A column that the kit does not know.</summary>
/// <param name="Table">Its table, as the version calls it.</param>
/// <param name="Name">Its name.</param>
/// <param name="Type">What it holds, as SQL writes it.</param>
public sealed record CustomColumn(string Table, string Name, string Type)
{
    /// <summary>Whether null is not allowed.</summary>
    public bool Required { get; init; }

    /// <summary>What the engine puts in when nothing is said, where every engine takes that; null for nothing.</summary>
    public string? Default { get; init; }
}

/// <summary>A table that the kit does not know.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Columns">Its columns.</param>
/// <param name="Key">Its key; empty when it has none.</param>
public sealed record CustomTable(string Name, IReadOnlyList<CustomColumn> Columns, IReadOnlyList<string> Key)
{
    /// <summary>Its indexes, but for those that are special to their engine.</summary>
    public IReadOnlyList<IndexShape> Indexes { get => field ?? []; init; }

    /// <summary>Its links to other tables.</summary>
    public IReadOnlyList<RelationShape> Relations { get => field ?? []; init; }

    /// <summary>The column that the engine counts up; null for none.</summary>
    public string? NumberedColumn { get; init; }
}

/// <summary>What a store has beyond its kit.</summary>
public sealed record CustomFields(IReadOnlyList<CustomColumn> Columns, IReadOnlyList<CustomTable> Tables)
{
    /// <summary>Nothing.</summary>
    public static readonly CustomFields None = new([], []);

    /// <summary>Whether there is nothing.</summary>
    public bool IsEmpty => Columns.Count == 0 && Tables.Count == 0;

    /// <summary>What a store has beyond a version.</summary>
    public static CustomFields Of(IStore store, KitVersion version) => Of(store.ReadShape(), version);

    private static CustomFields Of(IReadOnlyList<TableShape> real, KitVersion version)
    {
        return new CustomFields(
            [.. version.Tables.SelectMany(table => real.FirstOrDefault(there => Same(there.Name, table.Name))?.Columns.Where(column =>
                table.OrdinalOf(column.Name) < 0).Select(column => Of(table.Name, column)) ?? [])],
            [.. real.Where(there => version.Table(there.Name) is null).Select(there => new CustomTable(there.Name,
                [.. there.Columns.Select(column => Of(there.Name, column) with { Required = column.Required })], there.Key)
            {
                Indexes = [.. there.Indexes.Where(index => !index.IsSpecial)],
                Relations = there.Relations,
                NumberedColumn = there.NumberedColumn,
            })]);
    }

    private static CustomColumn Of(string table, ColumnShape column) => new(table, column.Name, column.Type.ToString())
    {
        Default = PortableDefault.Of(column.Default, column.Type)
    };

    /// <summary>The version with them.</summary>
    public KitVersion In(KitVersion version)
    {
        if (IsEmpty) return version;
        KitVersion with = version with
        {
            Tables = [.. version.Tables.Select(table => WithColumns(table, version)),
            .. Tables.Where(table => version.Table(table.Name) is null)
            .Select(table => new TableShape(table.Name, [.. table.Columns.Select(column => Shape(column,
                version.IsPrivate(table.Name, column.Name)))], table.Key,
                table.Relations)
            {
                Indexes = table.Indexes,
                NumberedColumn = table.NumberedColumn,
                IsUndescribed = true,
            })]
        };
        return version.IsOfStore ? version.Over(with.Tables) : with;
    }

    private TableShape WithColumns(TableShape table, KitVersion version)
    {
        ColumnShape[] added = [.. Columns.Where(column => Same(column.Table, table.Name) && table.OrdinalOf(column.Name) < 0)
            .Select(column => Shape(column, table.Columns.Any(known => known.IsPrivate)
                || version.IsPrivate(table.Name, column.Name)))];
        return added.Length == 0 ? table : table with { Columns = [.. table.Columns, .. added] };
    }

    private static ColumnShape Shape(CustomColumn column, bool isPrivate) =>
        new(column.Name, FieldType.TryParse(column.Type, out FieldType type) ? type : FieldType.Text, column.Required, isPrivate,
            column.Default);

    /// <summary>A way with them: each hop carries them on, up to one in which others convert.</summary>
    public Way In(Way way) => IsEmpty && !way.Foreseen.Any(hop => hop.Awaiting is not null) ? way : new Way(In(way.From),
        [.. way.Hops.Zip(In(way.Foreseen), (hop, with) => hop with { Correspondence = with }), .. way.Hops.Skip(way.Foreseen.Count)]);

    /// <summary>What answers to what, hop by hop, with them.</summary>
    public IReadOnlyList<Correspondence> In(IReadOnlyList<Correspondence> way)
    {
        if (IsEmpty && !way.Any(hop => hop.Awaiting is not null)) return way;
        var extended = new List<Correspondence>();
        CustomFields at = this;
        foreach (Correspondence hop in way)
        {
            (Correspondence with, CustomFields behind) = at.Through(hop);
            extended.Add(with);
            at = behind;
        }
        return extended;
    }

    /// <summary>Whether a hop can carry a column: not when its table's records are combined, as the others' values would be lost.</summary>
    public static bool CanCarry(Correspondence hop, string table) => hop.Awaiting is not null
        || hop.TablesLeftOut.Keys.Any(name => Same(name, table))
        || hop.Tables.Any(map => Same(map.From.Name, table) && map.Combining is null);

    private (Correspondence, CustomFields) Through(Correspondence hop)
    {
        KitVersion from = In(hop.From);
        if (hop.Awaiting is { } awaiting)
        {
            Correspondence known = awaiting.Of(hop, from);
            return (known, Of(known.To.Tables, hop.To));
        }
        var columnsBehind = new List<CustomColumn>();
        var targets = new Dictionary<string, TableShape>(StringComparer.OrdinalIgnoreCase);
        var maps = new List<TableMap>();
        foreach (TableMap map in hop.Tables)
        {
            TableShape source = from.Table(map.From.Name)!;
            ColumnShape[] added = map.Combining is not null ? [] : [.. source.Columns.Skip(map.From.Columns.Count)];
            TargetMap first = map.Into[0];
            TableShape target = first.Table;
            var columns = new List<ColumnMap>(first.Columns);
            foreach (ColumnShape column in added)
            {
                ColumnShape carried = column with
                {
                    Name = Names.Free(column.Name, name => target.OrdinalOf(name) >= 0),
                    IsPrivate = column.IsPrivate
                    || target.Columns.Any(known => known.IsPrivate)
                };
                target = target with { Columns = [.. target.Columns, carried] };
                columns.Add(new ColumnMap(carried, new ColumnReference(0, null, column.Name), null, null));
                columnsBehind.Add(new CustomColumn(target.Name, carried.Name, carried.Type.ToString()) { Default = carried.Default });
            }
            targets[target.Name] = target;
            maps.Add(map with
            {
                From = map.Combining is not null ? map.From : source,
                Into = [new TargetMap(target, columns),
                .. map.Into.Skip(1)]
            });
        }
        (TableMap[] carriedTables, CustomTable[] tablesBehind, string[] unlinked) = TablesThrough(hop, from);
        maps.AddRange(carriedTables);
        foreach (TableMap map in carriedTables) targets[map.Into[0].Table.Name] = map.Into[0].Table;
        KitVersion to = hop.To with
        {
            Tables = [.. hop.To.Tables.Select(table => targets.GetValueOrDefault(table.Name) ?? table),
            .. carriedTables.Select(map => map.Into[0].Table)]
        };
        NewRecord[] records = [.. hop.NewRecords.Select(record => WithNulls(record, to))];
        return (hop with { From = from, To = to, Tables = maps, NewRecords = records, NotLinked = unlinked },
            new CustomFields(columnsBehind, tablesBehind));
    }

    private (TableMap[] Maps, CustomTable[] Behind, string[] Unlinked) TablesThrough(Correspondence hop, KitVersion from)
    {
        string NameBehind(string table) => Names.Free(table, name => hop.To.Table(name) is not null);
        var maps = new List<TableMap>();
        var behind = new List<CustomTable>();
        var unlinked = new List<string>();
        foreach (CustomTable table in Tables)
        {
            TableShape source = from.Table(table.Name)!;
            var links = new List<RelationShape>();
            foreach (RelationShape link in table.Relations)
            {
                if (Tables.Any(other => Same(other.Name, link.To))) links.Add(link with { To = NameBehind(link.To) });
                else if (DerivedTables.Followed(link, hop.MapOf(link.To)?.Into ?? []) is { } followed) links.Add(followed);
                else unlinked.Add(DerivedTables.NotLinked(source, link));
            }
            TableShape target = source with { Name = NameBehind(source.Name), Relations = links };
            maps.Add(new TableMap(source, [new TargetMap(target,
                [.. target.Columns.Select(column => new ColumnMap(column, new ColumnReference(0, null, column.Name), null, null))])], [],
                new Dictionary<string, string>(), [], null, null));
            behind.Add(table with
            {
                Name = target.Name,
                Relations = links,
                Columns = [.. table.Columns.Select(column => column with { Table = target.Name })]
            });
        }
        return ([.. maps], [.. behind], [.. unlinked]);
    }

    // A record that is new has nothing in a custom field.
    private static NewRecord WithNulls(NewRecord record, KitVersion to)
    {
        TableShape into = to.Table(record.Into.Name)!;
        return into.Columns.Count == record.Into.Columns.Count ? record
            : record with
            {
                Into = into,
                Columns = [.. record.Columns, .. into.Columns.Skip(record.Into.Columns.Count)
                .Select(column => new ColumnMap(column, new Literal(0, LiteralKind.Null, ""), null, null))]
            };
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>As a line of a journal.</summary>
    public string Written() => JsonSerializer.Serialize(this, CustomFieldsJson.Default.CustomFields);

    /// <summary>From a line of a journal; nothing when there is none.</summary>
    public static CustomFields Read(string? written) => written is null ? None : JsonSerializer.Deserialize(written,
        CustomFieldsJson.Default.CustomFields) ?? None;
}

/// <summary>Custom fields in a line of a journal.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(CustomFields))]
internal sealed partial class CustomFieldsJson : JsonSerializerContext;
