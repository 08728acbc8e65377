// SpillSorter.cs: sorts more items than memory holds, and puts equal ones together.
// Why: keys, links, sums and numbers of a table of any size are answered from sorted lists of small items, not of records.
// Why levels: runs that are merged must all be read at once, each through a buffer, so that no more than some of them may wait.
// Holds: (1) Sorted delivers every item, equal ones combined; (2) memory is bounded by one run while adding, and by a buffer a run while
// merging, of at most so many a level; (3) a run grows only while the budget has room, beyond a few kilobytes; (4) there is one open file
// a level, whatever the number of items.
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Sorts items by their own comparison.</summary>
/// <typeparam name="T">Small and without references, as it is written to disk as it lies in memory.</typeparam>
internal sealed class SpillSorter<T> : IDisposable
    where T : unmanaged, IComparable<T>
{
    private const int MergeBufferItems = 2048, FirstItems = 256, SureItems = 1 << 12, MostRuns = 64;

    private readonly Func<T, T, T>? _combine;
    private readonly MemoryBudget _budget;
    private readonly int _runLength;
    private readonly List<Level> _levels = [];
    private T[] _items;
    private int _count;
    private long _lent;

    /// <summary>An empty one.</summary>
    /// <param name="combine">What two equal items become; null to keep both.</param>
    /// <param name="runLength">Most items that are kept in memory; null for what suits the budget.</param>
    /// <param name="budget">Where the memory comes from; null for the process's.</param>
    public SpillSorter(Func<T, T, T>? combine, int? runLength = null, MemoryBudget? budget = null)
    {
        (_combine, _budget) = (combine, budget ?? MemoryBudget.OfProcess);
        _runLength = runLength ?? (int)_budget.Suiting(1 << 18, 1 << 14, 1 << 24);
        _items = new T[Math.Min(FirstItems, _runLength)];
    }

    /// <summary>Open files.</summary>
    internal int Files => _levels.Count;

    /// <summary>Runs that were made of as many merged ones, in a file of their own.</summary>
    private sealed class Level : IDisposable
    {
        public FileStream File { get; } = SpillFile.Create(bufferBytes: 0);

        public List<(long At, long Items)> Runs { get; } = [];

        public long End { get; private set; }

        public void Append(ReadOnlySpan<T> items)
        {
            RandomAccess.Write(File.SafeFileHandle, MemoryMarshal.AsBytes(items), End);
            End += (long)items.Length * Unsafe.SizeOf<T>();
        }

        public void Empty()
        {
            Runs.Clear();
            File.SetLength(0);
            End = 0;
        }

        public void Dispose() => File.Dispose();
    }

    /// <summary>Adds an item.</summary>
    public void Add(T item)
    {
        if (_count == _items.Length && !Grows())
        {
            SortRun();
            // When most items were combined there is room again, and nothing need go to disk.
            if (_count > _items.Length / 2) Spill();
        }
        _items[_count++] = item;
    }

    private bool Grows()
    {
        int more = Math.Min(_runLength, _items.Length * 2) - _items.Length;
        long bytes = (long)more * Unsafe.SizeOf<T>();
        if (more <= 0) return false;
        if (_items.Length >= SureItems)
        {
            if (!_budget.TryLend(bytes)) return false;
            _lent += bytes;
        }
        Array.Resize(ref _items, _items.Length + more);
        return true;
    }

    private void GiveBack()
    {
        _budget.GiveBack(_lent);
        _lent = 0;
    }

    private void SortRun()
    {
        Array.Sort(_items, 0, _count);
        if (_combine is null || _count == 0) return;
        int kept = 0;
        for (int i = 1; i < _count; i++)
        {
            if (_items[i].CompareTo(_items[kept]) == 0) _items[kept] = _combine(_items[kept], _items[i]);
            else _items[++kept] = _items[i];
        }
        _count = kept + 1;
    }

    private void Spill()
    {
        if (_levels.Count == 0) _levels.Add(new Level());
        long at = _levels[0].End;
        _levels[0].Append(_items.AsSpan(0, _count));
        _levels[0].Runs.Add((at, _count));
        _count = 0;
        for (int level = 0; _levels[level].Runs.Count == MostRuns; level++) MergeLevel(level);
    }

    // All runs of a level become one of the next.
    private void MergeLevel(int level)
    {
        if (_levels.Count == level + 1) _levels.Add(new Level());
        Level from = _levels[level], into = _levels[level + 1];
        long at = into.End, items = 0;
        var buffer = new T[MergeBufferItems];
        int held = 0;
        foreach (T item in Combined(Merged(from.Runs.Select(run => ReadRun(from.File, run.At, run.Items)))))
        {
            buffer[held++] = item;
            items++;
            if (held < buffer.Length) continue;
            into.Append(buffer);
            held = 0;
        }
        into.Append(buffer.AsSpan(0, held));
        into.Runs.Add((at, items));
        from.Empty();
    }

    /// <summary>Gives up the memory; what was added goes to disk unless it is little.</summary>
    public void Park()
    {
        SortRun();
        if (_count > MergeBufferItems) Spill();
        Array.Resize(ref _items, Math.Max(_count, 1));
        GiveBack();
    }

    /// <summary>All items in order. May be asked for again, and more may be added after.</summary>
    public IEnumerable<T> Sorted()
    {
        SortRun();
        return _levels.Count == 0 ? ReadMemory() : Combined(Merged(_levels.SelectMany(level => level.Runs.Select(run =>
            ReadRun(level.File, run.At, run.Items))).Append(ReadMemory())));
    }

    private static IEnumerable<T> Merged(IEnumerable<IEnumerable<T>> runs)
    {
        var next = new PriorityQueue<IEnumerator<T>, T>();
        foreach (IEnumerable<T> run in runs) Enqueue(next, run.GetEnumerator());
        while (next.TryDequeue(out IEnumerator<T>? run, out T item))
        {
            yield return item;
            Enqueue(next, run);
        }
    }

    private static void Enqueue(PriorityQueue<IEnumerator<T>, T> next, IEnumerator<T> run)
    {
        if (run.MoveNext()) next.Enqueue(run, run.Current);
        else run.Dispose();
    }

    private IEnumerable<T> ReadMemory()
    {
        for (int i = 0; i < _count; i++) yield return _items[i];
    }

    private static IEnumerable<T> ReadRun(FileStream file, long from, long items)
    {
        var buffer = new T[MergeBufferItems];
        long at = 0;
        while (at < items)
        {
            int count = (int)Math.Min(buffer.Length, items - at);
            // Positioned reading, as several runs and several readings of one may be under way.
            Span<byte> bytes = MemoryMarshal.AsBytes(buffer.AsSpan(0, count));
            for (int read = 0, got; read < bytes.Length; read += got)
            {
                got = RandomAccess.Read(file.SafeFileHandle, bytes[read..], from + at * Unsafe.SizeOf<T>() + read);
                if (got == 0) throw new EndOfStreamException("a file for what does not fit in memory is cut off");
            }
            for (int i = 0; i < count; i++) yield return buffer[i];
            at += count;
        }
    }

    private IEnumerable<T> Combined(IEnumerable<T> items) => _combine is null ? items : Combined(items, _combine);

    private static IEnumerable<T> Combined(IEnumerable<T> items, Func<T, T, T> combine)
    {
        bool any = false;
        T last = default;
        foreach (T item in items)
        {
            if (any && item.CompareTo(last) == 0) last = combine(last, item);
            else
            {
                if (any) yield return last;
                (last, any) = (item, true);
            }
        }
        if (any) yield return last;
    }

    /// <summary>Gives up memory and disk.</summary>
    public void Dispose()
    {
        foreach (Level level in _levels) level.Dispose();
        _levels.Clear();
        (_items, _count) = ([], 0);
        GiveBack();
    }
}
