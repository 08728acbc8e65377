// TableDifferences.cs: names and counts every difference between the records a table should have and those it has.
// How: both sides' records that may differ are put in order of their key, on disk where memory does not hold them, and read side by side
// once.
// Holds: (1) what is counted is complete; only what is listed has a limit; (2) each side is read once, whatever the number of differences.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Rows of one table for a <see cref="RecordSorter"/>.</summary>
/// <param name="Vectors">The table's columns.</param>
/// <param name="Rows">Which of their rows.</param>
/// <param name="Faults">Cells that could not be read; any rows.</param>
internal readonly record struct PickedRows(IReadOnlyList<Vector> Vectors, IEnumerable<int> Rows, IReadOnlyList<RowFault> Faults);

/// <summary>Delivers picked rows as a reader.</summary>
internal sealed class PickedReader(IEnumerable<PickedRows> source) : IRecordReader
{
    private readonly IEnumerator<PickedRows> _source = source.GetEnumerator();
    private IEnumerator<int>? _rows;
    private ILookup<int, RowFault>? _faults;

    public bool Fill(RecordBatch batch)
    {
        while (!batch.IsFull)
        {
            if (_rows is null)
            {
                if (!_source.MoveNext()) return false;
                _rows = _source.Current.Rows.GetEnumerator();
                _faults = _source.Current.Faults.Count == 0 ? null : _source.Current.Faults.ToLookup(fault => fault.Row);
            }
            if (!_rows.MoveNext())
            {
                _rows.Dispose();
                _rows = null;
                continue;
            }
            int row = _rows.Current, at = batch.RowCount;
            for (int column = 0; column < batch.Vectors.Length; column++)
                batch.Vectors[column].AppendFrom(_source.Current.Vectors[column], row);
            foreach (RowFault fault in _faults?[row] ?? []) batch.Faults.Add(fault with { Row = at });
        }
        return true;
    }

    public void Dispose()
    {
        _rows?.Dispose();
        _source.Dispose();
    }
}

/// <summary>Compares the two sides of one table.</summary>
/// <param name="table">The table.</param>
/// <param name="most">Most differences to list.</param>
/// <param name="cancel">Stops between two batches.</param>
internal sealed class TableDifferences(TableShape table, int most, CancellationToken cancel)
{
    private readonly int[] _key = table.Key.Count > 0 ? [.. table.Key.Select(table.OrdinalOf)]
        : [.. Enumerable.Range(0, table.Columns.Count)];

    /// <summary>Whether cells that cannot be read are the same when both sides tell the same of them.</summary>
    public bool MayHaveFaults { get; init; }

    /// <summary>The first of them, in order of the key.</summary>
    public List<Difference> Listed { get; } = [];

    /// <summary>Records that are missing, that nothing stands for, and that are there with another value.</summary>
    public long Missing { get; private set; }

    /// <inheritdoc cref="Missing"/>
    public long Extra { get; private set; }

    /// <inheritdoc cref="Missing"/>
    public long Changed { get; private set; }

    /// <summary>In how many records each column has another value.</summary>
    public Dictionary<string, long> ChangedColumns { get; } = [];

    /// <summary>The same by column and kind.</summary>
    public IReadOnlyList<ColumnChange> Changes => _groups.All();

    private readonly ChangeGroups _groups = new(table);

    // Columns of the listed differences, so that what they turned out to be can be told of each.
    private readonly List<int> _listedColumns = [];

    /// <summary>All differences, each value of a changed record counted.</summary>
    public long Count { get; private set; }

    /// <summary>Compares.</summary>
    /// <param name="expected">The records there should be.</param>
    /// <param name="found">The records there are.</param>
    public void Compare(IEnumerable<PickedRows> expected, IEnumerable<PickedRows> found)
    {
        using var wanted = new Side(expected, table.Columns, _key, cancel);
        using var real = new Side(found, table.Columns, _key, cancel);
        while (wanted.HasRow || real.HasRow)
        {
            int order = !wanted.HasRow ? 1 : !real.HasRow ? -1 : Order(wanted, real);
            if (order < 0)
            {
                Missing++;
                _groups.AddRecord(ChangeKind.Missing);
                Note(-1, DifferenceKind.Missing, ChangeKind.Missing, wanted, () => ShowRow(wanted), () => "");
            }
            else if (order > 0)
            {
                Extra++;
                ChangeKind kind = IsAgain(real) ? ChangeKind.Doubled : ChangeKind.Extra;
                _groups.AddRecord(kind);
                Note(-1, DifferenceKind.Extra, kind, real, () => "", () => ShowRow(real));
            }
            else CompareRow(wanted, real);
            if (order <= 0) wanted.Next();
            if (order >= 0) real.Next();
        }
        for (int i = 0; i < Listed.Count; i++)
            if (_listedColumns[i] >= 0)
                Listed[i] = Listed[i] with { Change = _groups.Settled(_listedColumns[i], Listed[i].Change) };
    }

    // The same in every column as the record before it.
    private bool IsAgain(Side side)
    {
        if (side.Row == 0) return false;
        foreach (Vector vector in side.Batch.Vectors)
            if (!vector.SameAt(side.Row, vector, side.Row - 1)) return false;
        return true;
    }

    private int Order(Side a, Side b)
    {
        foreach (int ordinal in _key)
            if (a.Batch.Vectors[ordinal].CompareAt(a.Row, b.Batch.Vectors[ordinal], b.Row) is not 0 and int order) return order;
        return 0;
    }

    private void CompareRow(Side wanted, Side real)
    {
        List<int>? differing = null;
        for (int column = 0; column < table.Columns.Count; column++)
        {
            RowFault? fault = real.FaultOf(table.Columns[column].Name),
                before = MayHaveFaults ? wanted.FaultOf(table.Columns[column].Name) : null;
            if (fault is { } told && before is { } same && (same.Value, same.Reason) == (told.Value, told.Reason)) continue;
            if (fault is null && before is null
                && wanted.Batch.Vectors[column].SameAt(wanted.Row, real.Batch.Vectors[column], real.Row)) continue;
            (differing ??= []).Add(column);
            ChangedColumns[table.Columns[column].Name] = ChangedColumns.GetValueOrDefault(table.Columns[column].Name) + 1;
        }
        if (differing is null) return;
        Changed++;
        foreach (int ordinal in differing)
        {
            RowFault? fault = real.FaultOf(table.Columns[ordinal].Name);
            bool isRead = fault is null && (!MayHaveFaults || wanted.FaultOf(table.Columns[ordinal].Name) is null);
            ChangeKind kind = !isRead ? ChangeKind.Unreadable : IsSwapped(wanted, real, ordinal, differing) ? ChangeKind.Swapped
                : ChangeKinds.Of(wanted.Batch.Vectors[ordinal], wanted.Row, real.Batch.Vectors[ordinal], real.Row);
            if (isRead) _groups.Add(ordinal, kind, wanted.Batch, wanted.Row, real.Batch, real.Row);
            else _groups.AddUnread(ordinal);
            Note(ordinal, DifferenceKind.Value, kind, wanted, () => Shown(wanted, ordinal),
                () => fault is { } unreadable ? $"{(table.MayShow(unreadable.Column) ? unreadable.Value : TableShape.Private)}: "
                    + $"{unreadable.Reason}" : Shown(real, ordinal));
        }
    }

    private const int MostSwapped = 16, SeenAtOnce = 12;

    // Whether another column that differs has what this one should have, and the other way round.
    private bool IsSwapped(Side wanted, Side real, int column, List<int> differing)
    {
        if (differing.Count is < 2 or > MostSwapped) return false;
        FieldType type = table.Columns[column].Type;
        foreach (int other in differing)
            if (other != column && table.Columns[other].Type.Kind == type.Kind && table.Columns[other].Type.Scale == type.Scale
                && wanted.Batch.Vectors[column].SameAt(wanted.Row, real.Batch.Vectors[other], real.Row)
                && wanted.Batch.Vectors[other].SameAt(wanted.Row, real.Batch.Vectors[column], real.Row)) return true;
        return false;
    }

    private void Note(int column, DifferenceKind kind, ChangeKind change, Side at, Func<string> expected, Func<string> found)
    {
        Count++;
        if (Listed.Count >= most) return;
        (string was, string now) = (expected(), found());
        int same = was.AsSpan().CommonPrefixLength(now);
        Listed.Add(new Difference(table.Name, ShowKey(at), column < 0 ? "" : table.Columns[column].Name, kind, was, now)
        {
            Change = change,
            At = column >= 0 && table.Columns[column] is { Type.Kind: FieldKind.Text or FieldKind.Any, IsPrivate: false }
                && change != ChangeKind.Blanks && same >= SeenAtOnce ? same + 1 : null
        });
        _listedColumns.Add(column);
    }

    private static string Shown(Side side, int column) => side.Batch.Vectors[column].IsNull(side.Row) ? "(no value)"
        : side.Batch.Show(side.Row, column);

    private string ShowKey(Side side) => table.Key.Count > 0 ? side.Batch.ShowKey(side.Row, _key) : ShowRow(side);

    private static string ShowRow(Side side) => string.Join(" | ", Enumerable.Range(0, side.Batch.Vectors.Length)
        .Select(column => side.Batch.Show(side.Row, column)));

    /// <summary>One side's records in order of the key, one at a time.</summary>
    private sealed class Side : IDisposable
    {
        private readonly RecordSorter _sorter;
        private readonly CancellationToken _cancel;
        private ILookup<int, RowFault>? _faults;
        private bool _more = true;

        public Side(IEnumerable<PickedRows> rows, IReadOnlyList<ColumnShape> columns, int[] key, CancellationToken cancel)
        {
            _sorter = new RecordSorter(new PickedReader(rows), columns, key);
            _cancel = cancel;
            Batch = new RecordBatch(columns);
            Fill();
        }

        public RecordBatch Batch { get; }

        public int Row { get; private set; }

        public bool HasRow => Row < Batch.RowCount;

        public void Next()
        {
            if (++Row == Batch.RowCount) Fill();
        }

        public RowFault? FaultOf(string column)
        {
            if (_faults is null) return null;
            foreach (RowFault fault in _faults[Row])
                if (fault.Column == column) return fault;
            return null;
        }

        private void Fill()
        {
            Batch.Reset();
            Row = 0;
            while (_more && Batch.RowCount == 0)
            {
                _cancel.ThrowIfCancellationRequested();
                _more = _sorter.Fill(Batch);
            }
            _faults = Batch.Faults.Count == 0 ? null : Batch.Faults.ToLookup(fault => fault.Row);
        }

        public void Dispose() => _sorter.Dispose();
    }
}
