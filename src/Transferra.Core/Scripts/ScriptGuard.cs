// ScriptGuard.cs: statements of a vendor's script that would reach beyond the copy they are run in: into the original, into other
// databases, or into the server itself. They are found before the first statement is run.
// Holds: (1) a script never leads to another store than the copy by its own words.
using System.Text.RegularExpressions;

namespace Transferra.Core.Scripts;

/// <summary>Looks at statements.</summary>
/// <param name="dialect">Whose rules they follow.</param>
/// <param name="originals">Names of the stores that must not be touched, as statements would call them.</param>
public sealed partial class ScriptGuard(ScriptDialect dialect, IReadOnlyList<string> originals)
{
    private static readonly string[] OfServer = ["DATABASE", "ROLE", "USER", "GROUP", "TABLESPACE", "SERVER", "SUBSCRIPTION"];

    // MariaDB calls a database a schema, too.
    private static readonly string[] OfMariadb = [.. OfServer, "SCHEMA"];

    private static readonly string[] ClientOfFirebird = ["CONNECT", "INPUT", "IN", "OUTPUT", "OUT", "SHELL", "SHOW", "EXIT", "QUIT", "EDIT",
        "HELP"];

    private readonly (string Name, Regex Named)[] _originals = [.. originals.Select(original => (original,
        new Regex($@"(?<![\w$])(`?){Regex.Escape(original)}\1\s*\.", RegexOptions.CultureInvariant | RegexOptions.IgnoreCase)))];

    /// <summary>Why a statement is not run; null when it is.</summary>
    public string? WhyNot(string statement)
    {
        string[] words = [.. FirstWords().Matches(statement[..Math.Min(statement.Length, 400)]).Take(6).Select(word =>
            word.Value.ToUpperInvariant())];
        if (words.Length == 0) return null;
        string? why = dialect switch
        {
            ScriptDialect.Sqlite => words[0] is "ATTACH" or "DETACH" ? "it reaches into another file"
                : words[0] == "VACUUM" && words.Contains("INTO") ? "it writes another file" : null,
            ScriptDialect.Postgresql => words is ["ALTER", "SYSTEM", ..] ? "it changes the server itself" : Made(words, OfServer),
            ScriptDialect.Firebird => ClientOfFirebird.Contains(words[0]) ? "it is a command of the engine's own client"
                : words is ["SET", "SQL", "DIALECT", "1", ..] ? "it is written for dialect 1"
                : statement.Contains("ON EXTERNAL", StringComparison.OrdinalIgnoreCase) ? "it reaches into another database"
                : Made(words, OfServer),
            _ => words[0] == "USE" ? "it leads into another database" : words is ["SET", "GLOBAL", ..] ? "it changes the server itself"
                : _originals.FirstOrDefault(original => original.Named.IsMatch(statement)) is { Name: { } name }
                    ? $"it names the database {name} itself, and would write to the original"
                : Made(words, OfMariadb),
        };
        return why;
    }

    private static string? Made(string[] words, string[] kinds) => words[0] is "CREATE" or "ALTER" or "DROP"
        && words.Skip(1).FirstOrDefault(word => word is not ("OR" or "REPLACE" or "ALTER" or "IF" or "NOT" or "EXISTS")) is { } kind
        && kinds.Contains(kind) ? $"it makes or changes a {kind.ToLowerInvariant()}, which is the server's and not the store's" : null;

    [GeneratedRegex(@"[\w$]+", RegexOptions.CultureInvariant)]
    private static partial Regex FirstWords();
}
