// KeyNumber.cs: the whole number that the keys of a table begin with, to tell records that were added at the end since.
// Holds: (1) a number that is private is not looked at.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>The numbers of a table's keys while its records pass.</summary>
internal sealed class KeyNumber
{
    private readonly int _column = -1;

    /// <summary>Of a table.</summary>
    public KeyNumber(TableShape table)
    {
        if (table.Key.Count > 0 && table.OrdinalOf(table.Key[0]) is >= 0 and int at
            && table.Columns[at] is { Type.Kind: FieldKind.Integer, IsPrivate: false }) _column = at;
    }

    /// <summary>The highest number so far; null when no key begins with one, it is private, or none was noted.</summary>
    public long? Last { get; private set; }

    /// <summary>Takes note of a batch's records.</summary>
    public void Note(RecordBatch batch)
    {
        if (_column < 0) return;
        Vector vector = batch.Vectors[_column];
        ReadOnlySpan<long> numbers = ((LongVector)vector).Values[..batch.RowCount];
        for (int row = 0; row < numbers.Length; row++)
            if (!(numbers[row] <= Last) && !vector.IsNull(row)) Last = numbers[row];
    }

    /// <summary>The records of a batch whose number is not beyond a border.</summary>
    /// <param name="batch">Of a table whose keys begin with a number.</param>
    /// <param name="border">The last number that is within.</param>
    /// <param name="rows">Room for them; as long as the batch has records.</param>
    public ReadOnlySpan<int> Within(RecordBatch batch, long border, int[] rows)
    {
        Vector vector = batch.Vectors[_column];
        ReadOnlySpan<long> numbers = ((LongVector)vector).Values;
        int count = 0;
        for (int row = 0; row < batch.RowCount; row++)
            if (vector.IsNull(row) || numbers[row] <= border) rows[count++] = row;
        return rows.AsSpan(0, count);
    }
}
