// SpillSorter.cs: sorts more items than memory holds, and puts equal ones together.
// Why: keys, links, sums and numbers of a table of any size are answered from sorted lists of small items, not of records.
// Holds: (1) Sorted delivers every item, equal ones combined; (2) memory is bounded by one run while adding, and by a buffer a run while
// merging.
using System.Runtime.InteropServices;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Sorts items by their own comparison.</summary>
/// <typeparam name="T">Small and without references, as it is written to disk as it lies in memory.</typeparam>
/// <param name="combine">What two equal items become; null to keep both.</param>
/// <param name="runLength">Items that are kept in memory.</param>
internal sealed class SpillSorter<T>(Func<T, T, T>? combine, int runLength = SpillSorter<T>.DefaultRunLength) : IDisposable
    where T : unmanaged, IComparable<T>
{
    public const int DefaultRunLength = 1 << 18;

    private const int MergeBufferItems = 2048;

    private readonly List<(FileStream File, long Items)> _runs = [];
    private T[] _items = new T[Math.Min(1024, runLength)];
    private int _count;

    /// <summary>Adds an item.</summary>
    public void Add(T item)
    {
        if (_count == _items.Length)
        {
            if (_count < runLength) Array.Resize(ref _items, Math.Min(runLength, _count * 2));
            else
            {
                SortRun();
                // When most items were combined there is room again, and nothing need go to disk.
                if (_count > runLength / 2) Spill();
            }
        }
        _items[_count++] = item;
    }

    private void SortRun()
    {
        Array.Sort(_items, 0, _count);
        if (combine is null || _count == 0) return;
        int kept = 0;
        for (int i = 1; i < _count; i++)
        {
            if (_items[i].CompareTo(_items[kept]) == 0) _items[kept] = combine(_items[kept], _items[i]);
            else _items[++kept] = _items[i];
        }
        _count = kept + 1;
    }

    private void Spill()
    {
        FileStream file = SpillFile.Create(bufferBytes: 0);
        file.Write(MemoryMarshal.AsBytes(_items.AsSpan(0, _count)));
        _runs.Add((file, _count));
        _count = 0;
    }

    /// <summary>Gives up the memory; what was added goes to disk unless it is little.</summary>
    public void Park()
    {
        SortRun();
        if (_count > MergeBufferItems) Spill();
        Array.Resize(ref _items, Math.Max(_count, 1));
    }

    /// <summary>All items in order. May be asked for again, and more may be added after.</summary>
    public IEnumerable<T> Sorted()
    {
        IEnumerable<T> merged = Merged();
        return combine is null ? merged : Combined(merged);
    }

    private IEnumerable<T> Merged()
    {
        SortRun();
        if (_runs.Count == 0)
        {
            for (int i = 0; i < _count; i++) yield return _items[i];
            yield break;
        }
        var next = new PriorityQueue<IEnumerator<T>, T>();
        foreach ((FileStream file, long items) in _runs) Enqueue(next, ReadRun(file, items).GetEnumerator());
        Enqueue(next, ReadMemory().GetEnumerator());
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

    private static IEnumerable<T> ReadRun(FileStream file, long items)
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
                got = RandomAccess.Read(file.SafeFileHandle, bytes[read..], at * System.Runtime.CompilerServices.Unsafe.SizeOf<T>() + read);
                if (got == 0) throw new EndOfStreamException("a file for what does not fit in memory is cut off");
            }
            for (int i = 0; i < count; i++) yield return buffer[i];
            at += count;
        }
    }

    private IEnumerable<T> Combined(IEnumerable<T> items)
    {
        bool any = false;
        T last = default;
        foreach (T item in items)
        {
            if (any && item.CompareTo(last) == 0) last = combine!(last, item);
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
        foreach ((FileStream file, long _) in _runs) file.Dispose();
        _runs.Clear();
        (_items, _count) = ([], 0);
    }
}
