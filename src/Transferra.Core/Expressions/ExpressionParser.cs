// ExpressionParser.cs: recursive descent over SQL's scalar expressions and search conditions; grammar in docs/expressions.md.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>Parses SQL scalar expressions.</summary>
internal sealed class ExpressionParser
{
    // Deeper nesting is a mistake or an attack; the limit keeps a description from exhausting the stack.
    private const int MaxDepth = 200;

    private static readonly HashSet<string> Reserved = new(StringComparer.OrdinalIgnoreCase)
    {
        "AND", "OR", "NOT", "IS", "NULL", "IN", "BETWEEN", "LIKE", "ESCAPE", "CASE", "WHEN", "THEN", "ELSE", "END", "CAST", "AS",
        "FROM", "FOR", "TRUE", "FALSE",
    };

    private readonly List<Token> _tokens;
    private int _at;
    private int _depth;

    private ExpressionParser(string text) => _tokens = ExpressionLexer.Cut(text);

    /// <summary>Parses a whole text.</summary>
    /// <exception cref="ExpressionException">The first mistake, with its offset.</exception>
    public static Expression Parse(string text)
    {
        var parser = new ExpressionParser(text);
        if (parser.Next.Kind == TokenKind.End) throw new ExpressionException(0, "the expression is empty");
        Expression expression = parser.Or();
        if (parser.Next.Kind != TokenKind.End) throw parser.Unexpected("an operator or the end");
        return expression;
    }

    private Token Next => _tokens[_at];

    private Token Take() => _tokens[_at++];

    private bool TryWord(string word)
    {
        if (!Next.IsWord(word)) return false;
        _at++;
        return true;
    }

    private bool TrySymbol(string symbol)
    {
        if (!Next.IsSymbol(symbol)) return false;
        _at++;
        return true;
    }

    private void Word(string word)
    {
        if (!TryWord(word)) throw Unexpected(word);
    }

    private void Symbol(string symbol)
    {
        if (!TrySymbol(symbol)) throw Unexpected($"\"{symbol}\"");
    }

    private ExpressionException Unexpected(string wanted) => new(Next.At,
        Next.Kind == TokenKind.End ? $"the expression ends where {wanted} should follow" : $"expected {wanted}, found \"{Next.Text}\"");

    private Expression Or()
    {
        if (++_depth > MaxDepth) throw new ExpressionException(Next.At, "the expression is nested too deeply");
        Expression left = And();
        while (Next.IsWord("OR")) left = new Binary(Take().At, BinaryOperator.Or, left, And());
        _depth--;
        return left;
    }

    private Expression And()
    {
        Expression left = Negation();
        while (Next.IsWord("AND")) left = new Binary(Take().At, BinaryOperator.And, left, Negation());
        return left;
    }

    private Expression Negation()
    {
        int nots = 0, at = Next.At;
        while (TryWord("NOT")) nots++;
        Expression operand = Predicate();
        return nots % 2 == 0 ? operand : new Not(at, operand);
    }

    private Expression Predicate()
    {
        Expression left = Concatenation();
        int at = Next.At;
        if (TryWord("IS"))
        {
            bool not = TryWord("NOT");
            Word("NULL");
            return Negated(not, at, new IsNull(at, left));
        }
        bool negated = TryWord("NOT");
        if (TryWord("BETWEEN"))
        {
            Expression low = Concatenation();
            Word("AND");
            Expression high = Concatenation();
            return Negated(negated, at, new Binary(at, BinaryOperator.And,
                new Binary(at, BinaryOperator.GreaterOrEqual, left, low), new Binary(at, BinaryOperator.LessOrEqual, left, high)));
        }
        if (TryWord("IN"))
        {
            Symbol("(");
            Expression? any = null;
            do
            {
                Expression one = new Binary(at, BinaryOperator.Equal, left, Concatenation());
                any = any is null ? one : new Binary(at, BinaryOperator.Or, any, one);
            }
            while (TrySymbol(","));
            Symbol(")");
            return Negated(negated, at, any);
        }
        if (TryWord("LIKE"))
        {
            string pattern = TextLiteral("a pattern in quotation marks");
            char? escape = null;
            if (TryWord("ESCAPE"))
            {
                int escapeAt = Next.At;
                string text = TextLiteral("an escape character in quotation marks");
                escape = text.Length == 1 ? text[0] : throw new ExpressionException(escapeAt, "the escape is one character");
            }
            return Negated(negated, at, new Like(at, left, pattern, escape));
        }
        if (negated) throw Unexpected("BETWEEN, IN or LIKE");
        BinaryOperator? comparison = Next.Kind != TokenKind.Symbol ? null : Next.Text switch
        {
            "=" => BinaryOperator.Equal,
            "<>" => BinaryOperator.NotEqual,
            "<" => BinaryOperator.Less,
            "<=" => BinaryOperator.LessOrEqual,
            ">" => BinaryOperator.Greater,
            ">=" => BinaryOperator.GreaterOrEqual,
            _ => null,
        };
        if (comparison is null) return left;
        _at++;
        return new Binary(at, comparison.Value, left, Concatenation());
    }

    private static Expression Negated(bool not, int at, Expression operand) => not ? new Not(at, operand) : operand;

    private Expression Concatenation()
    {
        Expression left = Sum();
        while (Next.IsSymbol("||")) left = new Binary(Take().At, BinaryOperator.Concatenate, left, Sum());
        return left;
    }

    private Expression Sum()
    {
        Expression left = Product();
        while (Next.IsSymbol("+") || Next.IsSymbol("-"))
        {
            Token sign = Take();
            left = new Binary(sign.At, sign.Text == "+" ? BinaryOperator.Add : BinaryOperator.Subtract, left, Product());
        }
        return left;
    }

    private Expression Product()
    {
        Expression left = Signed();
        while (Next.IsSymbol("*") || Next.IsSymbol("/"))
        {
            Token sign = Take();
            left = new Binary(sign.At, sign.Text == "*" ? BinaryOperator.Multiply : BinaryOperator.Divide, left, Signed());
        }
        return left;
    }

    private Expression Signed()
    {
        Token sign = Next;
        if (TrySymbol("-"))
        {
            if (Next.Kind == TokenKind.Number) return new Literal(sign.At, LiteralKind.Number, "-" + Take().Text);
            return new Binary(sign.At, BinaryOperator.Subtract, new Literal(sign.At, LiteralKind.Number, "0"), Primary());
        }
        TrySymbol("+");
        return Primary();
    }

    private Expression Primary()
    {
        Token token = Take();
        switch (token.Kind)
        {
            case TokenKind.Number: return new Literal(token.At, LiteralKind.Number, token.Text);
            case TokenKind.Text: return new Literal(token.At, LiteralKind.Text, token.Text);
            case TokenKind.Parameter: return new Parameter(token.At, token.Text);
            case TokenKind.QuotedName: return Column(token);
            case TokenKind.Symbol when token.Text == "(":
                Expression inside = Or();
                Symbol(")");
                return inside;
            case TokenKind.Name: return Named(token);
            default:
                _at--;
                throw Unexpected("a value, a column or \"(\"");
        }
    }

    private Expression Named(Token token)
    {
        string word = token.Text.ToUpperInvariant();
        switch (word)
        {
            case "NULL": return new Literal(token.At, LiteralKind.Null, "");
            case "TRUE" or "FALSE": return new Literal(token.At, LiteralKind.Boolean, word == "TRUE" ? "true" : "false");
            case "DATE" when Next.Kind == TokenKind.Text:
                string date = Take().Text;
                if (!ValueText.TryDate(System.Text.Encoding.UTF8.GetBytes(date), out _))
                    throw new ExpressionException(token.At, $"'{date}' is not a date; write DATE 'yyyy-mm-dd'");
                return new Literal(token.At, LiteralKind.Date, date);
            case "CASE": return CaseExpression(token.At);
            case "CAST": return CastExpression(token.At);
        }
        if (Next.IsSymbol("(")) return FunctionCall(token.At, word, token.Text);
        if (Reserved.Contains(word)) throw new ExpressionException(token.At, $"{word} cannot stand here");
        return Column(token);
    }

    private ColumnReference Column(Token token)
    {
        if (!TrySymbol(".")) return new ColumnReference(token.At, null, token.Text);
        Token name = Take();
        if (name.Kind is not (TokenKind.Name or TokenKind.QuotedName))
        {
            _at--;
            throw Unexpected("a column name after the point");
        }
        return new ColumnReference(token.At, token.Text, name.Text);
    }

    private Case CaseExpression(int at)
    {
        Expression? subject = Next.IsWord("WHEN") ? null : Or();
        var branches = new List<(Expression, Expression)>();
        while (TryWord("WHEN"))
        {
            Expression when = Or();
            if (subject is not null) when = new Binary(when.At, BinaryOperator.Equal, subject, when);
            Word("THEN");
            branches.Add((when, Or()));
        }
        if (branches.Count == 0) throw Unexpected("WHEN");
        Expression? otherwise = TryWord("ELSE") ? Or() : null;
        Word("END");
        return new Case(at, branches, otherwise);
    }

    private Cast CastExpression(int at)
    {
        Symbol("(");
        Expression operand = Or();
        Word("AS");
        int typeAt = Next.At;
        string typeText = "";
        int depth = 0;
        while (Next.Kind != TokenKind.End && !Next.IsWord("FORMAT") && !(depth == 0 && Next.IsSymbol(")")))
        {
            Token part = Take();
            if (part.IsSymbol("(")) depth++;
            if (part.IsSymbol(")")) depth--;
            typeText += part.Kind == TokenKind.Name && typeText.Length > 0 ? " " + part.Text : part.Text;
        }
        if (!FieldType.TryParse(typeText, out FieldType type))
            throw new ExpressionException(typeAt, $"\"{typeText}\" is not a type; the types are {FieldType.KnownNames}");
        string? format = TryWord("FORMAT") ? TextLiteral("a template in quotation marks") : null;
        Symbol(")");
        return new Cast(at, operand, type, format);
    }

    private Call FunctionCall(int at, string function, string spelled)
    {
        Symbol("(");
        var arguments = new List<Expression>();
        string detail = "";
        switch (function)
        {
            case "TRIM":
                detail = TryWord("LEADING") ? "LEADING" : TryWord("TRAILING") ? "TRAILING" : "BOTH";
                if (!TryWord("BOTH") && TryWord("FROM")) arguments.Add(Or());
                else if (TryWord("FROM")) arguments.Add(Or());
                else
                {
                    Expression first = Or();
                    arguments.Add(TryWord("FROM") ? Or() : first);
                    if (!ReferenceEquals(arguments[0], first)) arguments.Add(first);
                }
                break;
            case "SUBSTRING":
                arguments.Add(Or());
                Word("FROM");
                arguments.Add(Or());
                if (TryWord("FOR")) arguments.Add(Or());
                break;
            case "POSITION":
                arguments.Add(Concatenation());
                Word("IN");
                arguments.Add(Or());
                break;
            case "EXTRACT":
                detail = Take().Text.ToUpperInvariant();
                if (detail is not ("YEAR" or "MONTH" or "DAY"))
                    throw new ExpressionException(at, "EXTRACT gives YEAR, MONTH or DAY");
                Word("FROM");
                arguments.Add(Or());
                break;
            case "UPPER" or "LOWER" or "CHAR_LENGTH" or "ABS" or "MOD" or "COALESCE" or "NULLIF":
                do arguments.Add(Or());
                while (TrySymbol(","));
                break;
            default:
                throw new ExpressionException(at, $"there is no function {spelled}; the functions are ABS, CAST, CHAR_LENGTH, " +
                    "COALESCE, EXTRACT, LOWER, MOD, NULLIF, POSITION, SUBSTRING, TRIM, UPPER");
        }
        Symbol(")");
        int wanted = function switch { "MOD" or "NULLIF" => 2, "UPPER" or "LOWER" or "CHAR_LENGTH" or "ABS" => 1, _ => 0 };
        if (wanted > 0 && arguments.Count != wanted)
            throw new ExpressionException(at, $"{function} takes {wanted} argument{(wanted == 1 ? "" : "s")}, {arguments.Count} given");
        return new Call(at, function, detail, arguments);
    }

    private string TextLiteral(string wanted)
    {
        if (Next.Kind != TokenKind.Text) throw Unexpected(wanted);
        return Take().Text;
    }
}
