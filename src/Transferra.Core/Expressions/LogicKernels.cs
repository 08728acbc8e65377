// LogicKernels.cs: three-valued logic, CASE, COALESCE: the kernels that decide for which rows others count.
// Holds: (1) AND, OR, NOT follow SQL's truth tables with unknown as null; (2) an operand is active only where the operands
//        before it leave the answer open.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

internal sealed class AndOrKernel(Kernel left, Kernel right, bool isAnd) : Kernel(FieldType.Boolean)
{
    private readonly LongVector _result = new(FieldType.Boolean);
    private bool[] _active = [];

    public override Vector Evaluate(EvaluationContext context)
    {
        var a = (LongVector)left.Evaluate(context);
        bool[] outer = context.Active;
        if (_active.Length < outer.Length) _active = new bool[outer.Length];
        long decides = isAnd ? 0 : 1;
        ReadOnlySpan<long> first = a.Values;
        bool anyUnknown = a.HasNull;
        for (int row = 0; row < first.Length; row++) _active[row] = outer[row] & first[row] != decides;
        if (anyUnknown)
            for (int row = 0; row < first.Length; row++) _active[row] |= outer[row] & a.IsNull(row);
        context.Active = _active;
        var b = (LongVector)right.Evaluate(context);
        context.Active = outer;
        if (anyUnknown || b.HasNull) return JudgeEach(a, b, decides);
        ReadOnlySpan<long> second = b.Values;
        Span<long> into = _result.Fill(first.Length);
        for (int row = 0; row < into.Length; row++) into[row] = first[row] == decides | second[row] == decides ? decides
            : 1 - decides;
        return _result;
    }

    private LongVector JudgeEach(LongVector a, LongVector b, long decides)
    {
        _result.Reset();
        for (int row = 0; row < a.Count; row++)
        {
            bool aKnown = !a.IsNull(row), bKnown = !b.IsNull(row);
            if ((aKnown && a.Values[row] == decides) || (bKnown && b.Values[row] == decides)) _result.Append(decides);
            else if (aKnown && bKnown) _result.Append(1 - decides);
            else _result.AppendNull();
        }
        return _result;
    }
}

internal sealed class NotKernel(Kernel operand) : Kernel(FieldType.Boolean)
{
    private readonly LongVector _result = new(FieldType.Boolean);

    public override Vector Evaluate(EvaluationContext context)
    {
        var a = (LongVector)operand.Evaluate(context);
        _result.Reset();
        for (int row = 0; row < a.Count; row++)
        {
            if (a.IsNull(row)) _result.AppendNull();
            else _result.Append(1 - a.Values[row]);
        }
        return _result;
    }
}

internal sealed class IsNullKernel(Kernel operand) : Kernel(FieldType.Boolean)
{
    private readonly LongVector _result = new(FieldType.Boolean);

    public override Vector Evaluate(EvaluationContext context)
    {
        Vector a = operand.Evaluate(context);
        Span<long> into = _result.Fill(a.Count);
        into.Clear();
        if (!a.HasNull) return _result;
        for (int row = 0; row < into.Length; row++) into[row] = a.IsNull(row) ? 1 : 0;
        return _result;
    }
}

/// <summary>CASE: the first branch whose condition is true. COALESCE is compiled to this with IS NOT NULL conditions.</summary>
internal sealed class CaseKernel(FieldType type, IReadOnlyList<(Kernel When, Kernel Then)> branches, Kernel? otherwise) : Kernel(type)
{
    private readonly Vector _result = Vector.Create(type);
    private readonly Vector[] _values = new Vector[branches.Count + 1];
    private bool[] _open = [];
    private bool[] _taken = [];
    private int[] _branch = [];

    public override Vector Evaluate(EvaluationContext context)
    {
        int rows = context.Source.RowCount;
        bool[] outer = context.Active;
        if (_open.Length < outer.Length) (_open, _taken, _branch) = (new bool[outer.Length], new bool[outer.Length], new int[outer.Length]);
        Array.Copy(outer, _open, rows);
        Array.Fill(_branch, branches.Count, 0, rows);
        for (int i = 0; i < branches.Count; i++)
        {
            context.Active = _open;
            var when = (LongVector)branches[i].When.Evaluate(context);
            for (int row = 0; row < rows; row++)
            {
                _taken[row] = _open[row] && !when.IsNull(row) && when.Values[row] != 0;
                if (!_taken[row]) continue;
                _branch[row] = i;
                _open[row] = false;
            }
            context.Active = _taken;
            _values[i] = branches[i].Then.Evaluate(context);
        }
        if (otherwise is not null)
        {
            context.Active = _open;
            _values[branches.Count] = otherwise.Evaluate(context);
        }
        context.Active = outer;
        _result.Reset();
        for (int row = 0; row < rows; row++)
        {
            int branch = _branch[row];
            if (branch == branches.Count && otherwise is null) _result.AppendNull();
            else _result.AppendFrom(_values[branch], row);
        }
        return _result;
    }
}

internal sealed class LikeKernel(Kernel operand, string pattern, char? escape) : Kernel(FieldType.Boolean)
{
    // A pattern is a list of characters, with Any for % and One for _.
    private const int Any = -1, One = -2;

    private readonly int[] _pattern = Compile(pattern, escape);
    private readonly LongVector _result = new(FieldType.Boolean);

    private static int[] Compile(string pattern, char? escape)
    {
        var parts = new List<int>();
        bool escaped = false;
        foreach (System.Text.Rune rune in pattern.EnumerateRunes())
        {
            if (!escaped && escape is { } mark && rune.Value == mark) { escaped = true; continue; }
            parts.Add(!escaped && rune.Value == '%' ? Any : !escaped && rune.Value == '_' ? One : rune.Value);
            escaped = false;
        }
        return [.. parts];
    }

    public override Vector Evaluate(EvaluationContext context)
    {
        var a = (BytesVector)operand.Evaluate(context);
        _result.Reset();
        for (int row = 0; row < a.Count; row++)
        {
            if (a.IsNull(row)) _result.AppendNull();
            else _result.Append(Matches(System.Text.Encoding.UTF8.GetString(a[row])) ? 1 : 0);
        }
        return _result;
    }

    // Greedy matching with one point of return, linear in practice: the last % seen takes one character more at each retry.
    private bool Matches(string value)
    {
        int[] text = [.. value.EnumerateRunes().Select(rune => rune.Value)];
        int at = 0, part = 0, anyPart = -1, anyAt = 0;
        while (at < text.Length)
        {
            if (part < _pattern.Length && _pattern[part] == Any) { anyPart = part++; anyAt = at; }
            else if (part < _pattern.Length && (_pattern[part] == One || _pattern[part] == text[at])) { part++; at++; }
            else if (anyPart >= 0) { part = anyPart + 1; at = ++anyAt; }
            else return false;
        }
        while (part < _pattern.Length && _pattern[part] == Any) part++;
        return part == _pattern.Length;
    }
}
