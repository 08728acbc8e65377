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

    /// <summary>What differs from office to office and is answered in office.yaml, for rules, totals and hops to use.</summary>
    public IReadOnlyList<NewSetting> Asks { get; init; } = [];

    /// <summary>Settings of the program that are recorded.</summary>
    public IReadOnlyList<RecordedSetting> Settings { get; init; } = [];

    /// <summary>What stands for a kit where nobody wrote one.</summary>
    /// <param name="version">The only version, as a store was found.</param>
    public static Kit None(KitVersion version) => new("no-kit", "no kit", "", [version], [], []);

    /// <summary>Whether nobody wrote it.</summary>
    public bool IsNone => Folder.Length == 0;

    /// <summary>A version by name; null when the kit does not know it.</summary>
    public KitVersion? Version(string name) => Versions.FirstOrDefault(version => version.Name == name);
}

/// <summary>A sign by which a data version is told: a query, a header field or a record, and the value it then has.</summary>
/// <param name="Sql">The engine's own SQL giving one cell; null when something else tells.</param>
/// <param name="Header">Name of a header field; null when something else tells.</param>
/// <param name="Record">A record; null when something else tells.</param>
/// <param name="Value">The value that means this version.</param>
public sealed record DataEvidence(string? Sql, string? Header, RecordSign? Record, string Value)
{
    /// <summary>Tables, and columns as TABLE.COLUMN, that must be there; empty when something else tells.</summary>
    public IReadOnlyList<string> Has { get; init; } = [];

    /// <summary>Tables, and columns as TABLE.COLUMN, that must not be there.</summary>
    public IReadOnlyList<string> Lacks { get; init; } = [];

    /// <summary>What lies around the store tells; null when something in it does.</summary>
    public OutsideSign? Outside { get; init; }

    /// <summary>Whether tables and columns tell.</summary>
    public bool IsByTables => Has.Count + Lacks.Count > 0;

    /// <summary>What a sign by tables says; null when it is not so.</summary>
    /// <param name="tables">The store's tables.</param>
    public string? SaidBy(IReadOnlyList<TableShape> tables) => Has.All(named => IsThere(named, tables))
        && !Lacks.Any(named => IsThere(named, tables)) ? Value : null;

    private static bool IsThere(string named, IReadOnlyList<TableShape> tables)
    {
        if (tables.Any(table => Names.Same(table.Name, named))) return true;
        int point = named.LastIndexOf('.');
        return point > 0 && tables.Any(table => Names.Same(table.Name, named[..point]) && table.OrdinalOf(named[(point + 1)..]) >= 0);
    }

    /// <summary>Where it was looked, in words.</summary>
    public string Where => IsByTables ? string.Join(", ", [.. Has.Select(named => $"{named} is there"),
        .. Lacks.Select(named => $"{named} is not there")]) : Header is not null ? $"header field {Header}"
        : Sql is not null ? $"query {Sql}" : Outside is not null ? Outside.Where
        : $"{Record!.Table.Name}.{Record.Column} where {Record.WhereText}";
}

/// <summary>A value in a record, for stores that answer no SQL.</summary>
/// <param name="Table">The table, with the columns that are needed.</param>
/// <param name="Column">The column that holds the value.</param>
/// <param name="Where">Which record; the first for which it holds.</param>
/// <param name="WhereText">As the kit writes it.</param>
public sealed record RecordSign(TableShape Table, string Column, Expression Where, string WhereText)
{
    /// <summary>The same where no kit says what the table is like: with the table as it is. Null when it is not there, or when its columns
    /// cannot be asked so.</summary>
    internal RecordSign? Over(IEnumerable<TableShape> tables)
    {
        if (Table.Columns.Count > 0) return this;
        if (tables.FirstOrDefault(table => Names.Same(table.Name, Table.Name)) is not { } there || there.OrdinalOf(Column) < 0) return null;
        string[] needed = [Column, .. Where.ColumnReferences.Select(reference => reference.Name)];
        TableShape narrowed = there with
        {
            Columns = [.. there.Columns.Where(known => needed.Any(name => Names.Same(name, known.Name)))]
        };
        try
        {
            new ExpressionCompiler(new ExpressionScope(narrowed.Name, narrowed.Columns, [], new Dictionary<string, string>()))
                .CompileCondition(Where);
            return this with { Table = narrowed };
        }
        catch (ExpressionException) { return null; }
    }
}

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

    /// <summary>Tables, and columns as TABLE.COLUMN, whose values are never shown, also of tables that nobody described.</summary>
    public IReadOnlyList<string> Private { get; init; } = [];

    /// <summary>Columns as TABLE.COLUMN whose values leave the house as their form only, of tables that are as the store has them; those
    /// of described tables say so themselves.</summary>
    public IReadOnlyList<string> Masked { get; init; } = [];

    /// <summary>What is said of its tables, where they are as the store has them; null where the kit says what they are. Until it has
    /// been read over a store, there are no tables.</summary>
    internal VersionWords? Words { get; init; }

    /// <summary>Whether its tables are as the store has them.</summary>
    public bool IsOfStore => Words is not null;

    /// <summary>The version with the tables of a store, and with what is said of them.</summary>
    /// <exception cref="Machine.TransferraException">The kit names what the store does not have.</exception>
    internal KitVersion Over(IReadOnlyList<TableShape> tables) => Words?.Over(this, tables) ?? this with { Tables = tables };

    /// <summary>Whether the kit says of a column, or of its whole table, that its values are never shown.</summary>
    public bool IsPrivate(string table, string column) => Private.Any(said =>
        string.Equals(said, table, StringComparison.OrdinalIgnoreCase)
        || string.Equals(said, $"{table}.{column}", StringComparison.OrdinalIgnoreCase));

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
/// <param name="By">Values that make a group; none: one sum over all.</param>
/// <param name="Sum">What is added up, a decimal of the total's scale; null to count records.</param>
/// <param name="Where">Which records count; null for all.</param>
public sealed record GroupSum(TableShape Table, IReadOnlyList<Expression> By, Expression? Sum, Expression? Where)
{
    /// <summary>Records of other tables that it looks at.</summary>
    internal IReadOnlyList<LookupMap> Lookups { get; init; } = [];

    /// <summary>The names of the answers that it needs.</summary>
    internal IEnumerable<string> Answers => By.Append(Sum).Append(Where).OfType<Expression>().SelectMany(part => part.Answers).Distinct();
}
