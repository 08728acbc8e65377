// Kit.cs: what is known about a package. A folder with kit.yaml, versions/*.yaml and hops/*.yaml; format in docs/kits.md.
// Reading and checking: KitLoader.cs. Everything here is immutable once loaded.
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>A package: its versions and the hops between them.</summary>
/// <param name="Id">The kit's short name.</param>
/// <param name="Title">The package's name as people say it.</param>
/// <param name="Folder">Where the kit lies.</param>
/// <param name="Versions">The data versions it knows, oldest first.</param>
/// <param name="Hops">The conversions it knows.</param>
/// <param name="ProgramEvidence">Where the program's version is written.</param>
public sealed record Kit(string Id, string Title, string Folder, IReadOnlyList<KitVersion> Versions, IReadOnlyList<Hop> Hops,
    IReadOnlyList<Evidence> ProgramEvidence)
{
    /// <summary>What belongs to the package beside the program.</summary>
    public IReadOnlyList<Component> Components { get; init; } = [];

    /// <summary>The program's log files: paths below its folder, with * in their names.</summary>
    public IReadOnlyList<string> Logs { get; init; } = [];

    /// <summary>Settings of the program that are recorded.</summary>
    public IReadOnlyList<RecordedSetting> Settings { get; init; } = [];

    /// <summary>A version by name; null when the kit does not know it.</summary>
    public KitVersion? Version(string name) => Versions.FirstOrDefault(version => version.Name == name);

    /// <summary>The hops that lead from one version to another, the fewest possible; null when no way leads there.</summary>
    public IReadOnlyList<Hop>? WayFrom(string from, string to)
    {
        var cameBy = new Dictionary<string, Hop?> { [from] = null };
        var next = new Queue<string>([from]);
        while (next.TryDequeue(out string? here))
        {
            if (here == to) break;
            foreach (Hop hop in Hops)
                if (hop.From.Name == here && cameBy.TryAdd(hop.To.Name, hop)) next.Enqueue(hop.To.Name);
        }
        if (!cameBy.TryGetValue(to, out Hop? last)) return null;
        var way = new List<Hop>();
        for (Hop? hop = last; hop is not null; hop = cameBy[hop.From.Name]) way.Insert(0, hop);
        return way;
    }

    /// <summary>How many ways lead from one version to another, none of them through a version twice.</summary>
    public int CountWays(string from, string to)
    {
        return Count(from, []);

        int Count(string here, HashSet<string> seen)
        {
            if (here == to) return 1;
            if (!seen.Add(here)) return 0;
            int ways = Hops.Where(hop => hop.From.Name == here).Sum(hop => Count(hop.To.Name, seen));
            seen.Remove(here);
            return ways;
        }
    }
}

/// <summary>A sign by which a data version is told: a query, a header field or a record, and the value it then has.</summary>
/// <param name="Sql">The engine's own SQL giving one cell; null when something else tells.</param>
/// <param name="Header">Name of a header field; null when something else tells.</param>
/// <param name="Record">A record; null when something else tells.</param>
/// <param name="Value">The value that means this version.</param>
public sealed record DataEvidence(string? Sql, string? Header, RecordSign? Record, string Value)
{
    /// <summary>Where it was looked, in words.</summary>
    public string Where => Header is not null ? $"header field {Header}" : Sql is not null ? $"query {Sql}"
        : $"{Record!.Table.Name}.{Record.Column} where {Record.WhereText}";
}

/// <summary>A value in a record, for stores that answer no SQL.</summary>
/// <param name="Table">The table, with the columns that are needed.</param>
/// <param name="Column">The column that holds the value.</param>
/// <param name="Where">Which record; the first for which it holds.</param>
/// <param name="WhereText">As the kit writes it.</param>
public sealed record RecordSign(TableShape Table, string Column, Expression Where, string WhereText);

/// <summary>One data version of a package.</summary>
/// <param name="Name">Such as "5".</param>
/// <param name="Programs">Beginnings of the program versions that read it, such as "5.".</param>
/// <param name="TextEncoding">The code page of its text; null for UTF-8.</param>
/// <param name="Evidence">The signs it is told by.</param>
/// <param name="HeaderFields">Header fields that a new store of this version gets.</param>
/// <param name="Tables">Its tables.</param>
/// <param name="Rules">What must hold in its books.</param>
/// <param name="ControlTotals">Sums that the engine computes with its own SQL.</param>
public sealed record KitVersion(string Name, IReadOnlyList<string> Programs, string? TextEncoding, IReadOnlyList<DataEvidence> Evidence,
    IReadOnlyDictionary<string, string> HeaderFields, IReadOnlyList<TableShape> Tables, IReadOnlyList<BookRule> Rules,
    IReadOnlyList<ControlTotal> ControlTotals)
{
    /// <summary>Settings that stand in its records.</summary>
    public IReadOnlyList<RecordedSetting> Settings { get; init; } = [];

    /// <summary>Full path of the list of files as the vendor ships them; null when the kit has none.</summary>
    public string? ShippedFiles { get; init; }

    /// <summary>What its tables' records must be like; only tables of which something is said.</summary>
    public IReadOnlyList<TableChecks> Checks { get; init; } = [];

    /// <summary>What may be put right in it.</summary>
    public IReadOnlyList<Mend> Mends { get; init; } = [];

    /// <summary>What it needs beside its data.</summary>
    public VersionNeeds Needs { get; init; } = VersionNeeds.None;

    /// <summary>A table by name, in any case; null when the version has none such.</summary>
    public TableShape? Table(string name) =>
        Tables.FirstOrDefault(table => string.Equals(table.Name, name, StringComparison.OrdinalIgnoreCase));
}

/// <summary>A control total: the engine's own SQL giving labels and, in the last column, a whole number.</summary>
/// <param name="Name">The same in every version that has it.</param>
/// <param name="Scale">Digits after the point: the query gives units of 10^-scale.</param>
/// <param name="SqlByEngine">The query, by engine name in lower case.</param>
/// <param name="Sum">The same total for stores that answer no SQL; null when the kit gives none.</param>
public sealed record ControlTotal(string Name, int Scale, IReadOnlyDictionary<string, string> SqlByEngine, GroupSum? Sum);

/// <summary>A sum over groups of one table's records.</summary>
/// <param name="Table">The table.</param>
/// <param name="By">Columns that make a group; none: one sum over all.</param>
/// <param name="Sum">What is added up, a decimal of the total's scale; null to count records.</param>
/// <param name="Where">Which records count; null for all.</param>
public sealed record GroupSum(TableShape Table, IReadOnlyList<string> By, Expression? Sum, Expression? Where);

/// <summary>A setting that is new in a version and must be answered in office.yaml.</summary>
/// <param name="Name">The name in office.yaml and in expressions, as <c>:name</c>.</param>
/// <param name="Question">What is asked.</param>
/// <param name="Choices">Allowed answers; empty when any text will do.</param>
public sealed record NewSetting(string Name, string Question, IReadOnlyList<string> Choices);

/// <summary>The conversion from one data version to the next.</summary>
/// <param name="From">Old version.</param>
/// <param name="To">New version.</param>
/// <param name="Settings">What must be answered before.</param>
/// <param name="Tables">What becomes of each old table.</param>
/// <param name="TablesLeftOut">Old tables that are not carried, with the reason.</param>
/// <param name="NewRecords">Records that the new version needs and the old one has not.</param>
/// <param name="File">The hop's file, for messages.</param>
public sealed record Hop(KitVersion From, KitVersion To, IReadOnlyList<NewSetting> Settings, IReadOnlyList<TableMap> Tables,
    IReadOnlyDictionary<string, string> TablesLeftOut, IReadOnlyList<NewRecord> NewRecords, string File)
{
    /// <summary>What the vendor says that must be known before; each is to be acknowledged.</summary>
    public IReadOnlyList<string> ReleaseNotes { get; init; } = [];
}

/// <summary>What becomes of one old table.</summary>
/// <param name="From">The old table.</param>
/// <param name="Into">The new tables it feeds; more than one splits it.</param>
/// <param name="Lookups">Records pointed to, and code lists.</param>
/// <param name="ColumnsLeftOut">Old columns that are not carried, with the reason.</param>
/// <param name="RowsLeftOut">Records that are not carried, by declared rule.</param>
/// <param name="ExactCopies">The reason for which exact copies of a record are left out but one; null when they are exceptions.</param>
/// <param name="Combining">How several records become one; null when they do not.</param>
public sealed record TableMap(TableShape From, IReadOnlyList<TargetMap> Into, IReadOnlyList<LookupMap> Lookups,
    IReadOnlyDictionary<string, string> ColumnsLeftOut, IReadOnlyList<RowsLeftOut> RowsLeftOut, string? ExactCopies, Combining? Combining);

/// <summary>One new table fed by an old one.</summary>
public sealed record TargetMap(TableShape Table, IReadOnlyList<ColumnMap> Columns);

/// <summary>What a new column holds.</summary>
/// <param name="Column">The new column.</param>
/// <param name="Value">Its value, over the old table.</param>
/// <param name="Changes">The declared rule that alters values; null when the value is only carried in another form.</param>
/// <param name="ComparedWith">The old column whose text the value is compared with, to count the records the rule changed; null without
/// rule.</param>
public sealed record ColumnMap(ColumnShape Column, Expression Value, string? Changes, string? ComparedWith);

/// <summary>A lookup: an old table's records by key, or a list of codes.</summary>
/// <param name="Shape">As expressions see it.</param>
/// <param name="Table">The old table; null for a code list.</param>
/// <param name="On">The table's column that is the key.</param>
/// <param name="Codes">Old code to new code; empty for a table.</param>
public sealed record LookupMap(LookupShape Shape, TableShape? Table, string On, IReadOnlyList<(string Old, string New)> Codes);

/// <summary>Records left out by declared rule.</summary>
public sealed record RowsLeftOut(Expression Where, string Because);

/// <summary>Several records with the same values of <paramref name="By"/> become the first of them, texts joined.</summary>
/// <param name="By">The first columns of the table's key.</param>
/// <param name="Text">The column whose texts are joined in key order.</param>
/// <param name="Separator">What stands between two texts.</param>
/// <param name="Because">The reason.</param>
public sealed record Combining(IReadOnlyList<string> By, string Text, string Separator, string Because);

/// <summary>A record of the new version that no old one stands for.</summary>
/// <param name="Into">The new table.</param>
/// <param name="Columns">Values; expressions over settings only.</param>
/// <param name="Because">The reason.</param>
public sealed record NewRecord(TableShape Into, IReadOnlyList<ColumnMap> Columns, string Because);
