// DelimitedRecordReader.cs: one file of delimited text as record batches, values read as the kit's types.
// Holds: (1) a field that is not what its column is declared for is a fault of its row, with its line; (2) a record with too many or too
// few fields, or with a stray quote, is a fault of its row and none is passed over; (3) a file that was changed meanwhile is refused at
// its end.
using System.Globalization;
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Text;

namespace Transferra.Stores.Delimited;

internal sealed class DelimitedRecordReader : RowReader
{
    private static readonly byte[] Replacement = [0xEF, 0xBF, 0xBD];

    private readonly DelimitedTable _table;
    private readonly DelimitedParser _parser;
    private readonly int[] _ordinals;
    private readonly TextDecoder? _decoder;
    private readonly DateTemplate _dates;
    private readonly byte[] _null;
    private readonly byte[] _number = new byte[128];

    // The last day that was read, and its text, if any: records of one day often follow each other.
    private readonly byte[] _dayText = new byte[16];
    private int _dayBytes;
    private long _day;

    public DelimitedRecordReader(DelimitedTable table, TableShape shape)
    {
        _table = table;
        _ordinals = [.. shape.Columns.Select((column, position) => OrdinalOf(table, column, position))];
        _decoder = TextEncodings.IsKnown(table.Form.Encoding) ? new TextDecoder(table.Form.Encoding) : null;
        _dates = DateTemplate.Parse(table.Form.Dates);
        _null = Encoding.UTF8.GetBytes(table.Form.Null);
        _parser = table.OpenParser();
        if (table.Form.HasHeader) _parser.Next();
    }

    // Without a header the kit's columns are those of the file, in order.
    private static int OrdinalOf(DelimitedTable table, ColumnShape column, int position)
    {
        for (int i = 0; i < table.Columns.Count; i++)
            if (string.Equals(table.Columns[i], column.Name, StringComparison.OrdinalIgnoreCase)) return i;
        return !table.Form.HasHeader ? position
            : throw new TransferraException($"{table.FilePath} has no column {column.Name}; its first line names "
                + $"{string.Join(", ", table.Columns)}",
                "The store's files differ from what the kit says of this version; run: transferra check");
    }

    protected override bool Next()
    {
        if (_parser.Next()) return true;
        _table.RefuseIfChanged();
        return false;
    }

    protected override void ReadRow(RecordBatch batch, int row)
    {
        string fault = _parser.Fault;
        if (fault.Length == 0 && _parser.FieldCount != _table.Columns.Count)
            fault = string.Create(CultureInfo.InvariantCulture,
                $"there are {_parser.FieldCount} fields, and "
                    + $"{(_table.Form.HasHeader ? "the first line names" : "the first line has")} {_table.Columns.Count}");
        if (fault.Length > 0)
        {
            foreach (Vector vector in batch.Vectors) vector.AppendNull();
            batch.Faults.Add(new RowFault(row, FaultCode.WrongKind, "", CellText.Shown(_parser.Field(0)),
                FormattableString.Invariant($"line {_parser.Line} of {Path.GetFileName(_table.FilePath)}: {fault}")));
        }
        else
            for (int column = 0; column < _ordinals.Length; column++) ReadField(batch, batch.Vectors[column], row, column);
    }

    private void ReadField(RecordBatch batch, Vector vector, int row, int column)
    {
        int ordinal = _ordinals[column];
        ReadOnlySpan<byte> field = _parser.Field(ordinal);
        if (field.Length == _null.Length && field.SequenceEqual(_null) && !_parser.IsQuoted(ordinal))
        {
            vector.AppendNull();
            return;
        }
        FaultCode? fault = vector switch
        {
            BytesVector bytes => ReadBytes(bytes, field),
            LongVector longs => ReadLong(longs, field),
            WideVector wides => ReadWide(wides, field),
            _ => CellText.TryAppend(vector, field),
        };
        if (fault is null) return;
        vector.AppendNull();
        string what = fault == FaultCode.NotText ? $"the bytes are not text in {_table.Form.Encoding}" : vector.Type.Kind == FieldKind.Date
            ? $"this is not a date of the form {_table.Form.Dates}" : $"this is not a {vector.Type}";
        batch.Faults.Add(new RowFault(row, fault.Value, batch.Columns[column].Name, CellText.Shown(field),
            FormattableString.Invariant($"{what} (line {_parser.Line})")));
    }

    private FaultCode? ReadBytes(BytesVector vector, ReadOnlySpan<byte> field)
    {
        if (vector.Type.Kind == FieldKind.Binary)
        {
            Span<byte> room = vector.Room(field.Length / 2);
            if (field.Length % 2 != 0 || Convert.FromHexString(field, room, out _,
                out int written) != System.Buffers.OperationStatus.Done) return FaultCode.WrongKind;
            vector.Added(written);
            return null;
        }
        if (_decoder is not null) return _decoder.TryAppend(field, vector) ? null : FaultCode.NotText;
        if (_parser.IsWide && field.IndexOf(Replacement) >= 0) return FaultCode.NotText;
        return vector.TryAppendUtf8(field) ? null : FaultCode.NotText;
    }

    private FaultCode? ReadLong(LongVector vector, ReadOnlySpan<byte> field)
    {
        if (vector.Type.Kind != FieldKind.Date) return CellText.TryAppend(vector, field);
        if (_dayBytes == 0 || !field.SequenceEqual(_dayText.AsSpan(0, _dayBytes)))
        {
            if (!_dates.TryRead(field, out long day) && !Specials.TryMoment(field, out day)) return FaultCode.NotADate;
            (_dayBytes, _day) = (field.TryCopyTo(_dayText) ? field.Length : 0, day);
        }
        vector.Append(_day);
        return null;
    }

    private FaultCode? ReadWide(WideVector vector, ReadOnlySpan<byte> field)
    {
        if (vector.Type.Kind == FieldKind.Uuid || _table.Form.DecimalMark == '.') return CellText.TryAppend(vector, field);
        if (field.Length > _number.Length || field.Contains((byte)'.')) return FaultCode.NotANumber;
        field.Replace(_number, (byte)_table.Form.DecimalMark, (byte)'.');
        return CellText.TryAppend(vector, _number.AsSpan(0, field.Length));
    }

    public override void Dispose() => _parser.Dispose();
}
