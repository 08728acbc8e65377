// TableReading.cs: one table of a store, read as it is into a fingerprint by bucket: when two stores are matched, and again weeks later,
// when only what was recorded of the first reading is left.
// Holds: (1) two readings of the same records come to the same fingerprint, whatever was recorded in between.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Reads a table.</summary>
/// <param name="table">What is read, under the name it has in its store.</param>
/// <param name="isKept">Whether cells that cannot be read count as what they are. Otherwise they count as missing values, and their buckets
/// are told.</param>
internal sealed class TableReading(TableShape table, bool isKept)
{
    private readonly KeyNumber _number = new(table);

    /// <summary>Buckets, of <see cref="BucketedFingerprint.MostBuckets"/>, with a cell that cannot be read.</summary>
    public HashSet<int> Unreadable { get; } = [];

    /// <summary>The highest number that the key of a record began with; null when none does, it is private, or none was read.</summary>
    public long? Last => _number.Last;

    /// <summary>Takes note of all records; null when nobody wants to know.</summary>
    public LastNumbers? Noting { get; init; }

    /// <summary>How many records were left aside as their number is beyond a border.</summary>
    public long Beyond { get; private set; }

    /// <summary>Reads all records, and adds them.</summary>
    /// <param name="into">Where they are added.</param>
    /// <param name="store">The store.</param>
    /// <param name="border">Records beyond this number are counted, and not added; null when there is none.</param>
    /// <param name="observer">Hears how many were read.</param>
    /// <param name="stop">Stops.</param>
    public void Into(BucketedFingerprint into, IStore store, long? border, IProgressObserver? observer, CancellationToken stop)
    {
        long all = observer is null ? 0 : store.AboutRows(table.Name), read = 0;
        using IRecordReader reader = store.Read(table, []);
        Into(into, reader, border, rows => observer?.Progress(table.Name, read += rows, Math.Max(read, all)), stop);
    }

    /// <summary>Adds the records that a reader of this table delivers.</summary>
    /// <param name="into">Where they are added.</param>
    /// <param name="reader">Of the table.</param>
    /// <param name="border">Records beyond this number are counted, and not added; null when there is none.</param>
    /// <param name="done">Hears how many more were read.</param>
    /// <param name="stop">Stops.</param>
    public void Into(BucketedFingerprint into, IRecordReader reader, long? border, Action<int> done, CancellationToken stop)
    {
        var batch = new RecordBatch(table.Columns);
        var encoder = new RowEncoder(table, batch.Vectors);
        var digests = new RowDigests(table, batch.Vectors);
        int[] within = [];
        for (bool more = true; more;)
        {
            stop.ThrowIfCancellationRequested();
            batch.Reset();
            more = reader.Fill(batch);
            if (batch.RowCount == 0) continue;
            if (within.Length < batch.RowCount) within = new int[batch.RowCount];
            ReadOnlySpan<int> rows = border is { } last ? _number.Within(batch, last, within) : Rows.Upto(batch.RowCount);
            Beyond += batch.RowCount - rows.Length;
            if (border is null) _number.Note(batch);
            if (Noting is not null)
                for (int row = 0; row < batch.RowCount; row++) Noting.Add(batch.Vectors, row);
            if (!isKept)
                foreach (RowFault fault in batch.Faults) Unreadable.Add(BucketedFingerprint.BucketOf(encoder.Key(fault.Row)));
            if (isKept && batch.Faults.Count > 0) AddWithFaults(into, encoder, batch, rows);
            else digests.Add(into, rows);
            done(batch.RowCount);
        }
    }

    private static void AddWithFaults(BucketedFingerprint fingerprint, RowEncoder encoder, RecordBatch batch, ReadOnlySpan<int> rows)
    {
        ILookup<int, RowFault> faults = batch.Faults.ToLookup(fault => fault.Row);
        foreach (int row in rows)
        {
            string told = string.Concat(faults[row].Select(fault => $"\0{fault.Column}\0{fault.Value}\0{fault.Reason}"));
            byte[] key = encoder.Key(row).ToArray();
            fingerprint.Add(key, [.. encoder.Row(row), .. System.Text.Encoding.UTF8.GetBytes(told)]);
        }
    }
}
