// RecordSorter.cs: puts the records of a reader in order, for stores that cannot do it themselves: folders of files.
// Why on disk: a table may exceed memory. Sorted runs of a fixed size go to files without a name that only this process can reach, and are
// merged from there; a table that fits in one run never touches the disk.
// Holds: (1) every record is delivered once, with its faults; (2) records that compare equal keep the source's order; (3) memory is bounded
//        by one run while sorting, and by a buffer a run while merging.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Delivers a reader's records in order.</summary>
public sealed class RecordSorter : IRecordReader
{
    /// <summary>Bytes of values in one run.</summary>
    public const long DefaultRunBytes = 32L << 20;

    private const int RunBufferBytes = 1 << 16;

    private readonly IRecordReader _source;
    private readonly int[] _order;
    private readonly RecordBatch _run;
    private readonly List<RunReader> _runs = [];
    private readonly PriorityQueue<RunReader, RunReader> _next;
    private int[]? _sorted;
    private ILookup<int, RowFault>? _faults;
    private int _emitted;
    private bool _prepared;

    /// <summary>A sorter over a reader, which it disposes.</summary>
    /// <param name="source">Where the records come from.</param>
    /// <param name="columns">Its columns.</param>
    /// <param name="order">Ordinals to order by, the most important first.</param>
    /// <param name="runBytes">Most bytes of values in one run.</param>
    public RecordSorter(IRecordReader source, IReadOnlyList<ColumnShape> columns, int[] order, long runBytes = DefaultRunBytes)
    {
        (_source, _order) = (source, order);
        _run = new RecordBatch(columns, new BatchLimits(int.MaxValue, runBytes));
        _next = new PriorityQueue<RunReader, RunReader>(Comparer<RunReader>.Create(Compare));
    }

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
                Copy(_run, _sorted[_emitted++], _faults!, batch);
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
        for (bool more = true; more;)
        {
            _run.Reset();
            more = _source.Fill(_run);
            if (_run.RowCount == 0) break;
            int[] sorted = Sorted();
            ILookup<int, RowFault> faults = _run.Faults.ToLookup(fault => fault.Row);
            if (!more && _runs.Count == 0)
            {
                (_sorted, _faults) = (sorted, faults);
                return;
            }
            _runs.Add(new RunReader(_run.Columns, Write(sorted, faults), _runs.Count));
        }
        _run.Reset();
        foreach (RunReader run in _runs)
            if (run.Advance()) _next.Enqueue(run, run);
    }

    private int[] Sorted()
    {
        int[] rows = [.. Enumerable.Range(0, _run.RowCount)];
        Array.Sort(rows, (a, b) =>
        {
            foreach (int ordinal in _order)
                if (_run.Vectors[ordinal].CompareAt(a, _run.Vectors[ordinal], b) is not 0 and int order) return order;
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

    private FileStream Write(int[] sorted, ILookup<int, RowFault> faults)
    {
        FileStream file = SpillFile.Create(RunBufferBytes);
        using var writer = new BinaryWriter(file, System.Text.Encoding.UTF8, leaveOpen: true);
        foreach (int row in sorted)
        {
            foreach (Vector vector in _run.Vectors) vector.Write(row, writer);
            writer.Write7BitEncodedInt(faults[row].Count());
            foreach (RowFault fault in faults[row])
            {
                writer.Write((int)fault.Code);
                writer.Write(fault.Column);
                writer.Write(fault.Value);
                writer.Write(fault.Reason);
            }
        }
        writer.Flush();
        file.Position = 0;
        return file;
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
        foreach (RunReader run in _runs) run.Dispose();
        _source.Dispose();
    }

    /// <summary>The records of one run, one at a time.</summary>
    private sealed class RunReader(IReadOnlyList<ColumnShape> columns, FileStream file, int number) : IDisposable
    {
        private readonly BinaryReader _reader = new(file, System.Text.Encoding.UTF8);

        public int Number { get; } = number;

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
