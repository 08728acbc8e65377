// SqliteRecordDecoder.cs: records as the pages of a table hold them, into batches.
// Source: "The SQLite Database File Format", section 2.1 (record format).
// Holds: what it adds is what the engine would give; a property test compares the two over every kind of value.
using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using System.Text.Unicode;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>How a table's columns lie in its records.</summary>
/// <param name="RootPage">Of its b-tree.</param>
/// <param name="Columns">All of them, in the order in which records hold them.</param>
/// <param name="NumberedColumn">The position of the column that is the record's number; -1 for none.</param>
internal sealed record SqliteTableLayout(long RootPage, IReadOnlyList<SqliteStoredColumn> Columns, int NumberedColumn);

/// <summary>A column as records hold it.</summary>
/// <param name="Position">In what is read; -1 when it is not.</param>
/// <param name="IsReal">Whether whole numbers in it stand for floating-point ones, as the engine keeps these where they are whole.</param>
/// <param name="Added">What a record has in it that was stored before the column was added; null when that is not known. Most tables have
/// no such record.</param>
internal sealed record SqliteStoredColumn(int Position, bool IsReal, Lazy<SqliteConstant?> Added);

/// <summary>A value to keep.</summary>
internal sealed record SqliteConstant(int Kind, long Whole, double Real, byte[] Bytes)
{
    public static readonly SqliteConstant Null = new(SqliteNative.Null, 0, 0, []);

    public SqliteCell Cell => new(Kind, Whole, Real, Bytes);
}

/// <summary>Decodes records of one table.</summary>
internal sealed class SqliteRecordDecoder(SqliteTableLayout layout, TableShape table, SqliteCells cells)
{
    private readonly Plan[] _plan = [.. layout.Columns.Select((column, i) => Plan.Of(column, i == layout.NumberedColumn, table, cells))];

    // The usual values of the usual columns are taken straight away; all others, and what is wrong, as cells are that the engine gives.
    private enum Way { Skipped, Other, Number, Whole, Units, Amount, Text, Day, Any }

    private readonly record struct Plan(Way Way, int Position, bool IsNumber, bool IsReal, int Scale, long Limit,
        Lazy<SqliteConstant?> Added)
    {
        // Whole numbers in a column of amounts, of which the double is the same.
        private const long MostUnits = 1_000_000_000_000_000;

        /// <summary>Units of a whole number of an amount.</summary>
        public long Power { get; } = (long)DecimalText.PowerOfTen(Scale);

        /// <summary>Below which whole numbers are taken for amounts straight away.</summary>
        public long WholeLimit { get; } = Math.Min(Limit, MostUnits) / (long)DecimalText.PowerOfTen(Scale);

        public static Plan Of(SqliteStoredColumn column, bool isNumber, TableShape table, SqliteCells cells)
        {
            if (column.Position < 0) return new Plan(Way.Skipped, -1, isNumber, column.IsReal, 0, 0, column.Added);
            FieldType type = table.Columns[column.Position].Type;
            bool isAmount = type.Kind == FieldKind.Decimal && type.Precision <= 18,
                areUnits = isAmount && (type.Scale == 0 || cells.IsScaled(column.Position)) && !column.IsReal;
            Way way = type.Kind switch
            {
                FieldKind.Integer when isNumber => Way.Number,
                _ when isNumber => Way.Other,
                FieldKind.Integer when !column.IsReal => Way.Whole,
                FieldKind.Text when cells.AreTextsUtf8 => Way.Text,
                FieldKind.Date => Way.Day,
                FieldKind.Any when cells.AreTextsUtf8 && !column.IsReal => Way.Any,
                _ => areUnits ? Way.Units : isAmount ? Way.Amount : Way.Other,
            };
            return new Plan(way, column.Position, isNumber, column.IsReal, isAmount ? type.Scale : 0,
                isAmount ? (long)DecimalText.PowerOfTen(type.Precision) : 0, column.Added);
        }
    }

    /// <summary>Adds a record to a batch.</summary>
    /// <param name="batch">Whose columns are the table's.</param>
    /// <param name="vectors">Its vectors.</param>
    /// <param name="row">Where.</param>
    /// <param name="record">Header and values.</param>
    /// <param name="number">The record's number.</param>
    /// <returns>False when it is not laid out as it should be; the batch may then have part of it.</returns>
    public bool TryTake(RecordBatch batch, Vector[] vectors, int row, ReadOnlySpan<byte> record, long number)
    {
        int type = 0, at, end, faults = batch.Faults.Count;
        if (record[0] < 0x80) (type, at) = (1, record[0]);
        else if (!TryVarintAt(record, ref type, out long headerBytes) || headerBytes < 0 || headerBytes > record.Length) return false;
        else at = (int)headerBytes;
        end = at;
        if (type > end || end > record.Length) return false;
        foreach (ref readonly Plan cell in _plan.AsSpan())
        {
            if (type == end)
            {
                // Stored before this column was added.
                if (!TryTakeAdded(batch, row, cell, number)) return false;
                continue;
            }
            long kind = record[type];
            if (kind < 0x80) type++;
            else if (!TryVarintAt(record, ref type, out kind) || kind < 0 || type > end) return false;
            int bytes = BytesOf(kind);
            if ((uint)bytes > (uint)(record.Length - at)) return false;
            ReadOnlySpan<byte> value = record.Slice(at, bytes);
            at += bytes;
            switch (cell.Way)
            {
                case Way.Skipped: break;
                case Way.Number: ((LongVector)vectors[cell.Position]).Append(number); break;
                case Way.Whole when IsWhole(kind):
                    ((LongVector)vectors[cell.Position]).Append(WholeOf(kind, record, at, bytes)); break;
                case Way.Units when IsWhole(kind) && WholeOf(kind, record, at, bytes) is long units && units < cell.Limit
                    && units > -cell.Limit:
                    ((WideVector)vectors[cell.Position]).Append(units);
                    break;
                case Way.Amount when kind == 7
                    && RealAmount.TryUnits(BinaryPrimitives.ReadDoubleBigEndian(value), cell.Scale, out long amount)
                    && amount < cell.Limit && amount > -cell.Limit:
                    ((WideVector)vectors[cell.Position]).Append(amount);
                    break;
                case Way.Amount when IsWhole(kind) && WholeOf(kind, record, at, bytes) is long whole && whole < cell.WholeLimit
                    && whole > -cell.WholeLimit:
                    ((WideVector)vectors[cell.Position]).Append(whole * cell.Power);
                    break;
                case Way.Text when kind >= 12 && (kind & 1) == 1 && ((BytesVector)vectors[cell.Position]).TryAppendUtf8(value): break;
                case Way.Day when kind == DayType && TryDay(value, out long day): ((LongVector)vectors[cell.Position]).Append(day); break;
                case Way.Any when IsWhole(kind):
                    AnyValue.Append((BytesVector)vectors[cell.Position], WholeOf(kind, record, at, bytes)); break;
                case Way.Any when kind >= 12 && (kind & 1) == 1 && Utf8.IsValid(value):
                    AnyValue.Append((BytesVector)vectors[cell.Position], AnyValue.Text, value); break;
                default:
                    cells.Append(batch, row, cell.Position, cell.IsNumber ? SqliteCell.Of(number)
                    : CellOf(kind, record, at, bytes, cell.IsReal)); break;
            }
        }
        if (batch.Faults.Count > faults + 1) SortFaults(batch, faults);
        return type < end || at == record.Length;
    }

    private static bool IsWhole(long kind) => kind is >= 1 and <= 9 and not 7;

    // A text of ten bytes, as a day has them.
    private const int DayType = 12 + (2 * 10) + 1;

    // Records of one day often follow each other.
    private ulong _dayBegin, _dayEnd;
    private long? _day;

    private bool TryDay(ReadOnlySpan<byte> text, out long day)
    {
        ulong begin = BinaryPrimitives.ReadUInt64LittleEndian(text), end = BinaryPrimitives.ReadUInt64LittleEndian(text[2..]);
        day = _day.GetValueOrDefault();
        if (_day is not null && begin == _dayBegin && end == _dayEnd) return true;
        if (!ValueText.TryDate(text, out day)) return false;
        (_dayBegin, _dayEnd, _day) = (begin, end, day);
        return true;
    }

    // Faults are told in the order of what is read, not of what is stored.
    private static void SortFaults(RecordBatch batch, int from)
    {
        RowFault[] sorted = [.. batch.Faults.Skip(from).OrderBy(fault => batch.Columns.TakeWhile(column => column.Name != fault.Column)
            .Count())];
        batch.Faults.RemoveRange(from, sorted.Length);
        batch.Faults.AddRange(sorted);
    }

    private bool TryTakeAdded(RecordBatch batch, int row, in Plan cell, long number)
    {
        if (cell.Way == Way.Skipped) return true;
        if (cell.Way == Way.Number) ((LongVector)batch.Vectors[cell.Position]).Append(number);
        else if (cell.IsNumber) cells.Append(batch, row, cell.Position, SqliteCell.Of(number));
        else if (cell.Added.Value is not { } added) return false;
        else cells.Append(batch, row, cell.Position, added.Cell);
        return true;
    }

    private static bool TryVarintAt(ReadOnlySpan<byte> record, ref int at, out long value)
    {
        ReadOnlySpan<byte> rest = record[at..];
        bool isRead = SqliteBtreePages.TryVarint(ref rest, out value);
        at = record.Length - rest.Length;
        return isRead;
    }

    /// <summary>Bytes of a value.</summary>
    /// <param name="type">Its serial type, from 0.</param>
    /// <returns>-1 for a type that is reserved, or of more than a record can hold.</returns>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    internal static int BytesOf(long type) => type < 12 ? SmallBytes[(int)type & 15] : type > int.MaxValue ? -1 : (int)((type - 12) >> 1);

    // Of types below 12; 10 and 11 are reserved.
    private static ReadOnlySpan<sbyte> SmallBytes => [0, 1, 2, 3, 4, 6, 8, 8, 0, 0, -1, -1, -1, -1, -1, -1];

    private static SqliteCell CellOf(long type, ReadOnlySpan<byte> record, int end, int bytes, bool isReal)
    {
        ReadOnlySpan<byte> value = record[(end - bytes)..end];
        if (type >= 12) return new SqliteCell((type & 1) == 1 ? SqliteNative.Text : SqliteNative.Blob, 0, 0, value);
        if (type == 0) return SqliteCell.Null;
        if (type == 7)
        {
            double real = BinaryPrimitives.ReadDoubleBigEndian(value);
            return double.IsNaN(real) ? SqliteCell.Null : SqliteCell.Of(real);
        }
        long whole = WholeOf(type, record, end, bytes);
        return isReal ? SqliteCell.Of((double)whole) : SqliteCell.Of(whole);
    }

    /// <summary>A whole number.</summary>
    /// <param name="type">Its serial type.</param>
    /// <param name="record">The record that it is in.</param>
    /// <param name="end">Where it ends there.</param>
    /// <param name="bytes">How many it has.</param>
    // Eight bytes that end there are read where there are so many, whatever the value's own
    // number of them: which it is changes from record to record, and cannot be foretold.
    internal static long WholeOf(long type, ReadOnlySpan<byte> record, int end, int bytes)
    {
        if (bytes == 0) return type - 8;
        int others = 8 * (sizeof(long) - bytes);
        if (end >= sizeof(long)) return BinaryPrimitives.ReadInt64BigEndian(record[(end - sizeof(long))..]) << others >> others;
        long whole = (sbyte)record[end - bytes];
        for (int at = end - bytes + 1; at < end; at++) whole = (whole << 8) | record[at];
        return whole;
    }
}
