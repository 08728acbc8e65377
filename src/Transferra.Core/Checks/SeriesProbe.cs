// SeriesProbe.cs: numbers that should follow one another: which are missing, which are there twice.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

internal sealed class SeriesProbe : Probe
{
    private readonly record struct Item(ulong Group, long Number, int Count) : IComparable<Item>
    {
        public int CompareTo(Item other) => Group != other.Group ? Group.CompareTo(other.Group) : Number.CompareTo(other.Number);
    }

    /// <summary>Numbers from the first to the last that are missing, or one that is there more than once.</summary>
    private readonly record struct Trouble(long From, long To, int Count);

    // So many troubles of one group are named one by one; what is beyond is counted with the last.
    private const int MaxTroubles = 10_000;

    private readonly TableScan _scan;
    private readonly NumberSeries _series;
    private readonly FindingHead _gap, _repeat;
    private readonly FindingCollector _findings;
    private readonly Kernel _number;
    private readonly EvaluationContext _context;
    private readonly int[] _by;
    private readonly RowDigest _group;
    private readonly SpillSorter<Item> _items = new((a, b) => a with { Count = a.Count + b.Count });

    public SeriesProbe(TableScan scan, NumberSeries series, FindingHead gap, FindingHead repeat, FindingCollector findings)
    {
        (_scan, _series, _gap, _repeat, _findings) = (scan, series, gap, repeat, findings);
        _number = scan.Compiler().Compile(series.Number);
        _context = new EvaluationContext(scan.Batch, []);
        _by = scan.Ordinals(series.By);
        _group = new RowDigest(_by);
    }

    public override void Take() => Add([.. Enumerable.Range(0, _scan.Batch.RowCount)], 1);

    public override void TakeBack(ReadOnlySpan<int> rows) => Add(rows, -1);

    private void Add(ReadOnlySpan<int> rows, int count)
    {
        _context.ActivateAll(); // what is no number is found by others
        var numbers = (LongVector)_number.Evaluate(_context);
        foreach (int row in rows)
            if (!numbers.IsNull(row)) _items.Add(new Item(_by.Length == 0 ? 0 : _group.Of(_scan.Batch, row), numbers.Values[row], count));
    }

    public override void ReadingEnded() => _items.Park();

    public override IEnumerable<Naming> Judge()
    {
        foreach (Dictionary<ulong, List<Trouble>> portion in Portions.Of(Troubles()))
        {
            if (_by.Length == 0)
            {
                foreach (List<Trouble> troubles in portion.Values) Tell("", troubles);
                continue;
            }
            yield return new Naming(_scan, () =>
            {
                for (int row = 0; row < _scan.Batch.RowCount && portion.Count > 0; row++)
                    if (portion.Remove(_group.Of(_scan.Batch, row), out List<Trouble>? troubles)) Tell(_scan.Show(row, _by) + ": ", troubles);
                return portion.Count > 0;
            });
        }
    }

    private IEnumerable<KeyValuePair<ulong, List<Trouble>>> Troubles()
    {
        Item last = default;
        var troubles = new List<Trouble>();
        bool any = false;
        foreach (Item item in _items.Sorted())
        {
            if (item.Count <= 0) continue;
            if (any && item.Group != last.Group)
            {
                if (troubles.Count > 0) yield return new(last.Group, troubles);
                troubles = [];
            }
            else if (any && !_series.MayHaveGaps && item.Number > last.Number + 1) AddTo(troubles, new Trouble(last.Number + 1, item.Number - 1, 0));
            if (item.Count > 1) AddTo(troubles, new Trouble(item.Number, item.Number, item.Count));
            (last, any) = (item, true);
        }
        if (troubles.Count > 0) yield return new(last.Group, troubles);
    }

    private static void AddTo(List<Trouble> troubles, Trouble trouble)
    {
        if (troubles.Count < MaxTroubles) troubles.Add(trouble);
        else troubles[^1] = troubles[^1].Count == 0 && trouble.Count == 0 ? troubles[^1] with { To = trouble.To } : trouble;
    }

    private void Tell(string group, List<Trouble> troubles)
    {
        foreach (Trouble trouble in troubles)
        {
            string first = FormattableString.Invariant($"{group}{trouble.From}");
            if (trouble.Count > 0) _findings.Add(_repeat, first, FormattableString.Invariant($"{trouble.Count} records"), FormattableString.Invariant($"{first} ({trouble.Count} records)"), trouble.Count);
            else
            {
                string missing = trouble.From == trouble.To ? first : FormattableString.Invariant($"{first} to {trouble.To}");
                _findings.Add(_gap, missing, null, missing, trouble.To - trouble.From + 1);
            }
        }
    }

    protected override void GiveUp() => _items.Dispose();
}
