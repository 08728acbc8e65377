// Probe.cs: a probe answers one question about a table while it is read once, and may ask to see some records again to name them.
// Why two steps: keys, links and sums are judged by digests when the table has been read; only when something is wrong are the records
// concerned looked for, in a second reading of that table alone. A sound table is read once.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>A table being read, with all who look at it.</summary>
/// <param name="Table">What is read of it.</param>
/// <param name="Batch">Where its rows are, in the first reading and in all later ones.</param>
internal sealed record TableScan(TableShape Table, RecordBatch Batch)
{
    public List<Probe> Probes { get; } = [];

    /// <summary>Digests of the batch's values, for probes that only gather and for what is named later.</summary>
    public ColumnDigests Digests { get; } = new(Batch);

    private const int RowsAtOnce = 8192;

    private readonly int[] _name = KeyOf(Table);

    private readonly int[] _all = [.. Enumerable.Range(0, Table.Columns.Count)];

    /// <summary>A record as it may be shown: its key; all of it when it has none.</summary>
    public string NameOf(int row) => Batch.ShowKey(row, Batch.HasAny(row, _name) ? _name : _all);

    /// <summary>Some of a record's values as they may be shown.</summary>
    public string Show(int row, int[] ordinals) => Batch.ShowKey(row, ordinals);

    /// <summary>The ordinals of columns.</summary>
    public int[] Ordinals(IEnumerable<string> columns) => [.. columns.Select(Table.OrdinalOf)];

    /// <summary>Compiles expressions over the table.</summary>
    public ExpressionCompiler Compiler(IReadOnlyList<LookupShape>? lookups = null) =>
        new(new ExpressionScope(Table.Name, Table.Columns, lookups ?? [], Answers));

    /// <summary>What the office has answered, for expressions.</summary>
    public IReadOnlyDictionary<string, string> Answers { get; init; } = new Dictionary<string, string>();

    /// <summary>How many records it was found to have.</summary>
    public long RowsRead { get; private set; }

    /// <summary>Reads the table once, for all its probes.</summary>
    /// <param name="store">The store.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    /// <param name="map">How it is to be converted; records that are to be combined must come one behind the other, all others may come
    /// as they lie.</param>
    public void ReadOnce(IStore store, IProgressObserver observer, CancellationToken cancel, TableMap? map = null)
    {
        long total = store.AboutRows(Table.Name);
        RowsRead = 0;
        using KeyGroupedReader? grouped = map?.Combining is null ? null : TableTransform.Read(store, map);
        using IRecordReader? plain = grouped is not null ? null : store.Read(Table, []);
        // Threads wait for each other at the end of each batch, so it is a larger one; what is converted for trial has its own size.
        BatchLimits limits = map is null ? BatchLimits.Default with { MaxRows = RowsAtOnce } : Batch.Limits;
        using (var ahead = new ReadAhead(batch => grouped?.Fill(batch) ?? plain!.Fill(batch), Table.Columns, limits, cancel))
        {
            // Those that only gather work beside those that tell; not where records are combined, as the trial of that works on the batch
            // itself.
            Probe[] gathering = [.. Probes.Where(probe => probe.GathersOnly && grouped is null)], telling = [.. Probes.Except(gathering)];
            void gather()
            {
                foreach (Probe probe in gathering) probe.Take();
            }
            for (; ahead.Next(Batch); observer.Progress(Table.Name, RowsRead += Batch.RowCount, total))
            {
                Task beside = gathering.Length > 0 ? Task.Run(gather, CancellationToken.None) : Task.CompletedTask;
                try
                {
                    foreach (Probe probe in telling) probe.Take();
                }
                finally
                {
                    beside.Wait(CancellationToken.None); // nobody may work on a batch that is being filled anew
                }
            }
        }
        foreach (Probe probe in Probes) probe.ReadingEnded();
        Batch.Release();
        Digests.Release();
    }

    private static int[] KeyOf(TableShape table) => table.Key.Count > 0 ? [.. table.Key.Select(table.OrdinalOf)]
        : [.. Enumerable.Range(0, table.Columns.Count)];
}

/// <summary>Looks at the records of a table.</summary>
internal abstract class Probe : IDisposable
{
    /// <summary>Whether Take only gathers and tells no findings, so that it may run beside other probes.</summary>
    public virtual bool GathersOnly => false;

    /// <summary>Looks at the scan's batch.</summary>
    public virtual void Take() { }

    /// <summary>These rows of the scan's batch are further copies of a record and must not count a second time.</summary>
    public virtual void TakeBack(ReadOnlySpan<int> rows) { }

    /// <summary>The table has been read; memory may be given up.</summary>
    public virtual void ReadingEnded() { }

    /// <summary>Judges what was gathered, and asks for the records concerned as far as they must be named: one request after the other,
    /// each of them dealt with before the next is asked for.</summary>
    public virtual IEnumerable<Naming> Judge() => [];

    public void Dispose() => GiveUp();

    /// <summary>Gives up memory and disk.</summary>
    protected virtual void GiveUp() { }
}

/// <summary>A request to see a table's records again.</summary>
/// <param name="Scan">The table.</param>
/// <param name="Take">Looks at the scan's batch; false when it has seen enough.</param>
internal sealed record Naming(TableScan Scan, Func<bool> Take);

/// <summary>Digests that are looked for, in portions that fit in memory.</summary>
internal static class Portions
{
    private static int MaxDigests => (int)MemoryBudget.OfProcess.Suiting(500_000, 50_000, 5_000_000);

    public static IEnumerable<HashSet<ulong>> Of(IEnumerable<ulong> digests) => digests.Chunk(MaxDigests)
        .Select(chunk => chunk.ToHashSet());

    public static IEnumerable<Dictionary<ulong, T>> Of<T>(IEnumerable<KeyValuePair<ulong, T>> digests) => digests.Chunk(MaxDigests)
        .Select(chunk => chunk.ToDictionary());
}
