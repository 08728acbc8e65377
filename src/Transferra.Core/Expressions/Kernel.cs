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

/// <summary>Records that other records point to, kept in memory: found by key, delivering columns.</summary>
internal sealed class LookupTable
{
    /// <summary>Most records of one lookup; more would break the promise of bounded memory.</summary>
    public const int MaxRows = 1_000_000;

    private readonly Dictionary<UInt128, int> _rows = [];
    private readonly int[] _all;
    private readonly CanonicalWriter _key = new();

    /// <summary>An empty lookup that delivers these columns.</summary>
    public LookupTable(string name, IReadOnlyList<ColumnShape> columns)
    {
        Name = name;
        Values = new RecordBatch(columns, new BatchLimits(int.MaxValue, long.MaxValue));
        _all = [.. Enumerable.Range(0, columns.Count)];
    }

    /// <summary>As the hop calls it.</summary>
    public string Name { get; }

    /// <summary>The delivered columns, a row for each key.</summary>
    public RecordBatch Values { get; }

    /// <summary>Gives the last record of <see cref="Values"/> its key. A key that several records have that are not the same stands for
    /// none of them.</summary>
    /// <param name="key">Where the key is.</param>
    /// <param name="row">In which row.</param>
    /// <param name="isReadable">Whether all of the record could be read.</param>
    public void AddKey(Vector key, int row, bool isReadable = true)
    {
        _key.Clear();
        key.Encode(row, _key);
        UInt128 digest = System.IO.Hashing.XxHash128.HashToUInt128(_key.Written);
        int last = Values.RowCount - 1;
        if (!isReadable) _rows[digest] = Unreadable;
        else if (!_rows.TryAdd(digest, last) && _rows[digest] is var first and >= 0 && !Values.SameRows(first, last,
            _all)) _rows[digest] = Ambiguous;
    }

    /// <summary>What is found for a key that no record has, that several have, or whose record cannot be read.</summary>
    public const int Missing = -1, Ambiguous = -2, Unreadable = -3;

    /// <summary>The row of <see cref="Values"/> with a key; negative when there is no such one row.</summary>
    public int Find(Vector key, int row, CanonicalWriter scratch)
    {
        scratch.Clear();
        key.Encode(row, scratch);
        return _rows.TryGetValue(System.IO.Hashing.XxHash128.HashToUInt128(scratch.Written), out int found) ? found : Missing;
    }
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

/// <summary>A column of the record that a lookup finds; a key that is not there is a fault of the row.</summary>
internal sealed class LookupKernel(int lookup, int ordinal, FieldType type, Kernel key, string blame, FaultCode missing) : Kernel(type)
{
    private readonly Vector _result = Vector.Create(type);
    private readonly CanonicalWriter _scratch = new();

    public override Vector Evaluate(EvaluationContext context)
    {
        Vector keys = key.Evaluate(context);
        LookupTable table = context.Lookups[lookup];
        Vector values = table.Values.Vectors[ordinal];
        _result.Reset();
        for (int row = 0; row < keys.Count; row++)
        {
            if (keys.IsNull(row)) { _result.AppendNull(); continue; }
            int found = table.Find(keys, row, _scratch);
            if (found >= 0) { _result.AppendFrom(values, found); continue; }
            string shown = keys.Show(row);
            if (found == LookupTable.Ambiguous)
                context.Fault(row, FaultCode.AmbiguousReference, blame, shown,
                    $"several records of {table.Name} have {ValueText.Quote(shown)} and are not the same, "
                        + "so it is not known which is meant");
            else if (found == LookupTable.Unreadable)
                context.Fault(row, FaultCode.MissingReference, blame, shown,
                    $"the record of {table.Name} with {ValueText.Quote(shown)} cannot be read");
            else context.Fault(row, missing, blame, shown, missing == FaultCode.NotInList
                ? $"the code {ValueText.Quote(shown)} is not in the list {table.Name}"
                : $"there is no {table.Name} with {ValueText.Quote(shown)}");
            _result.AppendNull();
        }
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
