// LinkProbe.cs: records that point to records that are not there, and trees that run in circles.
using System.Text;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Gathers what a table's columns hold, as digests; records without a value in one of them point nowhere.</summary>
/// <param name="scan">The table.</param>
/// <param name="columns">The columns.</param>
/// <param name="link">Which records, and values that mean nothing; null for all of both.</param>
internal sealed class LinkSet(TableScan scan, IReadOnlyList<string> columns, CheckedLink? link = null) : Probe
{
    private readonly PointingRows _which = new(scan, columns, link);

    public DigestSet Digests { get; } = new();

    public override bool GathersOnly => true;

    public override void Take()
    {
        _which.Look();
        ulong? before = null; // many records that follow each other point to the same one
        for (int row = 0; row < scan.Batch.RowCount; row++)
        {
            ulong digest = _which.DigestOf(row);
            if (digest == before || !_which.Points(row)) continue;
            Digests.Add(digest);
            before = digest;
        }
    }

    protected override void GiveUp() => Digests.Dispose();
}

/// <summary>Which records of a table point somewhere: those with a value in each of the columns, of which it is said, and whose values do
/// not all mean nothing.</summary>
internal sealed class PointingRows(TableScan scan, IReadOnlyList<string> columns, CheckedLink? link)
{
    private readonly int[] _ordinals = scan.Ordinals(columns);
    private readonly KeyDigests _digest = new(scan, scan.Ordinals(columns));
    private readonly RowFilter _where = new(scan, link?.Where);
    private readonly byte[][] _none = [.. link?.None.Select(Encoding.UTF8.GetBytes) ?? []];

    /// <summary>Looks at the batch as it is now.</summary>
    public void Look()
    {
        _where.Look();
        _digest.Look();
    }

    /// <summary>The digest of where a record points.</summary>
    public ulong DigestOf(int row) => _digest[row];

    /// <summary>Whether a record of the batch points somewhere.</summary>
    public bool Points(int row) => _digest.IsWhole(row) && _where.Counts(row) && (_none.Length == 0
        || !AllMeanNone(row));

    private bool AllMeanNone(int row)
    {
        foreach (int ordinal in _ordinals)
            if (!MeansNone(scan.Batch.Vectors[ordinal], row)) return false;
        return true;
    }

    private bool MeansNone(Vector vector, int row)
    {
        if (vector is BytesVector texts)
        {
            foreach (byte[] none in _none)
                if (texts[row].TrimEnd((byte)' ').SequenceEqual(none.AsSpan().TrimEnd((byte)' '))) return true;
            return false;
        }
        string shown = vector.Show(row);
        return link!.None.Any(none => none == shown);
    }
}

/// <summary>Judges one relation, when both tables have been read.</summary>
/// <param name="scan">The table that points.</param>
/// <param name="columns">Its columns.</param>
/// <param name="from">What they hold.</param>
/// <param name="to">What is there to be pointed to, in one table or several.</param>
/// <param name="head">What is told.</param>
/// <param name="findings">Where it is told.</param>
/// <param name="link">Which records point, where not all do; null for all.</param>
internal sealed class RelationProbe(TableScan scan, IReadOnlyList<string> columns, LinkSet from, IReadOnlyList<LinkSet> to,
    FindingHead head, FindingCollector findings, CheckedLink? link = null) : Probe
{
    private readonly PointingRows _which = new(scan, columns, link);
    private readonly int[] _ordinals = scan.Ordinals(columns);

    public override IEnumerable<Naming> Judge()
    {
        foreach (HashSet<ulong> missing in Portions.Of(from.Digests.NotIn([.. to.Select(set => set.Digests)])))
            yield return new Naming(scan, () =>
            {
                _which.Look();
                for (int row = 0; row < scan.Batch.RowCount; row++)
                    if (_which.Points(row) && missing.Contains(_which.DigestOf(row))) findings.Add(head,
                        scan.NameOf(row), scan.Show(row, _ordinals));
                return true;
            });
    }
}

/// <summary>Finds records of a tree that are, by way of others, parts of themselves.</summary>
internal sealed class TreeProbe(TableScan scan, Kits.TreeShape tree, FindingHead head, FindingHead tooLarge, FindingCollector findings)
    : Probe
{
    private const int MaxRecords = 4_000_000;

    private readonly record struct Item(ulong Node, ulong Parent) : IComparable<Item>
    {
        public int CompareTo(Item other) => Node.CompareTo(other.Node);
    }

    private readonly KeyDigests _node = new(scan, scan.Ordinals([tree.Of])), _parent = new(scan, scan.Ordinals([tree.Parent]));
    private readonly SpillSorter<Item> _items = new((a, _) => a);

    public override bool GathersOnly => true;

    private void Look()
    {
        _node.Look();
        _parent.Look();
    }

    public override void Take()
    {
        Look();
        for (int row = 0; row < scan.Batch.RowCount; row++)
            if (_node.IsWhole(row) && _parent.IsWhole(row)) _items.Add(new Item(_node[row], _parent[row]));
    }

    public override void ReadingEnded() => _items.Park();

    public override IEnumerable<Naming> Judge()
    {
        var nodes = new List<ulong>();
        var parents = new List<ulong>();
        foreach (Item item in _items.Sorted())
        {
            nodes.Add(item.Node);
            parents.Add(item.Parent);
            if (nodes.Count <= MaxRecords) continue;
            findings.Add(tooLarge, 1, []);
            yield break;
        }
        foreach (HashSet<ulong> inCircle in Portions.Of(InCircles(nodes, parents)))
            yield return new Naming(scan, () =>
            {
                Look();
                for (int row = 0; row < scan.Batch.RowCount; row++)
                    if (_node.IsWhole(row) && _parent.IsWhole(row) && inCircle.Contains(_node[row]))
                        findings.Add(head, scan.NameOf(row), scan.Show(row, scan.Ordinals([tree.Parent])));
                return true;
            });
    }

    // Each node is gone up from until a root, a node known to be fine, or one that was met on the same way: from there on it is a circle.
    private static IEnumerable<ulong> InCircles(List<ulong> nodes, List<ulong> parents)
    {
        var way = new int[nodes.Count]; // 0: not met yet; n: met on the way that began at node n - 1
        for (int start = 0; start < nodes.Count; start++)
        {
            int at = start;
            while (at >= 0 && way[at] == 0)
            {
                way[at] = start + 1;
                at = nodes.BinarySearch(parents[at]);
            }
            if (at < 0 || way[at] != start + 1) continue;
            int first = at;
            do
            {
                yield return nodes[at];
                at = nodes.BinarySearch(parents[at]);
            }
            while (at != first);
        }
    }

    protected override void GiveUp() => _items.Dispose();
}
