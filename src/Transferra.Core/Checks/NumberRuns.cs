// NumberRuns.cs: whole numbers as runs of such as follow each other, by which is told which of them are there more than once.
// Why: most tables are numbered as their records come, and millions of numbers are then a few runs; their digests would have to be kept and
// sorted.
// Holds: (1) what is told is exact, whatever the order of the numbers; (2) no more than a megabyte is kept: whoever adds asks AreFew, and
// takes all numbers back where they are not.
namespace Transferra.Core.Checks;

/// <summary>Numbers, in runs.</summary>
internal sealed class NumberRuns
{
    private const int MostRuns = 1 << 16, SureRuns = 1 << 10, LeastLength = 8;

    private readonly List<(long From, long To)> _runs = [];
    private long _from, _to, _added;

    /// <summary>Whether they are worth keeping so.</summary>
    public bool AreFew => _runs.Count <= SureRuns || (_runs.Count <= MostRuns && _runs.Count <= _added / LeastLength);

    /// <summary>Adds a number.</summary>
    public void Add(long number)
    {
        if (_added++ > 0)
        {
            if (number == unchecked(_to + 1) && _to < long.MaxValue)
            {
                _to = number;
                return;
            }
            _runs.Add((_from, _to));
        }
        (_from, _to) = (number, number);
    }

    private IEnumerable<(long From, long To)> Runs() => _added == 0 ? [] : _runs.Append((_from, _to));

    /// <summary>All numbers, as they came.</summary>
    public IEnumerable<long> All()
    {
        foreach ((long from, long to) in Runs())
            for (long number = from; ; number++)
            {
                yield return number;
                if (number == to) break;
            }
    }

    /// <summary>The numbers that are there more than once, in order, each with how often.</summary>
    public IEnumerable<(long Number, int Count)> Repeated()
    {
        (long From, long To)[] runs = [.. Runs().Order()];
        // Of the runs that have begun and not ended, those that end first.
        var open = new PriorityQueue<long, long>();
        for (int next = 0; next < runs.Length;)
        {
            long at = runs[next].From;
            for (; next < runs.Length && runs[next].From == at; next++) open.Enqueue(runs[next].To, runs[next].To);
            while (open.Count > 0)
            {
                // Up to where the first of the open runs ends, or the next begins, each number is in all of them.
                long end = open.Peek();
                bool begins = next < runs.Length && runs[next].From <= end;
                long to = begins ? runs[next].From - 1 : end;
                if (open.Count > 1 && at <= to)
                    for (long number = at; ; number++)
                    {
                        yield return (number, open.Count);
                        if (number == to) break;
                    }
                if (begins) break;
                while (open.TryPeek(out long over, out _) && over == end) open.Dequeue();
                at = unchecked(to + 1);
            }
        }
    }
}
