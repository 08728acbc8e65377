// TargetProbe.cs: looks at what the hop would write, without writing it: keys that would be there twice in the new table, and relations
// that would not hold.
// Why only some tables: where the new key is the old one column by column, and the old relation stands behind the new one, the old
// records have been judged already.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>A new table's columns as digests, gathered over all that feed it.</summary>
internal sealed class TargetDigests : IDisposable
{
    public DigestSet Digests { get; } = new();

    public void Dispose() => Digests.Dispose();
}

/// <summary>A relation of the new version that is to be looked at.</summary>
/// <param name="Table">The new table.</param>
/// <param name="Relation">The relation.</param>
/// <param name="From">What its records hold.</param>
/// <param name="To">What the other table's records hold.</param>
internal sealed record TargetRelation(TableShape Table, RelationShape Relation, TargetDigests From, TargetDigests To);

/// <summary>Gathers what one table map writes.</summary>
/// <param name="scan">The old table.</param>
/// <param name="map">The map.</param>
/// <param name="lane">Applied to the batch by the trial before this probe looks at it.</param>
/// <param name="judge">The new engine.</param>
/// <param name="relations">Those of the new version that are to be looked at.</param>
/// <param name="findings">Where they go.</param>
/// <param name="where">Words behind the finding, such as " (on the way from version 6 to 7)"; "" for the first hop.</param>
internal sealed class TargetProbe(TableScan scan, TableMap map, TableTransform lane, IStoreJudge judge,
    IReadOnlyList<TargetRelation> relations, FindingCollector findings, string where)
    : Probe
{
    private readonly int[] _keyed = [.. Enumerable.Range(0, map.Into.Count).Where(i => judge.KeepsKeys && map.Into[i].Table.Key.Count > 0
        && !IsOldKey(map, map.Into[i], judge))];
    private readonly Dictionary<int, DigestList> _keys = [];
    private int[] _rows = [];

    /// <summary>Whether there is anything to look at.</summary>
    public bool HasWork => _keyed.Length > 0 || relations.Any(relation => map.Into.Any(target => IsOf(relation, target.Table)));

    private static bool IsOf(TargetRelation relation, TableShape table) => relation.Table.Name == table.Name
        || string.Equals(relation.Relation.To, table.Name, StringComparison.OrdinalIgnoreCase);

    // The new key holds each column of the old one as it is, so that two different old keys give two different new ones.
    private static bool IsOldKey(TableMap map, TargetMap target, IStoreJudge judge)
    {
        ColumnMap[] key = [.. target.Columns.Where(column => target.Table.Key.Contains(column.Column.Name,
            StringComparer.OrdinalIgnoreCase))];
        if (judge.IgnoresTrailingBlanks && key.Any(column => column.Column.Type.Kind == FieldKind.Text)) return false;
        return map.From.Key.Count > 0 && (map.Combining?.By ?? map.From.Key)
            .All(old => key.Any(column => Correspondence.IsColumn(column.Value, old)));
    }

    public override void Take()
    {
        if (_rows.Length < lane.RowCount) _rows = new int[lane.RowCount];
        ReadOnlySpan<int> carried = _rows.AsSpan(0, lane.CarriedRows(_rows));
        foreach (int i in _keyed)
        {
            if (!_keys.TryGetValue(i, out DigestList? keys)) _keys[i] = keys = new DigestList();
            foreach (int row in carried) keys.Add(KeyOf(i, row));
        }
        foreach (TargetRelation relation in relations)
            foreach (TableOutput output in lane.Outputs)
            {
                if (output.Table.Name == relation.Table.Name) Gather(output, relation.Relation.Columns, carried, relation.From.Digests);
                if (string.Equals(output.Table.Name, relation.Relation.To, StringComparison.OrdinalIgnoreCase)) Gather(output,
                    relation.Relation.On, carried, relation.To.Digests);
            }
    }

    /// <summary>Adds the digests of some columns of rows in which all of them have a value.</summary>
    public static void Gather(TableOutput output, IReadOnlyList<string> columns, ReadOnlySpan<int> rows, DigestSet into)
    {
        Vector[] vectors = [.. columns.Select(column => output.Vectors[output.Table.OrdinalOf(column)])];
        foreach (int row in rows)
            if (!Vector.IsAnyNull(vectors, row)) into.Add(ValueDigest.Of(vectors, row));
    }

    private ulong KeyOf(int target, int row)
    {
        TableOutput output = lane.Outputs[target];
        ulong digest = 0;
        foreach (string column in output.Table.Key)
        {
            Vector vector = output.Vectors[output.Table.OrdinalOf(column)];
            ulong of = judge.IgnoresTrailingBlanks && vector is BytesVector { Type.Kind: FieldKind.Text } texts && !texts.IsNull(row)
                ? System.IO.Hashing.XxHash3.HashToUInt64(texts[row].TrimEnd((byte)' ')) : Digest.Of(vector, row);
            digest = (digest * 0x9E3779B97F4A7C15) ^ of;
        }
        return digest;
    }

    public override IEnumerable<Naming> Judge()
    {
        foreach ((int target, DigestList keys) in _keys)
        {
            TableShape table = map.Into[target].Table;
            var head = new FindingHead(FindingKinds.ConflictingKey, Grade.Fault, scan.Table.Name,
                $"{table.Name} {string.Join(", ", table.Key)}",
                $"records that get the same key ({string.Join(", ", table.Key)}) in the new table {table.Name} as another{where}",
                "Correct them in the old program, or the kit: what it makes the new key of does not tell these records apart.");
            foreach (HashSet<ulong> shared in Portions.Of(keys.Repeated().Select(repeated => repeated.Digest)))
                yield return new Naming(scan, () => Name(row => shared.Contains(KeyOf(target, row)), head));
        }
        foreach (TargetRelation relation in relations.Where(relation => map.Into.Any(target => target.Table.Name == relation.Table.Name)))
        {
            RelationShape shape = relation.Relation;
            var head = new FindingHead(FindingKinds.Orphan, Grade.Fault, scan.Table.Name,
                $"{relation.Table.Name} {string.Join(", ", shape.Columns)} to {shape.To}",
                $"records that would point to no record of the new table {shape.To} (by "
                    + $"{relation.Table.Name}.{string.Join(", ", shape.Columns)}){where}",
                "Correct them in the old program, or the kit: the new version wants each to point to a record that is there.");
            foreach (HashSet<ulong> missing in Portions.Of(relation.From.Digests.NotIn(relation.To.Digests)))
                yield return new Naming(scan, () => Name(row => Points(relation, row) is { } digest && missing.Contains(digest), head));
        }
    }

    private ulong? Points(TargetRelation relation, int row)
    {
        TableOutput output = lane.Outputs.First(output => output.Table.Name == relation.Table.Name);
        Vector[] vectors = [.. relation.Relation.Columns.Select(column => output.Vectors[output.Table.OrdinalOf(column)])];
        return Vector.IsAnyNull(vectors, row) ? null : ValueDigest.Of(vectors, row);
    }

    private bool Name(Func<int, bool> isMeant, FindingHead head)
    {
        lane.Apply(); // the batch has been read anew
        if (_rows.Length < lane.RowCount) _rows = new int[lane.RowCount];
        int carried = lane.CarriedRows(_rows);
        for (int i = 0; i < carried; i++)
            if (isMeant(_rows[i])) findings.Add(head, scan.NameOf(_rows[i]));
        return true;
    }

    protected override void GiveUp()
    {
        foreach (DigestList keys in _keys.Values) keys.Dispose();
        foreach (TargetRelation relation in relations)
        {
            relation.From.Dispose();
            relation.To.Dispose();
        }
    }
}
