// MariaTypes.cs: MariaDB's types and ours; the table stands in docs/types.md.
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

/// <summary>A column as information_schema has it.</summary>
/// <param name="Name">As it is spelt.</param>
/// <param name="Type">The bare type's name, lower case.</param>
/// <param name="IsUnsigned">Of numbers.</param>
/// <param name="Precision">Digits of a decimal, bits of a bit field.</param>
/// <param name="Scale">Of a decimal.</param>
/// <param name="Characters">Most characters of a text, most bytes of a binary; 0 for other types.</param>
/// <param name="Required">Whether null is not allowed.</param>
/// <param name="Default">As the catalog writes it; null when none.</param>
/// <param name="IsNumbered">AUTO_INCREMENT.</param>
internal sealed record MariaColumn(string Name, string Type, bool IsUnsigned, int Precision, int Scale, long Characters, bool Required,
    string? Default, bool IsNumbered)
{
    public bool IsWhole => Type is "tinyint" or "smallint" or "mediumint" or "int" or "bigint" or "year";

    public bool IsText => Type is "char" or "varchar" or "tinytext" or "text" or "mediumtext" or "longtext" or "enum" or "set"
        or "json" or "inet4" or "inet6";

    public bool IsBinary => Type is "binary" or "varbinary" or "tinyblob" or "blob" or "mediumblob" or "longblob" || IsGeometry;

    private bool IsGeometry => Type is "geometry" or "point" or "linestring" or "polygon" or "multipoint" or "multilinestring"
        or "multipolygon" or "geometrycollection";
}

internal static class MariaTypes
{
    // Longer texts are declared without a limit: a row's declared texts may not exceed 65,535 bytes together, four a character.
    private const int LongestVarchar = 1000, RowBytes = 60_000, KeyTextLength = 255;

    public static FieldType Of(MariaColumn column) => column switch
    {
        { Type: "bigint", IsUnsigned: true } => FieldType.Decimal(20, 0),
        { IsWhole: true } => FieldType.Integer,
        { Type: "bit" } => column.Precision < 64 ? FieldType.Integer : FieldType.Decimal(20, 0),
        { Type: "decimal" } when column.Precision is > 0 and <= FieldType.MaxPrecision => FieldType.Decimal(column.Precision, column.Scale),
        { Type: "float" or "double" } => new FieldType(FieldKind.Double),
        { Type: "date" } => FieldType.Date,
        { Type: "time" } => new FieldType(FieldKind.Time),
        { Type: "datetime" or "timestamp" } => new FieldType(FieldKind.Timestamp),
        { Type: "uuid" } => new FieldType(FieldKind.Uuid),
        { Type: "char" or "varchar" } when column.Characters is > 0 and <= int.MaxValue => new FieldType(FieldKind.Text,
            Length: (int)column.Characters),
        { IsBinary: true } => new FieldType(FieldKind.Binary),
        _ => FieldType.Text,
    };

    /// <summary>How the columns of a table are declared.</summary>
    public static IReadOnlyList<string> Declare(TableShape table)
    {
        bool[] outside = Outside(table);
        return [.. table.Columns.Select((column, i) => Declare(column.Type, outside[i]))];
    }

    private static bool[] Outside(TableShape table) => WideRows.Outside(table, LongestVarchar, RowBytes, fixedBytes: 20, outsideBytes: 12);

    /// <summary>Finds rows that the server would refuse, cut or change.</summary>
    public static void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects) =>
        KeyTexts.Judge(outputs, Specials.Hold(outputs, rows, rejects, "MariaDB"), rejects, KeyTextLength, Outside);

    private static string Declare(FieldType type, bool unlimited) => type.Kind switch
    {
        FieldKind.Integer => "bigint",
        FieldKind.Decimal => FormattableString.Invariant($"decimal({type.Precision},{type.Scale})"),
        FieldKind.Date => "date",
        FieldKind.Time => "time(6)",
        FieldKind.Timestamp => "datetime(6)",
        FieldKind.Text when unlimited => "longtext",
        FieldKind.Text => FormattableString.Invariant($"varchar({(type.Length == 0 ? KeyTextLength : type.Length)})"),
        FieldKind.Boolean => "boolean",
        FieldKind.Binary => "longblob",
        FieldKind.Uuid => "char(36) CHARACTER SET ascii", // the server's own type takes only identifiers of some variants
        _ => "double",
    };
}
