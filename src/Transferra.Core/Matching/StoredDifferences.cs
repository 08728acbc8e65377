// StoredDifferences.cs: those records of a table, of both stores, whose stored bytes may differ; the others are passed over by their
// numbers.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Reads the records that may differ.</summary>
/// <param name="old">The table in the old store.</param>
/// <param name="was">What is read of it.</param>
/// <param name="renewed">The table in the new store.</param>
/// <param name="now">What is read of it.</param>
/// <param name="which">Which records, by their numbers.</param>
/// <param name="common">The last numbers of all other records; null when nobody wants to know.</param>
/// <param name="stop">Stops.</param>
internal sealed class StoredDifferences(IStoredTable old, TableShape was, IStoredTable renewed, TableShape now, Predicate<long> which,
    LastNumbers? common, CancellationToken stop)
{
    /// <summary>What they come to in each store, and the highest number of the new one.</summary>
    /// <returns>Null when one of them gave up.</returns>
    public (BucketedFingerprint Gone, BucketedFingerprint Come, long? Last)? Read()
    {
        using IPartReader gone = old.Part(0, 1, which), come = renewed.Part(0, 1, which);
        ((BucketedFingerprint Records, long?) one, (BucketedFingerprint Records, long? Last) other) =
            Together.Do(() => Read(was, gone), () => Read(now, come));
        return gone.HasGivenUp || come.HasGivenUp ? null : (one.Records, other.Records, other.Last);
    }

    private (BucketedFingerprint Records, long? Last) Read(TableShape shape, IPartReader reader)
    {
        var records = new BucketedFingerprint();
        var reading = new TableReading(shape, isKept: true);
        reading.Into(records, reader, border: null, _ => { }, stop);
        return (records, reading.Last);
    }

    /// <summary>Those of the old store.</summary>
    /// <param name="last">Takes note of all old records, those that do not differ included.</param>
    public IEnumerable<PickedRows> Old(LastNumbers last)
    {
        if (common is not null) last.Add(common);
        return Picked(old, was, last);
    }

    /// <summary>Those of the new store.</summary>
    public IEnumerable<PickedRows> New() => Picked(renewed, now, null);

    private IEnumerable<PickedRows> Picked(IStoredTable table, TableShape shape, LastNumbers? noting)
    {
        using IPartReader reader = table.Part(0, 1, which);
        var batch = new RecordBatch(shape.Columns);
        for (bool more = true; more;)
        {
            stop.ThrowIfCancellationRequested();
            batch.Reset();
            more = reader.Fill(batch);
            if (reader.HasGivenUp)
                throw new TransferraException($"the table {shape.Name} cannot be read any more as it was a moment ago",
                    "Somebody changed the store, or its disk fails. Run transferra check, then match again.");
            if (noting is not null)
                for (int row = 0; row < batch.RowCount; row++) noting.Add(batch.Vectors, row);
            if (batch.RowCount > 0) yield return new PickedRows(batch.Vectors, Enumerable.Range(0, batch.RowCount), batch.Faults);
        }
    }
}
