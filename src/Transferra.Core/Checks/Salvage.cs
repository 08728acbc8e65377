// Salvage.cs: writes what can still be read of a damaged store to a new one, and lists what cannot.
// Holds: (1) the damaged store is only read; (2) each of its records is in the new store, or among what is lost; (3) a value that cannot
// be read
//        is missing in the new store, and listed.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>What was salvaged.</summary>
/// <param name="Tables">Records written, by table.</param>
/// <param name="Lost">What cannot be read.</param>
/// <param name="ValuesLost">Values that cannot be read, in records that can.</param>
/// <param name="Refused">Records that the new store would not take.</param>
public sealed record SalvageResult(IReadOnlyDictionary<string, long> Tables, IReadOnlyList<LostPart> Lost, long ValuesLost, long Refused);

/// <summary>Salvages stores.</summary>
public static class Salvage
{
    /// <summary>Writes what can be read.</summary>
    /// <param name="damaged">The damaged store.</param>
    /// <param name="into">The new store, empty; completed when this returns.</param>
    /// <param name="lists">Receives values lost and records refused, as lines of table, record, column, value, reason.</param>
    /// <param name="hidden">Says whether values of a table's column are private.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public static SalvageResult Run(IStore damaged, IStoreBuilder into, Action<IReadOnlyList<string>> lists, Func<string, string,
        bool> hidden,
        IProgressObserver observer, CancellationToken cancel)
    {
        var tables = new Dictionary<string, long>();
        var lost = new List<LostPart>();
        long valuesLost = 0, refused = 0;
        // Keys and relations may not hold any more in what is left, so the new store has none.
        TableShape[] shapes = [.. damaged.ReadShape().Select(shape =>
            new TableShape(shape.Name, [.. shape.Columns.Select(column =>
            column with { Required = false, Default = null, IsPrivate = hidden(shape.Name, column.Name) })], [], []))];
        foreach (TableShape shape in shapes) into.CreateTable(shape);
        foreach (TableShape shape in shapes)
        {
            var batch = new RecordBatch(shape.Columns);
            var output = new TableOutput[] { new(shape, batch.Vectors) };
            var rejects = new List<RowReject>();
            int[] rows = [];
            long read = 0, written = 0;
            try
            {
                using IRecordReader reader = damaged.ReadWhatCanBe(shape, lost);
                for (bool more = true; more;)
                {
                    cancel.ThrowIfCancellationRequested();
                    batch.Reset();
                    more = reader.Fill(batch);
                    if (rows.Length < batch.RowCount) rows = [.. Enumerable.Range(0, batch.RowCount)];
                    foreach (RowFault fault in batch.Faults)
                        lists([shape.Name, FormattableString.Invariant($"{read + fault.Row + 1}"), fault.Column,
                            hidden(shape.Name, fault.Column)
                            ? TableShape.Private : fault.Value, fault.Reason]);
                    valuesLost += batch.Faults.Count;
                    rejects.Clear();
                    into.Write(output, rows.AsSpan(0, batch.RowCount), rejects);
                    foreach (RowReject reject in rejects) lists([shape.Name, FormattableString.Invariant($"{read + reject.Row + 1}"), "",
                        "", reject.Reason]);
                    refused += rejects.Count;
                    written += batch.RowCount - rejects.Count;
                    read += batch.RowCount;
                    observer.Progress(shape.Name, read, 0);
                }
            }
            catch (TransferraException error)
            {
                lost.Add(new LostPart(shape.Name, FormattableString.Invariant($"everything after record {read}"), error.Message));
            }
            tables[shape.Name] = written;
        }
        into.Complete(damaged.Identity.HeaderFields.Where(field => field.Key is "user_version" or "application_id").ToDictionary());
        return new SalvageResult(tables, lost, valuesLost, refused);
    }
}
