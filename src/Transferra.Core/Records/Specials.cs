// Specials.cs: values that are no finite number and no day, and that some engines keep all the same: NaN, the infinities, dates without
// end.
// Why kept inside the vectors: they are ordinary values where both engines hold them, and must neither become missing nor be lost on the
// way.
// How: an exact decimal has 38 digits at most, so that the ends of Int128 (39 digits) are never one; no day and no moment is at the ends
// of Int64.
// Their order is PostgreSQL's: -infinity, all others, infinity, NaN. One definition for all: docs/fingerprints.md.
namespace Transferra.Core.Records;

/// <summary>Values that are not finite.</summary>
public static class Specials
{
    /// <summary>As units of an exact decimal.</summary>
    public static readonly Int128 NaN = Int128.MaxValue, Infinity = Int128.MaxValue - 1, MinusInfinity = Int128.MinValue;

    /// <summary>As a day or a moment.</summary>
    public const long Never = long.MaxValue, Always = long.MinValue;

    /// <summary>All NaN are one value here, whatever their bits.</summary>
    public static readonly long NaNBits = BitConverter.DoubleToInt64Bits(BitConverter.Int64BitsToDouble(0x7FF8000000000000));

    /// <summary>Whether units of a decimal stand for something that is not finite.</summary>
    public static bool Is(Int128 units) => units == NaN || units == Infinity || units == MinusInfinity;

    /// <summary>Whether a day or a moment stands for one without end.</summary>
    public static bool Is(long moment) => moment is Never or Always;

    /// <summary>In words, as engines write them.</summary>
    public static string Show(Int128 units) => units == NaN ? "NaN" : units == Infinity ? "Infinity" : "-Infinity";

    /// <inheritdoc cref="Show(Int128)"/>
    public static string Show(long moment) => moment == Never ? "infinity" : "-infinity";

    /// <summary>Reads a decimal that is not finite, in the words of engines.</summary>
    public static bool TryNumber(ReadOnlySpan<byte> text, out Int128 units)
    {
        units = 0;
        const int longest = 9;
        if (text.Length is 0 or > longest || text[^1] is not ((byte)'N' or (byte)'y')) return false;
        units = text.SequenceEqual("NaN"u8) ? NaN : text.SequenceEqual("Infinity"u8) ? Infinity : text.SequenceEqual("-Infinity"u8)
            ? MinusInfinity : 0;
        return units != 0;
    }

    /// <summary>Reads a day or a moment without end, in the words of engines.</summary>
    public static bool TryMoment(ReadOnlySpan<byte> text, out long moment)
    {
        moment = text.SequenceEqual("infinity"u8) ? Never : text.SequenceEqual("-infinity"u8) ? Always : 0;
        return moment != 0;
    }

    /// <summary>Whether a value of a vector is not finite.</summary>
    public static bool IsAt(Vector vector, int row) => !vector.IsNull(row) && vector switch
    {
        DoubleVector doubles => !double.IsFinite(doubles.Values[row]),
        WideVector { Type.Kind: FieldKind.Decimal } wides => Is(wides.Values[row]),
        LongVector { Type.Kind: FieldKind.Date or FieldKind.Timestamp } longs => Is(longs.Values[row]),
        _ => false,
    };

    /// <summary>Refuses rows with a value that an engine does not hold.</summary>
    /// <param name="outputs">What is to be written.</param>
    /// <param name="rows">The rows; those that are left are what may be written.</param>
    /// <param name="rejects">Gets a reason for each that is refused.</param>
    /// <param name="engine">The engine's name.</param>
    /// <param name="holds">Which of these values it holds; null for none.</param>
    /// <returns>The rows that are left.</returns>
    public static ReadOnlySpan<int> Hold(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects,
        string engine, Func<Vector, int, bool>? holds = null)
    {
        List<int>? kept = null;
        foreach (TableOutput output in outputs)
            for (int column = 0; column < output.Vectors.Count; column++)
            {
                Vector vector = output.Vectors[column];
                if (!HasAny(vector)) continue;
                ReadOnlySpan<int> looked = kept is null ? rows : System.Runtime.InteropServices.CollectionsMarshal.AsSpan(kept);
                List<int>? left = null;
                for (int i = 0; i < looked.Length; i++)
                {
                    int row = looked[i];
                    if (!IsAt(vector, row) || holds?.Invoke(vector, row) == true)
                    {
                        left?.Add(row);
                        continue;
                    }
                    left ??= [.. looked[..i]];
                    rejects.Add(new RowReject(row, FaultCode.NotFinite,
                        $"{output.Table.Name}.{output.Table.Columns[column].Name}: {engine} has no {vector.Show(row)} in a {vector.Type}"));
                }
                kept = left ?? kept;
            }
        return kept is null ? rows : kept.ToArray();
    }

    // Runs for every batch that is written: one pass over the values, without a call for each.
    private static bool HasAny(Vector vector)
    {
        switch (vector)
        {
            case DoubleVector doubles:
                foreach (double value in doubles.Values)
                    if (!double.IsFinite(value)) return true;
                return false;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                foreach (Int128 value in wides.Values)
                    if (Is(value)) return true;
                return false;
            case LongVector { Type.Kind: FieldKind.Date or FieldKind.Timestamp } longs: return longs.Values.IndexOfAny(Never, Always) >= 0;
            default: return false;
        }
    }
}
