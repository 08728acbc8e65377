// MariaKeys.cs: parts a CREATE TABLE statement, as the server writes it out, from the indexes and links that need not be there while
// records come.
// Why: an index that is there takes each record at a random place of its tree; built afterwards, it is sorted once, and both together take
// half of the time.
// Source of the statement's form: SHOW CREATE TABLE, one column, key or constraint a line.
// Holds: (1) the statements together make what the one makes, in the same order; (2) what the server needs meanwhile stays: the order in
// which the records lie, and numbers that it counts up.
using System.Text.RegularExpressions;

namespace Transferra.Stores.Mariadb;

/// <summary>A table's statements.</summary>
/// <param name="Made">Makes it without what the others add.</param>
/// <param name="Keys">Adds its indexes, after its records; null for none.</param>
/// <param name="Links">Adds its links, after the indexes of all tables; null for none.</param>
internal sealed partial record MariaKeys(string Made, string? Keys, string? Links)
{
    /// <summary>Parts a statement.</summary>
    /// <param name="statement">That makes a table; any other stays whole.</param>
    public static MariaKeys Of(string statement)
    {
        string[] lines = statement.Split('\n');
        int last = Array.FindLastIndex(lines, line => line.StartsWith(") ENGINE=", StringComparison.Ordinal));
        if (last < 0 || !lines[last].StartsWith(") ENGINE=InnoDB ", StringComparison.Ordinal)
            || statement.Contains("WITH SYSTEM VERSIONING", StringComparison.Ordinal)
            || Table().Match(lines[0]) is not { Success: true } table) return new MariaKeys(statement, null, null);
        string[] inside = [.. lines[1..last].Select(line => line.TrimEnd(','))];
        string[] keys = Later(inside), links = [.. inside.Where(line => Link().IsMatch(line))];
        if (keys.Length + links.Length == 0) return new MariaKeys(statement, null, null);
        string made = string.Join('\n',
            [lines[0], string.Join(",\n", inside.Where(line => !keys.Contains(line) && !links.Contains(line))), .. lines[last..]]);
        string? Added(string[] what) => what.Length == 0 ? null
            : $"ALTER TABLE {table.Groups[1].Value} {string.Join(", ", what.Select(line => "ADD " + line.Trim()))}";
        return new MariaKeys(made, Added(keys), Added(links));
    }

    // The last ones of its indexes: those behind one that stays, so that their order does, too.
    private static string[] Later(string[] inside)
    {
        string? counted = inside.Select(line => Counted().Match(line)).FirstOrDefault(column => column.Success)?.Groups[1].Value;
        // Without a key of its own, a table's records lie in the order of the first unique one.
        bool hasKey = inside.Any(line => line.StartsWith("  PRIMARY KEY ", StringComparison.Ordinal));
        return [.. inside.Where(line => AnyKey().IsMatch(line)).Reverse().TakeWhile(line => Key().Match(line) is { Success: true } key
            && key.Groups[2].Value != counted && (hasKey || key.Groups[1].Length == 0)
            && !line.Contains(" USING HASH", StringComparison.Ordinal)).Reverse()];
    }

    private const string Name = "(`(?:[^`]|``)*`)", Unnamed = "`(?:[^`]|``)*`";

    [GeneratedRegex("^CREATE TABLE " + Name + @" \($", RegexOptions.CultureInvariant)]
    private static partial Regex Table();

    // Of whatever kind, also of one that this release does not know.
    [GeneratedRegex("^  (?:[A-Z]+ )*KEY `", RegexOptions.CultureInvariant)]
    private static partial Regex AnyKey();

    [GeneratedRegex("^  (UNIQUE )?KEY " + Unnamed + @" \(" + Name, RegexOptions.CultureInvariant)]
    private static partial Regex Key();

    [GeneratedRegex("^  CONSTRAINT " + Unnamed + " FOREIGN KEY ", RegexOptions.CultureInvariant)]
    private static partial Regex Link();

    [GeneratedRegex("^  " + Name + " .* AUTO_INCREMENT", RegexOptions.CultureInvariant)]
    private static partial Regex Counted();
}
