// ScriptReader.cs: takes a vendor's script apart into its statements, by the rules of the engine it is written for: what is a text, a name
// or a comment, and what ends a statement (StatementEnd.cs).
// Sources: PostgreSQL documentation, "Lexical Structure"; MariaDB, "Comment Syntax" and "Delimiters"; Firebird Language Reference, "Lexical
// Structure"; SQLite, "SQL Comment Syntax" and "SQLite Keywords".
// Holds: (1) what stands in texts, names, comments and bodies ends no statement; (2) memory is bounded by the longest statement, whatever
// the length of the script; (3) a script that ends within something, or that speaks to the engine's own client, is told with its line.
using System.Text;

namespace Transferra.Core.Scripts;

/// <param name="script">The script, decoded.</param>
/// <param name="dialect">Whose rules it follows.</param>
public sealed class ScriptReader(TextReader script, ScriptDialect dialect)
{
    /// <summary>Characters of the longest statement that is taken.</summary>
    public const int LongestStatement = 64 << 20;

    private readonly ScriptText _text = new(script);
    private readonly StringBuilder _statement = new();
    private readonly StatementEnd _end = StatementEnd.Of(dialect);
    private int _begins = 1;

    private bool IsOf(ScriptDialect other) => dialect == other;

    /// <summary>The statements, in order, read as they are asked for.</summary>
    /// <exception cref="ScriptMistakeException">It cannot be taken apart.</exception>
    public IEnumerable<ScriptStatement> Statements()
    {
        while (true)
        {
            if (_statement.Length == 0) Begin();
            bool isOver = _text.Next < 0;
            if (!isOver && !_end.IsAt(_text))
            {
                Step();
                continue;
            }
            if (!isOver)
                for (int i = 0, length = _end.Delimiter.Length; i < length; i++) _text.Take();
            var statement = new ScriptStatement(_statement.ToString().Trim(), _begins);
            if (isOver && statement.Text.Length > 0 && _end.IsWithin)
                throw Mistake($"the script ends within the statement that begins here: {statement.Shown}");
            _statement.Clear();
            _end.Anew();
            if (statement.Text.Length > 0 && !_end.IsOurs(statement.Text)) yield return statement;
            if (isOver) yield break;
        }
    }

    private ScriptMistakeException Mistake(string what) => new(_begins, what, "Ask the vendor for the whole script.");

    private ScriptMistakeException OpenAtEnd(string what) => Mistake($"the script ends within {what}; the statement begins here");

    private ScriptMistakeException ForClient(string line) => new(_begins, $"this is a command of the engine's own client: {line.Trim()}",
        "Have the client run the script, or take the line out where it is not needed.");

    // Before a statement: blanks, and lines that the engine's own client takes for itself.
    private void Begin()
    {
        while (_text.Next is >= 0 and int c && (char.IsWhiteSpace((char)c) || c == '\uFEFF')) _text.Take();
        _begins = _text.Line;
        if (_text.Next == '\\' && (IsOf(ScriptDialect.Postgresql) || IsOf(ScriptDialect.Mariadb))) throw ForClient(_text.TakeLine());
        if (_text.Next == '.' && IsOf(ScriptDialect.Sqlite)) throw ForClient(_text.TakeLine());
    }

    private void Keep(char c)
    {
        if (_statement.Length >= LongestStatement)
            throw Mistake("the statement that begins here has more than 64 million characters; a quotation mark may be missing");
        _statement.Append(c);
    }

    private char Move()
    {
        char c = _text.Take();
        Keep(c);
        return c;
    }

    private void Step()
    {
        if (SkipComment()) return;
        char before = _text.Before, c = Move();
        switch (c)
        {
            case '\'': Quoted('\'', escapes: IsOf(ScriptDialect.Mariadb)); break;
            case '"': Quoted('"', escapes: IsOf(ScriptDialect.Mariadb)); break;
            case '`' when IsOf(ScriptDialect.Mariadb) || IsOf(ScriptDialect.Sqlite): Quoted('`', escapes: false); break;
            case '[' when IsOf(ScriptDialect.Sqlite): Quoted(']', escapes: false); break;
            case '$' when IsOf(ScriptDialect.Postgresql) && !IsOfWord(before): DollarQuoted(); break;
            case '(' or ')': _end.Bracket(opens: c == '('); break;
            case ';': _end.Semicolon(); break;
            default:
                if (IsOfWord(c) && !char.IsDigit(c)) Word();
                else if (!char.IsWhiteSpace(c)) _end.Sign();
                break;
        }
    }

    private static bool IsOfWord(char c) => char.IsLetterOrDigit(c) || c is '_' or '$';

    private void Word()
    {
        int start = _statement.Length - 1;
        while (_text.Next is >= 0 and int next && IsOfWord((char)next) && !_end.IsAt(_text)) Move();
        string word = _statement.ToString(start, _statement.Length - start).ToUpperInvariant();
        if (start == 0 && IsOf(ScriptDialect.Mariadb) && word == "DELIMITER")
        {
            _end.Delimiter = _text.TakeLine().Trim();
            _statement.Clear();
        }
        else if (start == 0 && IsOf(ScriptDialect.Mariadb) && word == "SOURCE") throw ForClient("source" + _text.TakeLine());
        else if (IsOf(ScriptDialect.Firebird) && word == "Q" && _text.Next == '\'') OtherwiseQuoted();
        else if (IsOf(ScriptDialect.Postgresql) && word == "E" && _text.Next == '\'')
        {
            Move();
            Quoted('\'', escapes: true);
        }
        else _end.Word(word);
    }

    private void Quoted(char end, bool escapes)
    {
        _end.Sign();
        while (_text.Next >= 0)
        {
            char c = Move();
            if (c == end) return; // a doubled one begins the next
            if (escapes && c == '\\' && _text.Next >= 0) Move();
        }
        throw OpenAtEnd($"a text or name that {end} would end");
    }

    // Firebird: q'{it's}', where the sign behind the mark says which one ends it.
    private void OtherwiseQuoted()
    {
        _end.Sign();
        Move();
        if (_text.Next < 0) throw OpenAtEnd("a text");
        char opening = Move(), closing = opening switch { '(' => ')', '[' => ']', '{' => '}', '<' => '>', _ => opening };
        for (char before = '\0'; _text.Next >= 0;)
        {
            char c = Move();
            if (c == '\'' && before == closing) return;
            before = c;
        }
        throw OpenAtEnd($"a text that {closing}' would end");
    }

    // PostgreSQL: $tag$ ... $tag$; the tag may be empty, and begins with no digit.
    private void DollarQuoted()
    {
        _end.Sign();
        int start = _statement.Length - 1;
        if (_text.Next is >= '0' and <= '9') return;
        while (_text.Next is >= 0 and int next && (char.IsLetterOrDigit((char)next) || next == '_')) Move();
        if (_text.Next != '$') return;
        Move();
        string tag = _statement.ToString(start, _statement.Length - start);
        for (int from = _statement.Length; _text.Next >= 0;)
            if (Move() == '$' && _statement.Length - from >= tag.Length && EndsWith(tag)) return;
        throw OpenAtEnd($"a text that {tag} would end");
    }

    private bool EndsWith(string tag)
    {
        for (int i = 1; i <= tag.Length; i++)
            if (_statement[^i] != tag[^i]) return false;
        return true;
    }

    // In MariaDB, "--" is one only when a blank follows (5--3 is eight), and what stands in /*! ... */ is run.
    private bool SkipComment()
    {
        bool isMaria = IsOf(ScriptDialect.Mariadb);
        if (_text.Next == '#' && isMaria
            || _text.StartsWith("--") && (!isMaria || _text.Third is < 0 || char.IsWhiteSpace((char)_text.Third)))
        {
            _text.TakeLine();
            Blank();
            return true;
        }
        if (!_text.StartsWith("/*")) return false;
        if (isMaria && (_text.StartsWith("/*!") || _text.StartsWith("/*M!")))
        {
            _end.Sign();
            Block(Move);
            return true;
        }
        Block(_text.Take);
        Blank();
        return true;
    }

    // Between words it parts them.
    private void Blank()
    {
        if (_statement.Length > 0) Keep(' ');
    }

    private void Block(Func<char> take)
    {
        take();
        take();
        int depth = 1;
        while (_text.Next >= 0)
        {
            if (_text.StartsWith("*/")) depth--;
            else if (IsOf(ScriptDialect.Postgresql) && _text.StartsWith("/*")) depth++;
            else
            {
                take();
                continue;
            }
            take();
            take();
            if (depth == 0) return;
        }
        throw OpenAtEnd("a comment");
    }
}
