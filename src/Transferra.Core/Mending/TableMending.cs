// TableMending.cs: mends the records of one table of a copy: what is to become of each, done and listed, and what that does to the table's
// fingerprint.
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Mending;

internal sealed partial class StoreMending
{
    /// <summary>What the changes of a table come to.</summary>
    private sealed class TableSums
    {
        public Fingerprint Expected;
        public long TakenOut, Changed;
    }

    // What is to become of one record: taken out by a mend (column below 0), or a new value of a column.
    private sealed record Change(Mend Mend, int Column, string? Value);

    private sealed class TableMending
    {
        private readonly StoreMending _all;
        private readonly IStoreMender _mender;
        private readonly MendPlan _plan;
        private readonly TableShape _table;
        private readonly Mend[] _mends;
        // The table's columns, and behind them the place of each record in the copy.
        private readonly RecordBatch _batch, _after;
        private readonly int[] _key, _name;
        private readonly RowDigest _keyDigest;
        private readonly (HashSet<ulong> Missing, RowDigest Digest)[] _links;
        private readonly HashSet<ulong> _seen = [];
        private readonly TableSums _sums = new();
        private readonly CanonicalWriter _bytes = new();

        public TableMending(StoreMending all, IStoreMender mender, MendPlan plan, TableShape table, ColumnShape place)
        {
            (_all, _mender, _plan, _table) = (all, mender, plan, table);
            _mends = [.. all._version.Mends.Where(mend => mend.Table?.Name == table.Name)];
            _batch = new RecordBatch([.. table.Columns, place]);
            _after = new RecordBatch(table.Columns);
            _key = [.. table.Key.Select(table.OrdinalOf)];
            _name = _key.Length > 0 ? _key : [.. Enumerable.Range(0, table.Columns.Count)];
            _keyDigest = new RowDigest(_key);
            _links = [.. plan.LinksOf(table.Name)
                .Select(link => (link.Missing, new RowDigest([.. link.Relation.Columns.Select(table.OrdinalOf)])))];
        }

        public TableSums Run(IStore store)
        {
            long rows = 0, total = store.CountRows(_table.Name);
            foreach (RecordBatch _ in store.Batches(_table with { Columns = _batch.Columns }, [], _all._cancel, _batch))
            {
                HashSet<int> unreadable = [.. _batch.Faults.Select(fault => fault.Row)];
                for (int row = 0; row < _batch.RowCount; row++)
                {
                    List<Change> changes = ChangesOf(row);
                    if (changes.Count == 0) continue;
                    string record = _batch.ShowKey(row, _name);
                    if (unreadable.Contains(row)) _all.Leave($"{_table.Name} {record}: it has a value that cannot be read");
                    else if (changes is [{ Column: < 0 } takenOut]) TakeOut(row, record, takenOut.Mend);
                    else Update(row, record, changes);
                }
                _all._observer.Progress("mending " + _table.Name, rows += _batch.RowCount, total);
            }
            return _sums;
        }

        private List<Change> ChangesOf(int row)
        {
            var changes = new List<Change>();
            ulong digest = _key.Length > 0 ? _keyDigest.Of(_batch, row) : 0;
            foreach (Mend mend in _mends)
            {
                switch (mend.Kind)
                {
                    case MendKind.DropCopies when _plan.CopiesOf(_table.Name).Contains(digest):
                        if (!_seen.Add(digest)) return [new Change(mend, -1, null)];
                        break;
                    case MendKind.SetOrphansAside when _links.Any(link => link.Digest.IsWhole(_batch, row)
                        && link.Missing.Contains(link.Digest.Of(_batch, row))):
                        return [new Change(mend, -1, null)];
                    case MendKind.Recompute when _plan.TotalsOf(mend).TryGetValue(digest, out Int128 sum):
                        if (Recomputed(mend, sum, row) is { } total) changes.Add(total);
                        break;
                    case MendKind.DecodeAgain or MendKind.Trim:
                        AddBetterTexts(mend, row, changes);
                        break;
                    default: break;
                }
            }
            return changes;
        }

        private Change? Recomputed(Mend mend, Int128 sum, int row)
        {
            int ordinal = _table.OrdinalOf(mend.Columns[0]);
            int scale = _table.Columns[ordinal].Type.Scale;
            // The rule's scale is that of the finer side; the column may have fewer decimals.
            if (DecimalText.TryRescale(sum, mend.Rule!.Scale, scale, FieldType.MaxPrecision, out Int128 units) is null)
                return new Change(mend, ordinal, DecimalText.Format(units, scale));
            _all.Leave($"{_table.Name} {_batch.ShowKey(row, _name)}: the total has more decimals than {mend.Columns[0]}");
            return null;
        }

        private void AddBetterTexts(Mend mend, int row, List<Change> changes)
        {
            foreach (int column in mend.Columns.Select(_table.OrdinalOf))
            {
                var texts = (BytesVector)_batch.Vectors[column];
                if (texts.IsNull(row)) continue;
                string now = changes.FindLast(change => change.Column == column)?.Value ?? texts.Show(row);
                string? better = mend.Kind == MendKind.Trim ? Trimmed(now)
                    : _all._twice.Again(System.Text.Encoding.UTF8.GetBytes(now));
                if (better is not null && better != now) changes.Add(new Change(mend, column, better));
            }
        }

        private void TakeOut(int row, string record, Mend mend)
        {
            UInt128 before = DigestOf(_batch, row);
            _mender.Delete(_table, _batch.Vectors[^1], row);
            _all.Count(mend, _table.Name, "", 1);
            _sums.TakenOut++;
            _sums.Expected = new Fingerprint(_sums.Expected.Rows - 1, unchecked(_sums.Expected.Sum - before));
            // The whole record, so that what was set aside can be entered again from the list.
            for (int column = 0; column < _table.Columns.Count; column++)
                _all._list([_table.Name, record, _table.Columns[column].Name, _batch.Show(row, column), "(taken out)", mend.Name]);
        }

        private void Update(int row, string record, List<Change> changes)
        {
            UInt128 before = DigestOf(_batch, row);
            _after.Reset();
            var last = changes.GroupBy(change => change.Column).ToDictionary(group => group.Key, group => group.Last().Value!);
            foreach (int column in last.Keys)
            {
                if (_mender.CanHold(_table, _table.Columns[column], last[column])) continue;
                _all.Leave($"{_table.Name} {record}: {_table.Columns[column].Name} cannot hold what it should become");
                last.Remove(column);
            }
            if (last.Count == 0) return;
            _mender.Update(_table, _batch.Vectors[^1], row,
                [.. last.Select(value => KeyValuePair.Create(_table.Columns[value.Key], value.Value))]);
            for (int column = 0; column < _table.Columns.Count; column++)
            {
                if (last.TryGetValue(column, out string? value)) Append(_after.Vectors[column], value);
                else _after.Vectors[column].AppendFrom(_batch.Vectors[column], row);
            }
            _sums.Changed++;
            _sums.Expected = new Fingerprint(_sums.Expected.Rows, unchecked(_sums.Expected.Sum - before + DigestOf(_after, 0)));
            foreach (Change change in changes.Where(change => last.ContainsKey(change.Column)))
            {
                ColumnShape column = _table.Columns[change.Column];
                _all.Count(change.Mend, _table.Name, column.Name, 1);
                _all._list([_table.Name, record, column.Name, _batch.Show(row, change.Column),
                    column.IsPrivate ? TableShape.Private : change.Value!, change.Mend.Name]);
            }
        }

        private UInt128 DigestOf(RecordBatch of, int row)
        {
            _bytes.Clear();
            for (int column = 0; column < _table.Columns.Count; column++) of.Vectors[column].Encode(row, _bytes);
            return System.IO.Hashing.XxHash128.HashToUInt128(_bytes.Written);
        }

        private static void Append(Vector vector, string value)
        {
            byte[] text = System.Text.Encoding.UTF8.GetBytes(value);
            switch (vector)
            {
                case BytesVector bytes: bytes.Append(text); break;
                case WideVector wide:
                    DecimalText.TryParse(text, FieldType.MaxPrecision, wide.Type.Scale, out Int128 units);
                    wide.Append(units);
                    break;
                default:
                    ValueText.TryWhole(text, out long whole);
                    ((LongVector)vector).Append(whole);
                    break;
            }
        }

        // Blanks, and control characters that are no line ends within the text.
        private static string Trimmed(string text) =>
            text.Trim().Trim([.. Enumerable.Range(0, 0x20).Select(value => (char)value), (char)0x7F, ' ', '\u00A0']);
    }
}
