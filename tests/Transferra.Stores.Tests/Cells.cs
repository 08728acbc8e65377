using Transferra.Core.Records;

namespace Transferra.Stores.Tests;

/// <summary>One column of a table, as it is read.</summary>
internal static class Cells
{
    /// <summary>The values as a person reads them, null where there is none, and what could not be read.</summary>
    public static IReadOnlyList<string?> Of(IStore store, string table, string column, FieldType type, out RowFault[] faults,
        params string[] orderBy)
    {
        var shape = new TableShape(table, [new ColumnShape(column, type)], [], []);
        var found = new List<string?>();
        var all = new List<RowFault>();
        foreach (RecordBatch batch in store.Batches(shape, orderBy, CancellationToken.None))
        {
            for (int row = 0; row < batch.RowCount; row++) found.Add(batch.Vectors[0].IsNull(row) ? null : batch.Vectors[0].Show(row));
            all.AddRange(batch.Faults);
        }
        faults = [.. all];
        return found;
    }
}
