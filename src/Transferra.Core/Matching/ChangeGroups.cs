// ChangeGroups.cs: the differences of a table by column and kind: how many, and what they come to where they are numbers.
// Holds: (1) every difference is counted in exactly one group; (2) memory does not grow with their number.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Differences of one kind in one column.</summary>
/// <param name="Column">The column; "" for whole records.</param>
/// <param name="Kind">How they differ.</param>
/// <param name="Count">How many.</param>
public sealed record ColumnChange(string Column, ChangeKind Kind, long Count)
{
    /// <summary>What is there less what should be, added up, where the column holds exact numbers; null elsewhere.</summary>
    public string? Sum { get; init; }
}

/// <summary>Counts them.</summary>
/// <param name="table">The table.</param>
internal sealed class ChangeGroups(TableShape table)
{
    private sealed class Group
    {
        public long Count;
        public Int128 Sum;
        public bool IsSummed = true;
    }

    // Of a column whose values became others: whether each always became the same, and whether all became one.
    private sealed class Codes
    {
        private const int MostCodes = 64, FewestRecords = 3;

        private readonly Dictionary<string, string> _became = new(StringComparer.Ordinal);
        private bool _isCodes = true;
        private string? _only;
        private bool _isConstant = true;
        private long _count;

        public void Add(string expected, string found)
        {
            _count++;
            if (_only is not null && _only != found) _isConstant = false;
            _only ??= found;
            if (!_isCodes) return;
            if (_became.TryGetValue(expected, out string? known)) _isCodes = known == found;
            else if (_became.Count < MostCodes) _became[expected] = found;
            else _isCodes = false;
        }

        public bool IsWanted => _isCodes || _isConstant;

        public ChangeKind Kind => _isConstant && _count >= FewestRecords && (!_isCodes || _became.Count > 1) ? ChangeKind.Constant
            : _isCodes && _became.Count > 1 && _count >= 2 * _became.Count ? ChangeKind.Recoded : ChangeKind.Other;
    }

    private readonly Dictionary<(int Column, ChangeKind Kind), Group> _groups = [];
    private readonly Dictionary<int, Codes> _codes = [];

    /// <summary>Counts a whole record.</summary>
    public void AddRecord(ChangeKind kind) => Of(-1, kind).Count++;

    /// <summary>Counts a value that cannot be read.</summary>
    public void AddUnread(int column)
    {
        Group group = Of(column, ChangeKind.Unreadable);
        (group.Count, group.IsSummed) = (group.Count + 1, false);
    }

    /// <summary>Counts a value.</summary>
    public void Add(int column, ChangeKind kind, RecordBatch expected, int row, RecordBatch found, int foundRow)
    {
        Group group = Of(column, kind);
        group.Count++;
        if (group.IsSummed)
        {
            Int128? was = Units(expected.Vectors[column], row), now = Units(found.Vectors[column], foundRow);
            group.IsSummed = was is not null && now is not null;
            if (group.IsSummed) group.Sum = unchecked(group.Sum + now!.Value - was!.Value);
        }
        if (kind is not (ChangeKind.Other or ChangeKind.Filled or ChangeKind.Point)) return;
        if (!_codes.TryGetValue(column, out Codes? codes)) _codes[column] = codes = new Codes();
        if (codes.IsWanted) codes.Add(Text(expected.Vectors[column], row), Text(found.Vectors[column], foundRow));
    }

    private static string Text(Vector vector, int row) => vector.IsNull(row) ? "\0" : vector.Show(row);

    // What is not there adds nothing.
    private static Int128? Units(Vector vector, int row) => vector.Type.Kind is not (FieldKind.Integer or FieldKind.Decimal) ? null
        : vector.IsNull(row) ? 0 : vector switch
        {
            LongVector longs => longs.Values[row],
            WideVector wides when !Specials.Is(wides.Values[row]) => wides.Values[row],
            _ => null
        };

    private Group Of(int column, ChangeKind kind)
    {
        if (!_groups.TryGetValue((column, kind), out Group? group)) _groups[(column, kind)] = group = new Group();
        return group;
    }

    /// <summary>What other values of a column turned out to be, once all were seen.</summary>
    public ChangeKind Settled(int column, ChangeKind kind) => kind is ChangeKind.Other or ChangeKind.Filled or ChangeKind.Point
        && _codes.TryGetValue(column, out Codes? codes) && codes.Kind is not ChangeKind.Other and var settled ? settled : kind;

    /// <summary>The groups, the largest first.</summary>
    public IReadOnlyList<ColumnChange> All() => [.. _groups.GroupBy(group => (group.Key.Column, Kind: group.Key.Column < 0 ? group.Key.Kind
        : Settled(group.Key.Column, group.Key.Kind))).Select(same => new ColumnChange(same.Key.Column < 0 ? ""
            : table.Columns[same.Key.Column].Name, same.Key.Kind, same.Sum(group => group.Value.Count))
        {
            Sum = same.Key.Column < 0 || table.Columns[same.Key.Column].IsPrivate || !same.All(group => group.Value.IsSummed) ? null
                : DecimalText.Format(same.Aggregate(Int128.Zero, (sum, group) => unchecked(sum + group.Value.Sum)),
                    table.Columns[same.Key.Column].Type.Scale)
        }).OrderByDescending(change => change.Count).ThenBy(change => change.Column, StringComparer.Ordinal)];
}
