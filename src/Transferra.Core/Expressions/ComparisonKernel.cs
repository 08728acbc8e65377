// ComparisonKernel.cs: two values of each row compared, a column at a time.
// Holds: (1) unknown where either value is missing; (2) texts by their bytes, and numbers by size.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>Compares two vectors of the same kind, and of the same scale.</summary>
internal sealed class ComparisonKernel(BinaryOperator operation, Kernel left, Kernel right) : Kernel(FieldType.Boolean)
{
    // Whether the comparison holds: the lowest bit where the left one is less, then where they are the same, then where it is greater.
    private readonly int _holds = operation switch
    {
        BinaryOperator.Equal => 0b010,
        BinaryOperator.NotEqual => 0b101,
        BinaryOperator.Less => 0b001,
        BinaryOperator.LessOrEqual => 0b011,
        BinaryOperator.Greater => 0b100,
        _ => 0b110,
    };

    private readonly LongVector _result = new(FieldType.Boolean);

    public override Vector Evaluate(EvaluationContext context)
    {
        Vector a = left.Evaluate(context), b = right.Evaluate(context);
        Span<long> into = _result.Fill(a.Count);
        switch (a)
        {
            case LongVector longs: Compare(longs.Values, ((LongVector)b).Values, into); break;
            case WideVector wides: Compare(wides.Values, ((WideVector)b).Values, into); break;
            case DoubleVector doubles: Compare(doubles.Values, ((DoubleVector)b).Values, into); break;
            default: Compare((BytesVector)a, (BytesVector)b, into); break;
        }
        _result.MissWith(a);
        _result.MissWith(b);
        return _result;
    }

    private void Compare<T>(ReadOnlySpan<T> a, ReadOnlySpan<T> b, Span<long> into) where T : struct, IComparable<T>
    {
        for (int row = 0; row < into.Length; row++) into[row] = Holds(a[row].CompareTo(b[row]));
    }

    private void Compare(BytesVector a, BytesVector b, Span<long> into)
    {
        for (int row = 0; row < into.Length; row++) into[row] = Holds(a[row].SequenceCompareTo(b[row]));
    }

    private long Holds(int order) => (_holds >> (Math.Sign(order) + 1)) & 1;
}
