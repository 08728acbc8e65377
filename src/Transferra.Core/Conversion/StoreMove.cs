// StoreMove.cs: makes a store again on another server of its engine, as it is: by the engine's own statements for all that it has, and the
// records as the engine writes them out.
// Holds: (1) every record that was read is there, or it fails; (2) what cannot be made there, such as rights of somebody who is not known,
// is named.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

internal static class StoreMove
{
    /// <summary>Makes it again.</summary>
    /// <param name="source">The store.</param>
    /// <param name="stores">Makes stores.</param>
    /// <param name="target">Where; a name that is free.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    /// <returns>What could not be made there, one line each.</returns>
    public static IReadOnlyList<string> Run(IStore source, IStoreOpener stores, StoreAddress target, IProgressObserver observer,
        CancellationToken cancel)
    {
        string scratch = Directory.CreateTempSubdirectory(StoreAddress.RunPrefix).FullName;
        try
        {
            StoreScript script = source.ReadScript(scratch) ?? throw new TransferraException(
                $"the store cannot be made again as it is: {string.Join("; ", source.NotCarried())}",
                "Come to it as its owner or as an administrator; or say \"beginning: empty\" in the hop.");
            using IStoreBuilder builder = stores.Rebuild(target, script, scratch);
            var rejects = new List<RowReject>();
            int[] all = [];
            foreach (TableShape table in source.ReadShape().Select(WrittenOut.Of))
            {
                builder.CreateTable(table);
                long total = source.CountRows(table.Name), rows = 0;
                foreach (RecordBatch batch in source.Batches(table, [], cancel))
                {
                    if (batch.Faults is [var fault, ..]) throw Unmoved(table.Name, $"{fault.Column}: {fault.Reason}");
                    if (all.Length < batch.RowCount) all = [.. Enumerable.Range(0, batch.RowCount)];
                    builder.Write([new TableOutput(table, batch.Vectors)], all.AsSpan(0, batch.RowCount), rejects);
                    if (rejects is [var reject, ..]) throw Unmoved(table.Name, reject.Reason);
                    observer.Progress(table.Name, rows += batch.RowCount, total);
                }
                if (rows != total) throw Unmoved(table.Name, FormattableString.Invariant($"{total} are counted, and {rows} were read"));
            }
            builder.Complete(new Dictionary<string, string>());
            // Of MariaDB they belong to the name that the store is to have in the end.
            IEnumerable<string> rights = target.Engine == "mariadb" ? script.Rights.Select(right =>
                $"the right that this gives, when the new store is in its place: {right}") : [];
            return [.. source.NotCarried(), .. builder.Remarks, .. rights];
        }
        finally
        {
            Directory.Delete(scratch, recursive: true);
        }
    }

    private static TransferraException Unmoved(string table, string why) => new(
        $"records of {table} cannot be brought to the other server: {why}", "Nothing was changed. Look into the old server's log, and "
            + "that nobody works with the store.");
}
