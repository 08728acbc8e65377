// NamingPasses.cs: reads tables again for probes that want to see records once more.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

internal static class NamingPasses
{
    /// <summary>Asks each probe for what it wants to see again, and reads each table once for all that ask, until none does any
    /// more.</summary>
    public static void Run(IStore store, IEnumerable<Probe> probes, IProgressObserver observer, CancellationToken cancel)
    {
        List<IEnumerator<Naming>> asking = [.. probes.Select(probe => probe.Judge().GetEnumerator())];
        while (asking.Count > 0)
        {
            asking.RemoveAll(asks => !asks.MoveNext());
            foreach (IGrouping<TableScan, Naming> wanted in asking.Select(asks => asks.Current).GroupBy(naming => naming.Scan))
                Read(store, wanted.Key, [.. wanted], observer, cancel);
        }
    }

    private static void Read(IStore store, TableScan scan, List<Naming> namings, IProgressObserver observer, CancellationToken cancel)
    {
        long rows = 0, total = store.AboutRows(scan.Table.Name);
        using IRecordReader reader = store.Read(scan.Table, []);
        using var ahead = new ReadAhead(reader.Fill, scan.Table.Columns, null, cancel);
        while (namings.Count > 0 && ahead.Next(scan.Batch))
        {
            namings.RemoveAll(naming => !naming.Take());
            observer.Progress($"{scan.Table.Name}, naming what was found", rows += scan.Batch.RowCount, total);
        }
    }
}
