// ExpressionCompiler.cs: type-checks an expression against the columns it may use and builds its kernels.
// Type rules: docs/expressions.md. Holds: (1) an expression that compiles cannot fail at run time but row by row;
// (2) exact numbers stay exact: every operation is checked, none rounds.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>A lookup as an expression sees it: what it delivers and which key it is asked with.</summary>
/// <param name="Name">The name before the point.</param>
/// <param name="Columns">What it delivers.</param>
/// <param name="Key">The key, an expression over the old table.</param>
/// <param name="KeyType">The type of the key as the lookup holds it.</param>
/// <param name="IsCodeList">Whether it is a list in the hop and not a table of the old store.</param>
public sealed record LookupShape(string Name, IReadOnlyList<ColumnShape> Columns, Expression Key, FieldType KeyType, bool IsCodeList);

/// <summary>What an expression may refer to.</summary>
/// <param name="Table">The old table's name, for messages.</param>
/// <param name="Columns">Its columns, in the order of the batch.</param>
/// <param name="Lookups">Its lookups, in the order of the context.</param>
/// <param name="Parameters">Values of <c>:name</c>; all text.</param>
internal sealed record ExpressionScope(string Table, IReadOnlyList<ColumnShape> Columns, IReadOnlyList<LookupShape> Lookups,
    IReadOnlyDictionary<string, string> Parameters);

/// <summary>Builds kernels.</summary>
internal sealed class ExpressionCompiler(ExpressionScope scope)
{
    private static readonly FieldType UntypedNull = new(FieldKind.Text, Length: -1);

    /// <summary>Builds the kernel of an expression.</summary>
    /// <exception cref="ExpressionException">Unknown name or types that do not fit, with the offset.</exception>
    public Kernel Compile(Expression expression)
    {
        Kernel kernel = Build(expression);
        return kernel.Type == UntypedNull ? Constant(FieldType.Text, vector => vector.AppendNull()) : kernel;
    }

    /// <summary>Builds a search condition.</summary>
    /// <exception cref="ExpressionException">Also when it is not true or false.</exception>
    public Kernel CompileCondition(Expression expression)
    {
        Kernel kernel = Compile(expression);
        return kernel.Type.Kind == FieldKind.Boolean ? kernel
            : throw new ExpressionException(expression.At, $"this is {kernel.Type}, but a condition is needed");
    }

    /// <summary>Builds the kernel that gives a column of the new version its value.</summary>
    /// <exception cref="ExpressionException">Also when the types do not fit without CAST.</exception>
    public Kernel CompileFor(Expression expression, ColumnShape target)
    {
        Kernel kernel = Build(expression);
        if (kernel.Type == UntypedNull) return Constant(target.Type, vector => vector.AppendNull());
        if (!Casts.MayAssign(kernel.Type, target.Type))
            throw new ExpressionException(expression.At,
                $"this is {kernel.Type} and the column {target.Name} is {target.Type}; write CAST(... AS {target.Type})");
        return Casts.Convert(kernel, target.Type, null, Blame(expression))!;
    }

    /// <summary>The column to name when an expression fails: the one it reads; "" when it reads several or none.</summary>
    public static string Blame(Expression expression)
    {
        string[] names = [.. expression.ColumnReferences.Where(column => column.Lookup is null).Select(column => column.Name).Distinct()];
        return names.Length == 1 ? names[0] : "";
    }

    private Kernel Build(Expression expression) => expression switch
    {
        Literal literal => BuildLiteral(literal),
        Parameter parameter => scope.Parameters.TryGetValue(parameter.Name, out string? value)
            ? Constant(FieldType.Text, vector => ((BytesVector)vector).Append(Encoding.UTF8.GetBytes(value)))
            : throw new ExpressionException(parameter.At, $"there is no setting :{parameter.Name}; declare it under new-settings"),
        ColumnReference column => BuildColumn(column),
        Binary binary => BuildBinary(binary),
        Not not => new NotKernel(CompileCondition(not.Operand)),
        IsNull isNull => new IsNullKernel(Compile(isNull.Operand)),
        Like like => new LikeKernel(Of(like.Operand, FieldKind.Text, "LIKE"), like.Pattern, like.Escape),
        Case choice => BuildCase(choice),
        Cast cast => BuildCast(cast),
        Call call => BuildCall(call),
        _ => throw new ExpressionException(expression.At, "this cannot be computed"),
    };

    private static ConstantKernel Constant(FieldType type, Action<Vector> append) => new(type, append);

    private static ConstantKernel BuildLiteral(Literal literal)
    {
        byte[] text = Encoding.UTF8.GetBytes(literal.Text);
        switch (literal.Kind)
        {
            case LiteralKind.Null: return Constant(UntypedNull, vector => vector.AppendNull());
            case LiteralKind.Boolean:
                return Constant(FieldType.Boolean, vector => ((LongVector)vector).Append(literal.Text == "true" ? 1
                : 0));
            case LiteralKind.Date:
                ValueText.TryDate(text, out long day);
                return Constant(FieldType.Date, vector => ((LongVector)vector).Append(day));
            case LiteralKind.Text:
                int length = Casts.Characters(text);
                return Constant(new FieldType(FieldKind.Text, Length: length), vector => ((BytesVector)vector).Append(text));
            default:
                int point = literal.Text.IndexOf('.');
                if (point < 0 && ValueText.TryWhole(text, out long whole) is null)
                    return Constant(FieldType.Integer, vector => ((LongVector)vector).Append(whole));
                int scale = point < 0 ? 0 : literal.Text.Length - point - 1;
                if (scale > FieldType.MaxPrecision || DecimalText.TryParse(text, FieldType.MaxPrecision, scale,
                    out Int128 units) is not null)
                    throw new ExpressionException(literal.At, $"the number {literal.Text} has more than {FieldType.MaxPrecision} digits");
                return Constant(FieldType.Decimal(FieldType.MaxPrecision, scale), vector => ((WideVector)vector).Append(units));
        }
    }

    private Kernel BuildColumn(ColumnReference column)
    {
        if (column.Lookup is not null)
        {
            for (int i = 0; i < scope.Lookups.Count; i++)
            {
                LookupShape lookup = scope.Lookups[i];
                if (!SameName(lookup.Name, column.Lookup)) continue;
                int found = Ordinal(lookup.Columns, column.Name);
                if (found < 0) throw Unknown(column.At, column.Name, $"the lookup {lookup.Name}", lookup.Columns);
                Kernel key = Compile(lookup.Key);
                if (key.Type.Kind != lookup.KeyType.Kind)
                    throw new ExpressionException(column.At,
                        $"the lookup {lookup.Name} is keyed by {lookup.KeyType}, but asked with {key.Type}");
                return new LookupKernel(i, found, lookup.Columns[found].Type, key, Blame(lookup.Key),
                    lookup.IsCodeList ? FaultCode.NotInList : FaultCode.MissingReference);
            }
            throw new ExpressionException(column.At, scope.Lookups.Count == 0
                ? $"there is no lookup {column.Lookup}; none is declared for {scope.Table}"
                : $"there is no lookup {column.Lookup}; the lookups of {scope.Table} are "
                    + $"{string.Join(", ", scope.Lookups.Select(l => l.Name))}");
        }
        int ordinal = Ordinal(scope.Columns, column.Name);
        if (ordinal < 0) throw Unknown(column.At, column.Name, scope.Table, scope.Columns);
        return new ColumnKernel(scope.Columns[ordinal].Type, ordinal);
    }

    private static ExpressionException Unknown(int at, string name, string where, IReadOnlyList<ColumnShape> columns) =>
        new(at, $"there is no column {name} in {where}; its columns are {string.Join(", ", columns.Select(column => column.Name))}");

    private static int Ordinal(IReadOnlyList<ColumnShape> columns, string name)
    {
        for (int i = 0; i < columns.Count; i++)
            if (SameName(columns[i].Name, name)) return i;
        return -1;
    }

    private static bool SameName(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    private Kernel Of(Expression expression, FieldKind kind, string user)
    {
        Kernel kernel = Compile(expression);
        return kernel.Type.Kind == kind ? kernel
            : throw new ExpressionException(expression.At,
                $"{user} needs {kind.ToString().ToUpperInvariant()} here, this is {kernel.Type}");
    }

    private Kernel BuildBinary(Binary binary)
    {
        if (binary.Operator is BinaryOperator.And or BinaryOperator.Or)
            return new AndOrKernel(CompileCondition(binary.Left), CompileCondition(binary.Right), binary.Operator == BinaryOperator.And);
        Kernel left = Compile(binary.Left), right = Compile(binary.Right);
        return binary.Operator switch
        {
            BinaryOperator.Concatenate => BuildConcatenation(binary, left, right),
            BinaryOperator.Add or BinaryOperator.Subtract or BinaryOperator.Multiply or BinaryOperator.Divide =>
                BuildArithmetic(binary, left, right),
            _ => BuildComparison(binary, left, right),
        };
    }

    private static Kernel BuildConcatenation(Binary binary, Kernel left, Kernel right)
    {
        if (left.Type.Kind != FieldKind.Text || right.Type.Kind != FieldKind.Text)
            throw new ExpressionException(binary.At, $"|| joins texts, not {left.Type} and {right.Type}; write CAST(... AS TEXT)");
        return new PairKernel<BytesVector, BytesVector>(FieldType.Text, left, right, "", (a, b, row, result) =>
        {
            ReadOnlySpan<byte> first = a[row], second = b[row];
            Span<byte> room = result.Room(first.Length + second.Length);
            first.CopyTo(room);
            second.CopyTo(room[first.Length..]);
            result.Added(first.Length + second.Length);
            return null;
        }, _ => "");
    }

    private static Kernel BuildArithmetic(Binary binary, Kernel left, Kernel right)
    {
        string blame = Blame(binary);
        if (!IsExact(left.Type) || !IsExact(right.Type))
            throw new ExpressionException(binary.At,
                $"arithmetic needs INTEGER or DECIMAL on both sides, not {left.Type} and {right.Type}; write CAST(... AS DECIMAL(p,s))");
        if (left.Type.Kind == FieldKind.Integer && right.Type.Kind == FieldKind.Integer && binary.Operator != BinaryOperator.Divide)
            return BuildWhole(binary.Operator, left, right, blame);
        int leftScale = left.Type.Scale, rightScale = right.Type.Scale;
        int scale = binary.Operator switch
        {
            BinaryOperator.Multiply => leftScale + rightScale,
            BinaryOperator.Divide => Math.Max(6, Math.Max(leftScale, rightScale)),
            _ => Math.Max(leftScale, rightScale),
        };
        if (scale > FieldType.MaxPrecision)
            throw new ExpressionException(binary.At,
                $"the result would have {scale} digits after the point; {FieldType.MaxPrecision} are the most");
        FieldType type = FieldType.Decimal(FieldType.MaxPrecision, scale);
        Kernel wideLeft = Wide(left, binary.Operator is BinaryOperator.Add or BinaryOperator.Subtract ? scale : leftScale);
        Kernel wideRight = Wide(right, binary.Operator is BinaryOperator.Add or BinaryOperator.Subtract ? scale : rightScale);
        Func<WideVector, WideVector, int, WideVector, FaultCode?> append = binary.Operator switch
        {
            BinaryOperator.Add => (a, b, row, result) => NotFinite(a, b, row) ?? Keep(a.Values[row] + b.Values[row], result),
            BinaryOperator.Subtract => (a, b, row, result) => NotFinite(a, b, row) ?? Keep(a.Values[row] - b.Values[row], result),
            BinaryOperator.Multiply => (a, b, row, result) =>
            {
                if (NotFinite(a, b, row) is { } fault) return fault;
                try { return Keep(checked(a.Values[row] * b.Values[row]), result); }
                catch (OverflowException) { return FaultCode.OutOfRange; }
            }
            ,
            _ => (a, b, row, result) =>
            {
                if (NotFinite(a, b, row) is { } fault) return fault;
                if (b.Values[row] == 0) return FaultCode.DivisionByZero;
                int shift = scale - leftScale + rightScale;
                if (shift > 38 || !DecimalText.Fits(a.Values[row], Math.Max(0, 38 - shift))) return FaultCode.OutOfRange;
                (Int128 quotient, Int128 rest) = Int128.DivRem(a.Values[row] * DecimalText.PowerOfTen(shift), b.Values[row]);
                return rest != 0 ? FaultCode.NeedsRounding : Keep(quotient, result);
            }
            ,
        };
        return new PairKernel<WideVector, WideVector>(type, wideLeft, wideRight, blame, append, code => Casts.Word(code, type));

        // Two numbers of 38 digits can add up past the end of Int128 (1.7 x 10^38). The sum then wraps to a number between 1.4 and
        // 1.7 x 10^38 below zero, which has 39 digits and is refused like any other that is too long.
        static FaultCode? Keep(Int128 units, WideVector result)
        {
            if (!DecimalText.Fits(units, FieldType.MaxPrecision)) return FaultCode.OutOfRange;
            result.Append(units);
            return null;
        }
    }

    private static Kernel BuildWhole(BinaryOperator operation, Kernel left, Kernel right, string blame) =>
        new PairKernel<LongVector, LongVector>(FieldType.Integer, left, right, blame, (a, b, row, result) =>
        {
            Int128 x = a.Values[row], y = b.Values[row];
            Int128 value = operation == BinaryOperator.Add ? x + y : operation == BinaryOperator.Subtract ? x - y : x * y;
            if (value < long.MinValue || value > long.MaxValue) return FaultCode.OutOfRange;
            result.Append((long)value);
            return null;
        }, code => Casts.Word(code, FieldType.Integer));

    private static FaultCode? NotFinite(WideVector a, WideVector b, int row) => Specials.Is(a.Values[row]) || Specials.Is(b.Values[row])
        ? FaultCode.NotFinite : null;

    private static bool IsExact(FieldType type) => type.Kind is FieldKind.Integer or FieldKind.Decimal;

    // Of decimals only the scale matters here: all of them have room for as many digits.
    private static Kernel Wide(Kernel kernel, int scale) => kernel.Type.Kind == FieldKind.Decimal && kernel.Type.Scale == scale ? kernel
        : Casts.Convert(kernel, FieldType.Decimal(FieldType.MaxPrecision, scale), null, "")!;

    private static Kernel BuildComparison(Binary binary, Kernel left, Kernel right)
    {
        FieldKind a = left.Type.Kind, b = right.Type.Kind;
        if (IsExact(left.Type) && IsExact(right.Type) && (a == FieldKind.Decimal || b == FieldKind.Decimal))
        {
            int scale = Math.Max(left.Type.Scale, right.Type.Scale);
            return new ComparisonKernel(binary.Operator, Wide(left, scale), Wide(right, scale));
        }
        if (a != b)
            throw new ExpressionException(binary.At, $"{left.Type} and {right.Type} cannot be compared; write CAST on one side");
        return new ComparisonKernel(binary.Operator, left, right);
    }

    private CaseKernel BuildCase(Case choice)
    {
        Kernel[] whens = [.. choice.Branches.Select(branch => CompileCondition(branch.When))];
        Expression[] results = [.. choice.Branches.Select(branch => branch.Then), .. choice.Else is null ? [] : new[] { choice.Else }];
        (FieldType type, Kernel[] kernels) = Common(choice.At, results, "the results of CASE");
        return new CaseKernel(type, [.. whens.Zip(kernels)], choice.Else is null ? null : kernels[^1]);
    }

    private (FieldType Type, Kernel[] Kernels) Common(int at, IReadOnlyList<Expression> expressions, string what)
    {
        Kernel[] kernels = [.. expressions.Select(Build)];
        Kernel[] typed = [.. kernels.Where(kernel => kernel.Type != UntypedNull)];
        FieldType type = typed.Length == 0 ? FieldType.Text : typed[0].Type;
        foreach (FieldType other in typed.Select(kernel => kernel.Type))
        {
            if (IsExact(type) && IsExact(other) && (type.Kind == FieldKind.Decimal || other.Kind == FieldKind.Decimal))
                type = FieldType.Decimal(FieldType.MaxPrecision, Math.Max(type.Scale, other.Scale));
            else if (type.Kind != other.Kind)
                throw new ExpressionException(at, $"{what} are {type} and {other}; they must be of one type");
            else if (type.Kind == FieldKind.Text)
                type = type.Length == 0 || other.Length == 0 ? FieldType.Text
                    : new(FieldKind.Text, Length: Math.Max(type.Length, other.Length));
        }
        return (type, [.. kernels.Select(kernel => kernel.Type == UntypedNull
            ? Constant(type, vector => vector.AppendNull())
            : Casts.Convert(kernel, type, null, "")!)]);
    }

    private Kernel BuildCast(Cast cast)
    {
        DateTemplate? template = null;
        Kernel operand = Build(cast.Operand);
        if (operand.Type == UntypedNull) return Constant(cast.Type, vector => vector.AppendNull());
        if (cast.Format is not null)
        {
            bool fits = (operand.Type.Kind, cast.Type.Kind) is (FieldKind.Text, FieldKind.Date) or (FieldKind.Date, FieldKind.Text);
            if (!fits) throw new ExpressionException(cast.At, "FORMAT is for casts between text and DATE");
            try { template = DateTemplate.Parse(cast.Format); }
            catch (FormatException error) { throw new ExpressionException(cast.At, error.Message); }
        }
        return Casts.Convert(operand, cast.Type, template, Blame(cast.Operand))
            ?? throw new ExpressionException(cast.At, $"{operand.Type} cannot be cast to {cast.Type}");
    }

    private Kernel BuildCall(Call call)
    {
        IReadOnlyList<Expression> arguments = call.Arguments;
        switch (call.Function)
        {
            case "COALESCE":
                (FieldType type, Kernel[] kernels) = Common(call.At, arguments, "the arguments of COALESCE");
                return new CaseKernel(type, [.. kernels[..^1].Zip(kernels[..^1], (a, b) => ((Kernel)new NotKernel(new IsNullKernel(a)),
                    b))], kernels[^1]);
            case "NULLIF":
                Kernel subject = Compile(arguments[0]);
                Kernel equal = CompileCondition(new Binary(call.At, BinaryOperator.Equal, arguments[0], arguments[1]));
                return new CaseKernel(subject.Type, [(equal, Constant(subject.Type, vector => vector.AppendNull()))], subject);
            case "TRIM":
                byte what = (byte)' ';
                if (arguments.Count > 1)
                {
                    if (arguments[1] is not Literal { Kind: LiteralKind.Text, Text: [< (char)128 and var mark] })
                        throw new ExpressionException(call.At, "TRIM removes one plain character, given in quotation marks");
                    what = (byte)mark;
                }
                return TextKernels.Trim(Of(arguments[0], FieldKind.Text, "TRIM"), what, call.Detail);
            case "UPPER" or "LOWER": return TextKernels.Recase(Of(arguments[0], FieldKind.Text, call.Function), call.Function == "UPPER");
            case "CHAR_LENGTH": return TextKernels.Length(Of(arguments[0], FieldKind.Text, call.Function));
            case "POSITION":
                return TextKernels.Position(Of(arguments[0], FieldKind.Text, "POSITION"), Of(arguments[1], FieldKind.Text, "POSITION"));
            case "SUBSTRING":
                return new SubstringKernel(Of(arguments[0], FieldKind.Text, "SUBSTRING"), Of(arguments[1], FieldKind.Integer, "SUBSTRING"),
                    arguments.Count > 2 ? Of(arguments[2], FieldKind.Integer, "SUBSTRING") : null);
            case "EXTRACT":
                Kernel date = Of(arguments[0], FieldKind.Date, "EXTRACT");
                return new MapKernel<LongVector, LongVector>(FieldType.Integer, date, "", (v, row, result) =>
                {
                    if (Specials.Is(v.Values[row])) return FaultCode.NotFinite;
                    var day = DateOnly.FromDayNumber((int)v.Values[row]);
                    result.Append(call.Detail switch { "YEAR" => day.Year, "MONTH" => day.Month, _ => day.Day });
                    return null;
                }, code => Casts.Word(code, FieldType.Integer));
            case "ABS":
                Kernel number = Compile(arguments[0]);
                if (!IsExact(number.Type)) throw new ExpressionException(call.At, $"ABS needs INTEGER or DECIMAL, this is {number.Type}");
                return Build(new Case(call.At,
                    [(new Binary(call.At, BinaryOperator.Less, arguments[0], new Literal(call.At, LiteralKind.Number, "0")),
                    new Binary(call.At, BinaryOperator.Subtract, new Literal(call.At, LiteralKind.Number, "0"), arguments[0]))],
                        arguments[0]));
            default: // MOD
                return new PairKernel<LongVector, LongVector>(FieldType.Integer, Of(arguments[0], FieldKind.Integer, "MOD"),
                    Of(arguments[1], FieldKind.Integer, "MOD"), Blame(call), (a, b, row, result) =>
                    {
                        if (b.Values[row] == 0) return FaultCode.DivisionByZero;
                        result.Append(b.Values[row] == -1 ? 0 : a.Values[row] % b.Values[row]);
                        return null;
                    }, code => Casts.Word(code, FieldType.Integer));
        }
    }
}
