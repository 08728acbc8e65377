// TableTransform.cs: one lane of a conversion: a batch of old records, the compiled map, and what comes out.
// Several lanes of one table run the same map on different batches, so that reading, computing and writing overlap.
// Holds: (1) after Apply every row has a final fate; (2) a row is in all outputs or in none; (3) an exception names every cause found.
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>Converts batches of one old table. Not thread-safe; a lane belongs to one thread at a time.</summary>
internal sealed class TableTransform
{
    private sealed record Target(TableShape Table, Kernel[] Kernels, Vector[] Results);

    private sealed record Rule(string Because, int Target, int Column, int Source);

    private readonly TableMap _map;
    private readonly bool _judgesCopies;
    private readonly int[] _key;
    private readonly int[] _all;
    private readonly int[] _combineBy;
    private readonly int _combineText = -1;
    private readonly Target[] _targets;
    private readonly (Kernel Condition, string Because)[] _leftOut;
    private readonly Rule[] _rules;
    private readonly EvaluationContext _context;
    private readonly Dictionary<int, List<ExceptionCause>> _causes = [];
    private readonly HashSet<int> _refused = [];
    private readonly CanonicalWriter _bytes = new();
    private RowFate[] _fates = [];
    private int[] _survivor = [];

    /// <summary>A lane for a table map.</summary>
    /// <param name="map">The map; loaded without mistakes.</param>
    /// <param name="lookups">Loaded lookups, in the map's order; shared between lanes.</param>
    /// <param name="settings">Answers to the hop's new settings.</param>
    /// <param name="limits">Batch size; null for the usual.</param>
    /// <param name="judgesCopies">Whether records with the same key, which must be side by side then, are judged; a check does that by
    /// itself.</param>
    public TableTransform(TableMap map, IReadOnlyList<LookupTable> lookups, IReadOnlyDictionary<string, string> settings,
        BatchLimits? limits = null, bool judgesCopies = true)
    {
        (_map, _judgesCopies) = (map, judgesCopies);
        Source = new RecordBatch(map.From.Columns, limits);
        _context = new EvaluationContext(Source, lookups);
        _key = Ordinals(map.From, map.From.Key);
        _all = [.. Enumerable.Range(0, map.From.Columns.Count)];
        _combineBy = map.Combining is null ? [] : Ordinals(map.From, map.Combining.By);
        if (map.Combining is not null) _combineText = map.From.OrdinalOf(map.Combining.Text);
        var compiler = new ExpressionCompiler(new ExpressionScope(map.From.Name, map.From.Columns,
            [.. map.Lookups.Select(lookup => lookup.Shape)], settings));
        _targets = [.. map.Into.Select(target => new Target(target.Table,
            [.. target.Columns.Select(column => compiler.CompileFor(column.Value, column.Column))], new Vector[target.Columns.Count]))];
        _leftOut = [.. map.RowsLeftOut.Select(rule => (compiler.CompileCondition(rule.Where), rule.Because))];
        _rules = [.. map.Into.SelectMany((target, t) => target.Columns.Select((column, c) => (column, t, c)))
            .Where(entry => entry.column.Changes is not null)
            .Select(entry => new Rule(entry.column.Changes!, entry.t, entry.c, map.From.OrdinalOf(entry.column.ComparedWith!)))];
        Outputs = [.. _targets.Select(target => new TableOutput(target.Table, target.Results))];
    }

    /// <summary>The old records; fill it, then call <see cref="Apply"/>.</summary>
    public RecordBatch Source { get; }

    /// <summary>Rows of the batch.</summary>
    public int RowCount => Source.RowCount;

    /// <summary>What became of each row.</summary>
    public ReadOnlySpan<RowFate> Fates => _fates.AsSpan(0, RowCount);

    /// <summary>New values of all rows, per new table; of use only where the row's fate is Carried or Changed.</summary>
    public IReadOnlyList<TableOutput> Outputs { get; }

    /// <summary>How many rows each declared rule touched.</summary>
    public Dictionary<string, long> RuleCounts { get; } = [];

    // Records with the same key must come one after the other, to be judged or combined. Where there are none, any order will do.
    private static IReadOnlyList<string> OrderOf(IStore store, TableMap map) => map.Combining is null && store.KeepsKey(map.From.Name,
        map.From.Key) ? [] : map.From.Key;

    /// <summary>The ordinals to group the reading by.</summary>
    public static int[] GroupOf(TableMap map) => Ordinals(map.From, map.Combining?.By ?? map.From.Key);

    /// <summary>Opens the reading of a table as this transform wants it.</summary>
    public static KeyGroupedReader Read(IStore store, TableMap map) =>
        new(store.Read(map.From, OrderOf(store, map)), map.From.Name, map.From.Columns, GroupOf(map));

    private static int[] Ordinals(TableShape table, IReadOnlyList<string> columns) => [.. columns.Select(table.OrdinalOf)];

    /// <summary>The key of a row as a person reads it; the whole row when it has none.</summary>
    public string ShowKey(int row) => Source.ShowKey(row, Source.HasAny(row, _key) ? _key : _all);

    /// <summary>Converts the batch in <see cref="Source"/>.</summary>
    public void Apply()
    {
        int rows = RowCount;
        if (_fates.Length < rows) (_fates, _survivor, _context.Active) = (new RowFate[rows], new int[rows], new bool[rows]);
        Array.Clear(_fates, 0, rows);
        _causes.Clear();
        _refused.Clear();
        RuleCounts.Clear();
        foreach (RowFault fault in Source.Faults) Except(fault.Row, new ExceptionCause(fault.Column, "", fault.Code, fault.Value,
            fault.Reason));
        if (_key.Length > 0 && _judgesCopies) JudgeCopies(rows);
        LeaveOut(rows);
        Vector? plainText = _map.Combining is null ? null : Combine(rows);
        foreach (Target target in _targets) Evaluate(target, rows);
        if (plainText is not null) Source.Vectors[_combineText] = plainText;
        Conclude(rows);
    }

    /// <summary>Rows that go to the new store.</summary>
    public int CarriedRows(Span<int> rows)
    {
        int count = 0;
        for (int row = 0; row < RowCount; row++)
            if (_fates[row] is RowFate.Carried or RowFate.Changed) rows[count++] = row;
        return count;
    }

    /// <summary>Makes exceptions of rows that the new store refused.</summary>
    public void Refuse(IReadOnlyList<RowReject> rejects)
    {
        foreach (RowReject reject in rejects)
        {
            Except(reject.Row, new ExceptionCause("", _targets[0].Table.Name, reject.Code, reject.Value, reject.Reason));
            _refused.Add(reject.Row);
        }
        if (rejects.Count > 0) FollowSurvivors(RowCount);
    }

    /// <summary>The exceptions of this batch, in row order.</summary>
    public IEnumerable<ExceptionRow> Exceptions() => _causes.OrderBy(entry => entry.Key)
        .Select(entry => new ExceptionRow(_map.From.Name, ShowKey(entry.Key), entry.Value)
        {
            Record = RefusedRecords.Digest(Source.Vectors, entry.Key, _bytes)
                .ToString("x32", System.Globalization.CultureInfo.InvariantCulture),
            IsRefused = _refused.Contains(entry.Key),
            KeyValues = _key.Where(column => !_map.From.Columns[column].IsPrivate).ToDictionary(column => _map.From.Columns[column].Name,
                column => Source.Vectors[column].IsNull(entry.Key) ? null : Source.Vectors[column].Show(entry.Key)),
        });

    private void Except(int row, ExceptionCause cause)
    {
        if (cause.Value.Length > 0 && !cause.Column.Split(", ").All(_map.From.MayShow))
            cause = cause with
            {
                Value = TableShape.Private,
                Reason = cause.Reason.Replace(cause.Value, TableShape.Private,
                StringComparison.Ordinal)
            };
        _fates[row] = RowFate.Exception;
        if (!_causes.TryGetValue(row, out List<ExceptionCause>? causes)) _causes[row] = causes = [];
        if (!causes.Any(known => known.Column == cause.Column && known.Code == cause.Code
            && known.Reason == cause.Reason)) causes.Add(cause);
    }

    private void Touch(string rule) => RuleCounts[rule] = RuleCounts.GetValueOrDefault(rule) + 1;

    private void JudgeCopies(int rows)
    {
        for (int start = 0, end; start < rows; start = end)
        {
            end = start + 1;
            while (end < rows && Source.SameRows(start, end, _key)) end++;
            if (end - start == 1) continue;
            bool allSame = true;
            for (int row = start + 1; row < end; row++) allSame &= Source.SameRows(start, row, _all);
            string key = ValueText.Quote(ShowKey(start));
            for (int row = start; row < end; row++)
            {
                if (!allSame) Except(row, new ExceptionCause(string.Join(", ", _map.From.Key), "", FaultCode.ConflictingKey, ShowKey(row),
                    $"{end - start} records have the key {key} and are not the same"));
                else if (row == start) continue;
                else if (_map.ExactCopies is null) Except(row, new ExceptionCause(string.Join(", ", _map.From.Key), "",
                    FaultCode.DuplicateKey, ShowKey(row),
                    $"this is an exact copy of another record with the key {key}, and the kit has no rule for copies"));
                else if (_fates[row] == RowFate.Open)
                {
                    _fates[row] = RowFate.LeftOut;
                    Touch(_map.ExactCopies);
                }
            }
        }
    }

    private void Activate(int rows)
    {
        for (int row = 0; row < rows; row++) _context.Active[row] = _fates[row] == RowFate.Open;
        _context.Faults.Clear();
    }

    private void TakeFaults(string into)
    {
        foreach (RowFault fault in _context.Faults) Except(fault.Row, new ExceptionCause(fault.Column, into, fault.Code, fault.Value,
            fault.Reason));
        _context.Faults.Clear();
    }

    private void LeaveOut(int rows)
    {
        foreach ((Kernel condition, string because) in _leftOut)
        {
            Activate(rows);
            var holds = (LongVector)condition.Evaluate(_context);
            TakeFaults("");
            for (int row = 0; row < rows; row++)
            {
                if (_fates[row] != RowFate.Open || holds.IsNull(row) || holds.Values[row] == 0) continue;
                _fates[row] = RowFate.LeftOut;
                Touch(because);
            }
        }
    }

    // The first open row of each group survives and gets the joined text; the others are part of it.
    private Vector Combine(int rows)
    {
        Combining combining = _map.Combining!;
        byte[] separator = System.Text.Encoding.UTF8.GetBytes(combining.Separator);
        var plain = (BytesVector)Source.Vectors[_combineText];
        var joined = new BytesVector(FieldType.Text);
        for (int start = 0, end; start < rows; start = end)
        {
            end = start + 1;
            while (end < rows && Source.SameRows(start, end, _combineBy)) end++;
            int first = -1;
            using var text = new MemoryStream();
            for (int row = start; row < end; row++)
            {
                if (_fates[row] != RowFate.Open) continue;
                if (first >= 0)
                {
                    _fates[row] = RowFate.Combined;
                    _survivor[row] = first;
                    Touch(combining.Because);
                    text.Write(separator);
                }
                else first = row;
                text.Write(plain[row]);
            }
            for (int row = start; row < end; row++)
            {
                if (row == first) joined.Append(text.GetBuffer().AsSpan(0, (int)text.Length));
                else joined.AppendNull();
            }
        }
        Source.Vectors[_combineText] = joined;
        return plain;
    }

    private void Evaluate(Target target, int rows)
    {
        for (int column = 0; column < target.Kernels.Length; column++)
        {
            Activate(rows);
            // Rows with a fault in an earlier column stay active, so that an exception names every cause.
            foreach (int row in _causes.Keys) _context.Active[row] = _causes[row].All(cause => cause.Into.Length > 0);
            ColumnShape shape = target.Table.Columns[column];
            Vector result = target.Kernels[column].Evaluate(_context);
            target.Results[column] = result;
            TakeFaults($"{target.Table.Name}.{shape.Name}");
            if (!shape.Required && !target.Table.Key.Contains(shape.Name, StringComparer.OrdinalIgnoreCase)) continue;
            for (int row = 0; row < rows; row++)
                if (_fates[row] == RowFate.Open && result.IsNull(row))
                    Except(row, new ExceptionCause(ExpressionCompiler.Blame(_map.Into[Array.IndexOf(_targets,
                        target)].Columns[column].Value),
                        $"{target.Table.Name}.{shape.Name}", FaultCode.MissingValue, "", "a value is required and there is none"));
        }
    }

    private void Conclude(int rows)
    {
        FollowSurvivors(rows);
        for (int row = 0; row < rows; row++)
        {
            if (_fates[row] != RowFate.Open) continue;
            _fates[row] = RowFate.Carried;
            foreach (Rule rule in _rules)
            {
                if (SameText(_targets[rule.Target].Results[rule.Column], Source.Vectors[rule.Source], row)) continue;
                _fates[row] = RowFate.Changed;
                Touch(rule.Because);
            }
        }
    }

    private static bool SameText(Vector now, Vector before, int row)
    {
        if (now is BytesVector a && before is BytesVector b) return a.IsNull(row) == b.IsNull(row) && a[row].SequenceEqual(b[row]);
        return now.IsNull(row) == before.IsNull(row) && now.Show(row) == before.Show(row);
    }

    // What was to become part of a record that is an exception is not in the new store either.
    private void FollowSurvivors(int rows)
    {
        if (_map.Combining is null) return;
        for (int row = 0; row < rows; row++)
            if (_fates[row] == RowFate.Combined && _fates[_survivor[row]] == RowFate.Exception)
                Except(row, new ExceptionCause(string.Join(", ", _map.Combining.By), "", _causes[_survivor[row]][0].Code, "",
                    $"this is part of the record {ValueText.Quote(ShowKey(_survivor[row]))}, which could not be converted"));
    }
}
