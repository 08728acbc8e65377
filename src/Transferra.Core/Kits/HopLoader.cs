// HopLoader.cs: reads a hop: who converts, what has to be the case, and what is written of each table. What answers to what is made of it
// by HopByMaps.cs and HopByNames.cs. Format: docs/kits.md.
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="map">The hop's map.</param>
/// <param name="versions">The kit's versions.</param>
/// <param name="kinds">The kinds there are.</param>
/// <param name="known">Settings that formulas may use beside those of the hop.</param>
internal sealed class HopLoader(DescribedMap map, IReadOnlyList<KitVersion> versions, HopKinds kinds, IReadOnlyList<NewSetting> known)
{
    private readonly DescriptionErrors _errors = map.Errors;
    private readonly List<NewSetting> _settings = [.. known];

    public Hop? Read()
    {
        DescribedMap? head = map.Map("hop", "the two versions", required: true);
        KitVersion? from = Version(head, "from"), to = Version(head, "to");
        head?.Done();
        IBeginning? beginning = kinds.BeginningOf(map);
        IMeans? means = kinds.MeansOf(map);
        HopSurroundings surroundings = HopSurroundings.Read(map, means);
        _settings.AddRange(ReadSettings(map, "new-settings", "a setting that is new"));
        string[] notes = [.. map.Texts("release-notes").Select(note => note.Value)];
        bool byMaps = means?.GoesByMaps != false, isAwaiting = byMaps && (from?.IsOfStore == true || to?.IsOfStore == true);
        Dictionary<string, string> leftOut = map.Map("tables-left-out", "old tables with the reason")?.Pairs()
            .ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value, StringComparer.OrdinalIgnoreCase) ?? [];
        _ = (map.Has("tables"), map.Has("new-records")); // read once it is known what there is
        if (from is null || to is null) return null;
        // One of several in a file is named by its versions.
        string file = map.IsWhole ? map.FileName : $"{map.FileName}, hop {from.Name} to {to.Name}";
        // What is awaited is looked at for its form only.
        if (!byMaps || isAwaiting) ReadForm(from, to);
        Dictionary<string, ShippedPolicy> shipped = ReadShipped(beginning, byMaps && !isAwaiting ? to : null);
        map.Done();
        if (beginning is null || means is null) return null;
        if (!byMaps && beginning.Name == "empty")
            map.Report("beginning", $"where others convert ({means.Name}), the new store begins as a copy of the old one, or of the "
                + "one that the vendor's new program made (vendor-made)");
        if (byMaps && to.IsOfStore && beginning.IsVendorMade)
            map.Report("beginning", $"maps into a store that the vendor made need the tables of version {to.Name} that they go into; "
                + "describe them with their columns in its version file (kit draft writes them from the vendor's store)");
        var answer = new Correspondence(from, to, [], leftOut, [], file) { IsByOthers = !byMaps, Shipped = shipped };
        var maps = new HopByMaps(map, kinds, _settings);
        if (isAwaiting) answer = answer with { Awaiting = maps };
        else if (byMaps) answer = maps.Of(answer, from, to, _errors);
        return new Hop(beginning, means, answer, _settings, file)
        {
            ReleaseNotes = notes,
            Surroundings = surroundings,
            ByNames = byMaps ? null : new HopByNames(map, kinds, _settings)
        };
    }

    private void ReadForm(KitVersion from, KitVersion to)
    {
        _errors.StoreIsUnknown = true;
        var form = new HopLoader(map, [from, to], kinds, _settings);
        foreach (DescribedMap table in map.Maps("tables", "what becomes of an old table")) form.ReadTable(table, from, to);
        foreach (DescribedMap record in map.Maps("new-records", "a record that is new")) form.ReadNewRecord(record, to);
        _errors.StoreIsUnknown = false;
    }

    /// <summary>What has to be answered in office.yaml.</summary>
    public static List<NewSetting> ReadSettings(DescribedMap map, string key, string what)
    {
        var settings = new List<NewSetting>();
        foreach (DescribedMap setting in map.Maps(key, what))
        {
            settings.Add(new NewSetting(setting.Text("name").Value, setting.Text("question").Value,
                [.. setting.Texts("choices").Select(c => c.Value)]));
            setting.Done();
        }
        return settings;
    }

    // In the order of ShippedPolicy.
    private static readonly string[] PolicyWords = ["replace", "keep", "merge", "renumber", "refuse"];

    private Dictionary<string, ShippedPolicy> ReadShipped(IBeginning? beginning, KitVersion? to)
    {
        var shipped = new Dictionary<string, ShippedPolicy>(StringComparer.OrdinalIgnoreCase);
        foreach ((PlacedText table, PlacedText word) in map.Map("shipped", "what becomes of records that the vendor ships")?.Pairs() ?? [])
        {
            if (beginning is { IsVendorMade: false }) table.Report(_errors, "only a store that the vendor made has records that it ships; "
                + "say beginning: vendor-made");
            if (to is not null && to.Table(table.Value) is null)
                table.Report(_errors, $"there is no table {table} in version {to.Name}");
            int at = Array.IndexOf(PolicyWords, word.Value);
            if (at >= 0) shipped[table.Value] = (ShippedPolicy)at;
            else word.Report(_errors, $"\"{word}\" is not known here; it can be: {string.Join(", ", PolicyWords)}");
        }
        return shipped;
    }

    private KitVersion? Version(DescribedMap? head, string key)
    {
        if (head is null) return null;
        PlacedText name = head.Text(key);
        KitVersion? version = versions.FirstOrDefault(version => version.Name == name.Value);
        if (version is null && name.Value.Length > 0)
            name.Report(_errors, $"the kit has no version {name}; it has {string.Join(", ", versions.Select(known => known.Name))}");
        return version;
    }

    /// <summary>What becomes of one old table.</summary>
    internal TableMap? ReadTable(DescribedMap table, KitVersion from, KitVersion to)
    {
        PlacedText name = table.Text("from");
        if (Names.Table(name, from.Tables, _errors, $"in version {from.Name}") is not { } old) return null;
        var used = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        List<LookupMap> lookups = ReadLookups(table, old, from.Tables, used, _errors);
        var scope = new ExpressionScope(old.Name, old.Columns, [.. lookups.Select(lookup => lookup.Shape)],
            _settings.ToDictionary(setting => setting.Name, _ => ""));
        var targets = new List<TargetMap>();
        DescribedMap? into = table.Map("into", "new tables");
        if (into is { Keys.Count: 0 })
            into.Report($"the records of {old.Name} go nowhere; name the new table that takes them, or list {old.Name} under "
                + "\"tables-left-out\" with the reason");
        foreach (string targetName in into?.Keys ?? [])
        {
            PlacedText placed = into!.KeyText(targetName);
            DescribedMap? columns = into.Map(targetName, "columns");
            if (Names.Table(placed, to.Tables, _errors, $"in version {to.Name}") is { } target && columns is not null)
                targets.Add(new TargetMap(target, ReadColumns(columns, target, scope, used)));
        }
        Dictionary<string, string> columnsLeftOut = ReadColumnsLeftOut(table, old, used);
        var rowsLeftOut = new List<RowsLeftOut>();
        foreach (DescribedMap rule in table.Maps("rows-left-out", "records left out"))
        {
            PlacedText where = rule.Text("where");
            string because = rule.Text("because").Value;
            rule.Done();
            if (PlacedExpression.Parse(where, _errors) is not { } condition) continue;
            if (PlacedExpression.Compile(where, _errors, () => new ExpressionCompiler(scope).CompileCondition(condition)) is null) continue;
            Note(condition, used);
            rowsLeftOut.Add(new RowsLeftOut(condition, because));
        }
        string? exactCopies = null;
        if (table.Map("exact-copies", "what becomes of exact copies") is { } copies)
        {
            PlacedText keep = copies.Text("keep");
            if (keep.Value is not ("first" or "")) keep.Report(_errors, "\"keep\" can be: first");
            exactCopies = copies.Text("because").Value;
            copies.Done();
            if (old.Key.Count == 0 && !_errors.StoreIsUnknown) table.Report("exact-copies",
                $"exact copies are told by the key, and version {from.Name} declares none for {old.Name}");
        }
        Combining? combining = ReadCombining(table, old, used);
        table.Done();
        return new TableMap(old, targets, lookups, columnsLeftOut, rowsLeftOut, exactCopies, combining);
    }

    /// <summary>Lookups of a table's expressions.</summary>
    /// <param name="table">The map that has them.</param>
    /// <param name="old">The table that asks.</param>
    /// <param name="tables">Those that may be asked.</param>
    /// <param name="used">Receives the columns that keys are made of.</param>
    /// <param name="errors">Receives mistakes.</param>
    internal static List<LookupMap> ReadLookups(DescribedMap table, TableShape old, IReadOnlyList<TableShape> tables,
        HashSet<string> used, DescriptionErrors errors)
    {
        var lookups = new List<LookupMap>();
        DescribedMap? map = table.Map("lookups", "lookups");
        foreach (string name in map?.Keys ?? [])
        {
            DescribedMap? lookup = map!.Map(name, $"the lookup {name}");
            if (lookup is null) continue;
            PlacedText key = lookup.Text("by");
            PlacedText? tableName = lookup.Optional("table"), on = lookup.Optional("on");
            DescribedMap? codes = lookup.Map("codes", "old code: new code");
            lookup.Done();
            if (PlacedExpression.Parse(key, errors) is not { } parsed) continue;
            var scope = new ExpressionScope(old.Name, old.Columns, [], new Dictionary<string, string>());
            Kernel? kernel = PlacedExpression.Compile(key, errors, () => new ExpressionCompiler(scope).Compile(parsed));
            if (kernel is null) continue;
            Note(parsed, used);
            if (codes is not null)
            {
                if (kernel.Type.Kind != FieldKind.Text) key.Report(errors, $"a code list is asked with text, this is {kernel.Type}");
                (string, string)[] list = [.. codes.Pairs().Select(pair => (pair.Key.Value, pair.Value.Value))];
                lookups.Add(new LookupMap(new LookupShape(name, [new ColumnShape("code", FieldType.Text)], parsed, FieldType.Text,
                    IsCodeList: true), null, "", list));
                continue;
            }
            if (tableName is null || on is null)
            {
                lookup.Report("a lookup has \"codes\", or \"table\" and \"on\"");
                continue;
            }
            if (Names.Table(tableName, tables, errors) is not { } other) continue;
            if (other.OrdinalOf(on.Value) < 0) on.Report(errors, $"the table {other.Name} has no column {on}");
            else
            {
                FieldType keyType = other.Columns[other.OrdinalOf(on.Value)].Type;
                if (kernel.Type.Kind != keyType.Kind) key.Report(errors, $"{other.Name}.{on} is {keyType}, but this is {kernel.Type}");
                else lookups.Add(new LookupMap(new LookupShape(name, other.Columns, parsed, keyType, IsCodeList: false), other, on.Value,
                    []));
            }
        }
        return lookups;
    }

    private List<ColumnMap> ReadColumns(DescribedMap columns, TableShape target, ExpressionScope scope, HashSet<string> used)
    {
        var maps = new List<ColumnMap>();
        foreach (string name in columns.Keys)
        {
            PlacedText placed = columns.KeyText(name);
            PlacedText? value, changes = null, comparedWith = null;
            if (columns.IsMap(name))
            {
                DescribedMap rule = columns.Map(name, $"the column {name}")!;
                value = rule.Text("is");
                changes = rule.Text("changes");
                comparedWith = rule.Optional("compared-with");
                rule.Done();
            }
            else value = columns.Optional(name);
            if (value is null) continue;
            int ordinal = target.OrdinalOf(name);
            if (ordinal < 0)
            {
                string[] known = [.. target.Columns.Select(column => column.Name)];
                string meant = Names.Meant(name, known);
                _errors.NotThere(placed, $"there is no column {name} in {target.Name}{meant}{(meant.Length > 0 ? " Its" : "; its")} "
                    + $"columns are {string.Join(", ", known)}");
            }
            if (PlacedExpression.Parse(value, _errors) is not { } parsed) continue;
            Note(parsed, used);
            if (ordinal < 0) continue;
            if (PlacedExpression.Compile(value, _errors, () => new ExpressionCompiler(scope).CompileFor(parsed,
                target.Columns[ordinal])) is not { } kernel) continue;
            if (!target.Columns[ordinal].IsPrivate && parsed.ColumnReferences.FirstOrDefault(column => column.Lookup is null
                && scope.Columns.Any(old => old.IsPrivate && string.Equals(old.Name, column.Name,
                    StringComparison.OrdinalIgnoreCase))) is { } hidden)
                placed.Report(_errors, $"this gets its value from the private column {hidden.Name}; list {target.Name}.{name} under "
                    + "private in the new version too");
            string? compared = CheckRule(value, parsed, kernel, changes, comparedWith, scope);
            maps.Add(new ColumnMap(target.Columns[ordinal], parsed, changes?.Value, compared));
        }
        return [.. maps.OrderBy(map => target.OrdinalOf(map.Column.Name))];
    }

    // A value that is only put in another form (a column, a cast, a lookup's key) carries the record. One that can alter a text must
    // say by which rule, so that the records it changed can be counted and the reason shown.
    private string? CheckRule(PlacedText value, Expression parsed, Kernel kernel, PlacedText? changes, PlacedText? comparedWith,
        ExpressionScope scope)
    {
        string blame = ExpressionCompiler.Blame(parsed);
        ColumnShape? source = scope.Columns.FirstOrDefault(column => string.Equals(column.Name, comparedWith?.Value ?? blame,
            StringComparison.OrdinalIgnoreCase));
        if (changes is null)
        {
            bool alters = kernel.Type.Kind == FieldKind.Text && source?.Type.Kind == FieldKind.Text && !IsReexpression(parsed);
            if (alters) value.Report(_errors,
                "this can alter the text; write {is: ..., changes: why} so that the changed records are counted");
            return null;
        }
        if (source is null) value.Report(_errors,
            "a rule that changes values says which old column they are compared with; add compared-with: COLUMN");
        return source?.Name;
    }

    private static bool IsReexpression(Expression expression) => expression switch
    {
        ColumnReference { Lookup: null } => true,
        Cast cast => IsReexpression(cast.Operand),
        _ => !expression.ColumnReferences.Any(column => column.Lookup is null),
    };

    private Dictionary<string, string> ReadColumnsLeftOut(DescribedMap table, TableShape old, HashSet<string> used)
    {
        var columns = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach ((PlacedText column, PlacedText because) in table.Map("columns-left-out", "old columns with the reason")?.Pairs() ?? [])
        {
            if (old.OrdinalOf(column.Value) < 0) _errors.NotThere(column, Names.NoColumn(old, column.Value));
            else if (used.Contains(column.Value)) column.Report(_errors,
                $"the column {column} is used and left out; it can only be one of them");
            if (because.Value.Length == 0) because.Report(_errors, "a column is left out for a reason; write it here");
            columns[column.Value] = because.Value;
        }
        used.UnionWith(columns.Keys);
        return columns;
    }

    private Combining? ReadCombining(DescribedMap table, TableShape old, HashSet<string> used)
    {
        if (table.Map("lines-combined", "how several records become one") is not { } combine) return null;
        IReadOnlyList<PlacedText> by = combine.Texts("by");
        PlacedText text = combine.Text("text");
        string separator = combine.Optional("separator")?.Value ?? " ", because = combine.Text("because").Value;
        combine.Done();
        int ordinal = old.OrdinalOf(text.Value);
        if (ordinal < 0 || old.Columns[ordinal].Type.Kind != FieldKind.Text) _errors.NotThere(text,
            $"\"{text}\" is not a text column of {old.Name}");
        bool isStartOfKey = by.Count > 0 && by.Count < old.Key.Count && by.Select(c => c.Value).SequenceEqual(old.Key.Take(by.Count),
            StringComparer.OrdinalIgnoreCase);
        if (!isStartOfKey && !_errors.StoreIsUnknown)
            combine.Report($"\"by\" names the first columns of the key of {old.Name} ({string.Join(", ", old.Key)}), but "
            + "not all of them");
        used.UnionWith(old.Key);
        return new Combining([.. by.Select(c => c.Value)], text.Value, separator, because);
    }

    /// <summary>A record that is new.</summary>
    internal NewRecord? ReadNewRecord(DescribedMap record, KitVersion to)
    {
        PlacedText into = record.Text("into");
        string because = record.Text("because").Value;
        DescribedMap? columns = record.Map("columns", "columns", required: true);
        record.Done();
        if (Names.Table(into, to.Tables, _errors, $"in version {to.Name}") is not { } target || columns is null) return null;
        var scope = new ExpressionScope("a new record", [], [], _settings.ToDictionary(setting => setting.Name, _ => ""));
        return new NewRecord(target, ReadColumns(columns, target, scope, []), because);
    }

    private static void Note(Expression expression, HashSet<string> used) =>
        used.UnionWith(expression.ColumnReferences.Where(column => column.Lookup is null).Select(column => column.Name));
}
