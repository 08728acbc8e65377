// RuleProbes.cs: the rules of the books: sums by group, one table's sums against another's, and conditions of each record.
// Holds: (1) sums are exact; (2) a group with a value that cannot be read is not judged, as that value is reported by itself;
//        (3) further copies of a record do not count; (4) memory does not grow with the number of groups.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Sums of one group, of both sides of a rule.</summary>
internal readonly record struct GroupAmounts(ulong Group, Int128 Side, Int128 Other, int Flags) : IComparable<GroupAmounts>
{
    public const int OnSide = 1, OnOther = 2, Unreadable = 4, TooLarge = 8;

    public int CompareTo(GroupAmounts other) => Group.CompareTo(other.Group);

    public static GroupAmounts Add(GroupAmounts a, GroupAmounts b)
    {
        int flags = a.Flags | b.Flags;
        return new GroupAmounts(a.Group, Sum(a.Side, b.Side, ref flags), Sum(a.Other, b.Other, ref flags), flags);
    }

    private static Int128 Sum(Int128 a, Int128 b, ref int flags)
    {
        Int128 sum = unchecked(a + b);
        if (Int128.IsNegative(a) == Int128.IsNegative(b) && Int128.IsNegative(sum) != Int128.IsNegative(a)) flags |= TooLarge;
        return sum;
    }
}

/// <summary>Adds up one side of a rule while its table is read.</summary>
internal sealed class SideProbe : Probe
{
    private readonly TableScan _scan;
    private readonly SpillSorter<GroupAmounts> _into;
    private readonly bool _isOther, _hasOther;
    private readonly Kernel[] _by;
    private readonly Kernel _sum;
    private readonly Kernel? _where;
    private readonly Int128 _factor;
    private readonly EvaluationContext _context;
    private readonly Vector[] _groups;
    // Sums that were added to lately; most groups come one record behind the other, or are few.
    private readonly GroupAmounts[] _lately = new GroupAmounts[1 << 12];

    /// <param name="scan">The side's table.</param>
    /// <param name="rule">The rule.</param>
    /// <param name="isOther">Which of its sides.</param>
    /// <param name="into">Where the sums go.</param>
    /// <param name="lookups">The records of other tables that it looks at.</param>
    public SideProbe(TableScan scan, GroupRule rule, bool isOther, SpillSorter<GroupAmounts> into, IReadOnlyList<LookupTable> lookups)
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
    }

    public override bool GathersOnly => true;

    public override void Take() => Add(Rows.Upto(_scan.Batch.RowCount), 1);

    public override void TakeBack(ReadOnlySpan<int> rows) => Add(rows, -1);

    /// <summary>The digests of the groups that the batch's rows belong to, and their labels.</summary>
    public (ulong Digest, string Label) GroupOf(int row) => (ValueDigest.Of(_groups, row), string.Join(" / ", _groups.Select((group, i) =>
        _by[i] is ColumnKernel column && _scan.Table.Columns[column.Ordinal].IsPrivate ? TableShape.Private : group.Show(row))));

    /// <summary>Computes the groups of the batch.</summary>
    public void EvaluateGroups()
    {
        _context.ActivateAll();
        for (int i = 0; i < _by.Length; i++) _groups[i] = _by[i].Evaluate(_context);
    }

    private void Add(ReadOnlySpan<int> rows, int sign)
    {
        EvaluateGroups();
        _context.ActivateAll();
        Vector values = _sum.Evaluate(_context);
        HashSet<int>? unreadable = _context.Faults.Count + _scan.Batch.Faults.Count == 0 ? null
            : [.. _context.Faults.Concat(_scan.Batch.Faults).Select(fault => fault.Row)];
        var counts = (LongVector?)_where?.Evaluate(_context);
        foreach (int row in rows)
        {
            if (counts is not null && (counts.IsNull(row) || counts.Values[row] == 0)) continue;
            // What belongs to no group has no counterpart on another side; of one side alone, those make a group by themselves.
            if (_hasOther && Array.Exists(_groups, group => group.IsNull(row))) continue;
            Int128 amount = values.IsNull(row) ? 0 : values is WideVector wide ? wide.Values[row] : ((LongVector)values).Values[row];
            // What is not finite adds up to nothing that could be compared.
            bool isFinite = values is not WideVector || !Specials.Is(amount);
            if (!isFinite) amount = 0;
            if (_factor != 1) amount *= _factor;
            if (sign < 0) amount = -amount;
            int flags = (isFinite ? 0 : GroupAmounts.TooLarge) | (_isOther ? GroupAmounts.OnOther
                : GroupAmounts.OnSide) | (unreadable?.Contains(row) == true ? GroupAmounts.Unreadable : 0);
            ulong group = ValueDigest.Of(_groups, row);
            var item = new GroupAmounts(group, _isOther ? 0 : amount, _isOther ? amount : 0, flags);
            ref GroupAmounts slot = ref _lately[group & (ulong)(_lately.Length - 1)];
            if (slot.Flags != 0 && slot.Group == group) slot = GroupAmounts.Add(slot, item);
            else
            {
                if (slot.Flags != 0) _into.Add(slot);
                slot = item;
            }
        }
    }

    /// <summary>Passes on what is still here.</summary>
    public void Flush()
    {
        foreach (GroupAmounts slot in _lately)
            if (slot.Flags != 0) _into.Add(slot);
        Array.Clear(_lately);
    }

    public override void ReadingEnded()
    {
        Flush();
        _into.Park();
    }
}

/// <summary>Judges the groups of a rule when its tables have been read.</summary>
internal sealed class GroupRuleProbe(GroupRule rule, IReadOnlyList<(TableScan Scan, SideProbe Probe)> sides,
    SpillSorter<GroupAmounts> amounts,
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
        return amounts.Sorted().Where(IsBroken);
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
        for (int row = 0; row < _scan.Batch.RowCount; row++)
        {
            if (counts is not null && (counts.IsNull(row) || counts.Values[row] == 0)) continue;
            if (!holds.IsNull(row) && holds.Values[row] == 0) _findings.Add(_head, _scan.NameOf(row));
        }
    }
}
