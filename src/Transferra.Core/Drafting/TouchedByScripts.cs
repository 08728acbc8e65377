// TouchedByScripts.cs: which tables and columns a vendor's scripts touch, as far as their words tell.
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Scripts;

namespace Transferra.Core.Drafting;

/// <summary>Reads scripts.</summary>
public static partial class TouchedByScripts
{
    /// <summary>What each table suffers, one line each: "EMP: column RATE added; records changed".</summary>
    /// <param name="scripts">Their files.</param>
    /// <param name="engine">The store's engine, as office.yaml calls it.</param>
    /// <exception cref="TransferraException">A script cannot be taken apart.</exception>
    public static IReadOnlyList<string> Of(IReadOnlyList<string> scripts, string engine)
    {
        ScriptDialect dialect = ScriptDialects.Of(engine) ?? throw new TransferraException($"a store of {engine} runs no scripts",
            "Leave --scripts out.");
        var touched = new SortedDictionary<string, List<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (string file in scripts)
        {
            using var text = new StreamReader(PlainFile.Open(file));
            try
            {
                foreach (ScriptStatement statement in new ScriptReader(text, dialect).Statements()) Note(touched, statement.Text);
            }
            catch (ScriptMistakeException mistake)
            {
                throw new TransferraException(FormattableString.Invariant($"{file}, line {mistake.Line}: {mistake.What}"), mistake.Next);
            }
        }
        return [.. touched.Select(table => $"{table.Key}: {string.Join("; ", table.Value.Distinct())}")];
    }

    private static void Note(SortedDictionary<string, List<string>> touched, string statement)
    {
        Match match = Touches().Match(statement);
        if (!match.Success) return;
        string table = Bare(match.Groups["table"].Value), doing = match.Groups["doing"].Value.ToUpperInvariant(),
            rest = statement[(match.Index + match.Length)..];
        string what = Blanks().Replace(doing, " ") switch
        {
            "UPDATE" => Sets().Matches(rest) is { Count: > 0 } sets ? $"values of {string.Join(", ", sets.Select(set =>
                Bare(set.Groups[1].Value)).Distinct())} changed" : "values changed",
            "DELETE FROM" => "records removed",
            "TRUNCATE" or "TRUNCATE TABLE" => "all records removed",
            "DROP TABLE" => "removed",
            string made when made.StartsWith("CREATE", StringComparison.Ordinal) => "made",
            string altered when altered.StartsWith("ALTER", StringComparison.Ordinal) => Altered(rest),
            _ => "records added"
        };
        if (!touched.TryGetValue(table, out List<string>? lines)) touched[table] = lines = [];
        lines.Add(what);
    }

    private static string Altered(string rest)
    {
        string[] parts = [.. Alters().Matches(rest).Select(part => part.Groups["to"].Success
            ? $"{Bare(part.Groups["column"].Value)} renamed to {Bare(part.Groups["to"].Value)}"
            : $"{Bare(part.Groups["column"].Value)} {part.Groups["doing"].Value.ToUpperInvariant() switch
            {
                "ADD" => "added",
                "DROP" => "removed",
                _ => "altered"
            }}")];
        return parts.Length > 0 ? string.Join(", ", parts) : "altered";
    }

    private static string Bare(string name) => string.Join('.', name.Split('.').Select(part => part.Trim('"', '`', '[', ']', ' ')));

    private const string Name = """(?:[\w$]+|"[^"]+"|`[^`]+`|\[[^\]]+\])""";

    [GeneratedRegex(@"\A\s*(?<doing>INSERT\s+(?:OR\s+\w+\s+)?INTO|REPLACE\s+INTO|UPDATE\s+OR\s+INSERT\s+INTO|UPDATE|DELETE\s+FROM"
        + @"|TRUNCATE(?:\s+TABLE)?|DROP\s+TABLE|CREATE\s+(?:\w+\s+)?TABLE|ALTER\s+TABLE)\s+(?:ONLY\s+|IF\s+(?:NOT\s+)?EXISTS\s+)*"
        + "(?<table>" + Name + @"(?:\." + Name + ")?)", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Touches();

    [GeneratedRegex(@"(?:\bSET\s+|,\s*)(" + Name + @")\s*=", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Sets();

    [GeneratedRegex(@"(?<doing>ADD|DROP|ALTER|MODIFY|CHANGE|RENAME)\s+(?:COLUMN\s+)?(?:IF\s+(?:NOT\s+)?EXISTS\s+)?"
        + @"(?!CONSTRAINT|INDEX|KEY|PRIMARY|FOREIGN|UNIQUE|CHECK|TO\b)(?<column>" + Name + @")(?:\s+TO\s+(?<to>" + Name + "))?",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Alters();

    [GeneratedRegex(@"\s+")]
    private static partial Regex Blanks();
}
