// Drafted.cs: what was drafted, before it is written down. What is sure becomes a line of the kit; what is not becomes a remark with a
// question mark, which does nothing until a person takes the mark away.
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <summary>Something that could be said, and why.</summary>
/// <param name="Says">As a kit writes it.</param>
/// <param name="Because">What speaks for it.</param>
/// <param name="IsSure">Whether it is said; otherwise it is asked.</param>
public sealed record DraftedLine(string Says, string Because, bool IsSure = true);

/// <summary>Where a version can be told.</summary>
/// <param name="Says">As told-by writes it, without braces and without "is".</param>
/// <param name="Is">What stands there.</param>
/// <param name="Because">What speaks for it.</param>
public sealed record DraftedSign(string Says, string Is, string Because)
{
    /// <summary>The table it stands in; "" for none.</summary>
    public string Table { get; init; } = "";

    /// <summary>As a hop writes what becomes of it: the column, and its value in a version; null when it is no named record.</summary>
    internal Func<string, string>? Becomes { get; init; }
}

/// <summary>What could be said of a table.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Records">How many it has.</param>
public sealed record DraftedTable(string Table, long Records)
{
    /// <summary>Columns whose values are people's own affair.</summary>
    public IReadOnlyList<DraftedLine> Private { get; init; } = [];

    /// <summary>Columns with few different values.</summary>
    public IReadOnlyList<DraftedLine> Codes { get; init; } = [];

    /// <summary>Links to other tables that the store does not declare.</summary>
    public IReadOnlyList<DraftedLine> Relations { get; init; } = [];

    /// <summary>Numbers that follow one another.</summary>
    public IReadOnlyList<DraftedLine> Series { get; init; } = [];

    /// <summary>What is seen of columns that a kit has no line for: text that holds dates or amounts.</summary>
    public IReadOnlyList<DraftedLine> Seen { get; init; } = [];

    /// <summary>What tells its records apart, where the store does not declare it; none or one.</summary>
    public IReadOnlyList<DraftedLine> Key { get; init; } = [];

    /// <summary>All of it.</summary>
    public IEnumerable<DraftedLine> All => [.. Key, .. Private, .. Codes, .. Relations, .. Series, .. Seen];
}

/// <summary>A control total.</summary>
/// <param name="Name">As a bookkeeper would say it.</param>
/// <param name="Table">The table.</param>
/// <param name="By">Columns that make a group.</param>
/// <param name="Sum">What is added up; "" to count.</param>
/// <param name="Decimals">Its decimals.</param>
/// <param name="Column">The column when that is what is added up; null for something computed.</param>
public sealed record DraftedTotal(string Name, string Table, IReadOnlyList<string> By, string Sum, int Decimals, ColumnShape? Column)
{
    /// <summary>Whether the store keeps whole units already, so that the engine's own sum is in them.</summary>
    public bool IsInUnits { get; init; }
}

/// <summary>A version.</summary>
/// <param name="Version">Its name.</param>
/// <param name="Engine">The store's engine.</param>
/// <param name="Signs">Where it can be told.</param>
/// <param name="Tables">Its tables.</param>
/// <param name="Totals">Control totals.</param>
public sealed record DraftedVersion(string Version, string Engine, IReadOnlyList<DraftedSign> Signs, IReadOnlyList<DraftedTable> Tables,
    IReadOnlyList<DraftedTotal> Totals)
{
    /// <summary>Code page of its text; null for UTF-8, or where the store says it.</summary>
    public string? TextEncoding { get; init; }

    /// <summary>Whether a column is said to be people's own affair.</summary>
    internal bool IsPrivate(string table, string column) => Tables.FirstOrDefault(known => known.Table == table)?.Private
        .Any(line => line.IsSure && line.Says == Machine.YamlText.Of(column)) == true;
}

/// <summary>What a new column gets.</summary>
/// <param name="Column">The new column.</param>
/// <param name="Value">As a hop writes it; "" when nothing is known.</param>
/// <param name="Because">What speaks for it.</param>
/// <param name="IsSure">Whether it is said; otherwise it is asked.</param>
public sealed record DraftedColumn(string Column, string Value, string Because, bool IsSure)
{
    /// <summary>Under which rule it alters a text; "" when it only puts it in another form.</summary>
    public string Changes { get; init; } = "";

    /// <summary>The old text it is compared with then.</summary>
    public string ComparedWith { get; init; } = "";

    /// <summary>Lookups that the value needs: name and what a hop writes of it.</summary>
    public IReadOnlyList<(string Name, string Says)> Lookups { get; init; } = [];

    /// <summary>The old columns it is made of.</summary>
    public IReadOnlyList<string> Of { get; init; } = [];
}

/// <summary>What becomes of an old table in one new table.</summary>
/// <param name="Old">The old table.</param>
/// <param name="New">The new table.</param>
/// <param name="Because">What speaks for it.</param>
/// <param name="IsSure">Whether it is said; otherwise it is asked.</param>
/// <param name="Columns">What the new columns get, also those that go without saying.</param>
/// <param name="OnlyOld">Old columns for which nothing was found.</param>
/// <param name="OnlyNew">New columns for which nothing was found.</param>
public sealed record DraftedPair(string Old, string New, string Because, bool IsSure, IReadOnlyList<DraftedColumn> Columns,
    IReadOnlyList<string> OnlyOld, IReadOnlyList<string> OnlyNew)
{
    /// <summary>Records of the old table that were held against their new ones.</summary>
    public int Aligned { get; init; }

    /// <summary>By which columns these were found; "" when there were none.</summary>
    public string AlignedBy { get; init; } = "";

    /// <summary>Old records that have the key of another.</summary>
    public int Several { get; init; }
}

/// <summary>What answers to what between two stores.</summary>
/// <param name="Pairs">Tables that answer to each other; an old one may stand in several.</param>
/// <param name="OnlyOld">Old tables for which nothing was found.</param>
/// <param name="OnlyNew">New tables for which nothing was found.</param>
public sealed record DraftedHop(IReadOnlyList<DraftedPair> Pairs, IReadOnlyList<string> OnlyOld, IReadOnlyList<string> OnlyNew);
