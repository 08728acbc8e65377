// TableChecks.cs: what a kit says of a table's records beside their types: what a check looks for in it. Format: docs/kits.md.
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>What the records of a table must be like.</summary>
/// <param name="Table">The table.</param>
public sealed record TableChecks(TableShape Table)
{
    /// <summary>Columns in which no two records may have the same values.</summary>
    public IReadOnlyList<BusinessKey> BusinessKeys { get; init; } = [];

    /// <summary>Columns that must not be blank.</summary>
    public IReadOnlyList<string> Filled { get; init; } = [];

    /// <summary>The codes that a column may have, by column.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<string>> Codes { get; init; } = new Dictionary<string, IReadOnlyList<string>>();

    /// <summary>The days between which a date is plausible, by column; both included.</summary>
    public IReadOnlyDictionary<string, (long From, long To)> Dates { get; init; } = new Dictionary<string, (long, long)>();

    /// <summary>Records that are parts of others; null when they are not.</summary>
    public TreeShape? Tree { get; init; }

    /// <summary>Numbers that should follow one another.</summary>
    public IReadOnlyList<NumberSeries> Series { get; init; } = [];

    /// <summary>Columns that name a file.</summary>
    public IReadOnlyList<FileLink> Files { get; init; } = [];

    /// <summary>Links that are no relations to the engine.</summary>
    public IReadOnlyList<CheckedLink> Links { get; init; } = [];

    /// <summary>These with more: lists are added, what is said of a column anew replaces what was said.</summary>
    internal TableChecks With(TableChecks more) => new(more.Table)
    {
        BusinessKeys = [.. BusinessKeys, .. more.BusinessKeys],
        Filled = [.. Filled.Union(more.Filled, StringComparer.OrdinalIgnoreCase)],
        Codes = Over(Codes, more.Codes),
        Dates = Over(Dates, more.Dates),
        Tree = more.Tree ?? Tree,
        Series = [.. Series.Where(series => !more.Series.Any(again => again.Name == series.Name)), .. more.Series],
        Links = [.. Links, .. more.Links],
        Files = [.. Files.Where(file => !more.Files.Any(again => Names.Same(again.Column, file.Column))), .. more.Files],
    };

    private static Dictionary<string, T> Over<T>(IReadOnlyDictionary<string, T> said, IReadOnlyDictionary<string, T> more)
    {
        var both = new Dictionary<string, T>(said, StringComparer.OrdinalIgnoreCase);
        foreach ((string column, T value) in more) both[column] = value;
        return both;
    }

    /// <summary>Whether nothing is said.</summary>
    public bool IsEmpty => BusinessKeys.Count == 0 && Filled.Count == 0 && Codes.Count == 0 && Dates.Count == 0 && Tree is null
        && Series.Count == 0 && Files.Count == 0 && Links.Count == 0;
}

/// <summary>What identifies a record in the business, beside its key: invoice number and supplier, say.</summary>
/// <param name="Columns">The columns.</param>
/// <param name="Because">Why, as it is told.</param>
/// <param name="Where">Which records it is said of; null for all.</param>
public sealed record BusinessKey(IReadOnlyList<string> Columns, string Because, Expression? Where = null);

/// <summary>A link that the engine does not know: of some records only, with values that mean none, or to one of several tables.</summary>
/// <param name="Columns">Columns that point.</param>
/// <param name="Targets">Where they may point to; one of them must have it.</param>
/// <param name="None">Values that mean that nothing is pointed to, when all columns have one of them.</param>
/// <param name="Where">Which records it is said of; null for all.</param>
public sealed record CheckedLink(IReadOnlyList<string> Columns, IReadOnlyList<LinkTarget> Targets, IReadOnlyList<string> None,
    Expression? Where);

/// <summary>A table that a link may lead to.</summary>
/// <param name="To">The table.</param>
/// <param name="On">Its columns, in the order of those that point.</param>
public sealed record LinkTarget(string To, IReadOnlyList<string> On);

/// <summary>A tree: each record may name another one that it is part of.</summary>
/// <param name="Parent">Column that names it.</param>
/// <param name="Of">Column of the same table that is named.</param>
public sealed record TreeShape(string Parent, string Of);

/// <summary>Numbers that count up.</summary>
/// <param name="Name">As a bookkeeper would say it.</param>
/// <param name="Number">The number, a whole one.</param>
/// <param name="By">Columns within whose values counting starts anew.</param>
/// <param name="MayHaveGaps">Whether only repeats are looked for.</param>
public sealed record NumberSeries(string Name, Expression Number, IReadOnlyList<string> By, bool MayHaveGaps);

/// <summary>A column that names a file.</summary>
/// <param name="Column">The column.</param>
/// <param name="Folder">Last part of the document folder's path; null: the file may be in any of the company's.</param>
public sealed record FileLink(string Column, string? Folder);
