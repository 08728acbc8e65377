// LoadedTable.cs: a table of a new database while it is loaded: what was sent to it, and the proof that it is there.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal class LoadedTable(TableShape shape)
{
    public TableShape Shape { get; } = shape;

    /// <summary>Records that the server took.</summary>
    public long Rows { get; set; }

    /// <exception cref="TransferraException">The server counts otherwise.</exception>
    public void ProveCount(long counted)
    {
        if (counted != Rows)
            throw new TransferraException($"{Rows} records were sent to {Shape.Name} and the server counts {counted}",
                "This is a defect of Transferra or of the server; report it. The old data is untouched.");
    }

    /// <summary>Whether a column belongs to the key.</summary>
    public static bool IsKey(TableShape table, ColumnShape column) => table.Key.Contains(column.Name, StringComparer.OrdinalIgnoreCase);

    /// <summary>Whether the engine counts a column up by itself.</summary>
    public static bool IsNumbered(TableShape table, ColumnShape column) => string.Equals(column.Name, table.NumberedColumn,
        StringComparison.OrdinalIgnoreCase);
}
