// CompanyCheck.cs: one full scan of a company's store: physical state, shape, keys, links, values, books.
// Holds: (1) nothing is changed; (2) every table is read whole, nothing is sampled; (3) findings are counted without limit,
//        and exemplified up to five.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Checks a store against what the kit says of its version.</summary>
/// <param name="version">The data version it has.</param>
/// <param name="hop">The hop it is to go through next, whose rules are tried without writing; null when there is none.</param>
/// <param name="settings">Answers to the hop's new settings.</param>
/// <param name="observer">Hears the progress.</param>
/// <param name="cancel">Stops between two batches.</param>
public sealed class CompanyCheck(KitVersion version, Hop? hop, IReadOnlyDictionary<string, string> settings, IProgressObserver observer, CancellationToken cancel)
{
    private const int MaxExamples = 5;
    private const int MaxReferencedKeys = 4_000_000;

    private sealed class Group
    {
        public long Count;
        public readonly List<string> Examples = [];

        public void Add(string example)
        {
            Count++;
            if (Examples.Count < MaxExamples) Examples.Add(example);
        }
    }

    private readonly List<Finding> _findings = [];
    private readonly Dictionary<string, long> _counts = [];

    /// <summary>Checks.</summary>
    public CheckResult Run(IStore store)
    {
        observer.Progress("physical check", 0, 0);
        IReadOnlyList<string> complaints = store.CheckPhysically();
        if (complaints.Count > 0)
            _findings.Add(new Finding(FindingKinds.Damaged, Grade.Fault, "", complaints.Count, "the engine's own check complains", [.. complaints.Take(MaxExamples)],
                "Restore the store from the office's own backup, or send it to the vendor with this list.", false));
        CheckShape(store);
        if (_findings.Any(finding => finding.Grade == Grade.Fault)) return Result();
        foreach (TableShape table in version.Tables) _counts[table.Name] = store.CountRows(table.Name);
        if (hop is not null)
            foreach (TableMap map in hop.Tables) TryConversion(store, map);
        foreach (TableShape table in version.Tables)
            foreach (RelationShape relation in table.Relations) CheckRelation(store, table, relation);
        foreach (BookRule rule in version.Rules) CheckRule(store, rule);
        return Result();
    }

    private CheckResult Result() => new(version.Name, _counts, [.. _findings.OrderBy(finding => finding.Grade)]);

    private void CheckShape(IStore store)
    {
        IReadOnlyList<TableShape> real = store.ReadShape();
        foreach (TableShape table in version.Tables)
        {
            TableShape? there = real.FirstOrDefault(other => Same(other.Name, table.Name));
            if (there is null)
            {
                Shape(FindingKinds.TableMissing, table.Name, $"the table {table.Name} of version {version.Name} is not there");
                continue;
            }
            foreach (ColumnShape column in table.Columns.Where(column => there.OrdinalOf(column.Name) < 0))
                Shape(FindingKinds.ColumnMissing, table.Name, $"the column {table.Name}.{column.Name} of version {version.Name} is not there");
            foreach (ColumnShape column in there.Columns.Where(column => table.OrdinalOf(column.Name) < 0))
                Shape(FindingKinds.ColumnUnknown, table.Name, $"the column {there.Name}.{column.Name} is not known to the kit, so nothing says what becomes of it");
        }
        foreach (TableShape extra in real.Where(extra => version.Table(extra.Name) is null))
            Shape(FindingKinds.TableUnknown, extra.Name, $"the table {extra.Name} is not known to the kit, so nothing says what becomes of its {store.CountRows(extra.Name)} records");

        void Shape(string kind, string table, string what) => _findings.Add(new Finding(kind, Grade.Fault, table, 1, what, [],
            kind is FindingKinds.TableUnknown or FindingKinds.ColumnUnknown
                ? "Add it to the kit's version file, and to the hop: carried, or left out with the reason."
                : "The store is of another version than it says, or damaged. Ask the vendor.", false));
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    private void TryConversion(IStore store, TableMap map)
    {
        var copies = new Group();
        var conflicts = new Group();
        var values = new Dictionary<(string Column, FaultCode Code, string Reason), Group>();
        HashSet<string> linked = [.. map.From.Relations.SelectMany(relation => relation.Columns)];
        var lane = new TableTransform(map, LookupLoader.Load(store, map), settings);
        using KeyGroupedReader reader = TableTransform.Read(store, map);
        long read = 0;
        while (reader.Fill(lane.Source))
        {
            cancel.ThrowIfCancellationRequested();
            lane.Apply();
            read += lane.RowCount;
            observer.Progress(map.From.Name, read, _counts[map.From.Name]);
            if (map.ExactCopies is not null) copies.Count += lane.RuleCounts.GetValueOrDefault(map.ExactCopies);
            if (copies.Examples.Count < MaxExamples && copies.Count > 0) AddCopyExamples(lane, copies);
            foreach (ExceptionRow exception in lane.Exceptions())
            {
                foreach (ExceptionCause cause in exception.Causes)
                {
                    // Links to records that are not there are found, with the relation's name, by CheckRelation.
                    if (cause.Code == FaultCode.MissingReference && linked.Contains(cause.Column)) continue;
                    if (cause.Code is FaultCode.ConflictingKey or FaultCode.DuplicateKey) conflicts.Add(exception.Key);
                    else
                    {
                        var kind = (cause.Column, cause.Code, cause.Code is FaultCode.NotInList ? "the code is in no list" : cause.Reason);
                        if (!values.TryGetValue(kind, out Group? group)) values[kind] = group = new Group();
                        group.Add($"{exception.Key}: {ValueText.Quote(cause.Value)}");
                    }
                }
            }
        }
        string table = map.From.Name;
        if (copies.Count > 0)
            _findings.Add(new Finding(FindingKinds.ExactCopies, Grade.Warning, table, copies.Count, "records that are there more than once, the same in every column",
                copies.Examples, $"Nothing: the conversion leaves out all but one, by the rule \"{map.ExactCopies}\".", true));
        if (conflicts.Count > 0)
            _findings.Add(new Finding(FindingKinds.ConflictingKey, Grade.Fault, table, conflicts.Count, $"records that share their key ({string.Join(", ", map.From.Key)}) with another",
                conflicts.Examples, $"Correct them in version {version.Name}, or send the list to the vendor.", false));
        foreach (((string column, FaultCode _, string reason), Group group) in values)
            _findings.Add(new Finding(FindingKinds.NotConvertible, Grade.Fault, table, group.Count, column.Length > 0 ? $"values of {column} that cannot be converted: {reason}" : reason,
                group.Examples, $"Correct them in version {version.Name}, then check again.", false));
    }

    private static void AddCopyExamples(TableTransform lane, Group copies)
    {
        for (int row = 0; row < lane.RowCount && copies.Examples.Count < MaxExamples; row++)
            if (lane.Fates[row] == RowFate.LeftOut && row > 0 && lane.ShowKey(row) == lane.ShowKey(row - 1) && !copies.Examples.Contains(lane.ShowKey(row)))
                copies.Examples.Add(lane.ShowKey(row));
    }

    private void CheckRelation(IStore store, TableShape table, RelationShape relation)
    {
        TableShape target = version.Table(relation.To)!;
        if (store.CountRows(target.Name) > MaxReferencedKeys)
        {
            _findings.Add(new Finding(FindingKinds.Orphan, Grade.Warning, table.Name, 0, $"the link to {target.Name} was not checked: it has more than {MaxReferencedKeys} records", [],
                "Have the engine check it with a query of its own.", false));
            return;
        }
        var keys = new HashSet<UInt128>();
        Scan(store, target, relation.On, digest => { keys.Add(digest); return null; }, out _);
        var orphans = new Group();
        Scan(store, table, relation.Columns, digest => keys.Contains(digest) ? null : orphans, out _);
        if (orphans.Count == 0) return;
        _findings.Add(new Finding(FindingKinds.Orphan, Grade.Fault, table.Name, orphans.Count, $"records whose {string.Join(", ", relation.Columns)} points to no record of {target.Name}",
            orphans.Examples, $"Correct them in version {version.Name}: enter the missing record of {target.Name}, or post to another.", false));
    }

    // Calls back with the digest of the given columns of every record that has them all; the callback names the group the record falls into.
    private void Scan(IStore store, TableShape table, IReadOnlyList<string> columns, Func<UInt128, Group?> judge, out long rows)
    {
        rows = 0;
        int[] ordinals = [.. columns.Select(table.OrdinalOf)], key = [.. table.Key.Select(table.OrdinalOf)];
        // Only what is needed is read: the link's columns, and the key to name a record by.
        int[] needed = [.. ordinals.Concat(key).Distinct()];
        TableShape narrow = table with { Columns = [.. needed.Select(i => table.Columns[i])] };
        int[] linkAt = [.. columns.Select(narrow.OrdinalOf)], keyAt = [.. table.Key.Select(narrow.OrdinalOf)];
        var bytes = new CanonicalWriter();
        foreach (RecordBatch batch in store.Batches(narrow, [], cancel))
        {
            for (int row = 0; row < batch.RowCount; row++)
            {
                if (linkAt.Any(i => batch.Vectors[i].IsNull(row))) continue;
                bytes.Clear();
                foreach (int i in linkAt) batch.Vectors[i].Encode(row, bytes);
                Group? group = judge(System.IO.Hashing.XxHash128.HashToUInt128(bytes.Written));
                group?.Add($"{batch.ShowKey(row, keyAt)}: {ValueText.Quote(batch.ShowKey(row, linkAt))}");
            }
            rows += batch.RowCount;
            observer.Progress(table.Name, rows, _counts[table.Name]);
        }
    }

    private void CheckRule(IStore store, BookRule rule)
    {
        var compiler = new ExpressionCompiler(new ExpressionScope(rule.Table.Name, rule.Table.Columns, [], new Dictionary<string, string>()));
        Kernel sum = compiler.Compile(rule.Sum);
        Kernel? where = rule.Where is null ? null : compiler.CompileCondition(rule.Where);
        int[] by = [.. rule.By.Select(rule.Table.OrdinalOf)], all = [.. Enumerable.Range(0, rule.Table.Columns.Count)];
        string[] order = [.. rule.By.Concat(rule.Table.Key).Distinct(StringComparer.OrdinalIgnoreCase)];
        var broken = new Group();
        var batch = new RecordBatch(rule.Table.Columns);
        var last = new RecordBatch(rule.Table.Columns); // the row before the batch's first one; groups may span batches
        var context = new EvaluationContext(batch, []);
        Int128 total = 0;
        bool judged = false; // nothing to judge before the first group
        string group = "";
        long rows = 0;
        foreach (RecordBatch _ in store.Batches(rule.Table, order, cancel, batch))
        {
            context.ActivateAll();
            Vector values = sum.Evaluate(context);
            HashSet<int> unreadable = [.. context.Faults.Concat(batch.Faults).Select(fault => fault.Row)];
            var counts = (LongVector?)where?.Evaluate(context);
            for (int row = 0; row < batch.RowCount; row++)
            {
                if (!SameAsBefore(row, by))
                {
                    Judge();
                    (total, judged, group) = (0, true, batch.ShowKey(row, by));
                }
                // A copy of the record before is reported as such, and must not unbalance its group a second time.
                else if (SameAsBefore(row, all)) continue;
                if (counts is not null && (counts.IsNull(row) || counts.Values[row] == 0)) continue;
                judged &= !unreadable.Contains(row);
                if (!values.IsNull(row)) total += values is WideVector wide ? wide.Values[row] : ((LongVector)values).Values[row];
            }
            rows += batch.RowCount;
            observer.Progress(rule.Table.Name, rows, _counts[rule.Table.Name]);
            last.Reset();
            last.AppendRows(batch, batch.RowCount - 1);
        }
        Judge();
        if (broken.Count > 0)
            _findings.Add(new Finding(FindingKinds.RuleBroken, Grade.Fault, rule.Table.Name, broken.Count,
                $"{rule.Name}: the sum by {string.Join(", ", rule.By)} should be {DecimalText.Format(rule.MustBe, sum.Type.Scale)}",
                broken.Examples, $"Correct the postings in version {version.Name}, or ask whoever keeps the books.", false));

        void Judge()
        {
            if (judged && total != rule.MustBe) broken.Add($"{group}: {DecimalText.Format(total, sum.Type.Scale)}");
        }

        bool SameAsBefore(int row, int[] ordinals)
        {
            if (row > 0) return batch.SameRows(row - 1, row, ordinals);
            if (last.RowCount == 0) return false;
            foreach (int ordinal in ordinals)
                if (!batch.Vectors[ordinal].SameAt(row, last.Vectors[ordinal], 0)) return false;
            return true;
        }
    }
}
