// Masking.cs: what of a value leaves the house: of a private column nothing, of a masked one its form, so that the vendor sees what is
// wrong with it.
using System.Text.RegularExpressions;
using Transferra.Core.Kits;

namespace Transferra.Core.Support;

/// <summary>Masks values by a version's marks.</summary>
internal sealed partial class Masking(KitVersion version)
{
    /// <summary>A value's form: each digit a 9, each letter an A or a, everything else as it is.</summary>
    public static string FormOf(string value) => string.Concat(value.Select(c => char.IsDigit(c) ? '9' : char.IsUpper(c) ? 'A'
        : char.IsLetter(c) ? 'a' : c));

    /// <summary>Whether values of a table's column leave the house as their form only.</summary>
    public bool IsMasked(string table, string column) => (version.Table(table) is { } shape
        && shape.OrdinalOf(column) is >= 0 and int ordinal && shape.Columns[ordinal].IsMasked)
        || version.Masked.Contains($"{table}.{column}", StringComparer.OrdinalIgnoreCase);

    // Where the store could not be looked at, nobody knows which columns a key or a rule is made of.
    private bool MayBeMasked(string table) => version.Table(table) is null
        && version.Masked.Any(column => column.StartsWith(table + ".", StringComparison.OrdinalIgnoreCase));

    /// <summary>Whether what a finding shows as a value is made of masked columns.</summary>
    /// <param name="table">The finding's table.</param>
    /// <param name="subject">What of it: columns, a relation, a rule's name.</param>
    public bool IsMaskedSubject(string table, string subject)
    {
        if (version.Rules.FirstOrDefault(rule => rule.Name == subject) is { } rule)
        {
            return rule switch
            {
                GroupRule groups => Sides(groups)
                    .Any(side => side.Sum.ColumnReferences.Any(column => IsMasked(side.Table.Name, column.Name))),
                RecordRule record => record.Holds.ColumnReferences.Any(column => column.Lookup is null && IsMasked(table, column.Name)),
                _ => true,
            };
        }
        if (MayBeMasked(table)) return true;
        // "COLUMN", "COLUMN, COLUMN", "COLUMN: why", "COLUMN to TABLE (COLUMN)"
        string columns = subject.Split(" to ")[0].Split(": ")[0];
        return columns.Split(", ").Any(column => IsMasked(table, column));
    }

    private static IEnumerable<RuleSide> Sides(GroupRule rule) => rule.Other is null ? [rule.Side] : [rule.Side, rule.Other];

    /// <summary>A record's key as it may leave the house.</summary>
    public string Record(string table, string record) => version.Table(table) is { } shape
        && shape.Key.Any(column => IsMasked(table, column)) || MayBeMasked(table) ? FormOf(record) : record;

    /// <summary>An example of a finding, "record: value", as it may leave the house.</summary>
    public string Example(string table, string subject, string example)
    {
        int colon = example.IndexOf(": ", StringComparison.Ordinal);
        string record = Record(table, colon < 0 ? example : example[..colon]);
        return colon < 0 ? record : $"{record}: "
            + $"{(IsMaskedSubject(table, subject) ? FormOf(example[(colon + 2)..]) : example[(colon + 2)..])}";
    }

    /// <summary>A line of a program's log without what looks like people's own: mail addresses, long numbers, and what stands behind
    /// "password" and its like.</summary>
    public static string LogLine(string line) => LongNumbers()
        .Replace(Secrets().Replace(Mail().Replace(line, "(mail)"), "$1(hidden)"), match => match.Groups["when"].Success
        ? match.Value : new string('9', match.Length));

    [GeneratedRegex(@"[\w.+-]+@[\w-]+(\.[\w-]+)+", RegexOptions.CultureInvariant)]
    private static partial Regex Mail();

    // Days and times look like long numbers, and the vendor needs them.
    [GeneratedRegex(@"(?<when>\b\d{4}-\d{2}-\d{2}(?:[ T]\d{2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?)?)|\d(?:[ -]?\d){6,}",
        RegexOptions.CultureInvariant)]
    private static partial Regex LongNumbers();

    [GeneratedRegex(@"((?:password|passwd|pwd|pin|secret|token|licen[cs]e|serial|key)\s*[:=]\s*)\S+",
        RegexOptions.CultureInvariant | RegexOptions.IgnoreCase)]
    private static partial Regex Secrets();
}
