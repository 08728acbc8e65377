// ChildrenMatched.cs: whether each record that others point to (an account, a voucher) has as many of them as it should have.
// Why beside the records: of 400 lines that are missing a bookkeeper asks first which vouchers they are of. A line that went to another
// voucher is a changed value there, and here one fewer and one more.
// How: every record of both stores was compared, so that only those that differ can make a difference; they are added up by what they
// point to. The link is taken as the new version has it, and what there should be as the old store and the map give it, so that a number
// that the conversion gave anew counts as the same.
// Holds: (1) the counts are complete, whatever number of records differs; (2) memory is bounded: sums go to disk, names have a limit.
using System.IO.Hashing;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>One link of the new version.</summary>
/// <param name="Table">The table that points.</param>
/// <param name="Columns">By which of its columns.</param>
/// <param name="Parent">The table pointed to; several, with " or " between them, where a record may point to one of several.</param>
/// <param name="Records">Records of the table that points, in the new store.</param>
/// <param name="Parents">Records of the table pointed to, in the new store; of several the sum.</param>
/// <param name="Differing">How many of those pointed to have another number of records pointing to them than there should be.</param>
/// <param name="Fewer">How many are lacking, over all that have fewer.</param>
/// <param name="More">How many are too many, over all that have more.</param>
/// <param name="First">Some of those pointed to, in the order in which they were met; at most <see cref="MostNamed"/>.</param>
public sealed record ChildrenMatched(string Table, IReadOnlyList<string> Columns, string Parent, long Records, long Parents, long Differing,
    long Fewer, long More, IReadOnlyList<ParentChange> First)
{
    /// <summary>Most that are named of a link.</summary>
    public const int MostNamed = 1000;

    /// <summary>Whether each has as many as it should have.</summary>
    public bool IsSame => Differing == 0;
}

/// <summary>A record that has more or fewer others pointing to it.</summary>
/// <param name="Parent">The values by which it is pointed to.</param>
/// <param name="Change">How many more there are than there should be; negative for fewer.</param>
public sealed record ParentChange(string Parent, long Change);

/// <summary>Adds up the records that differ by what they point to, for one link.</summary>
internal sealed class ChildrenChange : IDisposable
{
    private readonly record struct Item(UInt128 Parent, long Change) : IComparable<Item>
    {
        public int CompareTo(Item other) => Parent.CompareTo(other.Parent);
    }

    private SpillSorter<Item>? _sums; // most links of most tables have nothing to add up
    private readonly Dictionary<UInt128, string> _names = [];
    private readonly int[] _ordinals;
    private readonly CanonicalWriter _writer = new();
    private readonly bool _isPrivate;

    private ChildrenChange(string[] columns, string[] parents, int[] ordinals, IReadOnlyList<string> none, bool isPrivate) =>
        (Columns, Parents, _ordinals, None, _isPrivate) = (columns, parents, ordinals, none, isPrivate);

    public IReadOnlyList<string> Columns { get; }

    public IReadOnlyList<string> Parents { get; }

    // Values that mean that nothing is pointed to.
    private IReadOnlyList<string> None { get; }

    /// <summary>All links of a table that its own columns alone decide.</summary>
    /// <param name="read">The table as it is read.</param>
    /// <param name="known">The table as the new version has it.</param>
    /// <param name="version">The new version.</param>
    public static IReadOnlyList<ChildrenChange> Of(TableShape read, TableShape known, KitVersion version)
    {
        var links = new List<ChildrenChange>();
        foreach (RelationShape relation in known.Relations) Add(relation.Columns, [relation.To], []);
        foreach (CheckedLink link in version.Checks.Where(checks => checks.Table.Name == known.Name).SelectMany(checks => checks.Links)
            .Where(link => link.Where is null)) Add(link.Columns, [.. link.Targets.Select(target => target.To)], link.None);
        foreach (TreeShape tree in version.Checks.Where(checks => checks.Table.Name == known.Name).Select(checks => checks.Tree)
            .OfType<TreeShape>()) Add([tree.Parent], [known.Name], []);
        return links;

        void Add(IReadOnlyList<string> columns, string[] parents, IReadOnlyList<string> none)
        {
            int[] ordinals = [.. columns.Select(read.OrdinalOf)];
            if (ordinals.Length == 0 || ordinals.Contains(-1) || links.Any(known => known._ordinals.SequenceEqual(ordinals)
                && known.Parents.SequenceEqual(parents, StringComparer.OrdinalIgnoreCase))) return;
            links.Add(new ChildrenChange([.. columns], parents, ordinals, none, ordinals.Any(ordinal => read.Columns[ordinal].IsPrivate)));
        }
    }

    /// <summary>Whether another value in a column makes a record point to another.</summary>
    public bool DependsOn(int column) => Array.IndexOf(_ordinals, column) >= 0;

    /// <summary>Adds a record.</summary>
    /// <param name="one">The record.</param>
    /// <param name="change">1 where it is there and should not be, -1 where it should be and is not.</param>
    public void Add(ComparedRow one, int change)
    {
        _writer.Clear();
        bool means = None.Count == 0;
        foreach (int ordinal in _ordinals)
        {
            Vector vector = one.Batch.Vectors[ordinal];
            if (vector.IsNull(one.Row)) return;
            vector.Encode(one.Row, _writer);
            means = means || !None.Contains(vector.Show(one.Row).TrimEnd(' '));
        }
        if (!means) return;
        UInt128 parent = XxHash128.HashToUInt128(_writer.Written);
        (_sums ??= new((a, b) => a with { Change = a.Change + b.Change })).Add(new Item(parent, change));
        if (_names.Count < ChildrenMatched.MostNamed && !_names.ContainsKey(parent)) _names.Add(parent, _isPrivate ? TableShape.Private
            : string.Join(" / ", _ordinals.Select(ordinal => ListedValues.One(one, ordinal))));
    }

    /// <summary>What it comes to.</summary>
    /// <param name="table">The table that points.</param>
    /// <param name="count">How many records a table of the new store has.</param>
    public ChildrenMatched Matched(string table, Func<string, long> count)
    {
        long differing = 0, fewer = 0, more = 0;
        var changes = new Dictionary<UInt128, long>();
        foreach (Item item in (_sums?.Sorted() ?? []).Where(item => item.Change != 0))
        {
            differing++;
            if (item.Change < 0) fewer -= item.Change;
            else more += item.Change;
            if (_names.ContainsKey(item.Parent)) changes.Add(item.Parent, item.Change);
        }
        return new ChildrenMatched(table, Columns, string.Join(" or ", Parents), count(table), Parents.Distinct().Sum(count), differing,
            fewer, more, [.. _names.Where(name => changes.ContainsKey(name.Key)).Select(name => new ParentChange(name.Value,
                changes[name.Key]))]);
    }

    public void Dispose() => _sums?.Dispose();
}
