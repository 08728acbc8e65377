// MatchResult.cs: what a match says; made by CompanyMatch.cs.
using System.Collections.ObjectModel;
using System.Text.Json.Serialization;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;

namespace Transferra.Core.Matching;

/// <summary>The ways in which a record of the new store can differ from what the map gives.</summary>
[JsonConverter(typeof(InWords<DifferenceKind>))]
public enum DifferenceKind
{
    /// <summary>The record is not in the new store.</summary>
    Missing,
    /// <summary>The new store has a record that no old one stands for.</summary>
    Extra,
    /// <summary>A column has another value.</summary>
    Value,
}

/// <summary>One difference between what the old store and the map give and what the new store holds.</summary>
/// <param name="Table">New table.</param>
/// <param name="Key">The record's key as a person reads it.</param>
/// <param name="Column">The new column; "" when the whole record is meant.</param>
/// <param name="Kind">How it differs.</param>
/// <param name="Expected">The value the old store gives.</param>
/// <param name="Found">The value the new store holds.</param>
public sealed record Difference(string Table, string Key, string Column, DifferenceKind Kind, string Expected, string Found)
{
    /// <summary>In what way the value differs.</summary>
    public ChangeKind Change { get; init; }

    /// <summary>The character, counted from 1, from which on two texts differ; null where that is seen at once.</summary>
    public int? At { get; init; }
}

/// <summary>One new table.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Expected">Records the old store and the map give.</param>
/// <param name="Found">Records the new store holds.</param>
/// <param name="ExpectedFingerprint">32 hexadecimal digits.</param>
/// <param name="FoundFingerprint">The same of the new store.</param>
/// <param name="Missing">Records that should be there and are not.</param>
/// <param name="Extra">Records that nothing stands for.</param>
/// <param name="Changed">Records that are there with another value, or one that cannot be read.</param>
public sealed record TableMatch(string Table, long Expected, long Found, string ExpectedFingerprint, string FoundFingerprint,
    long Missing, long Extra, long Changed)
{
    /// <summary>In how many records each column has another value.</summary>
    public IReadOnlyDictionary<string, long> ChangedColumns { get => field ?? ReadOnlyDictionary<string, long>.Empty; init; }

    /// <summary>The differences by column and kind, all of them counted.</summary>
    public IReadOnlyList<ColumnChange> Changes { get => field ?? []; init; }

    /// <summary>Extra records whose number or date comes after the last one there should be: what people add as they work on.</summary>
    public long Later => Changes.Where(change => change.Kind == ChangeKind.Later).Sum(change => change.Count);

    /// <summary>Whether the records are the same.</summary>
    public bool IsSame => Expected == Found && ExpectedFingerprint == FoundFingerprint && Missing + Extra + Changed == 0;
}

/// <summary>One line of a control total; null where a side has no such line.</summary>
public sealed record TotalLine(string Label, string? Old, string? New)
{
    internal const string NoLabel = "(none)";

    internal const string NoWholeNumber = "(no whole number of units)";

    /// <summary>Whether both sides have the same value, exactly.</summary>
    public bool IsSame => Old is not null && Old == New && !Old.EndsWith(NoWholeNumber, StringComparison.Ordinal);
}

/// <summary>A control total.</summary>
/// <param name="Name">As the kit calls it.</param>
/// <param name="IsByEngines">Whether both sides are the engines' own sums; a store of files has no engine, and is added up by us.</param>
/// <param name="Lines">A line for each group.</param>
public sealed record TotalMatch(string Name, bool IsByEngines, IReadOnlyList<TotalLine> Lines)
{
    /// <summary>The versions that are compared.</summary>
    public string FromVersion { get => field ?? ""; init; }

    /// <inheritdoc cref="FromVersion"/>
    public string ToVersion { get => field ?? ""; init; }

    /// <summary>Whether all lines agree.</summary>
    public bool IsSame => Lines.All(line => line.IsSame);
}

/// <summary>One hop: whether its new store holds what its old one gives.</summary>
/// <param name="FromVersion">Old data version.</param>
/// <param name="ToVersion">New data version.</param>
/// <param name="Accounts">What became of the old records, counted anew.</param>
/// <param name="Tables">Every table of the new version, each difference counted.</param>
/// <param name="Totals">Every control total that both versions have.</param>
/// <param name="Differences">The first of each table, at most <see cref="CompanyMatch.MostListed"/> in all.</param>
/// <param name="DifferenceCount">How many there are, each value that differs counted.</param>
public sealed record MatchResult(string FromVersion, string ToVersion, IReadOnlyList<TableAccount> Accounts,
    IReadOnlyList<TableMatch> Tables,
    IReadOnlyList<TotalMatch> Totals, IReadOnlyList<Difference> Differences, long DifferenceCount)
{
    /// <summary>Whether every record that was to be carried is there with every value, and no other. What could not be carried is no part
    /// of this.</summary>
    public bool IsSame => Tables.All(table => table.IsSame) && Totals.All(total => total.IsSame) && DifferenceCount == 0
        && Accounts.All(account => account.IsBalanced);

    /// <summary>Whether others converted, so that only the match says what became of the old records.</summary>
    public bool IsByOthers { get; init; }

    /// <summary>The declarations of both stores, where the new one began as a copy of the old one; null otherwise.</summary>
    public DeclarationsMatched? Declarations { get; init; }

    /// <summary>Of each link of the new version, whether what is pointed to has as many records pointing to it as it should have. Follows
    /// from the records that differ, and so is no part of the verdict of its own; none in results of releases that did not tell.</summary>
    public IReadOnlyList<ChildrenMatched> Children { get => field ?? []; init; }

    /// <summary>What became of the records that the vendor ships, where the new store began as the one that its program made.</summary>
    public IReadOnlyList<Kits.ShippedAccount> Shipped { get => field ?? []; init; }

    /// <summary>How many of the old store's values were compared; null in results of releases that did not count them.</summary>
    public ComparedShare? Share { get; init; }

    /// <summary>Each new table as it was read, for a match of later, when the old store is gone; kept in a file of its own.</summary>
    [JsonIgnore]
    public IReadOnlyList<RecordedTable> Recorded { get; init; } = [];

    /// <summary>How many of its tables had been compared before the match was interrupted, and were taken over.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public int TakenOver { get; init; }

    /// <summary>When it was matched, where a store that it needs was let go since; null when that is now.</summary>
    public DateTimeOffset? MatchedAt { get; init; }

    /// <summary>Old records that are not in the new store, by declared rule or as exceptions, and so count for nobody they pointed
    /// to.</summary>
    [JsonIgnore]
    public long NotCarried => Accounts.Sum(account => account.LeftOut + account.Exceptions);

    /// <summary>Old records that could not be converted and so cannot be in the new store.</summary>
    public long Exceptions => Accounts.Sum(account => account.Exceptions);
}
