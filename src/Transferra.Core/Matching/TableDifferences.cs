// TableDifferences.cs: names and counts every difference between the records a table should have and those it has.
// How: both sides' records that may differ are put in order of their key, on disk where memory does not hold them, and read side by side
// once.
// Records of a table without a key are paired by what they share (KeylessPairs.cs).
// Holds: (1) what is counted is complete; only what is listed has a limit; (2) each side is read once, whatever the number of differences.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

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

    // Of a table without a key: records that nothing stands for, until they are paired by what they share.
    private readonly RecordBatch? _unpairedMissing = table.Key.Count > 0 ? null : new(table.Columns, Unpaired),
        _unpairedExtra = table.Key.Count > 0 ? null : new(table.Columns, Unpaired);

    private static readonly BatchLimits Unpaired = new(50_000, 16 << 20);

    /// <summary>Whether a record that nothing stands for came after all of those there should be; null when that cannot be told.</summary>
    public LastNumbers? Last { get; init; }

    /// <summary>Hears of every difference; what its kind turned out to be is settled only once <see cref="Compare"/> is done.</summary>
    public DifferenceSpill? Every { get; init; }

    /// <summary>Adds up what differs by what the table's records point to, for each of its links.</summary>
    public IReadOnlyList<ChildrenChange> Children { get; init; } = [];

    /// <summary>All differences, each value of a changed record counted.</summary>
    public long Count { get; private set; }

    /// <summary>Compares; both sides are read at the same time.</summary>
    /// <param name="expected">The records there should be.</param>
    /// <param name="found">The records there are.</param>
    public void Compare(IEnumerable<PickedRows> expected, IEnumerable<PickedRows> found)
    {
        Task<SortedSide> other = Task.Run(() => new SortedSide(expected, table.Columns, _key, cancel), CancellationToken.None);
        SortedSide? real = null;
        try
        {
            real = new SortedSide(found, table.Columns, _key, cancel);
            using SortedSide wanted = other.GetAwaiter().GetResult();
            SideBySide(wanted, real);
        }
        catch
        {
            // The first error is the one to tell, and nothing goes on reading behind it.
            try { other.GetAwaiter().GetResult().Dispose(); }
            catch (Exception error) when (error is not OutOfMemoryException) { }
            throw;
        }
        finally { real?.Dispose(); }
        TellUnpaired();
        for (int i = 0; i < Listed.Count; i++)
            if (_listedColumns[i] >= 0)
                Listed[i] = Listed[i] with { Change = _groups.Settled(_listedColumns[i], Listed[i].Change) };
        Every?.End(_groups.Settled);
    }

    private void SideBySide(SortedSide wanted, SortedSide real)
    {
        while (wanted.HasRow || real.HasRow)
        {
            int order = !wanted.HasRow ? 1 : !real.HasRow ? -1 : Order(wanted.Current, real.Current);
            if (order < 0)
            {
                if (!WaitsToBePaired(_unpairedMissing, wanted.Current)) TellMissing(wanted.Current);
            }
            else if (order > 0)
            {
                if (IsAgain(real.Current)) TellExtra(real.Current, ChangeKind.Doubled);
                else if (!WaitsToBePaired(_unpairedExtra, real.Current)) TellExtra(real.Current, ChangeKind.Extra);
            }
            else CompareRow(wanted.Current, real.Current);
            if (order <= 0) wanted.Next();
            if (order >= 0) real.Next();
        }
    }

    private static bool WaitsToBePaired(RecordBatch? unpaired, ComparedRow one)
    {
        if (unpaired is null || unpaired.IsFull || one.Faults?[one.Row].Any() == true) return false;
        for (int column = 0; column < unpaired.Vectors.Length; column++)
            unpaired.Vectors[column].AppendFrom(one.Batch.Vectors[column], one.Row);
        return true;
    }

    private void TellUnpaired()
    {
        if (_unpairedMissing is null || _unpairedExtra is null) return;
        int[] pairs = new KeylessPairs(_unpairedMissing, _unpairedExtra).Pairs();
        for (int row = 0; row < pairs.Length; row++)
        {
            var missing = new ComparedRow(_unpairedMissing, row, null);
            if (pairs[row] < 0) TellMissing(missing);
            else CompareRow(missing, new ComparedRow(_unpairedExtra, pairs[row], null));
        }
        HashSet<int> paired = [.. pairs];
        for (int row = 0; row < _unpairedExtra.RowCount; row++)
            if (!paired.Contains(row)) TellExtra(new ComparedRow(_unpairedExtra, row, null), ChangeKind.Extra);
    }

    private void TellMissing(ComparedRow one)
    {
        Missing++;
        foreach (ChildrenChange link in Children) link.Add(one, -1);
        _groups.AddRecord(ChangeKind.Missing);
        Note(-1, DifferenceKind.Missing, ChangeKind.Missing, one, () => (ListedValues.Row(one), ""));
    }

    private void TellExtra(ComparedRow one, ChangeKind kind)
    {
        Extra++;
        foreach (ChildrenChange link in Children) link.Add(one, 1);
        if (kind == ChangeKind.Extra && Last?.IsBeyond(one.Batch.Vectors, one.Row) == true) kind = ChangeKind.Later;
        _groups.AddRecord(kind);
        Note(-1, DifferenceKind.Extra, kind, one, () => ("", ListedValues.Row(one)));
    }

    // The same in every column as the record before it.
    private static bool IsAgain(ComparedRow one)
    {
        if (one.Row == 0) return false;
        foreach (Vector vector in one.Batch.Vectors)
            if (!vector.SameAt(one.Row, vector, one.Row - 1)) return false;
        return true;
    }

    private int Order(ComparedRow a, ComparedRow b)
    {
        foreach (int ordinal in _key)
            if (a.Batch.Vectors[ordinal].CompareAt(a.Row, b.Batch.Vectors[ordinal], b.Row) is not 0 and int order) return order;
        return 0;
    }

    private void CompareRow(ComparedRow wanted, ComparedRow real)
    {
        List<int>? differing = null;
        for (int column = 0; column < table.Columns.Count; column++)
        {
            RowFault? fault = real.FaultOf(table.Columns[column].Name),
                before = MayHaveFaults ? wanted.FaultOf(table.Columns[column].Name) : null;
            if (fault is { } told && before is { } same && (same.Value, same.Reason) == (told.Value, told.Reason)) continue;
            if (fault is null && before is null && wanted.SameAt(column, real, column)) continue;
            (differing ??= []).Add(column);
            ChangedColumns[table.Columns[column].Name] = ChangedColumns.GetValueOrDefault(table.Columns[column].Name) + 1;
        }
        if (differing is null) return;
        Changed++;
        foreach (ChildrenChange link in Children)
        {
            if (!differing.Any(link.DependsOn)) continue;
            link.Add(wanted, -1);
            link.Add(real, 1);
        }
        foreach (int ordinal in differing)
        {
            RowFault? fault = real.FaultOf(table.Columns[ordinal].Name);
            bool isRead = fault is null && (!MayHaveFaults || wanted.FaultOf(table.Columns[ordinal].Name) is null);
            ChangeKind kind = !isRead ? ChangeKind.Unreadable : IsSwapped(wanted, real, ordinal, differing) ? ChangeKind.Swapped
                : ChangeKinds.Of(wanted.Batch.Vectors[ordinal], wanted.Row, real.Batch.Vectors[ordinal], real.Row);
            if (isRead) _groups.Add(ordinal, kind, wanted.Batch, wanted.Row, real.Batch, real.Row);
            else _groups.AddUnread(ordinal);
            Note(ordinal, DifferenceKind.Value, kind, wanted, () => fault is { } unreadable
                ? (ListedValues.One(wanted, ordinal), $"{(table.MayShow(unreadable.Column) ? unreadable.Value : TableShape.Private)}: "
                    + $"{unreadable.Reason}") : ListedValues.Pair(wanted, real, ordinal),
                isRead && kind != ChangeKind.Blanks ? () => ListedValues.Place(wanted, real, ordinal) : null);
        }
    }

    private const int MostSwapped = 16, SeenAtOnce = 12;

    // Whether another column that differs has what this one should have, and the other way round.
    private bool IsSwapped(ComparedRow wanted, ComparedRow real, int column, List<int> differing)
    {
        if (differing.Count is < 2 or > MostSwapped) return false;
        FieldType type = table.Columns[column].Type;
        foreach (int other in differing)
            if (other != column && table.Columns[other].Type.Kind == type.Kind && table.Columns[other].Type.Scale == type.Scale
                && wanted.SameAt(column, real, other)
                && wanted.SameAt(other, real, column)) return true;
        return false;
    }

    private void Note(int column, DifferenceKind kind, ChangeKind change, ComparedRow at, Func<(string Was, string Now)> values,
        Func<int?>? place = null)
    {
        Count++;
        bool isListed = Listed.Count < most;
        if (!isListed && Every is null) return;
        (string was, string now) = values();
        var difference = new Difference(table.Name, ShowKey(at), column < 0 ? "" : table.Columns[column].Name, kind, was, now)
        {
            Change = change,
            At = place?.Invoke() is { } from && from > SeenAtOnce ? from : null
        };
        Every?.Add(column, difference);
        if (!isListed) return;
        Listed.Add(difference);
        _listedColumns.Add(column);
    }

    private string ShowKey(ComparedRow side) => table.Key.Count == 0 ? ListedValues.Row(side)
        : string.Join(" / ", _key.Select(column => side.Batch.Vectors[column].IsNull(side.Row) ? "" : ListedValues.One(side, column)));
}
