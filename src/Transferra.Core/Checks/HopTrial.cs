// HopTrial.cs: tries one hop on all records of a store without writing: what cannot be converted, what the new engine would not take,
// keys and relations of the new tables, and whether the new store would tell its version.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>The new store that a trial is for.</summary>
/// <param name="Judge">What its engine takes.</param>
/// <param name="Engine">As office.yaml calls the engine; "" when it is not known.</param>
/// <param name="Kit">Whose signs tell versions; null when those are not looked at.</param>
public sealed record TrialTarget(IStoreJudge Judge, string Engine, Kit? Kit)
{
    /// <summary>Takes everything and tells nothing.</summary>
    public static readonly TrialTarget Any = new(new TakesAll(), "", null);
}

/// <summary>Tries a hop.</summary>
internal sealed class HopTrial
{
    private readonly Correspondence _correspondence;
    private readonly IStore _store;
    private readonly IReadOnlyDictionary<string, string> _settings;
    private readonly TrialTarget _target;
    private readonly ValueHeads _heads;
    private readonly FindingCollector _findings;
    private readonly string _where;
    private readonly List<TargetRelation> _relations = [];
    private readonly SignTrial? _signs;

    /// <param name="correspondence">What the hop makes of what.</param>
    /// <param name="store">What is to go through it.</param>
    /// <param name="settings">Answers to its new settings.</param>
    /// <param name="target">The new store.</param>
    /// <param name="heads">Words for values.</param>
    /// <param name="findings">Where findings go.</param>
    /// <param name="where">Words behind each finding; "" for the first hop.</param>
    public HopTrial(Correspondence correspondence, IStore store, IReadOnlyDictionary<string, string> settings, TrialTarget target,
        ValueHeads heads,
        FindingCollector findings, string where = "")
    {
        (_correspondence, _store, _settings, _target, _heads, _findings, _where) = (correspondence, store, settings, target, heads,
            findings, where);
        _signs = target.Kit is null ? null : new SignTrial(target.Kit, correspondence.To, target.Engine);
        foreach (string complaint in target.Judge.Complaints(correspondence.To.Tables))
            findings.Add(new FindingHead(FindingKinds.NotConvertible, Grade.Fault, "", $"{correspondence.To.Name}: {complaint}",
                complaint + where,
                "Name it otherwise in the kit's new version, or choose another engine for the new store in office.yaml."), 1, []);
        if (!target.Judge.KeepsKeys) return;
        foreach (TableShape table in correspondence.To.Tables.Where(table => !table.IsUndescribed))
            foreach (RelationShape relation in table.Relations.Where(relation => correspondence.To.Table(relation.To) is not null
                && !FollowsFromOld(table, relation)))
                _relations.Add(new TargetRelation(table, relation, new TargetDigests(), new TargetDigests()));
    }

    // Where both ends are old columns as they are, the old tables have the same relation and nothing of the other table is left out, the
    // old relation says it all.
    private bool FollowsFromOld(TableShape table, RelationShape relation)
    {
        if (_correspondence.Feeding(table.Name) is not var (childMap, child)
            || _correspondence.Feeding(relation.To) is not var (parentMap, parent)) return false;
        if (parentMap.RowsLeftOut.Count > 0 || parentMap.Combining is not null) return false;
        string?[] from = [.. relation.Columns.Select(column => OldColumn(childMap, child, column))],
            to = [.. relation.On.Select(column => OldColumn(parentMap, parent, column))];
        return childMap.From.Relations.Any(old => string.Equals(old.To, parentMap.From.Name, StringComparison.OrdinalIgnoreCase)
            && old.Columns.SequenceEqual(from, StringComparer.OrdinalIgnoreCase)
                && old.On.SequenceEqual(to, StringComparer.OrdinalIgnoreCase));
    }

    private static string? OldColumn(TableMap map, TargetMap target, string column)
    {
        ColumnMap? feeding = target.Columns.FirstOrDefault(known => string.Equals(known.Column.Name, column,
            StringComparison.OrdinalIgnoreCase));
        return feeding is null ? null : map.From.Columns.FirstOrDefault(old => Correspondence.IsColumn(feeding.Value, old.Name))?.Name;
    }

    /// <summary>Something that converts the table's records where they are read to.</summary>
    public TableTransform LaneOf(TableMap map) => new(map, LookupLoader.Load(_store, map), _settings,
        judgesCopies: map.Combining is not null);

    /// <summary>Adds what looks at a table.</summary>
    /// <param name="scan">The table, read into the lane's source.</param>
    /// <param name="map">Its map.</param>
    /// <param name="lane">What <see cref="LaneOf"/> made.</param>
    public TrialProbe Plan(TableScan scan, TableMap map, TableTransform lane)
    {
        var trial = new TrialProbe(scan, map, lane, _target.Judge, _heads, _correspondence.Keeps(map) ? null : _findings);
        scan.Probes.Add(trial);
        var written = new TargetProbe(scan, map, lane, _target.Judge, _relations, _findings, _where);
        if (written.HasWork) scan.Probes.Add(written);
        if (_signs?.ProbeOf(lane) is { } signs) scan.Probes.Add(signs);
        return trial;
    }

    /// <summary>Judges what no single table tells; after all tables have been read.</summary>
    public void Conclude()
    {
        foreach (NewRecord record in _correspondence.NewRecords)
        {
            TableOutput output;
            try { output = NewRecords.Evaluate(record, _settings); }
            catch (TransferraException) { continue; } // an answer is still open; ready asks for it
            _signs?.See(output, [0]);
            foreach (TargetRelation relation in _relations.Where(relation => string.Equals(relation.Relation.To, output.Table.Name,
                StringComparison.OrdinalIgnoreCase)))
                TargetProbe.Gather(output, relation.Relation.On, [0], relation.To.Digests);
        }
        if (_signs?.Complaint() is { } complaint)
            _findings.Add(new FindingHead(FindingKinds.VersionSign, Grade.Fault, "", _correspondence.To.Name, complaint + _where,
                "Correct the kit: what tells the new version (told-by), the hop that writes it, or header-fields."), 1, []);
    }

    /// <summary>Reads all tables of the store for it, and judges.</summary>
    public void Run(IProgressObserver observer, CancellationToken cancel)
    {
        var scans = new List<TableScan>();
        try
        {
            foreach (TableMap map in _correspondence.Tables)
            {
                TableTransform lane = LaneOf(map);
                var scan = new TableScan(map.From, lane.Source);
                scans.Add(scan);
                Plan(scan, map, lane);
                scan.ReadOnce(_store, observer, cancel, map);
            }
            Conclude();
            NamingPasses.Run(_store, scans.SelectMany(scan => scan.Probes), observer, cancel);
        }
        finally
        {
            foreach (Probe probe in scans.SelectMany(scan => scan.Probes)) probe.Dispose();
        }
    }
}
