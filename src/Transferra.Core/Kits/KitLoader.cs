// KitLoader.cs: reads kit.yaml and versions/*.yaml; hops are read by HopLoader.cs. Format: docs/kits.md and docs/schemas.
using System.Globalization;
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>Reads kits.</summary>
public static class KitLoader
{
    /// <summary>Reads a kit's folder.</summary>
    /// <param name="folder">Full path.</param>
    /// <param name="shownAs">The folder as messages name it.</param>
    /// <param name="kinds">What hops can name as their beginning and means.</param>
    /// <param name="errors">Receives all mistakes; the kit must not be used when there are any.</param>
    /// <returns>Null when kit.yaml itself cannot be read.</returns>
    public static Kit? Load(string folder, string shownAs, HopKinds kinds, DescriptionErrors errors)
    {
        DescribedMap? map = DescribedMap.Load(Path.Combine(folder, "kit.yaml"), Path.Combine(shownAs, "kit.yaml"), "a kit", errors);
        if (map is null) return null;
        string id = map.Text("kit").Value;
        string title = map.Text("title").Value;
        List<Evidence> programEvidence = NeedsLoader.Places(map, "program-version", "version", errors);
        List<Component> components = NeedsLoader.Components(map, errors);
        List<RecordedSetting> settings = NeedsLoader.Settings(map, null, errors);
        string[] logs = [.. map.Texts("logs").Select(log => log.Value)];
        IReadOnlyList<(PlacedText? Sql, PlacedText? Header)> saying = SignsThatSayIt(map);
        string[] hidden = [.. map.Texts("private").Select(said => said.Value)];
        var versions = new List<KitVersion>();
        var signs = new Dictionary<(string Where, string Is), string>();
        foreach (PlacedText name in map.Texts("versions"))
        {
            string path = Path.Combine("versions", name.Value + ".yaml");
            DataEvidence[] said = [.. saying.Select(sign => new DataEvidence(sign.Sql?.Value, sign.Header?.Value, null, name.Value))];
            // Of a version that is told by what every version says there may be nothing else to say.
            if (said.Length > 0 && !File.Exists(Path.Combine(folder, path)))
                versions.Add(new KitVersion(name.Value, [], null, said, new Dictionary<string, string>(), [], [], []));
            else if (DescribedMap.Load(Path.Combine(folder, path), Path.Combine(shownAs, path), $"version {name}", errors) is { } version)
                versions.Add(ReadVersion(version, name.Value, folder, components, signs, said));
        }
        versions = [.. versions.Select(version => version with { Private = hidden })];
        if (versions.Count == 0 && !map.Has("versions")) map.Report("\"versions\" is missing; a kit must have it");
        var hops = new List<Hop>();
        foreach ((PlacedText? name, DescribedMap? inline) in map.TextsOrMaps("hops", "a hop"))
        {
            string path = Path.Combine("hops", name?.Value + ".yaml");
            DescribedMap? hop = inline ?? DescribedMap.Load(Path.Combine(folder, path), Path.Combine(shownAs, path), "a hop", errors);
            if (hop is not null && new HopLoader(hop, versions, kinds).Read() is { } loaded) hops.Add(loaded);
        }
        map.Done();
        return new Kit(id, title, folder, versions, hops, programEvidence) { Components = components, Settings = settings, Logs = logs };
    }

    // Where every version says itself which it is; what is said there is the version's name.
    private static IReadOnlyList<(PlacedText? Sql, PlacedText? Header)> SignsThatSayIt(DescribedMap map)
    {
        var saying = new List<(PlacedText?, PlacedText?)>();
        foreach (DescribedMap sign in map.Maps("told-by", "where the version stands"))
        {
            PlacedText? sql = sign.Optional("sql"), header = sign.Optional("header");
            sign.Done();
            if (sql is null == header is null) sign.Report("where the version stands is told by one of \"sql\" and \"header\"");
            else if (sql is not null && KitQuestion.WhyNot(sql.Value) is { } why) sql.Report(sign.Errors, why);
            saying.Add((sql, header));
        }
        return saying;
    }

    private static KitVersion ReadVersion(DescribedMap map, string name, string kitFolder, IReadOnlyList<Component> components,
        Dictionary<(string, string), string> signs, IReadOnlyList<DataEvidence> said)
    {
        DescriptionErrors errors = map.Errors;
        PlacedText stated = map.Text("version");
        if (stated.Value != name && stated.Value.Length > 0)
            stated.Report(errors, $"the file is named for version {name}, but describes version {stated}");
        PlacedText? encoding = map.Optional("text-encoding");
        if (encoding is not null && !TextEncodings.IsKnown(encoding.Value))
            encoding.Report(errors, $"\"{encoding}\" is not a known code page; the names are {string.Join(", ", TextEncodings.Names)}");
        Dictionary<string, string> headers = Pairs(map.Map("header-fields", "header fields"));
        var checks = new List<TableChecks>();
        List<TableShape> tables = ReadTables(map.Map("tables", "tables"), errors, checks);
        List<BookRule> rules = ChecksLoader.Rules(map, tables);
        List<DataEvidence> evidence = [.. said, .. map.Maps("told-by", "a sign of the version", required: said.Count == 0)
            .Select(sign => ReadSign(sign, tables, name, signs))];
        CheckRelations(map, tables);
        var version = new KitVersion(name, [.. map.Texts("programs").Select(text => text.Value)], encoding?.Value, evidence, headers,
            tables,
            rules, ReadTotals(map, tables))
        {
            Checks = [.. checks.Where(said => !said.IsEmpty)],
            Mends = ChecksLoader.Mends(map, tables, rules),
            Settings = NeedsLoader.Settings(map, setting => ReadRecord(setting, tables), errors),
            ShippedFiles = NeedsLoader.ListOfFiles(map.Optional("shipped-files"), kitFolder, errors),
            Needs = NeedsLoader.Needs(map, kitFolder, components, errors),
        };
        map.Done();
        return version;
    }

    private static DataEvidence ReadSign(DescribedMap sign, List<TableShape> tables, string version, Dictionary<(string Where, string Is),
        string> signs)
    {
        PlacedText? sql = sign.Optional("sql"), header = sign.Optional("header");
        string value = sign.Text("is").Value;
        bool inRecord = sign.Has("table");
        if (new[] { sql is not null, header is not null, inRecord }.Count(way =>
            way) != 1) sign.Report("a sign has one of \"sql\", \"header\" and \"table\"");
        else if (sql is not null && KitQuestion.WhyNot(sql.Value) is { } why) sql.Report(sign.Errors, why);
        RecordSign? record = inRecord ? ReadRecord(sign, tables) : null;
        sign.Done();
        var evidence = new DataEvidence(sql?.Value, header?.Value, record, value);
        // What two versions have in common tells neither of them.
        if ((sql ?? header) is not null || record is not null)
        {
            (string, string) told = (evidence.Where.ToUpperInvariant(), value);
            if (!signs.TryAdd(told, version) && signs[told] != version)
                sign.Report($"this sign is also one of version {signs[told]}, so that it tells neither; "
                    + "a sign is true of one version only");
        }
        return evidence;
    }

    // A value in a record: table, column and the condition that finds the record. Null when it is wrong, which is then reported.
    private static RecordSign? ReadRecord(DescribedMap map, List<TableShape> tables)
    {
        PlacedText? tableName = map.Optional("table"), column = map.Optional("column"), where = map.Optional("where");
        if (tableName is null || column is null || where is null)
        {
            map.Report("what stands in a record has \"table\", \"column\" and \"where\"");
            return null;
        }
        if (Find(tableName, tables, map.Errors) is not { } table) return null;
        if (table.OrdinalOf(column.Value) < 0)
        {
            column.Report(map.Errors, $"the table {table.Name} has no column {column}");
            return null;
        }
        if (Condition(where, table, map.Errors) is not { } condition) return null;
        string[] needed = [column.Value, .. condition.ColumnReferences.Select(reference => reference.Name)];
        return new RecordSign(table with { Columns = [.. table.Columns.Where(known => needed.Any(name => Same(name, known.Name)))] },
            column.Value, condition, where.Value);
    }

    internal static TableShape? Find(PlacedText name, IReadOnlyList<TableShape> tables, DescriptionErrors errors)
    {
        TableShape? table = tables.FirstOrDefault(table => Same(table.Name, name.Value));
        if (table is null && name.Value.Length > 0) name.Report(errors, $"there is no table {name} in this version");
        return table;
    }

    // Null when there is none, or when it is wrong, which is then reported.
    private static Expression? Condition(PlacedText? where, TableShape table, DescriptionErrors errors)
    {
        if (where is null || PlacedExpression.Parse(where, errors) is not { } parsed) return null;
        var scope = new ExpressionScope(table.Name, table.Columns, [], new Dictionary<string, string>());
        return PlacedExpression.Compile(where, errors, () => new ExpressionCompiler(scope).CompileCondition(parsed)) is null ? null
            : parsed;
    }

    private static Dictionary<string, string> Pairs(DescribedMap? map) =>
        map?.Pairs().ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value) ?? [];

    // It stands between others in a statement, and must not end it.
    private static bool IsDeclaration(string words) => words.Length is > 0 and < 200 && char.IsLetter(words[0])
        && words.All(c => char.IsLetterOrDigit(c) || c is ' ' or '_' or '(' or ')' or ',' or '\'' or '"' or '.' or '-')
        && !words.Contains("--", StringComparison.Ordinal) && words.Count(c => c == '(') == words.Count(c => c == ')');

    private static List<TableShape> ReadTables(DescribedMap? map, DescriptionErrors errors, List<TableChecks> checks)
    {
        var tables = new List<TableShape>();
        foreach (string name in map?.Keys ?? [])
        {
            DescribedMap? table = map!.Map(name, $"the table {name}");
            if (table is null) continue;
            var columns = new List<ColumnShape>();
            foreach ((PlacedText column, PlacedText spec) in table.Map("columns", "columns", required: true)?.Pairs() ?? [])
            {
                const string notNull = " NOT NULL";
                bool required = spec.Value.EndsWith(notNull, StringComparison.OrdinalIgnoreCase);
                string type = required ? spec.Value[..^notNull.Length] : spec.Value;
                if (!FieldType.TryParse(type, out FieldType parsed))
                    spec.Report(errors, $"\"{type}\" is not a type; the types are {FieldType.KnownNames}");
                columns.Add(new ColumnShape(column.Value, parsed, required));
            }
            Marked(table, name, "private", columns, column => column with { IsPrivate = true });
            Marked(table, name, "masked-outside", columns, column => column with { IsMasked = true });
            IReadOnlyList<PlacedText> key = table.Texts("key");
            foreach (PlacedText part in key)
                if (!columns.Any(column => Same(column.Name, part.Value))) part.Report(errors, $"the table {name} has no column {part}");
            List<RelationShape> relations = ReadRelations(table, name, columns, errors);
            List<IndexShape> indexes = ReadIndexes(table, name, columns, errors);
            PlacedText? numbered = table.Optional("numbered");
            if (numbered is not null && columns.Find(column => Same(column.Name, numbered.Value)) is not { Type.Kind: FieldKind.Integer })
                numbered.Report(errors, $"the table {name} has no column {numbered} of whole numbers that could count itself up");
            foreach ((PlacedText column, PlacedText value) in table.Map("defaults",
                "what the engine puts in when nothing is said")?.Pairs() ?? [])
            {
                int ordinal = columns.FindIndex(known => Same(known.Name, column.Value));
                if (ordinal < 0) column.Report(errors, $"the table {name} has no column {column}");
                else if (!IsLiteral(value.Value)) value.Report(errors,
                    $"\"{value}\" is not a default; a default is a number, a text in single quotation marks, TRUE or FALSE");
                else columns[ordinal] = columns[ordinal] with { Default = value.Value };
            }
            foreach ((PlacedText column, PlacedText words) in table.Map("declared-as", "how the engine declares a column")?.Pairs() ?? [])
            {
                int ordinal = columns.FindIndex(known => Same(known.Name, column.Value));
                if (ordinal < 0) column.Report(errors, $"the table {name} has no column {column}");
                else if (!IsDeclaration(words.Value)) words.Report(errors,
                    $"\"{words}\" is not how a column is declared; write its type only, in the engine's own words, such as NUMERIC(10,2)");
                else columns[ordinal] = columns[ordinal] with { DeclaredAs = words.Value };
            }
            var shape = new TableShape(name, columns, [.. key.Select(part => part.Value)], relations)
            {
                Indexes = indexes,
                NumberedColumn = numbered?.Value
            };
            checks.Add(ChecksLoader.Table(table, shape));
            table.Done();
            tables.Add(shape);
        }
        return tables;
    }

    // Columns that a list of the table names, each changed as the list means.
    private static void Marked(DescribedMap table, string name, string list, List<ColumnShape> columns, Func<ColumnShape,
        ColumnShape> change)
    {
        foreach (PlacedText named in table.Texts(list))
        {
            int ordinal = columns.FindIndex(column => Same(column.Name, named.Value));
            if (ordinal < 0) named.Report(table.Errors, $"the table {name} has no column {named}");
            else columns[ordinal] = change(columns[ordinal]);
        }
    }

    private static List<RelationShape> ReadRelations(DescribedMap table, string name, List<ColumnShape> columns, DescriptionErrors errors)
    {
        var relations = new List<RelationShape>();
        foreach (DescribedMap relation in table.Maps("relations", "a link to another table"))
        {
            IReadOnlyList<PlacedText> from = relation.Texts("columns"), on = relation.Texts("on");
            PlacedText to = relation.Text("to");
            if (from.Count == 0 || from.Count != on.Count) relation.Report("\"columns\" and \"on\" name the same number of columns, "
                + "at least one");
            foreach (PlacedText column in from)
                if (!columns.Any(known => Same(known.Name, column.Value))) column.Report(errors,
                    $"the table {name} has no column {column}");
            relations.Add(new RelationShape([.. from.Select(c => c.Value)], to.Value, [.. on.Select(c => c.Value)]));
            relation.Done();
        }
        return relations;
    }

    private static List<IndexShape> ReadIndexes(DescribedMap table, string name, List<ColumnShape> columns, DescriptionErrors errors)
    {
        var indexes = new List<IndexShape>();
        foreach (DescribedMap index in table.Maps("indexes", "an index beside the key"))
        {
            IReadOnlyList<PlacedText> over = index.Texts("columns");
            if (over.Count == 0) index.Report("\"columns\" names at least one column");
            foreach (PlacedText column in over)
                if (!columns.Any(known => Same(known.Name, column.Value))) column.Report(errors,
                    $"the table {name} has no column {column}");
            PlacedText? unique = index.Optional("unique");
            if (unique is not null && unique.Value is not ("true" or "false" or "yes" or "no")) unique.Report(errors,
                "\"unique\" is true or false");
            indexes.Add(new IndexShape("", [.. over.Select(column => column.Value)], unique?.Value is "true" or "yes"));
            index.Done();
        }
        return indexes;
    }

    // What every engine understands alike.
    private static bool IsLiteral(string text) => text.ToUpperInvariant() is "TRUE" or "FALSE"
        || DecimalText.TryParse(Encoding.UTF8.GetBytes(text), FieldType.MaxPrecision, 18, out _) is null
        || (text.Length >= 2 && text[0] == '\'' && text[^1] == '\'' && text[1..^1].Replace("''", "", StringComparison.Ordinal)
            .IndexOf('\'', StringComparison.Ordinal) < 0);

    private static void CheckRelations(DescribedMap map, List<TableShape> tables)
    {
        foreach (TableShape table in tables)
        {
            foreach (RelationShape relation in table.Relations)
            {
                TableShape? to = tables.FirstOrDefault(other => Same(other.Name, relation.To));
                if (to is null) map.Report("tables",
                    $"the table {table.Name} points to {relation.To}, which is not a table of this version");
                else if (relation.On.FirstOrDefault(column => to.OrdinalOf(column) < 0) is { } missing)
                    map.Report("tables", $"the table {table.Name} points to {relation.To}.{missing}, which is not one of its columns");
                else if (relation.Columns.Zip(relation.On).FirstOrDefault(pair => table.OrdinalOf(pair.First) is >= 0 and int from
                    && !AreComparable(table.Columns[from].Type, to.Columns[to.OrdinalOf(pair.Second)].Type)) is { First: not null } pair)
                    map.Report("tables", $"{table.Name}.{pair.First} and {relation.To}.{pair.Second} are of different types, so that no "
                        + "record could point to another");
            }
        }
    }

    internal static bool AreComparable(FieldType a, FieldType b) => a.Kind == b.Kind
        || (a.Kind is FieldKind.Integer or FieldKind.Decimal && b.Kind is FieldKind.Integer or FieldKind.Decimal);

    private static List<ControlTotal> ReadTotals(DescribedMap map, List<TableShape> tables)
    {
        var totals = new List<ControlTotal>();
        foreach (DescribedMap total in map.Maps("control-totals", "a control total"))
        {
            string name = total.Text("name").Value;
            PlacedText? scale = total.Optional("decimals");
            int digits = 0;
            if (scale is not null && (!int.TryParse(scale.Value, NumberStyles.None, CultureInfo.InvariantCulture, out digits)
                || digits > 18))
                scale.Report(map.Errors, "\"decimals\" is a whole number from 0 to 18");
            Dictionary<string, string> sql = Pairs(total.Map("sql", "queries by engine"));
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

    private static GroupSum? ReadGroupSum(DescribedMap total, List<TableShape> tables, int scale)
    {
        PlacedText? tableName = total.Optional("table"), sum = total.Optional("sum"), where = total.Optional("where");
        IReadOnlyList<PlacedText> by = total.Texts("by");
        if (tableName is null || Find(tableName, tables, total.Errors) is not { } table) return null;
        foreach (PlacedText column in by)
        {
            if (table.OrdinalOf(column.Value) < 0) column.Report(total.Errors, $"the table {table.Name} has no column {column}");
            else if (!table.MayShow(column.Value)) column.Report(total.Errors, $"a total is shown by its groups, and {column} is private");
        }
        Expression? parsed = sum is null ? null : PlacedExpression.Parse(sum, total.Errors);
        if (parsed is not null)
        {
            var scope = new ExpressionScope(table.Name, table.Columns, [], new Dictionary<string, string>());
            Kernel? kernel = PlacedExpression.Compile(sum!, total.Errors, () => new ExpressionCompiler(scope).Compile(parsed));
            bool fits = kernel?.Type is { Kind: FieldKind.Integer } && scale == 0 || kernel?.Type is { Kind: FieldKind.Decimal } type
                && type.Scale == scale;
            if (kernel is not null && !fits)
                sum!.Report(total.Errors, $"a total with {scale} decimals adds up {(scale == 0 ? "INTEGER" : $"DECIMAL(p,{scale})")}, "
                    + $"this is {kernel.Type}");
        }
        return new GroupSum(table, [.. by.Select(column => column.Value)], parsed, Condition(where, table, total.Errors));
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}

/// <summary>Parses and compiles expressions of descriptions, reporting mistakes at their place in the file.</summary>
internal static class PlacedExpression
{
    public static Expression? Parse(PlacedText text, DescriptionErrors errors)
    {
        if (text.Value.Length == 0) return null;
        try
        {
            return ExpressionParser.Parse(text.Value);
        }
        catch (ExpressionException error)
        {
            text.Report(errors, error.Message, error.At);
            return null;
        }
    }

    public static Kernel? Compile(PlacedText text, DescriptionErrors errors, Func<Kernel> compile)
    {
        try
        {
            return compile();
        }
        catch (ExpressionException error)
        {
            text.Report(errors, error.Message, error.At);
            return null;
        }
    }
}
