// SignTrial.cs: whether the store that a hop would make tells its version, and no other, by the kit's signs; as far as that is told by
// records and header fields.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Looks at what would be written for the signs of all versions.</summary>
/// <param name="kit">The kit.</param>
/// <param name="to">The version that the new store is of.</param>
/// <param name="engine">The new store's engine, as office.yaml calls it.</param>
internal sealed class SignTrial(Kit kit, KitVersion to, string engine)
{
    /// <summary>A record that tells, and what it said.</summary>
    private sealed class Place(RecordSign sign)
    {
        private readonly RecordBatch _one = new(sign.Table.Columns);
        private readonly Kernel _where = new ExpressionCompiler(new ExpressionScope(sign.Table.Name, sign.Table.Columns, [],
            new Dictionary<string, string>())).CompileCondition(sign.Where);

        public RecordSign Sign => sign;

        public bool IsFound { get; private set; }

        public string? Says { get; private set; }

        public void See(TableOutput output, ReadOnlySpan<int> rows)
        {
            if (IsFound || !string.Equals(output.Table.Name, sign.Table.Name, StringComparison.OrdinalIgnoreCase)) return;
            int[] ordinals = [.. sign.Table.Columns.Select(column => output.Table.OrdinalOf(column.Name))];
            if (Array.Exists(ordinals, ordinal => ordinal < 0)) return;
            if (ordinals.Where((ordinal, i) => output.Vectors[ordinal].Type is var type && (type.Kind != sign.Table.Columns[i].Type.Kind
                || type.Scale != sign.Table.Columns[i].Type.Scale)).Any()) return;
            _one.Reset();
            foreach (int row in rows)
                for (int i = 0; i < ordinals.Length; i++) _one.Vectors[i].AppendFrom(output.Vectors[ordinals[i]], row);
            var context = new EvaluationContext(_one, []);
            context.ActivateAll();
            var holds = (LongVector)_where.Evaluate(context);
            Vector value = _one.Vectors[sign.Table.OrdinalOf(sign.Column)];
            for (int row = 0; row < _one.RowCount && !IsFound; row++)
                if (!holds.IsNull(row) && holds.Values[row] != 0) (IsFound, Says) = (true, value.IsNull(row) ? null : value.Show(row));
        }
    }

    private readonly Dictionary<string, Place> _places = kit.Versions.SelectMany(version => version.Evidence)
        .Where(evidence => evidence.Record is not null)
        .DistinctBy(evidence => evidence.Where).Select(evidence => (evidence.Where, Sign: evidence.Record!.Over(to.Tables)))
        .Where(place => place.Sign is not null).ToDictionary(place => place.Where, place => new Place(place.Sign!));

    /// <summary>Looks at rows that would be written.</summary>
    public void See(TableOutput output, ReadOnlySpan<int> rows)
    {
        foreach (Place place in _places.Values) place.See(output, rows);
    }

    /// <summary>What looks at a table's lane; null when no sign is in what it writes.</summary>
    public Probe? ProbeOf(TableTransform lane) => lane.Outputs.Any(output => _places.Values.Any(place =>
        string.Equals(place.Sign.Table.Name, output.Table.Name, StringComparison.OrdinalIgnoreCase))) ? new Looking(this, lane) : null;

    /// <summary>What is wrong with what the new store would tell; null when nothing is.</summary>
    public string? Complaint()
    {
        var told = new List<(string Where, string Says, string? Version)>();
        bool isKnown = false;
        foreach (IGrouping<string, (KitVersion Version, DataEvidence Evidence)> place in kit.Versions
            .SelectMany(version => version.Evidence.Select(evidence => (version, evidence))).GroupBy(entry => entry.evidence.Where))
        {
            DataEvidence first = place.First().Evidence;
            // What a query of the engine would say is seen when the store is there; what lies around the old store says nothing of the new.
            if (first.Sql is not null || first.Outside is not null) continue;
            string? says = first.IsByTables ? first.SaidBy(to.Tables) : first.Header is { } header ? HeaderField(header)
                : _places.GetValueOrDefault(place.Key)?.Says,
                version = place.FirstOrDefault(entry => entry.Evidence.Value == says).Version?.Name;
            isKnown |= place.Any(entry => entry.Version.Name == to.Name);
            if (says is null || (first.Header is not null && version is null && says == "0")) continue;
            told.Add((place.Key, says, version));
        }
        if (told.Find(sign => sign.Version != to.Name) is { Where: not null } other)
            return $"the new store would not identify itself as version {to.Name}: {other.Where} would say "
                + $"{ValueText.Quote(other.Says)}{(other.Version is null ? "" : $", which means version {other.Version}")}";
        bool isTold = told.Count > 0 || !isKnown || to.Evidence.Any(evidence => evidence.Sql is not null);
        return isTold ? null : $"the new store would not identify itself as version {to.Name}: nothing of "
            + $"{string.Join(", ", to.Evidence.Select(evidence => evidence.Where))} would be there";
    }

    private string? HeaderField(string name) => engine != "sqlite" ? null : to.HeaderFields.GetValueOrDefault(name)
        ?? (name is "user_version" or "application_id" ? "0" : null);

    private sealed class Looking(SignTrial trial, TableTransform lane) : Probe
    {
        private int[] _rows = [];

        public override void Take()
        {
            if (_rows.Length < lane.RowCount) _rows = new int[lane.RowCount];
            ReadOnlySpan<int> carried = _rows.AsSpan(0, lane.CarriedRows(_rows));
            foreach (TableOutput output in lane.Outputs) trial.See(output, carried);
        }
    }
}
