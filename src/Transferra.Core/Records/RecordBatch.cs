// RecordBatch.cs: some thousand records of one table, column by column.
// Why batches: a table may exceed memory; why columns: expressions run over one column at a time without boxing a value.
// Holds: (1) at most MaxRows rows and MaxBytes bytes, except that the last record may go beyond MaxBytes;
//        (2) a row's cell faults stay with it until the batch is reset.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>How much one batch may hold.</summary>
/// <param name="MaxRows">Most rows, at least 1.</param>
/// <param name="MaxBytes">Most bytes of values; the record that reaches it is still taken whole.</param>
public sealed record BatchLimits(int MaxRows, long MaxBytes)
{
    /// <summary>4,096 rows, and 4 MiB where the memory suffices: large enough to amortise a call, small enough to stay in the processor's
    /// cache.</summary>
    public static BatchLimits Default => new(4096, MemoryBudget.OfProcess.Suiting(4 << 20, 1 << 20, 4 << 20));
}

/// <summary>Records of one table, column by column. Reused; not thread-safe.</summary>
public sealed class RecordBatch
{
    // Whose values can be long.
    private readonly int[] _ofAnyLength;

    /// <summary>An empty batch for these columns.</summary>
    public RecordBatch(IReadOnlyList<ColumnShape> columns, BatchLimits? limits = null)
    {
        Columns = columns;
        Limits = limits ?? BatchLimits.Default;
        Vectors = [.. columns.Select(column => Vector.Create(column.Type))];
        _ofAnyLength = [.. Vectors.Index().Where(vector => vector.Item is BytesVector).Select(vector => vector.Index)];
    }

    /// <summary>What the columns are.</summary>
    public IReadOnlyList<ColumnShape> Columns { get; }

    /// <summary>How much it may hold.</summary>
    public BatchLimits Limits { get; }

    /// <summary>The values, in the order of <see cref="Columns"/>.</summary>
    public Vector[] Vectors { get; }

    /// <summary>Values that the store could not deliver; their cells are null.</summary>
    public List<RowFault> Faults { get; } = [];

    /// <summary>Rows so far.</summary>
    public int RowCount => Vectors.Length == 0 ? 0 : Vectors[0].Count;

    /// <summary>Bytes of values so far.</summary>
    public long ByteCount
    {
        get
        {
            long bytes = 0;
            foreach (Vector vector in Vectors) bytes += vector.ByteCount;
            return bytes;
        }
    }

    /// <summary>Whether no further row should be added.</summary>
    public bool IsFull => RowCount >= Limits.MaxRows || ByteCount >= Limits.MaxBytes;

    /// <summary>Whether texts and binary values alone have reached the most bytes; cheap enough to ask after every row. Values of fixed
    /// length reach it only in batches of many rows and columns, which <see cref="IsFull"/> tells.</summary>
    public bool IsHeavy
    {
        get
        {
            long bytes = 0;
            foreach (int column in _ofAnyLength) bytes += ((BytesVector)Vectors[column]).Length;
            return bytes >= Limits.MaxBytes;
        }
    }

    /// <summary>Goes up whenever rows were dropped or taken over, by which whoever keeps something about the rows knows that they are
    /// others.</summary>
    internal long Filling { get; private set; }

    /// <summary>Drops all rows, keeps the memory.</summary>
    public void Reset()
    {
        Filling++;
        foreach (Vector vector in Vectors) vector.Reset();
        Faults.Clear();
    }

    /// <summary>Drops all rows and the memory.</summary>
    internal void Release()
    {
        Filling++;
        foreach (Vector vector in Vectors) vector.Release();
        Faults.Clear();
        Faults.TrimExcess();
    }

    /// <summary>Takes over all rows and faults of a batch of the same columns, which gets this one's memory and is empty.</summary>
    public void TakeFrom(RecordBatch other)
    {
        Reset();
        for (int column = 0; column < Vectors.Length; column++) (Vectors[column], other.Vectors[column]) = (other.Vectors[column],
            Vectors[column]);
        Faults.AddRange(other.Faults);
        other.Faults.Clear();
    }

    /// <summary>Adds rows <paramref name="from"/> and following of a batch of the same columns, with their faults.</summary>
    public void AppendRows(RecordBatch source, int from)
    {
        int shift = RowCount - from;
        for (int column = 0; column < Vectors.Length; column++)
            for (int row = from; row < source.RowCount; row++)
                Vectors[column].AppendFrom(source.Vectors[column], row);
        foreach (RowFault fault in source.Faults)
            if (fault.Row >= from) Faults.Add(fault with { Row = fault.Row + shift });
    }

    /// <summary>Drops the rows from <paramref name="rows"/> on, with their faults.</summary>
    public void Truncate(int rows)
    {
        Filling++;
        foreach (Vector vector in Vectors) vector.Truncate(rows);
        Faults.RemoveAll(fault => fault.Row >= rows);
    }

    /// <summary>Whether two rows are equal in the given columns.</summary>
    public bool SameRows(int row, int otherRow, ReadOnlySpan<int> ordinals)
    {
        foreach (int ordinal in ordinals)
            if (!Vectors[ordinal].SameAt(row, Vectors[ordinal], otherRow)) return false;
        return true;
    }

    /// <summary>Whether a row has a value in any of the given columns.</summary>
    public bool HasAny(int row, ReadOnlySpan<int> ordinals)
    {
        foreach (int ordinal in ordinals)
            if (!Vectors[ordinal].IsNull(row)) return true;
        return false;
    }

    /// <summary>A value as a person may read it: hidden when its column is private.</summary>
    public string Show(int row, int ordinal) => Columns[ordinal].IsPrivate ? TableShape.Private : Vectors[ordinal].Show(row);

    /// <summary>The key of a row as a person may read it, values joined with " / ".</summary>
    public string ShowKey(int row, ReadOnlySpan<int> ordinals)
    {
        if (ordinals.Length == 1) return Show(row, ordinals[0]);
        var parts = new string[ordinals.Length];
        for (int i = 0; i < ordinals.Length; i++) parts[i] = Show(row, ordinals[i]);
        return string.Join(" / ", parts);
    }
}
