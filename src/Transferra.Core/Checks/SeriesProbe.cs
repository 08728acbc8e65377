// SeriesProbe.cs: numbers that should follow one another: which are missing, which are there twice.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

internal sealed class SeriesProbe : Probe
{
    /// <summary>From this number on there are so many more records of each number, or fewer. Runs of numbers, which most series are, are
    /// two of these.</summary>
    private readonly record struct Step(ulong Group, long Number, int Change) : IComparable<Step>
    {
        public int CompareTo(Step other) => Group != other.Group ? Group.CompareTo(other.Group) : Number.CompareTo(other.Number);
    }

    /// <summary>Numbers from the first to the last that are missing, or one that is there more than once.</summary>
    private readonly record struct Trouble(long From, long To, int Count);

    // So many gaps and repeats of one group are named one by one; those beyond are counted with the last.
    private const int MaxTroubles = 10_000;

    private readonly TableScan _scan;
    private readonly NumberSeries _series;
    private readonly FindingHead _gap, _repeat;
    private readonly FindingCollector _findings;
    private readonly Kernel _number;
    private readonly EvaluationContext _context;
    private readonly int[] _by;
    private readonly KeyDigests _group;
    private readonly SpillSorter<Step> _steps = new((a, b) => a with { Change = a.Change + b.Change });
    private ulong _runGroup;
    private long _runFrom, _runTo;
    private int _runCount;

    public SeriesProbe(TableScan scan, NumberSeries series, FindingHead gap, FindingHead repeat, FindingCollector findings)
    {
        (_scan, _series, _gap, _repeat, _findings) = (scan, series, gap, repeat, findings);
        _number = scan.Compiler().Compile(series.Number);
        _context = new EvaluationContext(scan.Batch, []);
        _by = scan.Ordinals(series.By);
        _group = new KeyDigests(scan, _by);
    }

    public override bool GathersOnly => true;

    public override void Take() => Add(Rows.Upto(_scan.Batch.RowCount), 1);

    public override void TakeBack(ReadOnlySpan<int> rows) => Add(rows, -1);

    private void Add(ReadOnlySpan<int> rows, int count)
    {
        _context.ActivateAll(); // what is not a number is found by others
        var numbers = (LongVector)_number.Evaluate(_context);
        ReadOnlySpan<long> values = numbers.Values;
        _group.Look();
        foreach (int row in rows)
        {
            if (numbers.IsNull(row)) continue;
            long number = values[row];
            ulong group = _group[row];
            if (_runCount == count && group == _runGroup && number == _runTo + 1) _runTo = number;
            else
            {
                EndRun();
                (_runGroup, _runFrom, _runTo, _runCount) = (group, number, number, count);
            }
        }
    }

    private void EndRun()
    {
        if (_runCount == 0) return;
        _steps.Add(new Step(_runGroup, _runFrom, _runCount));
        _steps.Add(new Step(_runGroup, _runTo + 1, -_runCount));
        _runCount = 0;
    }

    public override void ReadingEnded()
    {
        EndRun();
        _steps.Park();
    }

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
                _group.Look();
                for (int row = 0; row < _scan.Batch.RowCount && portion.Count > 0; row++)
                    if (portion.Remove(_group[row], out List<Trouble>? troubles)) Tell(_scan.Show(row, _by) + ": ",
                        troubles);
                return portion.Count > 0;
            });
        }
    }

    private IEnumerable<KeyValuePair<ulong, List<Trouble>>> Troubles()
    {
        EndRun(); // what was taken back
        var troubles = new List<Trouble>();
        ulong group = 0;
        long from = 0;
        int records = 0;
        bool any = false;
        foreach (Step step in _steps.Sorted())
        {
            if (step.Change == 0) continue;
            if (any && step.Group != group)
            {
                if (troubles.Count > 0) yield return new(group, troubles);
                (troubles, records, any) = ([], 0, false);
            }
            // From the step before up to this one each number has so many records.
            if (any && records == 0 && !_series.MayHaveGaps) AddTo(troubles, new Trouble(from, step.Number - 1, 0));
            if (any && records > 1)
                for (long number = from; number < step.Number && troubles.Count < MaxTroubles; number++) AddTo(troubles,
                    new Trouble(number, number, records));
            (group, from, records, any) = (step.Group, step.Number, records + step.Change, true);
        }
        if (troubles.Count > 0) yield return new(group, troubles);
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
            if (trouble.Count > 0)
                _findings.Add(_repeat, first, FormattableString.Invariant($"{trouble.Count} records"),
                    FormattableString.Invariant($"{first} ({trouble.Count} records)"), trouble.Count);
            else
            {
                string missing = trouble.From == trouble.To ? first : FormattableString.Invariant($"{first} to {trouble.To}");
                _findings.Add(_gap, missing, null, missing, trouble.To - trouble.From + 1);
            }
        }
    }

    protected override void GiveUp() => _steps.Dispose();
}
