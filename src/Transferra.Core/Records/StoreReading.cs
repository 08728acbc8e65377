// StoreReading.cs: reads a table of a store batch by batch, for those who look at every record once.
namespace Transferra.Core.Records;

/// <summary>Reads whole tables.</summary>
public static class StoreReading
{
    /// <summary>The records of a table, a batch at a time; none that is empty.</summary>
    /// <param name="store">The store.</param>
    /// <param name="table">Which columns to read and as which types.</param>
    /// <param name="orderBy">Column names; none: the store's own order.</param>
    /// <param name="cancel">Stops between two batches.</param>
    /// <param name="into">The batch that is filled again and again; null for one of the usual size.</param>
    /// <param name="within">Only the records of this range; null for all.</param>
    /// <returns>Always the same batch, valid until the next one is asked for.</returns>
    public static IEnumerable<RecordBatch> Batches(this IStore store, TableShape table, IReadOnlyList<string> orderBy,
        CancellationToken cancel,
        RecordBatch? into = null, KeyRange? within = null)
    {
        RecordBatch batch = into ?? new RecordBatch(table.Columns);
        using IRecordReader reader = store.Read(table, orderBy, within);
        for (bool more = true; more;)
        {
            cancel.ThrowIfCancellationRequested();
            batch.Reset();
            more = reader.Fill(batch);
            if (batch.RowCount > 0) yield return batch;
        }
    }

    /// <summary>The records of a table as <see cref="Batches"/> gives them, read in one thread while another works on those before; the
    /// store is not to be used meanwhile.</summary>
    /// <param name="store">The store.</param>
    /// <param name="table">Which columns to read and as which types.</param>
    /// <param name="into">The batch that is filled again and again; its vectors change, their array stays.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public static IEnumerable<RecordBatch> BatchesAhead(this IStore store, TableShape table, RecordBatch into, CancellationToken cancel)
    {
        using IRecordReader reader = store.Read(table, []);
        using var ahead = new ReadAhead(reader.Fill, table.Columns, into.Limits, cancel);
        while (ahead.Next(into)) yield return into;
    }
}
