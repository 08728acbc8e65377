// Expression.cs: the parsed form of an SQL scalar expression (ISO/IEC 9075-2:2016, clause 6 and 8), with positions.
// Grammar and what is left out: docs/expressions.md. Parsing: ExpressionParser.cs; types and kernels: ExpressionCompiler.cs.
namespace Transferra.Core.Expressions;

/// <summary>An expression. <paramref name="At"/> is the zero-based offset of its first character in the source text.</summary>
public abstract record Expression(int At)
{
    /// <summary>The expressions directly inside this one.</summary>
    public virtual IEnumerable<Expression> Parts => [];

    /// <summary>The column references in it, at any depth.</summary>
    public IEnumerable<ColumnReference> ColumnReferences =>
        this is ColumnReference column ? [column] : Parts.SelectMany(part => part.ColumnReferences);

    /// <summary>The names of the answers in it, at any depth.</summary>
    public IEnumerable<string> Answers => this is Parameter answer ? [answer.Name] : Parts.SelectMany(part => part.Answers);
}

/// <summary>A text, whole or decimal number, date, boolean, or NULL.</summary>
/// <param name="At">Offset.</param>
/// <param name="Kind">Which literal.</param>
/// <param name="Text">Its text: digits, the text without quotation marks, the ISO date, "true" or "false".</param>
public sealed record Literal(int At, LiteralKind Kind, string Text) : Expression(At);

/// <summary>The kinds of literal.</summary>
public enum LiteralKind
{
    /// <summary>'text'</summary>
    Text,
    /// <summary>12 or 12.50</summary>
    Number,
    /// <summary>DATE '2026-01-31'</summary>
    Date,
    /// <summary>TRUE or FALSE</summary>
    Boolean,
    /// <summary>NULL</summary>
    Null,
}

/// <summary>A column of the old table, or of a lookup when <paramref name="Lookup"/> is given.</summary>
public sealed record ColumnReference(int At, string? Lookup, string Name) : Expression(At);

/// <summary>A value that office.yaml answers, written <c>:name</c>.</summary>
public sealed record Parameter(int At, string Name) : Expression(At);

/// <summary>An operator between two expressions.</summary>
public sealed record Binary(int At, BinaryOperator Operator, Expression Left, Expression Right) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => [Left, Right];
}

/// <summary>The operators between two expressions.</summary>
public enum BinaryOperator
{
    /// <summary>a + b</summary>
    Add,
    /// <summary>a - b</summary>
    Subtract,
    /// <summary>a * b</summary>
    Multiply,
    /// <summary>a / b</summary>
    Divide,
    /// <summary>a || b</summary>
    Concatenate,
    /// <summary>a = b</summary>
    Equal,
    /// <summary>a &lt;&gt; b</summary>
    NotEqual,
    /// <summary>a &lt; b</summary>
    Less,
    /// <summary>a &lt;= b</summary>
    LessOrEqual,
    /// <summary>a &gt; b</summary>
    Greater,
    /// <summary>a &gt;= b</summary>
    GreaterOrEqual,
    /// <summary>a AND b</summary>
    And,
    /// <summary>a OR b</summary>
    Or,
}

/// <summary>NOT a</summary>
public sealed record Not(int At, Expression Operand) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => [Operand];
}

/// <summary>a IS NULL</summary>
public sealed record IsNull(int At, Expression Operand) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => [Operand];
}

/// <summary>a LIKE pattern [ESCAPE character]</summary>
internal sealed record Like(int At, Expression Operand, string Pattern, char? Escape) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => [Operand];
}

/// <summary>CASE WHEN condition THEN value ... [ELSE value] END; the simple form is parsed into this one.</summary>
internal sealed record Case(int At, IReadOnlyList<(Expression When, Expression Then)> Branches, Expression? Else) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts =>
        Branches.SelectMany(branch => new[] { branch.When, branch.Then }).Concat(Else is null ? [] : [Else]);
}

/// <summary>CAST(a AS type [FORMAT 'template'])</summary>
internal sealed record Cast(int At, Expression Operand, Records.FieldType Type, string? Format) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => [Operand];
}

/// <summary>A function. <paramref name="Detail"/> holds a keyword argument: LEADING of TRIM, YEAR of EXTRACT; otherwise "".</summary>
internal sealed record Call(int At, string Function, string Detail, IReadOnlyList<Expression> Arguments) : Expression(At)
{
    /// <inheritdoc/>
    public override IEnumerable<Expression> Parts => Arguments;
}

/// <summary>A mistake in an expression, with its offset in the text.</summary>
internal sealed class ExpressionException(int at, string what) : Exception(what)
{
    /// <summary>Zero-based offset of the mistake.</summary>
    public int At { get; } = at;
}
