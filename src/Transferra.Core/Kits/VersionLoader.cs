// VersionLoader.cs: reads what a kit says of a version. Where the version is the same as the store, what is said of its tables is read
// when the store is there (VersionWords.cs); before, only its form is looked at. Format: docs/kits.md.
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <param name="kitFolder">Where the kit lies.</param>
/// <param name="components">What belongs to the package beside the program.</param>
/// <param name="hidden">Tables and columns whose values are never shown, in every version.</param>
/// <param name="answers">Names of answers that formulas may use.</param>
internal sealed class VersionLoader(string kitFolder, IReadOnlyList<Component> components, IReadOnlyList<string> hidden,
    IReadOnlyDictionary<string, string> answers)
{
    /// <summary>What same-as says of a version whose tables are as the store has them.</summary>
    public const string TheStore = "the-store";

    private readonly Dictionary<(string Where, string Is), string> _signs = [];
    private readonly Dictionary<string, VersionWords> _words = [];
    private readonly Dictionary<string, KitVersion> _versions = [];

    /// <summary>A version of which nothing is said but how it is told.</summary>
    public KitVersion Unsaid(string name, IReadOnlyList<DataEvidence> told) => Keep(new KitVersion(name, [], null, told,
        new Dictionary<string, string>(), [], [], [])
    { Private = hidden }, new VersionWords([], isOfStore: true, answers));

    private KitVersion Keep(KitVersion version, VersionWords words)
    {
        _words[version.Name] = words;
        // What nobody may see is known also while the store is not.
        return _versions[version.Name] = words.IsOfStore ? version with
        {
            Words = words,
            Private = [.. hidden, .. words.Marked("private")],
            Masked = words.Marked("masked-outside")
        } : version;
    }

    /// <summary>A version.</summary>
    /// <param name="map">What is said of it.</param>
    /// <param name="name">Its name.</param>
    /// <param name="told">Where every version says itself which it is.</param>
    public KitVersion Read(DescribedMap map, string name, IReadOnlyList<DataEvidence> told)
    {
        DescriptionErrors errors = map.Errors;
        PlacedText stated = map.Text("version");
        if (stated.Value != name && stated.Value.Length > 0)
            stated.Report(errors, $"the file is named for version {name}, but describes version {stated}");
        (VersionWords words, KitVersion? like) = WordsOf(map);
        PlacedText? encoding = map.Optional("text-encoding");
        if (encoding is not null && !TextEncodings.IsKnown(encoding.Value)) encoding.Report(errors, $"\"{encoding}\" is not a known code "
            + $"page; the names are {string.Join(", ", TextEncodings.Names)}");
        Dictionary<string, string> headers = PairsOf(map.Map("header-fields", "header fields"));
        errors.StoreIsUnknown = words.IsOfStore;
        SaidOfTables said = words.Read(map, words.IsOfStore, [], errors);
        List<DataEvidence> evidence = [.. told, .. map.Maps("told-by", "a sign of the version", required: told.Count == 0)
            .Select(sign => ReadSign(sign, said.Tables, name))];
        var version = new KitVersion(name, [.. map.Texts("programs").Select(text => text.Value)], TextPages.Of(encoding?.Value
            ?? TextPages.OfAll(like?.TextEncoding), words.Pages()),
            evidence, headers, words.IsOfStore ? [] : said.Tables, words.IsOfStore ? [] : said.Rules, said.Totals)
        {
            Checks = words.IsOfStore ? [] : said.Checks,
            Mends = words.IsOfStore ? [] : said.Mends,
            Settings = NeedsLoader.Settings(map, setting => ReadRecord(setting, said.Tables), errors),
            ShippedFiles = NeedsLoader.ListOfFiles(map.Optional("shipped-files"), kitFolder, errors),
            Needs = NeedsLoader.Needs(map, kitFolder, components, errors),
            Private = hidden,
        };
        errors.StoreIsUnknown = false;
        map.Done();
        return Keep(version, words);
    }

    // What it is the same as: the store, also where something is said of a table but not what it consists of; or a version before it,
    // with all that that one is like.
    private (VersionWords Words, KitVersion? Like) WordsOf(DescribedMap map)
    {
        PlacedText? like = map.Optional("same-as");
        if (like is null) return (new VersionWords([map], !SaysAll(map), answers), null);
        if (like.Value == TheStore) return (new VersionWords([map], isOfStore: true, answers), null);
        if (_words.TryGetValue(like.Value, out VersionWords? known))
            return (new VersionWords([map, .. known.Maps], known.IsOfStore, answers), _versions[like.Value]);
        like.Report(map.Errors, $"there is no version {like} before this one; \"same-as\" is {TheStore}, or a version that the kit lists "
            + $"before: {string.Join(", ", _words.Keys)}");
        return (new VersionWords([map], isOfStore: false, answers), null);
    }

    // Its tables are described when each has its columns.
    private static bool SaysAll(DescribedMap map)
    {
        if (!map.IsMap("tables")) return map.Has("tables");
        DescribedMap tables = map.Again(new DescriptionErrors()).Map("tables", "")!;
        return tables.Keys.Count > 0 && tables.Keys.All(name => !tables.IsMap(name) || tables.Map(name, "")!.Has("columns"));
    }

    private DataEvidence ReadSign(DescribedMap sign, IReadOnlyList<TableShape> tables, string version)
    {
        PlacedText? sql = sign.Optional("sql"), header = sign.Optional("header");
        string[] has = [.. sign.Texts("has").Select(named => named.Value)], lacks = [.. sign.Texts("lacks").Select(named => named.Value)];
        OutsideSign? outside = OutsideSign.Read(sign, out bool isOutside);
        bool inRecord = sign.Has("table"), byTables = has.Length + lacks.Length > 0;
        // That a table is there says nothing else than that.
        string value = byTables ? sign.Optional("is")?.Value ?? version : sign.Text("is").Value;
        if (new[] { sql is not null, header is not null, inRecord, byTables, isOutside }.Count(way => way) != 1)
            sign.Report("a sign has one of \"sql\", \"header\", \"table\", \"has\" with or without \"lacks\", \"path\", and \"file\"");
        else if (sql is not null && KitQuestion.WhyNot(sql.Value) is { } why) sql.Report(sign.Errors, why);
        RecordSign? record = inRecord ? ReadRecord(sign, tables) : null;
        sign.Done();
        var evidence = new DataEvidence(sql?.Value, header?.Value, record, value) { Has = has, Lacks = lacks, Outside = outside };
        // What two versions have in common tells neither of them.
        if ((sql ?? header) is not null || record is not null || outside is not null)
        {
            (string, string) told = (evidence.Where.ToUpperInvariant(), value);
            if (!_signs.TryAdd(told, version) && _signs[told] != version)
                sign.Report($"this sign is also one of version {_signs[told]}, so that it tells neither; "
                    + "a sign is true of one version only");
        }
        return evidence;
    }

    /// <summary>A value in a record: table, column and the condition that finds the record. Null when it is wrong, which is then
    /// reported. Where nobody knows the tables yet, the table has no columns.</summary>
    public static RecordSign? ReadRecord(DescribedMap map, IReadOnlyList<TableShape> tables)
    {
        PlacedText? tableName = map.Optional("table"), column = map.Optional("column"), where = map.Optional("where");
        if (tableName is null || column is null || where is null)
        {
            map.Report("what stands in a record has \"table\", \"column\" and \"where\"");
            return null;
        }
        if (map.Errors.StoreIsUnknown) return PlacedExpression.Parse(where, map.Errors) is not { } parsed ? null
            : new RecordSign(new TableShape(tableName.Value, [], [], []), column.Value, parsed, where.Value);
        if (Names.Table(tableName, tables, map.Errors) is not { } table || !Names.HasColumn(table, column, map.Errors)
            || VersionWords.Condition(where, table, map.Errors) is not { } condition) return null;
        string[] needed = [column.Value, .. condition.ColumnReferences.Select(reference => reference.Name)];
        return new RecordSign(table with
        {
            Columns = [.. table.Columns.Where(known => needed.Any(name => Names.Same(name, known.Name)))]
        }, column.Value, condition, where.Value);
    }

    private static Dictionary<string, string> PairsOf(DescribedMap? map) =>
        map?.Pairs().ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value) ?? [];
}
