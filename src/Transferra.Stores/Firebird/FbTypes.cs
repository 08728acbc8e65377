// FbTypes.cs: Firebird's types and ours; the table stands in docs/types.md.
// Source of the numbers: the documentation of the system tables RDB$FIELDS and RDB$CHARACTER_SETS.
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

/// <summary>A column as the system tables have it.</summary>
/// <param name="Name">As it is spelt.</param>
/// <param name="Type">RDB$FIELD_TYPE.</param>
/// <param name="SubType">RDB$FIELD_SUB_TYPE.</param>
/// <param name="Precision">Digits.</param>
/// <param name="Scale">Digits behind the point, 0 or more.</param>
/// <param name="Bytes">Most bytes of a text.</param>
/// <param name="Characters">Most characters of a text; 0 for other types.</param>
/// <param name="CharacterSet">Number of its character set.</param>
/// <param name="Required">Whether null is not allowed.</param>
/// <param name="Default">DEFAULT clause's value; null when none.</param>
/// <param name="IsNumbered">Whether it is an identity column.</param>
internal sealed record FbColumn(string Name, int Type, int SubType, int Precision, int Scale, int Bytes, int Characters, int CharacterSet,
    bool Required,
    string? Default, bool IsNumbered)
{
    public bool IsExactNumber => Type is FbTypes.Short or FbTypes.Long or FbTypes.Int64 or FbTypes.Int128;

    public bool IsOctets => CharacterSet == FbTypes.Octets && IsString;

    public bool IsString => Type is FbTypes.Char or FbTypes.Varchar;

    public bool IsText => (IsString && !IsOctets) || (Type == FbTypes.Blob && SubType == 1);
}

internal static class FbTypes
{
    public const int Short = 7, Long = 8, Float = 10, Date = 12, Time = 13, Char = 14, Int64 = 16, Boolean = 23, Int128 = 26, Double = 27,
        Timestamp = 35, Varchar = 37, Blob = 261;
    public const int None = 0, Octets = 1, Ascii = 2, UnicodeFss = 3, Utf8 = 4;

    /// <summary>Digits of an integer of 64 bits.</summary>
    public const int WholePrecision = 19;

    private const int UuidBytes = 16, LongestVarchar = 8191, RowBytes = 60_000, KeyTextLength = 255;

    /// <summary>The code page of a character set by number, as TextEncodings names it; null for UTF-8 and those that are none of
    /// ours.</summary>
    public static string? CodePageOf(int characterSet) => characterSet switch
    {
        10 => "ibm437",
        11 => "ibm850",
        45 => "ibm852",
        48 => "ibm866",
        51 => "windows-1250",
        52 => "windows-1251",
        53 => "windows-1252",
        54 => "windows-1253",
        55 => "windows-1254",
        21 => "iso-8859-1",
        60 => "windows-1257",
        _ => null,
    };

    public static FieldType Of(FbColumn column) => column switch
    {
        { IsExactNumber: true, Scale: 0, SubType: 0, Type: not Int128 } => FieldType.Integer,
        { IsExactNumber: true } => FieldType.Decimal(Digits(column), column.Scale),
        // In dialect 1 the engine keeps NUMERIC of more than 9 digits as a double; its scale tells that it is meant as a decimal.
        { Type: Double, Scale: > 0 } => FieldType.Decimal(15, column.Scale),
        { Type: Float or Double } => new FieldType(FieldKind.Double),
        { Type: Date } => FieldType.Date,
        { Type: Time } => new FieldType(FieldKind.Time),
        { Type: Timestamp } => new FieldType(FieldKind.Timestamp),
        { Type: Boolean } => FieldType.Boolean,
        { IsOctets: true, Type: Char, Bytes: UuidBytes } => new FieldType(FieldKind.Uuid),
        { IsOctets: true } => new FieldType(FieldKind.Binary),
        { IsString: true, Characters: > 0 } => new FieldType(FieldKind.Text, Length: column.Characters),
        { Type: Blob, SubType: not 1 } => new FieldType(FieldKind.Binary),
        _ => FieldType.Text,
    };

    // Declared with fewer digits than the column can hold, a number may still have them all.
    private static int Digits(FbColumn column) => Math.Max(column.Scale, column.Type switch
    {
        Short => 5,
        Long => 10,
        Int64 => 19,
        _ => FieldType.MaxPrecision
    });

    /// <summary>How the columns of a table are declared, and which of them are kept as BLOBs.</summary>
    /// <param name="table">The table.</param>
    /// <param name="hasInt128">Whether the server has decimals of 38 digits (version 4).</param>
    public static IReadOnlyList<string> Declare(TableShape table, bool hasInt128)
    {
        bool[] outside = Outside(table);
        return [.. table.Columns.Select((column, i) => Declare(column.Type, outside[i], hasInt128))];
    }

    private static bool[] Outside(TableShape table) => WideRows.Outside(table, LongestVarchar, RowBytes, fixedBytes: 44, outsideBytes: 8);

    /// <summary>Finds rows that the engine would refuse, cut or change.</summary>
    public static void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects)
    {
        ReadOnlySpan<int> held = Specials.Hold(outputs, rows, rejects, "Firebird");
        KeyTexts.Judge(outputs, held, rejects, KeyTextLength, Outside);
        foreach (int row in held)
            foreach (TableOutput output in outputs)
                if (FbInsert.Unfit(output, row) is { } unfit) rejects.Add(new RowReject(row, FaultCode.NeedsRounding, unfit));
    }

    private static string Declare(FieldType type, bool blob, bool hasInt128) => type.Kind switch
    {
        FieldKind.Integer => "BIGINT",
        FieldKind.Decimal when type.Precision <= 18 || hasInt128 => FormattableString.Invariant($"NUMERIC({type.Precision},{type.Scale})"),
        // As which its own NUMERIC(18) is read: an integer of 64 bits, which holds most numbers of 19 digits.
        FieldKind.Decimal when type.Precision == WholePrecision => FormattableString.Invariant($"NUMERIC(18,{type.Scale})"),
        FieldKind.Decimal => "VARCHAR(41) CHARACTER SET ASCII", // 38 digits, sign, point and the zero before it
        FieldKind.Date => "DATE",
        FieldKind.Time => "TIME",
        FieldKind.Timestamp => "TIMESTAMP",
        FieldKind.Text when blob => "BLOB SUB_TYPE TEXT CHARACTER SET UTF8",
        FieldKind.Text => FormattableString.Invariant($"VARCHAR({(type.Length == 0 ? KeyTextLength : type.Length)}) CHARACTER SET UTF8"),
        FieldKind.Boolean => "BOOLEAN",
        FieldKind.Binary => "BLOB SUB_TYPE BINARY",
        FieldKind.Uuid => "CHAR(16) CHARACTER SET OCTETS",
        _ => "DOUBLE PRECISION",
    };
}
