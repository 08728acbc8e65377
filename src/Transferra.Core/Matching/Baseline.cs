// Baseline.cs: what was recorded of the tables of a store before anything was done: counts and fingerprints.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What was recorded of one table before anything was done.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Records">How many.</param>
/// <param name="Unreadable">Cells that are not what their column is declared for; they count as missing values in the fingerprint.</param>
/// <param name="Fingerprint">32 hexadecimal digits.</param>
public sealed record TableBaseline(string Table, long Records, long Unreadable, string Fingerprint);

/// <summary>Takes baselines.</summary>
public static class Baseline
{
    /// <summary>Reads every table of a version and fingerprints it.</summary>
    public static IReadOnlyList<TableBaseline> Of(IStore store, IReadOnlyList<TableShape> tables, Machine.IProgressObserver observer,
        CancellationToken cancel)
    {
        var baselines = new List<TableBaseline>();
        foreach (TableShape table in tables)
        {
            long total = store.AboutRows(table.Name), unreadable = 0;
            Fingerprint sum = default;
            var batch = new RecordBatch(table.Columns);
            var digests = new RowDigests(table, batch.Vectors);
            long rows = 0;
            foreach (RecordBatch _ in store.BatchesAhead(table, batch, cancel))
            {
                sum += digests.Of(Rows.Upto(batch.RowCount));
                unreadable += batch.Faults.Count;
                rows += batch.RowCount;
                observer.Progress(table.Name, rows, total);
            }
            baselines.Add(new TableBaseline(table.Name, sum.Rows, unreadable, sum.ToString()));
        }
        return baselines;
    }
}
