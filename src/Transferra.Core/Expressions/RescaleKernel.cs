// RescaleKernel.cs: whole numbers as exact decimals, a column at a time; every comparison and sum of both needs it.
// Holds: (1) what it gives is what DecimalText.TryRescale gives of each value, faults included; (2) a constant is computed once.
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

/// <summary>Makes decimals of whole numbers.</summary>
internal sealed class RescaleKernel(Kernel from, FieldType to, string blame, Func<FaultCode, string> word) : Kernel(to)
{
    // Numbers below this need no look at whether they fit; 10 to the 18th is the largest power in 64 bits.
    private const int MostDigits = 18;

    private readonly long _factor = (long)DecimalText.PowerOfTen(Math.Min(to.Scale, MostDigits));
    private readonly long _limit = to.Scale > MostDigits ? 0
        : (long)DecimalText.PowerOfTen(Math.Clamp(to.Precision - to.Scale, 0, MostDigits));

    private readonly WideVector _result = new(to);
    private bool _isKnown;

    public override Vector Evaluate(EvaluationContext context)
    {
        var input = (LongVector)from.Evaluate(context);
        if (_isKnown && _result.Count == input.Count) return _result;
        ReadOnlySpan<long> values = input.Values;
        Span<Int128> units = _result.Fill(values.Length);
        bool anyOther = input.HasNull;
        for (int row = 0; row < values.Length; row++)
        {
            long value = values[row], high = Math.BigMul(value, _factor, out long low);
            units[row] = new Int128((ulong)high, (ulong)low);
            anyOther |= value >= _limit || value <= -_limit;
        }
        if (anyOther) JudgeEach(context, input, units);
        _isKnown = from is ConstantKernel && !anyOther;
        return _result;
    }

    private void JudgeEach(EvaluationContext context, LongVector input, Span<Int128> units)
    {
        for (int row = 0; row < units.Length; row++)
        {
            if (input.IsNull(row))
            {
                _result.Miss(row);
                continue;
            }
            if (DecimalText.TryRescale(input.Values[row], 0, Type.Scale, Type.Precision, out units[row]) is not { } fault) continue;
            context.Fault(row, fault, blame, input.Show(row), word(fault));
            _result.Miss(row);
        }
    }
}
