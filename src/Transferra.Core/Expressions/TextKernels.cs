// TextKernels.cs: TRIM, UPPER, LOWER, CHAR_LENGTH, POSITION and SUBSTRING over UTF-8; positions count characters from 1.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Expressions;

internal static class TextKernels
{
    public static Kernel Trim(Kernel operand, byte what, string where) =>
        new MapKernel<BytesVector, BytesVector>(operand.Type, operand, "", (v, row, result) =>
        {
            ReadOnlySpan<byte> text = v[row];
            if (where != "TRAILING") text = text.TrimStart(what);
            if (where != "LEADING") text = text.TrimEnd(what);
            result.Append(text);
            return null;
        }, _ => "");

    public static Kernel Recase(Kernel operand, bool upper) =>
        new MapKernel<BytesVector, BytesVector>(FieldType.Text, operand, "", (v, row, result) =>
        {
            string text = Encoding.UTF8.GetString(v[row]);
            result.Append(Encoding.UTF8.GetBytes(upper ? text.ToUpperInvariant() : text.ToLowerInvariant()));
            return null;
        }, _ => "");

    public static Kernel Length(Kernel operand) =>
        new MapKernel<BytesVector, LongVector>(FieldType.Integer, operand, "", (v, row, result) =>
        {
            result.Append(Casts.Characters(v[row]));
            return null;
        }, _ => "");

    public static Kernel Position(Kernel part, Kernel whole) =>
        new PairKernel<BytesVector, LongVector>(FieldType.Integer, part, whole, "", (a, b, row, result) =>
        {
            int at = b[row].IndexOf(a[row]);
            result.Append(at < 0 ? 0 : Casts.Characters(b[row][..at]) + 1);
            return null;
        }, _ => "");
}

/// <summary>SUBSTRING as the standard defines it: characters from start to start + length - 1, cut to those there are.</summary>
internal sealed class SubstringKernel(Kernel text, Kernel start, Kernel? length) : Kernel(text.Type)
{
    private readonly BytesVector _result = new(text.Type);

    public override Vector Evaluate(EvaluationContext context)
    {
        var texts = (BytesVector)text.Evaluate(context);
        var starts = (LongVector)start.Evaluate(context);
        var lengths = (LongVector?)length?.Evaluate(context);
        _result.Reset();
        for (int row = 0; row < texts.Count; row++)
        {
            if (texts.IsNull(row) || starts.IsNull(row) || (lengths?.IsNull(row) ?? false)) { _result.AppendNull(); continue; }
            Int128 end = lengths is null ? Int128.MaxValue : (Int128)starts.Values[row] + lengths.Values[row];
            _result.Append(Between(texts[row], starts.Values[row], end));
        }
        return _result;
    }

    private static ReadOnlySpan<byte> Between(ReadOnlySpan<byte> utf8, long first, Int128 end)
    {
        int from = utf8.Length, to = utf8.Length;
        long character = 0;
        for (int at = 0; at < utf8.Length; at++)
        {
            if ((utf8[at] & 0xC0) == 0x80) continue;
            character++;
            if (character >= first && from == utf8.Length) from = at;
            if (character >= end) { to = at; break; }
        }
        return from < to ? utf8[from..to] : [];
    }
}

/// <summary>Lets texts through as they are, without a copy as long as none is too long; one that is becomes null, with a fault.</summary>
internal sealed class LengthKernel(Kernel inner, FieldType type, string blame, string reason) : Kernel(type)
{
    private readonly BytesVector _result = new(type);

    public override Vector Evaluate(EvaluationContext context)
    {
        var texts = (BytesVector)inner.Evaluate(context);
        int row = FirstTooLong(texts, 0);
        if (row == texts.Count) return texts;
        _result.Reset();
        for (int next = 0; next < texts.Count; row = FirstTooLong(texts, next))
        {
            for (; next < row; next++) _result.AppendFrom(texts, next);
            if (row == texts.Count) break;
            _result.AppendNull();
            context.Fault(row, FaultCode.TooLong, blame, texts.Show(row), reason);
            next++;
        }
        return _result;
    }

    private int FirstTooLong(BytesVector texts, int row)
    {
        ReadOnlySpan<int> ends = texts.Ends;
        for (int start = row == 0 ? 0 : ends[row - 1]; row < ends.Length; start = ends[row++])
            if (ends[row] - start > Type.Length && Casts.Characters(texts[row]) > Type.Length) return row;
        return row;
    }
}
