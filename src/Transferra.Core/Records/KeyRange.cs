// KeyRange.cs: a part of a table, by the values of one column; and a reader that passes on only the records of it, for stores that cannot
// ask for them.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Records whose value in a column lies between two others. A record without a value lies in no range.</summary>
/// <param name="Column">The column; among those that are read.</param>
/// <param name="From">The least value, included; null for no limit. Written as a person would: 1000, 12.50, 2024-02-29.</param>
/// <param name="Before">The value that all lie before, excluded; null for no limit.</param>
public sealed record KeyRange(string Column, string? From, string? Before)
{
    /// <summary>A limit as a vector of one value.</summary>
    /// <exception cref="TransferraException">It is not a value of the column's type.</exception>
    internal static Vector? Limit(string? text, ColumnShape column)
    {
        if (text is null) return null;
        var vector = Vector.Create(column.Type);
        ReadOnlySpan<byte> bytes = System.Text.Encoding.UTF8.GetBytes(text);
        FaultCode? fault = null;
        switch (vector)
        {
            case LongVector longs:
                long value = 0;
                bool read = column.Type.Kind switch
                {
                    FieldKind.Date => ValueText.TryDate(bytes, out value),
                    FieldKind.Time => ValueText.TryTime(bytes, out value),
                    FieldKind.Timestamp => ValueText.TryTimestamp(bytes, out value),
                    _ => ValueText.TryWhole(bytes, out value) is null,
                };
                if (read) longs.Append(value);
                else fault = FaultCode.WrongKind;
                break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                fault = DecimalText.TryParse(bytes, FieldType.MaxPrecision, column.Type.Scale, out Int128 units);
                if (fault is null) wides.Append(units);
                break;
            case BytesVector { Type.Kind: FieldKind.Text } texts: texts.Append(bytes); break;
            // Of a column of several kinds, a range is one of whole numbers.
            case BytesVector { Type.Kind: FieldKind.Any } any when ValueText.TryWhole(bytes, out long whole) is null:
                AnyValue.Append(any, whole); break;
            default: fault = FaultCode.WrongKind; break;
        }
        return fault is null ? vector : throw new TransferraException($"{ValueText.Quote(text)} is not a limit for "
            + $"{column.Name}, which is {column.Type}",
            "Give a value of that type.");
    }
}

/// <summary>Passes on the records of a range.</summary>
public sealed class RangeReader : IRecordReader
{
    private readonly IRecordReader _source;
    private readonly RecordBatch _read;
    private readonly int _ordinal;
    private readonly Vector? _from, _before;
    private int _next;
    private bool _more = true;

    /// <param name="source">Disposed with this.</param>
    /// <param name="table">What it reads.</param>
    /// <param name="range">Which of it is wanted.</param>
    /// <exception cref="TransferraException">The range's column is not read, or a limit is not a value of it; the source is
    /// disposed.</exception>
    public RangeReader(IRecordReader source, TableShape table, KeyRange range)
    {
        _source = source;
        _read = new RecordBatch(table.Columns);
        _ordinal = table.OrdinalOf(range.Column);
        try
        {
            if (_ordinal < 0) throw new TransferraException($"a range of {table.Name} goes by {range.Column}, which is not read",
                "Read that column, too.");
            (_from, _before) = (KeyRange.Limit(range.From, table.Columns[_ordinal]), KeyRange.Limit(range.Before, table.Columns[_ordinal]));
        }
        catch
        {
            source.Dispose();
            throw;
        }
    }

    /// <inheritdoc/>
    public bool Fill(RecordBatch batch)
    {
        while (!batch.IsFull)
        {
            if (_next == _read.RowCount)
            {
                if (!_more) return false;
                _read.Reset();
                _next = 0;
                _more = _source.Fill(_read);
                continue;
            }
            int row = _next++;
            if (!IsWithin(row)) continue;
            int into = batch.RowCount;
            for (int column = 0; column < batch.Vectors.Length; column++) batch.Vectors[column].AppendFrom(_read.Vectors[column], row);
            foreach (RowFault fault in _read.Faults)
                if (fault.Row == row) batch.Faults.Add(fault with { Row = into });
        }
        return true;
    }

    private bool IsWithin(int row)
    {
        Vector values = _read.Vectors[_ordinal];
        if (values is BytesVector { Type.Kind: FieldKind.Any } any)
            return !any.IsNull(row) && any[row][0] == AnyValue.Whole && AnyValue.WholeOf(any[row]) is var whole
                && (_from is null || whole >= AnyValue.WholeOf(((BytesVector)_from)[0]))
                && (_before is null || whole < AnyValue.WholeOf(((BytesVector)_before)[0]));
        return !values.IsNull(row) && (_from is null || values.CompareAt(row, _from, 0) >= 0)
            && (_before is null || values.CompareAt(row, _before, 0) < 0);
    }

    /// <inheritdoc/>
    public void Dispose() => _source.Dispose();
}
