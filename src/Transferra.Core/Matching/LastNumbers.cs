// LastNumbers.cs: the last numbers and dates in a table's key, to tell a record that was added since from one that came in between.
// Why: weeks after an upgrade people have gone on; that their new entries are extra says nothing, that one is extra among the old does.
// Holds: a record counts as beyond only when a number or date of its key is above all of those there should be; texts that end in a number
//        count as that number behind the same beginning.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>The last numbers of a table that should be there.</summary>
internal sealed class LastNumbers
{
    private readonly int[] _ordinals;
    private readonly Int128?[] _last;
    private readonly Dictionary<string, Int128>?[] _lastOfBeginning;

    /// <summary>Of a table; of one without a key there are none.</summary>
    public LastNumbers(TableShape table)
    {
        _ordinals = [.. table.Key.Select(table.OrdinalOf).Where(ordinal => ordinal >= 0 && table.Columns[ordinal].Type.Kind is
            FieldKind.Integer or FieldKind.Decimal or FieldKind.Date or FieldKind.Timestamp or FieldKind.Text
            or FieldKind.Any)];
        _last = new Int128?[_ordinals.Length];
        _lastOfBeginning = new Dictionary<string, Int128>?[_ordinals.Length];
    }

    private const int MostBeginnings = 1000;

    /// <summary>Takes note of a record that should be there.</summary>
    public void Add(IReadOnlyList<Vector> vectors, int row)
    {
        for (int i = 0; i < _ordinals.Length; i++)
            if (NumberOf(vectors[_ordinals[i]], row) is (string beginning, Int128 number)) Add(i, beginning, number);
    }

    /// <summary>Takes note of what another has taken note of, of the same table.</summary>
    public void Add(LastNumbers other)
    {
        for (int i = 0; i < _ordinals.Length; i++)
        {
            if (other._last[i] is { } last) Add(i, "", last);
            foreach ((string beginning, Int128 number) in other._lastOfBeginning[i] ?? []) Add(i, beginning, number);
        }
    }

    private void Add(int column, string beginning, Int128 number)
    {
        if (beginning.Length == 0)
        {
            if (_last[column] is not { } last || number > last) _last[column] = number;
            return;
        }
        Dictionary<string, Int128> known = _lastOfBeginning[column] ??= [];
        if (!known.TryGetValue(beginning, out Int128 before))
        {
            if (known.Count < MostBeginnings) known[beginning] = number;
        }
        else if (number > before) known[beginning] = number;
    }

    /// <summary>Whether a record lies beyond all of them.</summary>
    public bool IsBeyond(IReadOnlyList<Vector> vectors, int row)
    {
        for (int i = 0; i < _ordinals.Length; i++)
            if (NumberOf(vectors[_ordinals[i]], row) is (string beginning, Int128 number)
                && (beginning.Length == 0 ? _last[i] : Of(_lastOfBeginning[i], beginning)) is { } last && number > last) return true;
        return false;
    }

    private static Int128? Of(Dictionary<string, Int128>? known, string beginning) =>
        known is not null && known.TryGetValue(beginning, out Int128 number) ? number : null;

    private const int MostDigits = 18;

    private static (string Beginning, Int128 Number)? NumberOf(Vector vector, int row)
    {
        if (vector.IsNull(row)) return null;
        switch (vector)
        {
            case LongVector longs: return ("", longs.Values[row]);
            case WideVector wides: return Specials.Is(wides.Values[row]) ? null : ("", wides.Values[row]);
            case BytesVector { Type.Kind: FieldKind.Any } any:
                return any[row][0] switch
                {
                    AnyValue.Whole => ("", AnyValue.WholeOf(any[row])),
                    AnyValue.Text => AtEnd(any[row][1..]),
                    _ => null
                };
            case BytesVector bytes: return AtEnd(bytes[row]);
            default: return null;
        }
    }

    private static (string Beginning, Int128 Number)? AtEnd(ReadOnlySpan<byte> text)
    {
        int at = text.Length;
        while (at > 0 && text[at - 1] is >= (byte)'0' and <= (byte)'9') at--;
        if (at == text.Length || text.Length - at > MostDigits) return null;
        Int128 number = 0;
        foreach (byte digit in text[at..]) number = number * 10 + (digit - '0');
        return (at == 0 ? "\0" : Encoding.UTF8.GetString(text[..at]), number);
    }
}
