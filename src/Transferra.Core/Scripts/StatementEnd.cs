// StatementEnd.cs: where a statement ends, by each engine's own rule: a semicolon, but not within brackets and the bodies of functions
// (PostgreSQL) or of triggers (SQLite); what the script itself says ends one (MariaDB: DELIMITER, Firebird: SET TERM).
// Sources: PostgreSQL documentation, CREATE FUNCTION (sql_body); SQLite documentation, CREATE TRIGGER and sqlite3_complete; MariaDB,
// "Delimiters"; Firebird, isql, SET TERM.
using System.Text.RegularExpressions;

namespace Transferra.Core.Scripts;

/// <summary>Follows a statement word by word.</summary>
internal abstract class StatementEnd
{
    /// <summary>What ends one.</summary>
    public string Delimiter { get; set; } = ";";

    /// <summary>Whether one may end here.</summary>
    protected abstract bool MayEnd { get; }

    /// <summary>Whether the script could not end here, but for the last mark.</summary>
    public virtual bool IsWithin => !MayEnd;

    /// <summary>Whether a statement ends with what comes next.</summary>
    public bool IsAt(ScriptText text) => MayEnd && text.StartsWith(Delimiter);

    /// <summary>A word outside of texts and names.</summary>
    /// <param name="word">In capitals.</param>
    public virtual void Word(string word) { }

    /// <summary>Any other thing: a text, a name in marks, a sign.</summary>
    public virtual void Sign() { }

    /// <summary>A semicolon that ends no statement.</summary>
    public virtual void Semicolon() { }

    /// <summary>An opening or closing bracket.</summary>
    public virtual void Bracket(bool opens) => Sign();

    /// <summary>A statement begins.</summary>
    public virtual void Anew() { }

    /// <summary>Whether a statement is meant for whoever takes the script apart, and is not the engine's.</summary>
    public virtual bool IsOurs(string statement) => false;

    public static StatementEnd Of(ScriptDialect dialect) => dialect switch
    {
        ScriptDialect.Sqlite => new SqliteEnd(),
        ScriptDialect.Postgresql => new PostgresqlEnd(),
        ScriptDialect.Firebird => new FirebirdEnd(),
        _ => new MariadbEnd(),
    };
}

internal sealed class MariadbEnd : StatementEnd
{
    protected override bool MayEnd => true;
}

internal sealed partial class FirebirdEnd : StatementEnd
{
    protected override bool MayEnd => true;

    public override bool IsOurs(string statement)
    {
        // How its own client is to show things; in what set and dialect we speak to the engine.
        if (OfClient().IsMatch(statement)) return true;
        if (SetTerm().Match(statement) is not { Success: true } match) return false;
        Delimiter = match.Groups[1].Value;
        return true;
    }

    [GeneratedRegex(@"\ASET\s+(?:NAMES|AUTODDL|AUTO|SQL\s+DIALECT\s+3|BAIL|BLOB|COUNT|ECHO|HEADING|LIST|PLAN|STATS|TIME|WARNINGS|WIDTH)\b",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex OfClient();

    [GeneratedRegex(@"\ASET\s+TERM(?:INATOR)?\s+(\S+)\s*\z", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex SetTerm();
}

/// <summary>Brackets hold it open, and the body of a function or procedure that begins with BEGIN ATOMIC.</summary>
internal sealed class PostgresqlEnd : StatementEnd
{
    private readonly List<string> _first = [];
    private int _brackets, _blocks;

    protected override bool MayEnd => _brackets <= 0 && _blocks == 0;

    public override void Anew()
    {
        _first.Clear();
        (_brackets, _blocks) = (0, 0);
    }

    public override void Bracket(bool opens) => _brackets += opens ? 1 : -1;

    private bool IsRoutine => _first is ["CREATE", "FUNCTION" or "PROCEDURE", ..]
        or ["CREATE", "OR", "REPLACE", "FUNCTION" or "PROCEDURE", ..];

    public override void Word(string word)
    {
        if (_first.Count < 4) _first.Add(word);
        if (_brackets > 0 || !IsRoutine) return;
        if (word == "BEGIN" || word == "CASE" && _blocks > 0) _blocks++;
        else if (word == "END" && _blocks > 0) _blocks--;
    }
}

/// <summary>A trigger ends with the END that follows a semicolon and that a semicolon follows.</summary>
internal sealed class SqliteEnd : StatementEnd
{
    private enum At { Start, Explain, Create, Plain, Trigger, Semicolon, End }

    private At _at;

    // In a trigger, only behind its END.
    protected override bool MayEnd => _at is not (At.Trigger or At.Semicolon);

    public override bool IsWithin => _at is At.Trigger or At.Semicolon;

    public override void Anew() => _at = At.Start;

    public override void Sign() => _at = _at is At.Trigger or At.Semicolon or At.End ? At.Trigger : At.Plain;

    public override void Semicolon() => _at = At.Semicolon;

    public override void Word(string word) => _at = (_at, word) switch
    {
        (At.Start, "EXPLAIN") => At.Explain,
        (At.Start or At.Explain, "CREATE") => At.Create,
        (At.Explain, "QUERY" or "PLAN") => At.Explain,
        (At.Create, "TEMP" or "TEMPORARY") => At.Create,
        (At.Create, "TRIGGER") => At.Trigger,
        (At.Semicolon, "END") => At.End,
        (At.Trigger or At.Semicolon or At.End, _) => At.Trigger,
        _ => At.Plain,
    };
}
