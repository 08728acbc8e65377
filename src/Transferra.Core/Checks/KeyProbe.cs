// KeyProbe.cs: records that share a key: exact copies, or records that differ. And records that are the same in the business.
using Transferra.Core.Kits;

namespace Transferra.Core.Checks;

/// <summary>Finds copies and conflicts of a table's key.</summary>
/// <param name="scan">The table; it has a key that the engine does not keep by itself.</param>
/// <param name="copies">What a further copy is.</param>
/// <param name="conflict">What a record is that shares its key with a different one.</param>
/// <param name="findings">Where they go.</param>
internal sealed class KeyProbe(TableScan scan, FindingHead copies, FindingHead conflict, FindingCollector findings) : Probe
{
    private readonly record struct Item(ulong Key, ulong Record) : IComparable<Item>
    {
        public int CompareTo(Item other) => Key != other.Key ? Key.CompareTo(other.Key) : Record.CompareTo(other.Record);
    }

    private readonly RowDigest _key = new(scan.Ordinals(scan.Table.Key)), _record = new([.. Enumerable.Range(0, scan.Table.Columns.Count)]);
    private readonly SpillSorter<Item> _items = new(null);

    public override void Take()
    {
        for (int row = 0; row < scan.Batch.RowCount; row++) _items.Add(new Item(_key.Of(scan.Batch, row), _record.Of(scan.Batch, row)));
    }

    public override void ReadingEnded() => _items.Park();

    public override IEnumerable<Naming> Judge()
    {
        // Of each key with several records: whether they differ.
        foreach (Dictionary<ulong, bool> shared in Portions.Of(Shared()))
        {
            var seen = new HashSet<ulong>();
            yield return new Naming(scan, () => Name(shared, seen));
        }
    }

    /// <summary>The digests of keys that several records have, each with whether the records differ.</summary>
    public IEnumerable<KeyValuePair<ulong, bool>> Shared()
    {
        Item last = default;
        int count = 0;
        bool differ = false;
        foreach (Item item in _items.Sorted())
        {
            if (count > 0 && item.Key == last.Key)
            {
                differ |= item.Record != last.Record;
                count++;
            }
            else
            {
                if (count > 1) yield return new(last.Key, differ);
                (count, differ) = (1, false);
            }
            last = item;
        }
        if (count > 1) yield return new(last.Key, differ);
    }

    private bool Name(Dictionary<ulong, bool> shared, HashSet<ulong> seen)
    {
        var further = new List<int>();
        for (int row = 0; row < scan.Batch.RowCount; row++)
        {
            ulong key = _key.Of(scan.Batch, row);
            if (!shared.TryGetValue(key, out bool differ)) continue;
            if (differ) findings.Add(conflict, scan.NameOf(row));
            else if (!seen.Add(key))
            {
                findings.Add(copies, scan.NameOf(row));
                further.Add(row);
            }
        }
        if (further.Count > 0)
            foreach (Probe probe in scan.Probes) probe.TakeBack(further.ToArray());
        return true;
    }

    protected override void GiveUp() => _items.Dispose();
}

/// <summary>Finds records with the same values in columns that should tell them apart. Records without a value in one of them are passed over.</summary>
internal sealed class BusinessKeyProbe(TableScan scan, BusinessKey key, FindingHead head, FindingCollector findings) : Probe
{
    private readonly record struct Item(ulong Key, int Count) : IComparable<Item>
    {
        public int CompareTo(Item other) => Key.CompareTo(other.Key);
    }

    private readonly int[] _ordinals = scan.Ordinals(key.Columns);
    private readonly RowDigest _digest = new(scan.Ordinals(key.Columns));
    private readonly SpillSorter<Item> _items = new((a, b) => a with { Count = a.Count + b.Count });

    public override void Take()
    {
        for (int row = 0; row < scan.Batch.RowCount; row++) Add(row, 1);
    }

    public override void TakeBack(ReadOnlySpan<int> rows)
    {
        foreach (int row in rows) Add(row, -1);
    }

    private void Add(int row, int count)
    {
        if (_digest.IsWhole(scan.Batch, row)) _items.Add(new Item(_digest.Of(scan.Batch, row), count));
    }

    public override void ReadingEnded() => _items.Park();

    public override IEnumerable<Naming> Judge()
    {
        foreach (HashSet<ulong> shared in Portions.Of(_items.Sorted().Where(item => item.Count > 1).Select(item => item.Key)))
            yield return new Naming(scan, () =>
            {
                for (int row = 0; row < scan.Batch.RowCount; row++)
                    if (_digest.IsWhole(scan.Batch, row) && shared.Contains(_digest.Of(scan.Batch, row))) findings.Add(head, scan.NameOf(row), scan.Show(row, _ordinals));
                return true;
            });
    }

    protected override void GiveUp() => _items.Dispose();
}
