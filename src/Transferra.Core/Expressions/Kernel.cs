// Kernel.cs: a compiled expression: computes one vector from one batch.
// Holds: (1) the result has a row for each row of the source; (2) a value that cannot be computed is null in the result and a fault
//        of its row, reported only for rows that are active, so that a branch of CASE that is not taken reports nothing.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>What kernels see and where they report to; one per converter lane.</summary>
internal sealed class EvaluationContext(RecordBatch source, IReadOnlyList<LookupTable> lookups)
{
    /// <summary>The batch being converted.</summary>
    public RecordBatch Source { get; } = source;

    /// <summary>Lookup tables in the order of the scope.</summary>
    public IReadOnlyList<LookupTable> Lookups { get; } = lookups;

    /// <summary>Rows for which faults count.</summary>
    public bool[] Active { get; set; } = [];

    /// <summary>Faults so far, in the order found.</summary>
    public List<RowFault> Faults { get; } = [];

    /// <summary>Makes every row of the batch active and forgets earlier faults.</summary>
    public void ActivateAll()
    {
        if (Active.Length < Source.RowCount) Active = new bool[Source.RowCount];
        Array.Fill(Active, true);
        Faults.Clear();
    }

    /// <summary>Reports a fault of a row, when the row is active.</summary>
    public void Fault(int row, FaultCode code, string column, string value, string reason)
    {
        if (Active[row]) Faults.Add(new RowFault(row, code, column, value, reason));
    }
}

/// <summary>A compiled expression. Owns its result, which is valid until the next evaluation; not thread-safe.</summary>
internal abstract class Kernel(FieldType type)
{
    /// <summary>What it computes.</summary>
    public FieldType Type { get; } = type;

    /// <summary>Computes the expression for every row of the context's source.</summary>
    public abstract Vector Evaluate(EvaluationContext context);
}

internal sealed class ColumnKernel(FieldType type, int ordinal) : Kernel(type)
{
    public int Ordinal { get; } = ordinal;

    public override Vector Evaluate(EvaluationContext context) => context.Source.Vectors[Ordinal];
}

internal sealed class ConstantKernel : Kernel
{
    private readonly Vector _one;
    private readonly Vector _result;

    public ConstantKernel(FieldType type, Action<Vector> append) : base(type)
    {
        _one = Vector.Create(type);
        _result = Vector.Create(type);
        append(_one);
    }

    public override Vector Evaluate(EvaluationContext context)
    {
        int rows = context.Source.RowCount;
        if (_result.Count > rows) _result.Truncate(rows);
        while (_result.Count < rows) _result.AppendFrom(_one, 0);
        return _result;
    }
}

/// <summary>A value computed from one other value; null stays null.</summary>
internal sealed class MapKernel<TIn, TOut>(FieldType type, Kernel operand, string blame, Func<TIn, int, TOut, FaultCode?> append,
    Func<FaultCode, string> word) : Kernel(type)
    where TIn : Vector
    where TOut : Vector
{
    private readonly TOut _result = (TOut)Vector.Create(type);

    public override Vector Evaluate(EvaluationContext context)
    {
        var input = (TIn)operand.Evaluate(context);
        _result.Reset();
        for (int row = 0; row < input.Count; row++)
        {
            if (input.IsNull(row)) { _result.AppendNull(); continue; }
            FaultCode? fault = append(input, row, _result);
            if (fault is null) continue;
            context.Fault(row, fault.Value, blame, input.Show(row), word(fault.Value));
            _result.AppendNull();
        }
        return _result;
    }
}

/// <summary>A value computed from two others; null when either is.</summary>
internal sealed class PairKernel<TIn, TOut>(FieldType type, Kernel left, Kernel right, string blame,
    Func<TIn, TIn, int, TOut, FaultCode?> append, Func<FaultCode, string> word) : Kernel(type)
    where TIn : Vector
    where TOut : Vector
{
    private readonly TOut _result = (TOut)Vector.Create(type);

    public override Vector Evaluate(EvaluationContext context)
    {
        var a = (TIn)left.Evaluate(context);
        var b = (TIn)right.Evaluate(context);
        _result.Reset();
        for (int row = 0; row < a.Count; row++)
        {
            if (a.IsNull(row) || b.IsNull(row)) { _result.AppendNull(); continue; }
            FaultCode? fault = append(a, b, row, _result);
            if (fault is null) continue;
            context.Fault(row, fault.Value, blame, $"{a.Show(row)}, {b.Show(row)}", word(fault.Value));
            _result.AppendNull();
        }
        return _result;
    }
}
