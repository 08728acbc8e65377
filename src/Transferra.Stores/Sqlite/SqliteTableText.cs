// SqliteTableText.cs: a CREATE TABLE statement taken apart, so that a table can be made anew with some columns changed and all else in the
// words it was declared in. Source: SQLite documentation, "CREATE TABLE" (syntax diagrams of column-def and table-constraint).
namespace Transferra.Stores.Sqlite;

/// <summary>A part of a column's declaration behind its type, or of a table's behind its columns.</summary>
/// <param name="Kind">Its first keyword, in capitals: PRIMARY, NOT, NULL, UNIQUE, CHECK, DEFAULT, COLLATE, REFERENCES, GENERATED, AS,
/// FOREIGN.</param>
/// <param name="Text">As it is written.</param>
internal sealed record SqliteConstraint(string Kind, string Text);

/// <summary>A column as it is declared.</summary>
internal sealed record SqliteColumnText(string Name, string Type, IReadOnlyList<SqliteConstraint> Constraints)
{
    /// <summary>Whether the engine works its values out by itself.</summary>
    public bool IsGenerated => Constraints.Any(constraint => constraint.Kind is "GENERATED" or "AS");

    /// <summary>The declaration.</summary>
    public override string ToString() =>
        string.Join(' ', [SqliteEngine.Quote(Name), .. Type.Length > 0 ? (string[])[Type] : [], .. Constraints.Select(part => part.Text)]);
}

/// <summary>A table as it is declared.</summary>
/// <param name="Columns">Its columns, in order.</param>
/// <param name="Constraints">What follows them.</param>
/// <param name="Tail">What stands behind the brackets: WITHOUT ROWID, STRICT.</param>
internal sealed record SqliteTableText(IReadOnlyList<SqliteColumnText> Columns, IReadOnlyList<SqliteConstraint> Constraints, string Tail)
{
    private static readonly string[] OfColumns = ["CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT", "COLLATE",
        "REFERENCES", "GENERATED", "AS"];
    private static readonly string[] OfTables = ["CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"];

    private readonly record struct Token(int Start, int End, string Word);

    /// <summary>Takes a statement apart.</summary>
    /// <returns>Null when it is not of that form, as for a virtual table.</returns>
    public static SqliteTableText? Read(string sql)
    {
        List<Token> tokens = Tokens(sql);
        int open = tokens.FindIndex(token => token.Word == "("), last = tokens.Count - 1;
        if (open < 0 || tokens.Take(open).Any(token => token.Word is "VIRTUAL" or "AS")) return null;
        int close = Closing(tokens, open);
        var columns = new List<SqliteColumnText>();
        var constraints = new List<SqliteConstraint>();
        for (int start = open + 1; start < close;)
        {
            int end = start;
            while (end < close && tokens[end].Word != ",") end = tokens[end].Word == "(" ? Closing(tokens, end) + 1 : end + 1;
            List<Token> part = tokens[start..end];
            if (part.Count > 0 && OfTables.Contains(part[0].Word)) constraints.AddRange(Parts(sql, part, OfTables));
            else if (part.Count > 0) columns.Add(Column(sql, part));
            start = end + 1;
        }
        return new SqliteTableText(columns, constraints, close < last ? sql[tokens[close + 1].Start..tokens[last].End] : "");
    }

    private static SqliteColumnText Column(string sql, List<Token> part)
    {
        int rest = part.FindIndex(1, token => OfColumns.Contains(token.Word));
        if (rest < 0) rest = part.Count;
        string type = rest > 1 ? sql[part[1].Start..part[rest - 1].End] : "";
        return new SqliteColumnText(Unquoted(sql[part[0].Start..part[0].End]), type, Parts(sql, part[rest..], OfColumns));
    }

    // Cut where a keyword begins something new, and not where it belongs to what stands before it.
    private static List<SqliteConstraint> Parts(string sql, List<Token> tokens, string[] keywords)
    {
        var starts = new List<int>();
        int depth = 0;
        for (int i = 0; i < tokens.Count; i++)
        {
            string word = tokens[i].Word, before = i > 0 ? tokens[i - 1].Word : "", behind = i + 1 < tokens.Count ? tokens[i + 1].Word : "";
            depth += word == "(" ? 1 : word == ")" ? -1 : 0;
            bool belongs = before is "SET" or "DEFAULT" || (word == "NULL" && before == "NOT") || (word == "NOT" && behind == "DEFERRABLE")
                || (word == "AS" && before == "ALWAYS") || (word == "REFERENCES" && keywords == OfTables)
                || (i >= 2 && tokens[i - 2].Word == "CONSTRAINT");
            if (depth == 0 && !belongs && keywords.Contains(word)) starts.Add(i);
        }
        var parts = new List<SqliteConstraint>();
        for (int i = 0; i < starts.Count; i++)
        {
            int from = starts[i], to = i + 1 < starts.Count ? starts[i + 1] : tokens.Count;
            string kind = tokens[from].Word == "CONSTRAINT" && from + 2 < to ? tokens[from + 2].Word : tokens[from].Word;
            parts.Add(new SqliteConstraint(kind, sql[tokens[from].Start..tokens[to - 1].End]));
        }
        return parts;
    }

    private static int Closing(List<Token> tokens, int open)
    {
        int depth = 0;
        for (int i = open; i < tokens.Count; i++)
        {
            depth += tokens[i].Word == "(" ? 1 : tokens[i].Word == ")" ? -1 : 0;
            if (depth == 0) return i;
        }
        return tokens.Count - 1;
    }

    /// <summary>Whether a part of a statement names a column or table.</summary>
    public static bool Mentions(string sql, string name) => Tokens(sql).Any(token => string.Equals(
        Unquoted(sql[token.Start..token.End]), name, StringComparison.OrdinalIgnoreCase));

    private static string Unquoted(string word) => word.Length < 2 ? word : word[0] switch
    {
        '"' or '`' or '\'' => word[1..^1].Replace(new string(word[0], 2), word[..1], StringComparison.Ordinal),
        '[' => word[1..^1],
        _ => word,
    };

    // Words are in capitals where they are not quoted; comments are no tokens.
    private static List<Token> Tokens(string sql)
    {
        var tokens = new List<Token>();
        for (int i = 0; i < sql.Length;)
        {
            int start = i;
            char c = sql[i];
            if (char.IsWhiteSpace(c)) i++;
            else if (c == '-' && i + 1 < sql.Length && sql[i + 1] == '-') i = After(sql, "\n", i);
            else if (c == '/' && i + 1 < sql.Length && sql[i + 1] == '*') i = After(sql, "*/", i + 2);
            else
            {
                i = EndOf(sql, i);
                string text = sql[start..i];
                tokens.Add(new Token(start, i, c is '"' or '`' or '[' or '\'' ? "" : text.ToUpperInvariant()));
            }
        }
        return tokens;
    }

    private static int After(string sql, string what, int from) =>
        sql.IndexOf(what, from, StringComparison.Ordinal) is >= 0 and int at ? at + what.Length : sql.Length;

    private static int EndOf(string sql, int start)
    {
        char c = sql[start];
        if (c == '[') return After(sql, "]", start);
        int i = start + 1;
        if (c is '"' or '`' or '\'')
        {
            for (; i < sql.Length; i++)
            {
                if (sql[i] != c) continue;
                if (i + 1 < sql.Length && sql[i + 1] == c) i++;
                else return i + 1;
            }
            return i;
        }
        if (!IsOfWord(c)) return i;
        while (i < sql.Length && IsOfWord(sql[i])) i++;
        return i;
    }

    private static bool IsOfWord(char c) => char.IsLetterOrDigit(c) || c is '_' or '$' or '.' || c > 127;
}
