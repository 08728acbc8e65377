// SqliteCells.cs: cells of a SQLite table into typed vectors, whoever has read them.
// Why cells are looked at one by one: SQLite lets any cell hold any kind of value whatever the column says.
// Holds: (1) a cell that is not what its column is declared for is a fault of its row, never converted silently.
using System.Globalization;
using System.Text;
using System.Text.Unicode;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>One value as the store has it.</summary>
/// <param name="kind">A storage class of the engine.</param>
/// <param name="whole">Of a whole number.</param>
/// <param name="real">Of a floating-point number; of a whole number, the nearest one.</param>
/// <param name="bytes">Of text and binary data.</param>
internal readonly ref struct SqliteCell(int kind, long whole, double real, ReadOnlySpan<byte> bytes)
{
    public readonly int Kind = kind;
    public readonly long Whole = whole;
    public readonly double Real = real;
    public readonly ReadOnlySpan<byte> Bytes = bytes;

    public static SqliteCell Null => new(SqliteNative.Null, 0, 0, default);

    public static SqliteCell Of(long whole) => new(SqliteNative.Integer, whole, whole, default);

    public static SqliteCell Of(double real) => new(SqliteNative.Float, 0, real, default);

    public string Shown => Kind switch
    {
        SqliteNative.Integer => Whole.ToString(CultureInfo.InvariantCulture),
        SqliteNative.Float => Real.ToString("R", CultureInfo.InvariantCulture),
        SqliteNative.Text when Utf8.IsValid(Bytes) => Encoding.UTF8.GetString(Bytes),
        _ => "0x" + Convert.ToHexString(Bytes[..Math.Min(32, Bytes.Length)]),
    };
}

/// <summary>Puts cells into the vectors of a batch.</summary>
/// <param name="scaled">Of each column, whether its cells hold units of 10^-scale and not the number itself.</param>
/// <param name="decoder">Where texts are not in UTF-8.</param>
internal sealed class SqliteCells(bool[] scaled, TextDecoder? decoder)
{
    /// <summary>Whether a column's whole numbers are units of 10^-scale.</summary>
    public bool IsScaled(int column) => scaled[column];

    /// <summary>Whether texts are taken as they are.</summary>
    public bool AreTextsUtf8 => decoder is null;

    public void Append(RecordBatch batch, int row, int column, in SqliteCell cell)
    {
        Vector vector = batch.Vectors[column];
        if (cell.Kind == SqliteNative.Null)
        {
            vector.AppendNull();
            return;
        }
        FaultCode? fault = vector switch
        {
            LongVector longs => ReadLong(longs, cell),
            BytesVector bytes => ReadBytes(bytes, cell),
            WideVector wides => ReadWide(wides, scaled[column], cell),
            _ => ReadDouble((DoubleVector)vector, cell),
        };
        if (fault is null) return;
        vector.AppendNull();
        string reason = fault == FaultCode.NotText ? "the bytes are not text in the declared code page"
            : $"the column is {vector.Type}, but the store holds {KindName(cell.Kind)} here";
        batch.Faults.Add(new RowFault(row, fault.Value, batch.Columns[column].Name, cell.Shown, reason));
    }

    private static FaultCode? ReadLong(LongVector vector, in SqliteCell cell)
    {
        FieldKind kind = vector.Type.Kind;
        if (cell.Kind == SqliteNative.Integer)
        {
            if (kind == FieldKind.Boolean && cell.Whole is not (0 or 1)) return FaultCode.NotABoolean;
            if (kind is not (FieldKind.Integer or FieldKind.Boolean)) return FaultCode.WrongKind;
            vector.Append(cell.Whole);
            return null;
        }
        if (cell.Kind != SqliteNative.Text) return FaultCode.WrongKind;
        long read = 0;
        bool understood = kind switch
        {
            FieldKind.Date => ValueText.TryDate(cell.Bytes, out read),
            FieldKind.Time => ValueText.TryTime(cell.Bytes, out read),
            FieldKind.Timestamp => ValueText.TryTimestamp(cell.Bytes, out read),
            _ => false,
        };
        if (!understood) return FaultCode.WrongKind;
        vector.Append(read);
        return null;
    }

    private FaultCode? ReadAny(BytesVector vector, in SqliteCell cell)
    {
        switch (cell.Kind)
        {
            case SqliteNative.Integer: AnyValue.Append(vector, cell.Whole); return null;
            case SqliteNative.Float: AnyValue.Append(vector, cell.Real); return null;
            case SqliteNative.Blob: AnyValue.Append(vector, AnyValue.Blob, cell.Bytes); return null;
        }
        ReadOnlySpan<byte> text = cell.Bytes;
        if (decoder is not null)
        {
            var decoded = new BytesVector(FieldType.Text);
            if (!decoder.TryAppend(text, decoded)) return FaultCode.NotText;
            text = decoded[0];
        }
        else if (!Utf8.IsValid(text)) return FaultCode.NotText;
        AnyValue.Append(vector, AnyValue.Text, text);
        return null;
    }

    private FaultCode? ReadBytes(BytesVector vector, in SqliteCell cell)
    {
        if (vector.Type.Kind == FieldKind.Any) return ReadAny(vector, cell);
        if (vector.Type.Kind == FieldKind.Binary)
        {
            if (cell.Kind is not (SqliteNative.Blob or SqliteNative.Text)) return FaultCode.WrongKind;
            vector.Append(cell.Bytes);
            return null;
        }
        if (cell.Kind == SqliteNative.Integer)
        {
            vector.Append(Encoding.ASCII.GetBytes(cell.Whole.ToString(CultureInfo.InvariantCulture)));
            return null;
        }
        if (cell.Kind != SqliteNative.Text) return FaultCode.WrongKind;
        if (decoder is not null) return decoder.TryAppend(cell.Bytes, vector) ? null : FaultCode.NotText;
        if (!Utf8.IsValid(cell.Bytes)) return FaultCode.NotText;
        vector.Append(cell.Bytes);
        return null;
    }

    private static FaultCode? ReadWide(WideVector vector, bool isScaled, in SqliteCell cell)
    {
        FieldType type = vector.Type;
        if (type.Kind == FieldKind.Uuid)
        {
            if (cell.Kind != SqliteNative.Text || !ValueText.TryUuid(cell.Bytes, out Int128 uuid)) return FaultCode.WrongKind;
            vector.Append(uuid);
            return null;
        }
        Int128 units;
        FaultCode? fault;
        switch (cell.Kind)
        {
            case SqliteNative.Integer:
                fault = DecimalText.TryRescale(cell.Whole, isScaled ? type.Scale : 0, type.Scale, type.Precision, out units);
                break;
            case SqliteNative.Text:
                fault = DecimalText.TryParse(cell.Bytes, type.Precision, type.Scale, out units);
                break;
            case SqliteNative.Float:
                fault = RealAmount.TryDecimal(cell.Real, type.Precision, type.Scale, out units);
                break;
            default: return FaultCode.WrongKind;
        }
        if (fault is null) vector.Append(units);
        return fault;
    }

    private static FaultCode? ReadDouble(DoubleVector vector, in SqliteCell cell)
    {
        if (cell.Kind is not (SqliteNative.Float or SqliteNative.Integer)) return FaultCode.WrongKind;
        vector.Append(cell.Real);
        return null;
    }

    private static string KindName(int kind) => kind switch
    {
        SqliteNative.Integer => "a whole number",
        SqliteNative.Float => "a floating-point number",
        SqliteNative.Text => "a text",
        _ => "binary data",
    };
}
