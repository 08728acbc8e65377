// RuleProbes.cs: the rules of the books: sums by group, one table's sums against another's, and conditions of each record.
// Holds: (1) sums are exact; (2) a group with a value that cannot be read is not judged, as that value is reported by itself;
//        (3) further copies of a record do not count; (4) memory does not grow with the number of groups.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Adds up one side of a rule while its table is read.</summary>
internal sealed class SideProbe : Probe
{
    private readonly TableScan _scan;
    private readonly GroupSums _into;
    private readonly bool _isOther, _hasOther;
    private readonly Kernel[] _by;
    private readonly Kernel _sum;
    private readonly Kernel? _where;
    private readonly Int128 _factor;
    private readonly EvaluationContext _context;
    private readonly Vector[] _groups;
    private readonly ulong[][] _each;
    private ulong[] _together = [], _digests = [];

    // What belongs to one group often comes one record behind the other.
    private ulong _group;
    private Int128 _amount;
    private int _flags;

    /// <param name="scan">The side's table.</param>
    /// <param name="rule">The rule.</param>
    /// <param name="isOther">Which of its sides.</param>
    /// <param name="into">Where the sums go.</param>
    /// <param name="lookups">The records of other tables that it looks at.</param>
    public SideProbe(TableScan scan, GroupRule rule, bool isOther, GroupSums into, IReadOnlyList<LookupTable> lookups)
    {
        (_scan, _into, _isOther, _hasOther) = (scan, into, isOther, rule.Other is not null);
        RuleSide side = isOther ? rule.Other! : rule.Side;
        ExpressionCompiler compiler = scan.Compiler([.. side.Lookups.Select(lookup => lookup.Shape)]);
        _by = [.. side.By.Select(compiler.Compile)];
        _sum = compiler.Compile(side.Sum);
        _where = side.Where is null ? null : compiler.CompileCondition(side.Where);
        _factor = 1;
        for (int digits = _sum.Type.Scale; digits < rule.Scale; digits++) _factor *= 10;
        _context = new EvaluationContext(scan.Batch, lookups);
        _groups = new Vector[_by.Length];
        _each = [.. _by.Select(_ => Array.Empty<ulong>())];
    }

    public override bool GathersOnly => true;

    public override void Take() => Add(Rows.Upto(_scan.Batch.RowCount), 1);

    public override void TakeBack(ReadOnlySpan<int> rows) => Add(rows, -1);

    /// <summary>The digest of the group that a row of the batch belongs to, and its label.</summary>
    public (ulong Digest, string Label) GroupOf(int row) => (_digests[row], string.Join(" / ", _groups.Select((group, i) =>
        _by[i] is ColumnKernel column && _scan.Table.Columns[column.Ordinal].IsPrivate ? TableShape.Private : group.Show(row))));

    /// <summary>Computes the groups of the batch.</summary>
    public void EvaluateGroups()
    {
        _context.ActivateAll();
        int rows = _scan.Batch.RowCount;
        for (int i = 0; i < _by.Length; i++)
        {
            _groups[i] = _by[i].Evaluate(_context);
            if (_by[i] is ColumnKernel column) _each[i] = _scan.Digests.Of(column.Ordinal);
            else
            {
                if (_each[i].Length < rows) _each[i] = new ulong[rows];
                Digest.OfAll(_groups[i], _each[i].AsSpan(0, rows));
            }
        }
        _digests = _each.Length == 1 ? _each[0] : Digest.Together(_each, rows, ref _together);
    }

    private void Add(ReadOnlySpan<int> rows, int sign)
    {
        EvaluateGroups();
        _context.ActivateAll();
        Vector values = _sum.Evaluate(_context);
        HashSet<int>? unreadable = _context.Faults.Count + _scan.Batch.Faults.Count == 0 ? null
            : [.. _context.Faults.Concat(_scan.Batch.Faults).Select(fault => fault.Row)];
        var counts = (LongVector?)_where?.Evaluate(_context);
        // What belongs to no group has no counterpart on another side; of one side alone, those make a group by themselves.
        bool mayBelongToNone = _hasOther && Array.Exists(_groups, group => group.HasNull);
        ReadOnlySpan<Int128> wides = values is WideVector wide ? wide.Values : default;
        ReadOnlySpan<long> longs = values is LongVector whole ? whole.Values : default;
        bool areWide = values is WideVector;
        foreach (int row in rows)
        {
            if (counts is not null && (counts.IsNull(row) || counts.Values[row] == 0)) continue;
            if (mayBelongToNone && Vector.IsAnyNull(_groups, row)) continue;
            Int128 amount = areWide ? wides[row] : longs[row]; // of a missing one: 0
            // What is not finite adds up to nothing that could be compared.
            bool isFinite = !areWide || !Specials.Is(amount);
            if (!isFinite) amount = 0;
            if (_factor != 1) amount *= _factor;
            if (sign < 0) amount = -amount;
            AddTo(_digests[row], amount, (isFinite ? 0 : GroupAmounts.TooLarge) | (_isOther ? GroupAmounts.OnOther : GroupAmounts.OnSide)
                | (unreadable?.Contains(row) == true ? GroupAmounts.Unreadable : 0));
        }
    }

    private void AddTo(ulong group, Int128 amount, int flags)
    {
        if (_flags != 0 && group == _group)
        {
            _flags |= flags;
            _amount = GroupAmounts.Sum(_amount, amount, ref _flags);
            return;
        }
        Flush();
        (_group, _amount, _flags) = (group, amount, flags);
    }

    /// <summary>Passes on what is still here.</summary>
    public void Flush()
    {
        if (_flags != 0) _into.Add(new GroupAmounts(_group, _isOther ? 0 : _amount, _isOther ? _amount : 0, _flags));
        _flags = 0;
    }

    public override void ReadingEnded()
    {
        Flush();
        _into.Park();
        Array.Fill(_each, []);
        (_together, _digests) = ([], []);
    }
}

/// <summary>Judges the groups of a rule when its tables have been read.</summary>
internal sealed class GroupRuleProbe(GroupRule rule, IReadOnlyList<(TableScan Scan, SideProbe Probe)> sides,
    GroupSums amounts,
    FindingHead head, FindingCollector findings) : Probe
{
    public override IEnumerable<Naming> Judge()
    {
        foreach (Dictionary<ulong, GroupAmounts> portion in Portions.Of(Broken().Select(group => KeyValuePair.Create(group.Group, group))))
            foreach ((TableScan scan, SideProbe probe) in sides)
                if (portion.Count > 0) yield return new Naming(scan, () => Name(scan, probe, portion));
    }

    /// <summary>The groups that break the rule, when both sides have been read.</summary>
    public IEnumerable<GroupAmounts> Broken()
    {
        foreach ((TableScan _, SideProbe probe) in sides) probe.Flush();
        return amounts.Where(IsBroken);
    }

    private bool IsBroken(GroupAmounts group)
    {
        if ((group.Flags & GroupAmounts.Unreadable) != 0) return false;
        if ((group.Flags & GroupAmounts.TooLarge) != 0) return true;
        const int both = GroupAmounts.OnSide | GroupAmounts.OnOther;
        if (rule.OnlyCommon && (group.Flags & both) != both) return false;
        Int128 away = group.Side - group.Other - rule.MustBe;
        return Int128.Abs(away) > rule.Tolerance;
    }

    private bool Name(TableScan scan, SideProbe probe, Dictionary<ulong, GroupAmounts> portion)
    {
        probe.EvaluateGroups();
        for (int row = 0; row < scan.Batch.RowCount && portion.Count > 0; row++)
        {
            (ulong digest, string label) = probe.GroupOf(row);
            if (!portion.Remove(digest, out GroupAmounts group)) continue;
            string sum = (group.Flags & GroupAmounts.TooLarge) != 0 ? "beyond what can be added up" : DecimalText.Format(group.Side,
                rule.Scale);
            if (rule.Other is not null) sum += $" against {DecimalText.Format(group.Other, rule.Scale)}";
            findings.Add(head, label, sum, label.Length > 0 ? $"{label}: {sum}" : sum);
        }
        return portion.Count > 0;
    }

    protected override void GiveUp() => amounts.Dispose();
}

/// <summary>Judges each record.</summary>
internal sealed class RecordRuleProbe : Probe
{
    private readonly TableScan _scan;
    private readonly Kernel _holds;
    private readonly Kernel? _where;
    private readonly EvaluationContext _context;
    private readonly FindingHead _head;
    private readonly FindingCollector _findings;

    public RecordRuleProbe(TableScan scan, RecordRule rule, IReadOnlyList<LookupTable> lookups, FindingHead head, FindingCollector findings)
    {
        (_scan, _head, _findings) = (scan, head, findings);
        ExpressionCompiler compiler = scan.Compiler([.. rule.Lookups.Select(lookup => lookup.Shape)]);
        _holds = compiler.CompileCondition(rule.Holds);
        _where = rule.Where is null ? null : compiler.CompileCondition(rule.Where);
        _context = new EvaluationContext(scan.Batch, lookups);
    }

    public override void Take()
    {
        _context.ActivateAll();
        var counts = (LongVector?)_where?.Evaluate(_context);
        var holds = (LongVector)_holds.Evaluate(_context);
        ReadOnlySpan<long> values = holds.Values;
        for (int row = 0; row < values.Length; row++)
        {
            if (values[row] != 0 || holds.IsNull(row)) continue;
            if (counts is null || (!counts.IsNull(row) && counts.Values[row] != 0)) _findings.Add(_head, _scan.NameOf(row));
        }
    }
}
