// ExpressionLexer.cs: cuts an expression's text into tokens, each with its offset.
using System.Text;

namespace Transferra.Core.Expressions;

internal enum TokenKind { Name, QuotedName, Text, Number, Parameter, Symbol, End }

internal readonly record struct Token(TokenKind Kind, string Text, int At)
{
    public bool IsWord(string word) => Kind == TokenKind.Name && string.Equals(Text, word, StringComparison.OrdinalIgnoreCase);
    public bool IsSymbol(string symbol) => Kind == TokenKind.Symbol && Text == symbol;
}

internal static class ExpressionLexer
{
    private static readonly string[] Symbols = ["<>", "<=", ">=", "||", "(", ")", ",", ".", "+", "-", "*", "/", "=", "<", ">"];

    public static List<Token> Cut(string text)
    {
        var tokens = new List<Token>();
        int at = 0;
        while (true)
        {
            while (at < text.Length && char.IsWhiteSpace(text[at])) at++;
            if (at >= text.Length) break;
            char c = text[at];
            int start = at;
            if (c == '\'') tokens.Add(new(TokenKind.Text, Quoted(text, ref at, '\'', "text"), start));
            else if (c == '"') tokens.Add(new(TokenKind.QuotedName, Quoted(text, ref at, '"', "name"), start));
            else if (char.IsAsciiDigit(c)) tokens.Add(new(TokenKind.Number, Number(text, ref at), start));
            else if (char.IsLetter(c) || c == '_') tokens.Add(new(TokenKind.Name, Word(text, ref at), start));
            else if (c == ':' && at + 1 < text.Length && (char.IsLetter(text[at + 1]) || text[at + 1] == '_'))
            {
                at++;
                tokens.Add(new(TokenKind.Parameter, Word(text, ref at), start));
            }
            else
            {
                string symbol = Symbols.FirstOrDefault(symbol => string.CompareOrdinal(text, start, symbol, 0, symbol.Length) == 0)
                    ?? throw new ExpressionException(start, $"the character \"{c}\" has no meaning here");
                tokens.Add(new(TokenKind.Symbol, symbol, start));
                at += symbol.Length;
            }
        }
        tokens.Add(new(TokenKind.End, "", text.Length));
        return tokens;
    }

    private static string Word(string text, ref int at)
    {
        int start = at;
        while (at < text.Length && (char.IsLetterOrDigit(text[at]) || text[at] is '_' or '$' or '#')) at++;
        return text[start..at];
    }

    private static string Number(string text, ref int at)
    {
        int start = at;
        while (at < text.Length && char.IsAsciiDigit(text[at])) at++;
        if (at + 1 < text.Length && text[at] == '.' && char.IsAsciiDigit(text[at + 1]))
        {
            at++;
            while (at < text.Length && char.IsAsciiDigit(text[at])) at++;
        }
        if (at < text.Length && (char.IsLetter(text[at]) || text[at] == '_'))
            throw new ExpressionException(at, $"a number ends before \"{text[at]}\"; put a blank or an operator between them");
        return text[start..at];
    }

    private static string Quoted(string text, ref int at, char mark, string what)
    {
        int start = at++;
        var value = new StringBuilder();
        while (at < text.Length)
        {
            if (text[at] == mark)
            {
                if (at + 1 >= text.Length || text[at + 1] != mark) { at++; return value.ToString(); }
                at++;
            }
            value.Append(text[at++]);
        }
        throw new ExpressionException(start, $"this {what} has no closing {mark}");
    }
}
