// MendPlan.cs: what is to be put right in a store, worked out by reading it: which keys have exact copies, which links lead nowhere,
// which stored totals are wrong. What is wrong with a value by itself is seen when its record is met (StoreMending.cs).
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Mending;

/// <summary>What is to be put right, by digests.</summary>
/// <param name="answers">What the office has answered.</param>
internal sealed class MendPlan(IReadOnlyDictionary<string, string> answers) : IDisposable
{
    private readonly Dictionary<string, TableScan> _scans = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, HashSet<ulong>> _copies = new(StringComparer.OrdinalIgnoreCase);
    private readonly List<Probe> _judges = [];

    /// <summary>Links of a table that lead nowhere.</summary>
    /// <param name="Relation">The relation.</param>
    /// <param name="Missing">Digests of what its columns hold and the other table has not.</param>
    public sealed record LostLink(RelationShape Relation, HashSet<ulong> Missing);

    private readonly List<(string Table, LostLink Link)> _links = [];
    private readonly Dictionary<Mend, Dictionary<ulong, Int128>> _totals = [];

    /// <summary>Digests of the keys that have exact copies and nothing else; empty when the table's copies are not to be dropped.</summary>
    public IReadOnlySet<ulong> CopiesOf(string table) => _copies.GetValueOrDefault(table) ?? [];

    /// <summary>The links of a table that lead nowhere.</summary>
    public IEnumerable<LostLink> LinksOf(string table) => _links.Where(entry => entry.Table == table).Select(entry => entry.Link);

    /// <summary>What a stored total should be, by the digest of its record's key; only those that are wrong. In units of 10^-Scale of the
    /// mend's rule.</summary>
    public IReadOnlyDictionary<ulong, Int128> TotalsOf(Mend mend) => _totals[mend];

    /// <summary>Reads the store and works it out.</summary>
    public static MendPlan Of(IStore store, KitVersion version, IReadOnlyDictionary<string, string> answers, IProgressObserver observer,
        CancellationToken cancel)
    {
        var plan = new MendPlan(answers);
        try
        {
            plan.Make(store, version, observer, cancel);
            return plan;
        }
        catch
        {
            plan.Dispose();
            throw;
        }
    }

    private void Make(IStore store, KitVersion version, IProgressObserver observer, CancellationToken cancel)
    {
        using var nowhere = new FindingCollector(null);
        var nothing = new FindingHead("", Grade.Note, "", "", "", "");
        var keys = new List<KeyProbe>();
        var relations = new List<(string Table, RelationShape Relation, LinkSet From, LinkSet To)>();
        var rules = new List<(Mend Mend, GroupRuleProbe Probe)>();
        foreach (Mend mend in version.Mends)
        {
            switch (mend.Kind)
            {
                case MendKind.DropCopies: Scan(mend.Table!, version); break;
                case MendKind.SetOrphansAside:
                    foreach (RelationShape relation in mend.Table!.Relations)
                    {
                        TableScan from = Scan(mend.Table, version), to = Scan(version.Table(relation.To)!, version);
                        var mine = new LinkSet(from, relation.Columns);
                        var theirs = new LinkSet(to, relation.On);
                        from.Probes.Add(mine);
                        to.Probes.Add(theirs);
                        relations.Add((mend.Table.Name, relation, mine, theirs));
                    }
                    break;
                case MendKind.Recompute:
                    GroupRule rule = mend.Rule!;
                    NewSetting.Require(rule.Answers, answers, $"the rule \"{rule.Name}\"");
                    var amounts = new GroupSums();
                    TableScan side = Scan(rule.Side.Table, version), other = Scan(rule.Other!.Table, version);
                    var sides = new List<(TableScan, SideProbe)> { (side, new SideProbe(side, rule, isOther: false, amounts,
                            LookupLoader.Load(store, rule.Side.Lookups))),
                        (other, new SideProbe(other, rule, isOther: true, amounts, LookupLoader.Load(store, rule.Other.Lookups))) };
                    foreach ((TableScan scan, SideProbe probe) in sides) scan.Probes.Add(probe);
                    var judge = new GroupRuleProbe(rule, sides, amounts, nothing, nowhere);
                    _judges.Add(judge);
                    rules.Add((mend, judge));
                    break;
                default: break;
            }
        }
        // Copies do not count in sums, whether they are dropped or not; so the keys of every table read are looked at.
        foreach (TableScan scan in _scans.Values.Where(scan => scan.Table.Key.Count > 0 && !store.KeepsKey(scan.Table.Name,
            scan.Table.Key)))
        {
            var probe = new KeyProbe(scan, nothing, nothing, nowhere) { KeepsCopied = true };
            scan.Probes.Add(probe);
            keys.Add(probe);
            if (version.Mends.Any(mend => mend.Kind == MendKind.DropCopies
                && mend.Table!.Name == scan.Table.Name)) _copies[scan.Table.Name] = [];
        }
        foreach (TableScan scan in _scans.Values)
            scan.ReadOnce(store, observer, cancel);
        NamingPasses.Run(store, keys, observer, cancel);
        foreach (TableScan scan in _scans.Values.Where(scan => _copies.ContainsKey(scan.Table.Name)))
            foreach (KeyProbe probe in scan.Probes.OfType<KeyProbe>()) _copies[scan.Table.Name].UnionWith(probe.Copied);
        foreach ((string table, RelationShape relation, LinkSet from, LinkSet to) in relations) _links.Add((table,
            new LostLink(relation, [.. from.Digests.NotIn(to.Digests)])));
        foreach ((Mend mend, GroupRuleProbe probe) in rules)
            _totals[mend] = probe.Broken()
                .Where(group => (group.Flags & (GroupAmounts.OnSide | GroupAmounts.TooLarge)) == GroupAmounts.OnSide)
                .ToDictionary(group => group.Group, group => group.Other);
    }

    // With custom fields: records that differ in one of those are no copies.
    private TableScan Scan(TableShape kits, KitVersion version)
    {
        TableShape table = version.Table(kits.Name) ?? kits;
        if (!_scans.TryGetValue(table.Name, out TableScan? scan)) _scans[table.Name] = scan = new TableScan(table,
            new RecordBatch(table.Columns))
        { Answers = answers };
        return scan;
    }

    public void Dispose()
    {
        foreach (Probe probe in _scans.Values.SelectMany(scan => scan.Probes).Concat(_judges)) probe.Dispose();
    }
}
