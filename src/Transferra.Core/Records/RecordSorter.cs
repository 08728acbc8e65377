// RecordSorter.cs: puts the records of a reader in order, for stores that cannot do it themselves: folders of files.
// Why on disk: a table may exceed memory. Sorted runs of a fixed size go to files without a name that only this process can reach, and are
// merged from there; a table that fits in one run never touches the disk.
// Holds: (1) every record is delivered once, with its faults; (2) records that compare equal keep the source's order; (3) memory is bounded
//        by one run while sorting, of a size that the budget lends, and by a buffer a run while merging; (4) no more than some runs of
//        each length wait, so that neither buffers nor open files grow with the table.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Delivers a reader's records in order.</summary>
public sealed class RecordSorter : IRecordReader
{
    private const int RunBufferBytes = 1 << 16, MostRuns = 32;
    private const long UsualRunBytes = 32L << 20, LeastRunBytes = 2L << 20, MostRunBytes = 512L << 20;

    private readonly IRecordReader _source;
    private readonly IReadOnlyList<ColumnShape> _columns;
    private readonly int[] _order;
    private readonly long? _runBytes;
    private readonly MemoryBudget _budget;
    private readonly List<List<RunReader>> _levels = [[]];
    private readonly PriorityQueue<RunReader, RunReader> _next;
    private RecordBatch? _run;
    private int[]? _sorted;
    private ILookup<int, RowFault>? _faults;
    private int _emitted;
    private bool _prepared;
    private long _lent;

    /// <summary>A sorter over a reader, which it disposes.</summary>
    /// <param name="source">Where the records come from.</param>
    /// <param name="columns">Its columns.</param>
    /// <param name="order">Ordinals to order by, the most important first.</param>
    /// <param name="runBytes">Most bytes of values in one run; null for what the budget lends.</param>
    /// <param name="budget">Where the memory comes from; null for the process's.</param>
    public RecordSorter(IRecordReader source, IReadOnlyList<ColumnShape> columns, int[] order, long? runBytes = null,
        MemoryBudget? budget = null)
    {
        (_source, _columns, _order, _runBytes, _budget) = (source, columns, order, runBytes, budget ?? MemoryBudget.OfProcess);
        _next = NewQueue();
    }

    /// <summary>Most runs that waited at a time, each an open file.</summary>
    internal int MostWaiting { get; private set; }

    private PriorityQueue<RunReader, RunReader> NewQueue() => new(Comparer<RunReader>.Create(Compare));

    /// <inheritdoc/>
    public bool Fill(RecordBatch batch)
    {
        if (!_prepared) Prepare();
        _prepared = true;
        while (!batch.IsFull)
        {
            if (_sorted is not null)
            {
                if (_emitted == _sorted.Length) return false;
                Copy(_run!, _sorted[_emitted++], _faults!, batch);
                continue;
            }
            if (!_next.TryDequeue(out RunReader? run, out _)) return false;
            Copy(run.Current, 0, run.Faults, batch);
            if (run.Advance()) _next.Enqueue(run, run);
        }
        return true;
    }

    private void Prepare()
    {
        RecordBatch run = _run = new RecordBatch(_columns, new BatchLimits(int.MaxValue, _runBytes ?? Borrow()));
        for (bool more = true; more;)
        {
            run.Reset();
            more = _source.Fill(run);
            if (run.RowCount == 0) break;
            int[] sorted = Sorted(run);
            ILookup<int, RowFault> faults = run.Faults.ToLookup(fault => fault.Row);
            if (!more && _levels.Count == 1 && _levels[0].Count == 0)
            {
                (_sorted, _faults) = (sorted, faults);
                return;
            }
            Keep(Written(file =>
            {
                foreach (int row in sorted) Write(run, row, faults, file);
            }));
        }
        _run = null;
        GiveBack();
        // Longer runs hold what came earlier.
        int number = 0;
        foreach (RunReader waiting in Enumerable.Reverse(_levels).SelectMany(level => level))
        {
            waiting.Number = number++;
            if (waiting.Advance()) _next.Enqueue(waiting, waiting);
        }
    }

    // Half as much again is lent, as the vectors of a batch grow by doubling.
    private long Borrow()
    {
        long bytes = _budget.Suiting(UsualRunBytes, LeastRunBytes, MostRunBytes);
        while (!_budget.TryLend(_lent = bytes + bytes / 2))
        {
            _lent = 0;
            if (bytes == LeastRunBytes) break;
            bytes = Math.Max(bytes / 2, LeastRunBytes);
        }
        return bytes;
    }

    private void GiveBack()
    {
        _budget.GiveBack(_lent);
        _lent = 0;
    }

    private void Keep(RunReader run)
    {
        _levels[0].Add(run);
        MostWaiting = Math.Max(MostWaiting, _levels.Sum(level => level.Count));
        for (int level = 0; _levels[level].Count == MostRuns; level++)
        {
            if (_levels.Count == level + 1) _levels.Add([]);
            _levels[level + 1].Add(Merged(_levels[level]));
            _levels[level].Clear();
        }
    }

    private RunReader Merged(List<RunReader> runs)
    {
        PriorityQueue<RunReader, RunReader> next = NewQueue();
        foreach ((int number, RunReader run) in runs.Index())
        {
            run.Number = number;
            if (run.Advance()) next.Enqueue(run, run);
        }
        RunReader merged = Written(file =>
        {
            while (next.TryDequeue(out RunReader? run, out _))
            {
                Write(run.Current, 0, run.Faults, file);
                if (run.Advance()) next.Enqueue(run, run);
            }
        });
        foreach (RunReader run in runs) run.Dispose();
        return merged;
    }

    private int[] Sorted(RecordBatch run)
    {
        int[] rows = [.. Enumerable.Range(0, run.RowCount)];
        Array.Sort(rows, (a, b) =>
        {
            foreach (int ordinal in _order)
                if (run.Vectors[ordinal].CompareAt(a, run.Vectors[ordinal], b) is not 0 and int order) return order;
            return a.CompareTo(b);
        });
        return rows;
    }

    private int Compare(RunReader a, RunReader b)
    {
        foreach (int ordinal in _order)
            if (a.Current.Vectors[ordinal].CompareAt(0, b.Current.Vectors[ordinal], 0) is not 0 and int order) return order;
        return a.Number.CompareTo(b.Number);
    }

    private RunReader Written(Action<BinaryWriter> write)
    {
        FileStream file = SpillFile.Create(RunBufferBytes);
        try
        {
            using var writer = new BinaryWriter(file, System.Text.Encoding.UTF8, leaveOpen: true);
            write(writer);
            writer.Flush();
            file.Position = 0;
            return new RunReader(_columns, file);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    private static void Write(RecordBatch from, int row, ILookup<int, RowFault> faults, BinaryWriter writer)
    {
        foreach (Vector vector in from.Vectors) vector.Write(row, writer);
        writer.Write7BitEncodedInt(faults[row].Count());
        foreach (RowFault fault in faults[row])
        {
            writer.Write((int)fault.Code);
            writer.Write(fault.Column);
            writer.Write(fault.Value);
            writer.Write(fault.Reason);
        }
    }

    private static void Copy(RecordBatch from, int row, ILookup<int, RowFault> faults, RecordBatch to)
    {
        int at = to.RowCount;
        for (int column = 0; column < to.Vectors.Length; column++) to.Vectors[column].AppendFrom(from.Vectors[column], row);
        foreach (RowFault fault in faults[row]) to.Faults.Add(fault with { Row = at });
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (RunReader run in _levels.SelectMany(level => level)) run.Dispose();
        _source.Dispose();
        _run = null;
        GiveBack();
    }

    /// <summary>The records of one run, one at a time.</summary>
    private sealed class RunReader(IReadOnlyList<ColumnShape> columns, FileStream file) : IDisposable
    {
        private readonly BinaryReader _reader = new(file, System.Text.Encoding.UTF8);

        /// <summary>Of two equal records, that of the lower number came first.</summary>
        public int Number { get; set; }

        public RecordBatch Current { get; } = new(columns);

        public ILookup<int, RowFault> Faults { get; private set; } = Array.Empty<RowFault>().ToLookup(fault => fault.Row);

        public bool Advance()
        {
            if (file.Position == file.Length) return false;
            Current.Reset();
            foreach (Vector vector in Current.Vectors) vector.AppendRead(_reader);
            int count = _reader.Read7BitEncodedInt();
            var faults = new List<RowFault>(count);
            for (int i = 0; i < count; i++) faults.Add(new RowFault(0, (FaultCode)_reader.ReadInt32(), _reader.ReadString(),
                _reader.ReadString(), _reader.ReadString()));
            Faults = faults.ToLookup(fault => fault.Row);
            return true;
        }

        public void Dispose() => _reader.Dispose();
    }
}
