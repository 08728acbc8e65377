// KeyProbe.cs: records that share a key: exact copies, or records that differ. And records that are the same in the business.
// How: while the table is read only the keys' digests are kept, or the runs that numbers make. Keys that are there more than once are met
// again in a second reading, which tells whether their records differ, and named in a third; a table whose keys are sound is read once.
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Finds copies and conflicts of a table's key.</summary>
/// <param name="scan">The table; it has a key that the engine does not keep by itself.</param>
/// <param name="copies">What a further copy is.</param>
/// <param name="conflict">What a record is that shares its key with a different one.</param>
/// <param name="findings">Where they go.</param>
internal sealed class KeyProbe(TableScan scan, FindingHead copies, FindingHead conflict, FindingCollector findings) : Probe
{
    private readonly KeyDigests _key = new(scan, scan.Ordinals(scan.Table.Key));
    private readonly RowDigest _record = new([.. Enumerable.Range(0, scan.Table.Columns.Count)]);
    private readonly DigestList _keys = new();

    // Of a key that is a whole number, in place of the digests, as long as they are few; null from then on.
    private NumberRuns? _numbers = scan.Table.Key.Count == 1 ? new NumberRuns() : null;
    private readonly HashSet<ulong> _copied = [];

    /// <summary>Whether <see cref="Copied"/> is wanted; it takes memory for each such key.</summary>
    public bool KeepsCopied { get; init; }

    /// <summary>Digests of the keys that have exact copies and nothing else; complete when Judge has been gone through.</summary>
    public IReadOnlySet<ulong> Copied => _copied;

    public override bool GathersOnly => true;

    // Without a value in each column of its key, or with one that cannot be read, a record is not a copy of another; that it has none is
    // told by others.
    private bool HasKey(int row, HashSet<int>? unreadable) => _key.IsWhole(row) && unreadable?.Contains(row) != true;

    private HashSet<int>? Unreadable() => scan.Batch.Faults.Count == 0 ? null
        : [.. scan.Batch.Faults.Where(fault => scan.Table.Key.Contains(fault.Column, StringComparer.OrdinalIgnoreCase))
            .Select(fault => fault.Row)];

    public override void Take()
    {
        HashSet<int>? unreadable = Unreadable();
        if (_numbers is { } numbers && scan.Batch.Vectors[scan.Table.OrdinalOf(scan.Table.Key[0])] is LongVector keys)
        {
            _key.LookForNulls();
            ReadOnlySpan<long> values = keys.Values;
            for (int row = 0; row < values.Length; row++)
                if (HasKey(row, unreadable)) numbers.Add(values[row]);
            if (numbers.AreFew) return;
            foreach (long number in numbers.All()) _keys.Add(Digest.OfWhole(number));
            _numbers = null;
            return;
        }
        _key.Look();
        for (int row = 0; row < scan.Batch.RowCount; row++)
            if (HasKey(row, unreadable)) _keys.Add(_key[row]);
    }

    private IEnumerable<ulong> Repeated() =>
        (_numbers?.Repeated().Select(repeated => Digest.OfWhole(repeated.Number)) ?? [])
            .Concat(_keys.Repeated().Select(repeated => repeated.Digest));

    public override IEnumerable<Naming> Judge()
    {
        foreach (HashSet<ulong> shared in Portions.Of(Repeated()))
        {
            var first = new Dictionary<ulong, ulong>();
            var differ = new HashSet<ulong>();
            yield return new Naming(scan, () => Compare(shared, first, differ));
            if (KeepsCopied) _copied.UnionWith(shared.Where(key => !differ.Contains(key)));
            var seen = new HashSet<ulong>();
            yield return new Naming(scan, () => Name(shared, differ, seen));
        }
    }

    private bool Compare(HashSet<ulong> shared, Dictionary<ulong, ulong> first, HashSet<ulong> differ)
    {
        HashSet<int>? unreadable = Unreadable();
        _key.Look();
        for (int row = 0; row < scan.Batch.RowCount; row++)
        {
            ulong key = _key[row];
            if (!shared.Contains(key) || !HasKey(row, unreadable)) continue;
            ulong record = _record.Of(scan.Batch, row);
            if (!first.TryAdd(key, record) && first[key] != record) differ.Add(key);
        }
        return true;
    }

    private bool Name(HashSet<ulong> shared, HashSet<ulong> differ, HashSet<ulong> seen)
    {
        var further = new List<int>();
        HashSet<int>? unreadable = Unreadable();
        _key.Look();
        for (int row = 0; row < scan.Batch.RowCount; row++)
        {
            ulong key = _key[row];
            if (!shared.Contains(key) || !HasKey(row, unreadable)) continue;
            if (differ.Contains(key)) findings.Add(conflict, scan.NameOf(row));
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

    protected override void GiveUp() => _keys.Dispose();
}

/// <summary>Finds records with the same values in columns that should tell them apart. Records without a value in one of them are passed
/// over.</summary>
internal sealed class BusinessKeyProbe(TableScan scan, BusinessKey key, FindingHead head, FindingCollector findings) : Probe
{
    private readonly int[] _ordinals = scan.Ordinals(key.Columns);
    private readonly KeyDigests _digest = new(scan, scan.Ordinals(key.Columns));
    private readonly RowFilter _which = new(scan, key.Where);
    private readonly DigestList _keys = new();
    private readonly Dictionary<ulong, int> _copies = [];

    private bool Counts(int row) => _which.Counts(row) && _digest.IsWhole(row);

    public override bool GathersOnly => true;

    private void Look()
    {
        _which.Look();
        _digest.Look();
    }

    public override void Take()
    {
        Look();
        for (int row = 0; row < scan.Batch.RowCount; row++)
            if (Counts(row)) _keys.Add(_digest[row]);
    }

    public override void TakeBack(ReadOnlySpan<int> rows)
    {
        Look();
        foreach (int row in rows)
            if (Counts(row)) _copies[_digest[row]] = _copies.GetValueOrDefault(_digest[row]) + 1;
    }

    public override IEnumerable<Naming> Judge()
    {
        foreach (HashSet<ulong> shared in Portions.Of(_keys.Repeated()
            .Where(repeated => repeated.Count - _copies.GetValueOrDefault(repeated.Digest) > 1)
            .Select(repeated => repeated.Digest)))
            yield return new Naming(scan, () =>
            {
                Look();
                for (int row = 0; row < scan.Batch.RowCount; row++)
                    if (Counts(row) && shared.Contains(_digest[row])) findings.Add(head, scan.NameOf(row), scan.Show(row, _ordinals));
                return true;
            });
    }

    protected override void GiveUp() => _keys.Dispose();
}
