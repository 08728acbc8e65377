// CompanyCheck.cs: one full scan of a company: physical state, shape, keys, links, values, books, documents.
// How: each table is read once, and all probes (Probe.cs) look at each batch while the next is read. Only where keys, links, sums or
// numbers are wrong is the table concerned read again, to name the records.
// Holds: (1) nothing is changed; (2) every table is read whole, nothing is sampled; (3) findings are counted without limit, exemplified
// up to
//        five, and listed in full when a folder for lists is given; (4) memory does not grow with the number of records.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Checks a store against what the kit says of its version.</summary>
/// <param name="version">The data version it has.</param>
/// <param name="next">What answers to what in the hop it is to go through next, whose rules are tried without writing; null when there is
/// none.</param>
/// <param name="settings">Answers to the hop's new settings.</param>
/// <param name="observer">Hears the progress.</param>
/// <param name="cancel">Stops between two batches.</param>
public sealed class CompanyCheck(KitVersion version, Correspondence? next, IReadOnlyDictionary<string, string> settings,
    IProgressObserver observer,
    CancellationToken cancel)
{
    private const int MaxComplaints = 5;

    private readonly Dictionary<string, long> _counts = [];
    private readonly Dictionary<string, TableScan> _scans = new(StringComparer.OrdinalIgnoreCase);
    private readonly List<Probe> _judges = [];
    private HopTrial? _trial;

    /// <summary>Full paths of the company's document folders; none: documents are not looked at.</summary>
    public IReadOnlyList<string> DocumentFolders { get; init; } = [];

    /// <summary>The hops behind the first one, whose rules are tried on scratch copies of what the hops before make.</summary>
    public IReadOnlyList<Correspondence> Beyond { get; init; } = [];

    /// <summary>What is known of the store that the hops are to make.</summary>
    public TrialTarget Target { get; init; } = TrialTarget.Any;

    /// <summary>Where scratch copies are made; null when hops behind the first one cannot be tried.</summary>
    public TrialScratch? Scratch { get; init; }

    /// <summary>An empty folder that gets a list of all records for each finding; null when none are wanted.</summary>
    public string? ListFolder { get; init; }

    /// <summary>Whether the engine has looked through these very bytes already and found nothing; it then need not again.</summary>
    public bool IsKnownSound { get; init; }

    /// <summary>Whether a table was carried here exactly as it was before. What is odd in it was odd before, and stops nothing.</summary>
    public Predicate<string> IsCarriedAsItWas { get; init; } = _ => false;

    /// <summary>Whether the baseline of the store is wanted as well.</summary>
    public bool TakesBaseline { get; init; }

    /// <summary>What was recorded of the tables, after <see cref="Run"/>; of those that are read in a way of their own, nothing.</summary>
    public IReadOnlyList<TakenBaseline> Baselines { get; private set; } = [];

    /// <summary>Checks.</summary>
    public CheckResult Run(IStore store)
    {
        using var findings = new FindingCollector(ListFolder);
        if (!IsKnownSound) observer.Progress(OwnCheck, 0, 0);
        using EngineCheck engine = IsKnownSound ? EngineCheck.Spared() : EngineCheck.Begin(store, cancel);
        if (engine.IsOver && engine.Complaints() is { Count: > 0 } known) return Damaged(store, known, findings);
        Look? look = null;
        try { look = LookAtRecords(store, findings); }
        catch (Exception error) when (error is not OperationCanceledException && engine.Complaints().Count > 0)
        {
            // The damage explains it.
        }
        if (!engine.IsOver) observer.Progress(OwnCheck, 0, 0);
        if (engine.Complaints() is { Count: > 0 } complaints) return Damaged(store, complaints, findings);
        if (look is null) return Result(findings);
        look.Documents?.ReadFiles(observer, cancel);
        if (look.Way.Count > 1) new WayTrial(look.Way, settings, Target, Scratch, findings, observer, cancel).Run(store);
        return Result(findings);
    }

    private const string OwnCheck = "the engine's own check";

    // What is looked at when the records were.
    private sealed record Look(DocumentCheck? Documents, IReadOnlyList<Correspondence> Way);

    // What else was found says nothing of a damaged store.
    private CheckResult Damaged(IStore store, IReadOnlyList<string> complaints, FindingCollector findings)
    {
        findings.Forget();
        _counts.Clear();
        var damage = new FindingHead(FindingKinds.Damaged, Grade.Fault, "", "", "the engine's own check complains",
            "Restore the store from the office's own backup, or send it to the vendor with this list.");
        if (complaints.Count > MaxComplaints)
            foreach (string complaint in complaints) findings.Add(damage, complaint);
        else findings.Add(damage, complaints.Count, complaints);
        return Result(findings) with { Lost = ReadWhatCanBe(store) };
    }

    // All that is to be told of the records; null where they need not be looked at any further.
    private Look? LookAtRecords(IStore store, FindingCollector findings)
    {
        foreach (StoreRemark remark in store.Remarks)
            findings.Add(remark.Kind == StoreRemark.DeletedRecords
                ? new FindingHead(FindingKinds.DeletedRecords, Grade.Note, "", "", "many records are only marked as deleted",
                    "Nothing: they are not carried. The old program's packing removes them.")
                : new FindingHead(FindingKinds.OddStore, Grade.Note, "", "", "something about the store is odd, but not damage",
                    "Read what it is; usually nothing needs to be done."), 1, [remark.What]);
        ShapeCheck.Run(store, version, next, findings);
        if (findings.Has(head => head.Grade == Grade.Fault)) return null;
        // What the kit does not know is looked at as well, and tried with the hop that carries it.
        CustomFields custom = CustomFields.Of(store, version);
        IReadOnlyList<Correspondence> way = next is null ? [] : custom.In([next, .. Beyond]);
        if (next is { IsOnCopy: false }) new EmptyBeginningCheck(store, store.ReadShape(), version).Run(way, findings);
        (version, next) = (custom.In(version), way.Count > 0 ? way[0] : null);
        DocumentCheck? documents = DocumentFolders.Count > 0 ? new DocumentCheck(DocumentFolders, findings) : null;
        try
        {
            Plan(store, findings, documents);
            foreach (TableScan scan in _scans.Values)
            {
                scan.ReadOnce(store, observer, cancel, MapOf(scan));
                _counts[scan.Table.Name] = scan.RowsRead;
            }
            Baselines = [.. _scans.Values.SelectMany(scan => scan.Probes).OfType<BaselineProbe>().Select(probe => probe.Taken!)];
            _trial?.Conclude();
            // Copies first: what they added a second time is taken back before sums and numbers are judged.
            NamingPasses.Run(store, _scans.Values.SelectMany(scan => scan.Probes).OfType<KeyProbe>(), observer, cancel);
            NamingPasses.Run(store, _scans.Values.SelectMany(scan => scan.Probes).Where(probe => probe is not KeyProbe).Concat(_judges),
                observer, cancel);
        }
        finally
        {
            foreach (Probe probe in _scans.Values.SelectMany(scan => scan.Probes).Concat(_judges)) probe.Dispose();
        }
        return new Look(documents, way);
    }

    private CheckResult Result(FindingCollector findings) => new(version.Name, _counts, findings.All());

    // Of a damaged store: how many records can still be read, and where the others are.
    private List<LostPart> ReadWhatCanBe(IStore store)
    {
        var lost = new List<LostPart>();
        IReadOnlyList<TableShape> tables;
        try { tables = store.ReadShape(); }
        catch (TransferraException error)
        {
            return [new LostPart("", "all tables", error.Message)];
        }
        foreach (TableShape table in tables)
        {
            var batch = new RecordBatch(table.Columns);
            long rows = 0;
            try
            {
                using IRecordReader reader = store.ReadWhatCanBe(table, lost);
                for (bool more = true; more; rows += batch.RowCount)
                {
                    cancel.ThrowIfCancellationRequested();
                    batch.Reset();
                    more = reader.Fill(batch);
                    observer.Progress(table.Name, rows, 0);
                }
            }
            catch (TransferraException error)
            {
                lost.Add(new LostPart(table.Name, "the whole table", error.Message));
            }
            _counts[table.Name] = rows;
        }
        return lost;
    }

    private void Plan(IStore store, FindingCollector findings, DocumentCheck? documents)
    {
        var heads = new ValueHeads(version.Name, MendOf);
        var twice = new DecodedTwice(TextPages.OfAll(version.TextEncoding));
        _trial = next is null ? null : new HopTrial(next, store, settings, Target with { Kit = Beyond.Count > 0 ? null : Target.Kit },
            heads, findings);
        foreach (TableShape table in version.Tables)
        {
            TableMap? map = next is null ? null : next.MapOf(table.Name);
            TableTransform? lane = map is null ? null : _trial!.LaneOf(map);
            var scan = new TableScan(table, lane?.Source ?? new RecordBatch(table.Columns)) { Answers = settings };
            _scans[table.Name] = scan;
            TableChecks? checks = version.Checks.FirstOrDefault(checks => checks.Table.Name == table.Name);
            TrialProbe? trial = map is null ? null : _trial!.Plan(scan, map, lane!);
            scan.Probes.Add(new ValueProbe(scan, checks, trial, FateOf(table, map), twice, heads, findings));
            if (table.Key.Count > 0 && !store.KeepsKey(table.Name, table.Key)) scan.Probes.Add(KeyProbeOf(scan, map, findings));
            if (checks is not null) PlanChecks(scan, checks, findings, documents);
            if (TakesBaseline && map?.Combining is null) scan.Probes.Add(new BaselineProbe(scan));
        }
        PlanRelations(store, findings);
        foreach (BookRule rule in version.Rules) PlanRule(store, rule, findings);
    }

    // What nobody described is declared by the store alone, which holds other values all the same.
    private ValueFate FateOf(TableShape table, TableMap? map) => next is null
        ? version.IsOfStore || table.IsUndescribed || IsCarriedAsItWas(table.Name) ? ValueFate.Stays : ValueFate.Judged
        : map is null ? ValueFate.LeftOut : next.Keeps(map) ? ValueFate.Stays : ValueFate.Converted;

    private KeyProbe KeyProbeOf(TableScan scan, TableMap? map, FindingCollector findings)
    {
        string table = scan.Table.Name, key = string.Join(", ", scan.Table.Key), mend = MendOf(MendKind.DropCopies, table, "");
        bool leftOut = map?.ExactCopies is not null, fine = leftOut || map is null && next is not null;
        var copies = new FindingHead(FindingKinds.ExactCopies, fine ? Grade.Warning : Grade.Fault, table, key,
            "records that are there more than once, the same in every column",
            leftOut ? $"Nothing: the conversion leaves out all but one, by the rule \"{map!.ExactCopies}\"." : mend.Length > 0
                ? "Have all but one taken out of a copy: transferra check CODE --mend" : $"Delete all but one in version {version.Name}.")
        { IsMendable = leftOut, Mend = mend };
        return new KeyProbe(scan, copies,
            new FindingHead(FindingKinds.ConflictingKey, Grade.Fault, table, key, $"records that share their key ({key}) with another",
                $"Correct them in version {version.Name}, or send the list to the vendor."), findings);
    }

    private void PlanChecks(TableScan scan, TableChecks checks, FindingCollector findings, DocumentCheck? documents)
    {
        string table = scan.Table.Name;
        foreach (BusinessKey key in checks.BusinessKeys.Where(key => !NotAnswered(key.Where?.Answers, table,
            $"the same {string.Join(", ", key.Columns)}", findings)))
            scan.Probes.Add(new BusinessKeyProbe(scan, key, new FindingHead(FindingKinds.BusinessKey, Grade.Warning, table,
                string.Join(", ", key.Columns),
                $"records with the same {string.Join(", ", key.Columns)}: {key.Because}",
                    $"Look at them in version {version.Name}; correct or reverse those that are there twice."), findings));
        if (checks.Tree is { } tree)
            scan.Probes.Add(new TreeProbe(scan, tree, new FindingHead(FindingKinds.Cycle, Grade.Fault, table, tree.Parent,
                $"records that are their own ancestors through {tree.Parent}",
                    $"Give one of them another {tree.Parent} in version {version.Name}."),
                new FindingHead(FindingKinds.NotChecked, Grade.Warning, table, tree.Parent,
                    $"the tree by {tree.Parent} was not looked at: it has too many records",
                        "Have the engine look at it with a query of its own."), findings));
        foreach (NumberSeries series in checks.Series.Where(series => !NotAnswered(series.Number.Answers, table, series.Name, findings)))
            scan.Probes.Add(new SeriesProbe(scan, series, new FindingHead(FindingKinds.SeriesGap, Grade.Warning, table, series.Name,
                $"{series.Name}: numbers that are missing", "Find out what happened to them, and write it down."),
                new FindingHead(FindingKinds.SeriesRepeat, Grade.Warning, table, series.Name,
                    $"{series.Name}: numbers that are there more than once",
                    $"Give one of the records a new number in version {version.Name}."), findings));
        foreach (FileLink link in checks.Files)
            if (documents is not null) scan.Probes.Add(documents.ProbeOf(scan, link, version.Name));
    }

    // Relations that the kit declares, and those that only the store itself does.
    private void PlanRelations(IStore store, FindingCollector findings)
    {
        var sets = new Dictionary<string, LinkSet>(StringComparer.OrdinalIgnoreCase);
        IReadOnlyList<TableShape> real = store.ReadShape();
        foreach (TableScan scan in _scans.Values)
        {
            IEnumerable<RelationShape> declared = real.FirstOrDefault(table => string.Equals(table.Name, scan.Table.Name,
                StringComparison.OrdinalIgnoreCase))?.Relations
                .Where(relation => relation.Columns.All(column => scan.Table.OrdinalOf(column) >= 0) && version.Table(relation.To) is { } to
                    && relation.On.All(column => to.OrdinalOf(column) >= 0)) ?? [];
            foreach (RelationShape relation in scan.Table.Relations.Concat(declared).DistinctBy(Words, StringComparer.OrdinalIgnoreCase))
            {
                TableScan target = _scans[relation.To];
                string columns = string.Join(", ", relation.Columns), mend = MendOf(MendKind.SetOrphansAside, scan.Table.Name, "");
                var head = new FindingHead(FindingKinds.Orphan, Grade.Fault, scan.Table.Name, Words(relation),
                    $"records whose {columns} points to no record of {target.Table.Name}",
                    $"Correct them in version {version.Name}: enter the missing record of {target.Table.Name}, or have them point to "
                        + $"another.{(mend.Length > 0 ? " Or have them set aside in a list: transferra check CODE --mend" : "")}")
                { Mend = mend };
                _judges.Add(new RelationProbe(scan, relation.Columns, SetOf(scan, relation.Columns), [SetOf(target, relation.On)], head,
                    findings));
            }
        }

        foreach (TableChecks checks in version.Checks)
            foreach (CheckedLink link in checks.Links) PlanLink(_scans[checks.Table.Name], link);

        void PlanLink(TableScan scan, CheckedLink link)
        {
            if (NotAnswered(link.Where?.Answers, scan.Table.Name, $"the link of {string.Join(", ", link.Columns)}", findings)) return;
            string columns = string.Join(", ", link.Columns), to = string.Join(" or ", link.Targets.Select(target => target.To));
            var head = new FindingHead(FindingKinds.Orphan, Grade.Fault, scan.Table.Name, $"{columns} to {to}",
                $"records whose {columns} points to no record of {to}", $"Correct them in version {version.Name}: enter the missing record "
                    + "of " + to + ", or have them point to another.");
            var from = new LinkSet(scan, link.Columns, link);
            scan.Probes.Add(from);
            _judges.Add(new RelationProbe(scan, link.Columns, from, [.. link.Targets.Select(target => SetOf(_scans[target.To], target.On))],
                head, findings, link));
        }

        LinkSet SetOf(TableScan scan, IReadOnlyList<string> columns)
        {
            string name = $"{scan.Table.Name}\0{string.Join('\0', columns)}";
            if (sets.TryGetValue(name, out LinkSet? set)) return set;
            scan.Probes.Add(sets[name] = set = new LinkSet(scan, columns));
            return set;
        }

        static string Words(RelationShape relation) =>
            $"{string.Join(", ", relation.Columns)} to {relation.To} ({string.Join(", ", relation.On)})";
    }

    // What needs an answer that nobody has given is not judged, and that is told.
    private bool NotAnswered(IEnumerable<string>? needed, string table, string what, FindingCollector findings)
    {
        if (needed?.FirstOrDefault(name => !settings.ContainsKey(name)) is not { } missing) return false;
        findings.Add(new FindingHead(FindingKinds.NotChecked, Grade.Warning, table, what, $"{what}: not looked at, as nobody has answered "
            + missing, $"Answer it in office.yaml, under the company: answers: {{{missing}: ...}}"), 1, []);
        return true;
    }

    private void PlanRule(IStore store, BookRule rule, FindingCollector findings)
    {
        if (NotAnswered(rule.Answers, rule is GroupRule sums ? sums.Side.Table.Name : ((RecordRule)rule).Table.Name, rule.Name,
            findings))
            return;
        if (rule is RecordRule record)
        {
            TableScan scan = _scans[record.Table.Name];
            var head = new FindingHead(FindingKinds.RuleBroken, Grade.Fault, record.Table.Name, rule.Name,
                $"{rule.Name}: records for which it does not hold", Ask());
            scan.Probes.Add(new RecordRuleProbe(scan, record, LookupLoader.Load(store, record.Lookups), head, findings));
            return;
        }
        var groups = (GroupRule)rule;
        string by = groups.Side.ByText.Count > 0 ? $" by {string.Join(", ", groups.Side.ByText)}" : "",
            mend = MendOf(MendKind.Recompute, groups.Side.Table.Name, rule.Name);
        string what = groups.Other is { } against
            ? $"{rule.Name}: the sum of {groups.Side.Table.Name}{by} should equal that of {against.Table.Name}"
            : $"{rule.Name}: the sum{by} should be {DecimalText.Format(groups.MustBe, groups.Scale)}";
        var broken = new FindingHead(FindingKinds.RuleBroken, Grade.Fault, groups.Side.Table.Name, rule.Name, what, mend.Length > 0
            ? "Have the stored totals recomputed on a copy: transferra check CODE --mend" : Ask())
        { Mend = mend };
        var amounts = new GroupSums();
        var sides = new List<(TableScan, SideProbe)>();
        Side(groups.Side, isOther: false);
        if (groups.Other is { } other) Side(other, isOther: true);
        _judges.Add(new GroupRuleProbe(groups, sides, amounts, broken, findings));

        void Side(RuleSide side, bool isOther)
        {
            TableScan scan = _scans[side.Table.Name];
            var probe = new SideProbe(scan, groups, isOther, amounts, LookupLoader.Load(store, side.Lookups));
            scan.Probes.Add(probe);
            sides.Add((scan, probe));
        }

        string Ask() => $"Correct the postings in version {version.Name}, or ask whoever keeps the books.";
    }

    // The mend that the kit allows for it, as kits spell it; "" when none. What is named is a column, or the rule of a stored total.
    private string MendOf(MendKind kind, string table, string named) => version.Mends.FirstOrDefault(mend => mend.Kind == kind
        && mend.Table?.Name == table
        && (named.Length == 0 || mend.Rule?.Name == named || mend.Columns.Contains(named, StringComparer.OrdinalIgnoreCase)))?.Name ?? "";

    private TableMap? MapOf(TableScan scan) => next?.MapOf(scan.Table.Name);
}
