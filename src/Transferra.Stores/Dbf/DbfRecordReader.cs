// DbfRecordReader.cs: one .dbf table as record batches, in the file's order; records marked as deleted are passed over.
// Holds: (1) a cell that does not hold what its field promises is a fault of its row, with the bytes as found; (2) nothing is read beyond
// the record or the memo file; (3) when the table ends, the file is still as it was when the store was opened, or reading fails.
using System.Buffers.Binary;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal sealed class DbfRecordReader : IRecordReader
{
    public const byte Deleted = (byte)'*';

    // Julian day number of 0001-01-01 in the Gregorian calendar, carried backwards.
    public const long JulianDayOne = 1_721_426;

    private const long MicrosPerDay = 86_400_000_000;
    private const int MostAtOnce = 64;

    private readonly DbfTable _table;
    private readonly DbfField?[] _fields; // null: the record's number
    private readonly DbfCells.Form[] _forms;
    private readonly DbfBlocks _blocks;
    private readonly DbfMemo? _memo;
    private readonly bool _hasMemos;
    private readonly TextDecoder? _decoder;
    private readonly int[] _rows = new int[MostAtOnce]; // those of the block that are read now
    private int _next; // of the block

    public DbfRecordReader(DbfTable table, TableShape shape, long records)
    {
        _table = table;
        _fields = [.. shape.Columns.Select(column => column.Name == DbfMender.PlaceColumn ? null : FieldFor(table, column))];
        _decoder = table.CodePage is null or DbfCodePages.Utf8 ? null : new TextDecoder(table.CodePage);
        _forms = [.. shape.Columns.Select((column, index) => _fields[index] is { } field ? DbfCells.FormOf(field, column.Type)
            : DbfCells.Form.Other)];
        _blocks = table.OpenBlocks(records);
        _hasMemos = Array.Exists(_fields, field => field?.IsMemo(table.Header.Level) == true);
        _memo = DbfMemo.Open(table.FilePath, table.Header.Level.Memo);
    }

    /// <summary>Whether every cell is read by itself; tests compare that with the usual way.</summary>
    internal bool ReadsCellsAlone { get; init; }

    private static DbfField FieldFor(DbfTable table, ColumnShape column)
    {
        DbfField field = table.Header.Fields.FirstOrDefault(field => string.Equals(field.Name, column.Name,
            StringComparison.OrdinalIgnoreCase))
            ?? throw new TransferraException($"{table.FilePath} has no field {column.Name}",
                "The store's tables differ from what the kit says of this version; run: transferra check");
        FieldType type = table.Shape.Columns[table.Header.Fields.TakeWhile(other => other != field).Count()].Type;
        FieldKind real = type.Kind;
        bool readable = column.Type.Kind == real || real switch
        {
            FieldKind.Text => column.Type.Kind is not (FieldKind.Binary or FieldKind.Double), // texts are read as what they spell
            FieldKind.Integer => column.Type.Kind is FieldKind.Decimal or FieldKind.Text,
            FieldKind.Decimal => column.Type.Kind is FieldKind.Integer or FieldKind.Text && field.Kind is 'N' or 'F',
            FieldKind.Double => column.Type.Kind == FieldKind.Decimal,
            _ => false,
        };
        if (readable && !(column.Type.Kind == FieldKind.Text && field.Kind is 'I' or '+')) return field;
        throw new TransferraException($"{table.FilePath}: the field {field.Name} is of the kind {field.Kind} ({type}) and cannot be read "
            + $"as {column.Type}",
            "Correct the column's type in the kit's version file.");
    }

    public bool Fill(RecordBatch batch)
    {
        while (batch.RowCount < batch.Limits.MaxRows)
        {
            if (_next == _blocks.Count && !NextBlock()) return false;
            int first = batch.RowCount, count = 0;
            for (int room = RoomFor(batch); count < room && _next < _blocks.Count; _next++)
                if (_blocks[_next][0] != Deleted) _rows[count++] = _next;
            ReadRows(batch, first, _rows.AsSpan(0, count));
            if (batch.IsHeavy || batch.IsFull) break;
        }
        return true;
    }

    private bool NextBlock()
    {
        try
        {
            if (_blocks.Read())
            {
                _next = 0;
                return true;
            }
        }
        catch (EndOfStreamException)
        {
            _table.RefuseIfChanged();
            throw;
        }
        _table.RefuseIfChanged();
        return false;
    }

    // Records that surely fit into the batch, but at least one; how long a memo is, the record does not tell.
    private int RoomFor(RecordBatch batch)
    {
        const int longestCharacter = 4;
        if (_hasMemos) return 1;
        long left = batch.Limits.MaxBytes - batch.ByteCount,
            each = (long)_table.Header.RecordBytes * (_decoder is null ? 1 : longestCharacter);
        return (int)Math.Clamp(left / each, 1, Math.Min(MostAtOnce, batch.Limits.MaxRows - batch.RowCount));
    }

    // Column by column, as what is to be done is then the same from one record to the next.
    private void ReadRows(RecordBatch batch, int first, ReadOnlySpan<int> rows)
    {
        int faults = batch.Faults.Count;
        for (int column = 0; column < _fields.Length; column++)
        {
            Vector vector = batch.Vectors[column];
            if (_fields[column] is not { } field)
            {
                foreach (int row in rows) ((LongVector)vector).Append(_blocks.First + row + 1);
                continue;
            }
            for (int i = 0; i < rows.Length; i++)
            {
                if (!ReadsCellsAlone) i += DbfCells.Read(_forms[column], field, vector, _blocks, rows[i..]);
                if (i < rows.Length) ReadCell(batch, vector, field, first + i, column, _blocks[rows[i]]);
            }
        }
        // In the order of the records, as whoever names the first of them expects.
        if (batch.Faults.Count > faults + 1)
        {
            RowFault[] found = [.. batch.Faults.Skip(faults).OrderBy(fault => fault.Row)];
            batch.Faults.RemoveRange(faults, found.Length);
            batch.Faults.AddRange(found);
        }
    }

    private void ReadCell(RecordBatch batch, Vector vector, DbfField field, int row, int column, ReadOnlySpan<byte> record)
    {
        if (field.NullBit >= 0 && Bit(record, field.NullBit))
        {
            vector.AppendNull();
            return;
        }
        ReadOnlySpan<byte> raw = record.Slice(field.Offset, field.Length);
        FaultCode? fault;
        string reason = "";
        if (field.IsMemo(_table.Header.Level)) fault = ReadMemo(vector, field, raw, out reason);
        else
        {
            fault = vector switch
            {
                BytesVector bytes => ReadBytes(bytes, field, raw, record),
                LongVector longs => ReadLong(longs, field, raw, record),
                WideVector wides => ReadWide(wides, field, raw, record),
                _ => ReadDouble((DoubleVector)vector, field, raw),
            };
        }
        if (fault is null) return;
        vector.AppendNull();
        if (reason.Length == 0)
            reason = fault == FaultCode.NotText
                ? _table.CodePage is null ? $"the bytes are not text, as nothing says their code page; say it in a file {_table.Name}.cpg "
                    + "beside the table, or in the kit (text-encoding)"
                    : $"the bytes are not text in the code page {_table.CodePage}"
                : $"the field holds no {vector.Type}";
        batch.Faults.Add(new RowFault(row, fault.Value, batch.Columns[column].Name, Shown(raw), reason));
    }

    private bool Bit(ReadOnlySpan<byte> record, int bit)
    {
        DbfField? flags = _table.Header.NullFlags;
        return flags is not null && (record[flags.Offset + bit / 8] >> (bit % 8) & 1) != 0;
    }

    private static string Shown(ReadOnlySpan<byte> raw) =>
        raw.ContainsAnyExceptInRange((byte)0x20, (byte)0x7E) ? "0x" + Convert.ToHexString(raw[..Math.Min(32, raw.Length)])
            : Encoding.ASCII.GetString(raw).Trim();

    /// <summary>The block of the memo file that a field points to; 0 when it points nowhere.</summary>
    public static bool TryPointer(DbfField field, ReadOnlySpan<byte> raw, out long block)
    {
        block = 0;
        if (field.Length == 4) block = BinaryPrimitives.ReadUInt32LittleEndian(raw);
        else if (!raw.Trim((byte)' ').Trim((byte)0).IsEmpty) return ValueText.TryWhole(raw.Trim((byte)0), out block) is null;
        return true;
    }

    private FaultCode? ReadMemo(Vector vector, DbfField field, ReadOnlySpan<byte> raw, out string reason)
    {
        reason = "";
        var bytes = (BytesVector)vector;
        if (!TryPointer(field, raw, out long block))
        {
            reason = "the field holds no pointer into the memo file";
            return FaultCode.WrongKind;
        }
        if (block == 0)
        {
            bytes.Append([]);
            return null;
        }
        if (_memo is null)
        {
            reason = $"it points to block {block} of the memo file, which is not there";
            return FaultCode.MissingReference;
        }
        if (!_memo.TryRead(block, out ReadOnlySpan<byte> value, out reason)) return FaultCode.MissingReference;
        return vector.Type.Kind == FieldKind.Text ? AppendText(bytes, value) : AppendBinary(bytes, value);
    }

    private static FaultCode? AppendBinary(BytesVector vector, ReadOnlySpan<byte> value)
    {
        vector.Append(value);
        return null;
    }

    private FaultCode? AppendText(BytesVector vector, ReadOnlySpan<byte> value)
    {
        if (_decoder is not null) return _decoder.TryAppend(value, vector) ? null : FaultCode.NotText;
        return vector.TryAppendUtf8(value) ? null : FaultCode.NotText;
    }

    // A varchar keeps its length in its last byte unless it is full; other texts are filled up with blanks, or by some programs with zeros.
    private ReadOnlySpan<byte> TextOf(DbfField field, ReadOnlySpan<byte> raw, ReadOnlySpan<byte> record)
    {
        if (field.LengthBit >= 0) return Bit(record, field.LengthBit) ? raw[..Math.Min(raw[^1], raw.Length - 1)] : raw;
        return DbfCells.WithoutFilling(raw);
    }

    private FaultCode? ReadBytes(BytesVector vector, DbfField field, ReadOnlySpan<byte> raw, ReadOnlySpan<byte> record)
    {
        if (vector.Type.Kind == FieldKind.Binary) return AppendBinary(vector, field.LengthBit >= 0 ? TextOf(field, raw, record) : raw);
        if (field.Kind is 'C' or 'V') return AppendText(vector, TextOf(field, raw, record));
        vector.Append(raw.Trim((byte)' ')); // numbers and dates as they are spelt
        return null;
    }

    private FaultCode? ReadLong(LongVector vector, DbfField field, ReadOnlySpan<byte> raw, ReadOnlySpan<byte> record)
    {
        long value;
        FaultCode? fault = null;
        switch (field.Kind)
        {
            case 'I' or '+':
                value = Whole32(raw);
                break;
            case 'T' or '@':
                return ReadTimestamp(vector, raw);
            case 'L':
                if (raw[0] is (byte)' ' or (byte)'?' or 0) goto default;
                if (!DbfCells.TryLogical(raw[0], out value)) return FaultCode.NotABoolean;
                break;
            case 'D' when !IsBlank(raw):
                if (!DbfCells.TryDate(raw, out value)) return FaultCode.NotADate;
                break;
            case 'C' or 'V' or 'N' or 'F' when !IsBlank(raw):
                fault = Spelt(vector.Type.Kind, field.Kind is 'C' or 'V' ? TextOf(field, raw, record) : raw, out value);
                break;
            default:
                vector.AppendNull();
                return null;
        }
        if (fault is null) vector.Append(value);
        return fault;
    }

    private static FaultCode? Spelt(FieldKind kind, ReadOnlySpan<byte> text, out long value)
    {
        value = 0;
        switch (kind)
        {
            case FieldKind.Integer:
                if (ValueText.TryWhole(text, out value) is not { } fault) return null;
                // A program may have written an exponent, or zeros behind a point.
                if (DecimalText.TryParseScientific(text, FieldType.MaxPrecision, 0,
                    out Int128 units) is { } other) return other == FaultCode.NotANumber ? fault : other;
                if (units < long.MinValue || units > long.MaxValue) return FaultCode.OutOfRange;
                value = (long)units;
                return null;
            case FieldKind.Date: return ValueText.TryDate(text, out value) ? null : FaultCode.NotADate;
            case FieldKind.Time: return ValueText.TryTime(text, out value) ? null : FaultCode.NotATime;
            case FieldKind.Timestamp: return ValueText.TryTimestamp(text, out value) ? null : FaultCode.NotATime;
            default:
                value = text is [(byte)'1'] ? 1 : 0;
                return text is [(byte)'0' or (byte)'1'] ? null : FaultCode.NotABoolean;
        }
    }

    private static bool IsBlank(ReadOnlySpan<byte> raw) => raw.Trim((byte)' ').Trim((byte)0).IsEmpty;

    private FaultCode? ReadTimestamp(LongVector vector, ReadOnlySpan<byte> raw)
    {
        if (IsBlank(raw))
        {
            vector.AppendNull();
            return null;
        }
        long day, millis;
        if (_table.Header.Level.HasLongNames)
        {
            // dBASE 7: a big-endian double of milliseconds since day 0 of the Julian count.
            double all = BinaryPrimitives.ReadDoubleBigEndian(raw);
            if (!double.IsFinite(all) || all < 0 || all > 1e15) return FaultCode.NotATime;
            (day, millis) = Math.DivRem((long)all, 86_400_000);
        }
        else (day, millis) = (BinaryPrimitives.ReadInt32LittleEndian(raw), BinaryPrimitives.ReadInt32LittleEndian(raw[4..]));
        day -= JulianDayOne;
        if (day < 0 || day > ValueText.LastDay || millis is < 0 or >= 86_400_000) return FaultCode.NotATime;
        vector.Append(day * MicrosPerDay + millis * 1000);
        return null;
    }

    private int Whole32(ReadOnlySpan<byte> raw) => _table.Header.Level.HasLongNames
        ? BinaryPrimitives.ReadInt32BigEndian(raw) ^ int.MinValue // so that the bytes sort as the numbers do
        : BinaryPrimitives.ReadInt32LittleEndian(raw);

    private FaultCode? ReadWide(WideVector vector, DbfField field, ReadOnlySpan<byte> raw, ReadOnlySpan<byte> record)
    {
        FieldType type = vector.Type;
        Int128 units;
        FaultCode? fault;
        switch (field.Kind)
        {
            case 'Y':
                fault = DecimalText.TryRescale(BinaryPrimitives.ReadInt64LittleEndian(raw), 4, type.Scale, type.Precision, out units);
                break;
            case 'I' or '+':
                fault = DecimalText.TryRescale(Whole32(raw), 0, type.Scale, type.Precision, out units);
                break;
            case 'B' or 'O':
                double real = ReadReal(field, raw);
                if (!double.IsFinite(real)) return FaultCode.NotFinite;
                fault = RealAmount.TryDecimal(real, type.Precision, type.Scale, out units);
                break;
            default:
                ReadOnlySpan<byte> text = field.Kind is 'C' or 'V' ? TextOf(field, raw, record) : raw;
                if (IsBlank(text))
                {
                    vector.AppendNull();
                    return null;
                }
                if (type.Kind == FieldKind.Uuid) fault = ValueText.TryUuid(text, out units) ? null : FaultCode.NotAUuid;
                else fault = DecimalText.TryParseScientific(text, type.Precision, type.Scale, out units);
                break;
        }
        if (fault is null) vector.Append(units);
        return fault;
    }

    private double ReadReal(DbfField field, ReadOnlySpan<byte> raw)
    {
        if (field.Kind == 'B') return BinaryPrimitives.ReadDoubleLittleEndian(raw);
        // dBASE 7 turns the bits so that the bytes sort as the numbers do.
        long bits = BinaryPrimitives.ReadInt64BigEndian(raw);
        return BitConverter.Int64BitsToDouble(bits < 0 ? bits ^ long.MinValue : ~bits);
    }

    private FaultCode? ReadDouble(DoubleVector vector, DbfField field, ReadOnlySpan<byte> raw)
    {
        vector.Append(ReadReal(field, raw));
        return null;
    }

    public void Dispose()
    {
        _blocks.Dispose();
        _memo?.Dispose();
    }
}
