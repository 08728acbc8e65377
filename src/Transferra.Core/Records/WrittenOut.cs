// WrittenOut.cs: how values are read that only the engine they come from is to take back: as it writes them out, whatever their type.
namespace Transferra.Core.Records;

/// <summary>Shapes of values as their engine writes them out.</summary>
public static class WrittenOut
{
    /// <summary>A table's shape; what is bytes or a double either way stays what it is.</summary>
    public static TableShape Of(TableShape table) =>
        table with { Columns = [.. table.Columns.Select(column => column with { Type = Of(column.Type) })] };

    /// <summary>A type.</summary>
    public static FieldType Of(FieldType type) =>
        type.Kind is FieldKind.Binary or FieldKind.Uuid or FieldKind.Double or FieldKind.Boolean ? type : FieldType.Text;
}
