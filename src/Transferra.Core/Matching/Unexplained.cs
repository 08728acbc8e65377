// Unexplained.cs: where others converted: what was changed or is gone and nobody has said why, by table, kind and number; and what a person
// has answered for. Why by number: whoever stands for twelve records has not stood for thirteen.
using System.Globalization;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Matching;

/// <summary>The kinds of what is not explained.</summary>
[JsonConverter(typeof(InWords<UnexplainedKind>))]
public enum UnexplainedKind
{
    /// <summary>Old records, a column or a table that the new store does not have.</summary>
    Gone,
    /// <summary>Records that nothing old stands for, in a table that the old store has, too.</summary>
    New,
    /// <summary>Records with another value in a column.</summary>
    Changed,
    /// <summary>Lines of a control total that disagree.</summary>
    Total,
}

/// <summary>Something that is not explained.</summary>
/// <param name="To">The new version of the hop.</param>
/// <param name="Kind">How it differs.</param>
/// <param name="Table">The table; of a total, its name.</param>
/// <param name="Column">The column; "" where whole records, or the table, are meant.</param>
/// <param name="Records">How many records; of a total, how many of its lines.</param>
public sealed record Unexplained(string To, UnexplainedKind Kind, string Table, string Column, long Records)
{
    /// <summary>The first of them as a person reads them, at most three.</summary>
    public IReadOnlyList<string> Examples { get => field ?? []; init; }

    /// <summary>A person has answered for so many at most, and there are more; 0 when nobody has.</summary>
    public long AnsweredForAtMost { get; init; }

    /// <summary>Whether both are about the same.</summary>
    internal bool IsAbout(string to, UnexplainedKind kind, string table, string column) => To == to && Kind == kind
        && Same(Table, table) && Same(Column, column);

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>It in words.</summary>
    public string Words
    {
        get
        {
            string records = string.Create(CultureInfo.InvariantCulture, $"{Records:#,0} {(Records == 1 ? "record" : "records")}");
            return Kind switch
            {
                UnexplainedKind.Total => string.Create(CultureInfo.InvariantCulture,
                    $"{Records:#,0} {(Records == 1 ? "line" : "lines")} of the control total \"{Table}\" {(Records == 1
                        ? "disagrees" : "disagree")}"),
                UnexplainedKind.Changed => $"{Table}: {records} with another value in {Column}",
                UnexplainedKind.New => $"{Table}: {records} that nothing in the old store stands for",
                _ when Column.Length > 0 => $"{Table}: the column {Column}, of {records}, is gone or cannot be compared",
                _ => $"{Table}: {records} gone"
            };
        }
    }

    /// <summary>The line of office.yaml in which a person answers for it, with dots for name and reason.</summary>
    public string Line => string.Create(CultureInfo.InvariantCulture, $"- {{to: {YamlText.Of(To)}, ")
        + (Kind == UnexplainedKind.Total ? $"total: {YamlText.Of(Table)}, " : $"table: {YamlText.Of(Table)}, "
            + (Column.Length > 0 ? $"column: {YamlText.Of(Column)}, " : "") + $"what: {Kind.ToString().ToLowerInvariant()}, ")
        + string.Create(CultureInfo.InvariantCulture, $"records: {Records}, by: ..., because: ...}}");
}

/// <summary>What a person answers for.</summary>
/// <param name="To">The new version of the hop.</param>
/// <param name="Kind">How it differs.</param>
/// <param name="Table">The table, or the control total.</param>
/// <param name="Column">The column; "" for whole records.</param>
/// <param name="AtMost">For so many records, or lines of a total, at most.</param>
/// <param name="By">Who answers.</param>
/// <param name="Because">Why it is meant, or does no harm.</param>
public sealed record Answer(string To, UnexplainedKind Kind, string Table, string Column, long AtMost, string By, string Because);

/// <summary>Something that is not explained, and for which a person has answered.</summary>
/// <param name="What">What it is.</param>
/// <param name="AtMost">For so many at most.</param>
/// <param name="By">Who.</param>
/// <param name="Because">Why.</param>
public sealed record AnsweredFor(Unexplained What, long AtMost, string By, string Because);
