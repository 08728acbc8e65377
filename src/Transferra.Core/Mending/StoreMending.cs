// StoreMending.cs: puts records of a copy right as the kit allows, lists every change, and proves that nothing else is different.
// How the proof goes: the fingerprint of a table is a sum over its records. What is taken out of the sum and what is put into it by the
// listed changes gives the fingerprint that the mended copy must have when it is read anew.
// Holds: (1) the old store is only read; (2) a record with a value that cannot be read is never changed; (3) every change stands in the
// list.
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Mending;

/// <summary>How often a mend was made.</summary>
/// <param name="Mend">Its kind, as kits spell it.</param>
/// <param name="Table">The table; "" when the store as a whole is meant.</param>
/// <param name="Column">The column; "" when the record as a whole is meant.</param>
/// <param name="Count">Records changed or taken out.</param>
/// <param name="Because">Why the kit allows it.</param>
public sealed record MendCount(string Mend, string Table, string Column, long Count, string Because);

/// <summary>A table of the mended copy against what it must be.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Before">Records in the old store.</param>
/// <param name="TakenOut">Records taken out.</param>
/// <param name="Changed">Records changed.</param>
/// <param name="Found">Records found in the copy.</param>
/// <param name="Expected">Fingerprint it must have.</param>
/// <param name="Fingerprint">Fingerprint it has.</param>
public sealed record MendedTable(string Table, long Before, long TakenOut, long Changed, long Found, string Expected, string Fingerprint)
{
    /// <summary>Whether it is the old table but for the listed changes.</summary>
    public bool IsProved => Found == Before - TakenOut && Expected == Fingerprint;
}

/// <summary>What was mended.</summary>
/// <param name="Counts">By mend, table and column.</param>
/// <param name="Left">What could not be mended though the kit allows it, in words.</param>
/// <param name="Positions">Where counting goes on.</param>
/// <param name="Tables">The proof; empty until the copy was read anew.</param>
/// <param name="List">File with every change.</param>
public sealed record MendResult(IReadOnlyList<MendCount> Counts, IReadOnlyList<string> Left, IReadOnlyList<PositionChange> Positions,
    IReadOnlyList<MendedTable> Tables, string List)
{
    /// <summary>Records changed or taken out.</summary>
    public long Changes => Counts.Sum(count => count.Count);
}

/// <summary>Mends copies of stores.</summary>
public sealed class StoreMending
{
    /// <summary>Headings of the list of changes.</summary>
    public static readonly IReadOnlyList<string> Headings = ["table", "record", "column", "before", "after", "mend"];

    private sealed class TableSums
    {
        public Fingerprint Expected;
        public long TakenOut, Changed;
    }

    private readonly KitVersion _version;
    private readonly Action<IReadOnlyList<string>> _list;
    private readonly IProgressObserver _observer;
    private readonly CancellationToken _cancel;
    private readonly DecodedTwice _twice;
    private readonly Dictionary<(string Mend, string Table, string Column), (long Count, string Because)> _counts = [];
    private readonly Dictionary<string, TableSums> _sums = [];
    private readonly List<string> _left = [];

    /// <param name="version">The version of the store, with its custom fields, and what may be mended in it.</param>
    /// <param name="list">Receives every change, as lines of <see cref="Headings"/>.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public StoreMending(KitVersion version, Action<IReadOnlyList<string>> list, IProgressObserver observer, CancellationToken cancel)
    {
        (_version, _list, _observer, _cancel) = (version, list, observer, cancel);
        _twice = new DecodedTwice(version.TextEncoding);
    }

    /// <summary>Mends.</summary>
    /// <param name="stores">Opens stores.</param>
    /// <param name="old">The old store; only read.</param>
    /// <param name="copy">A copy of it, which nobody else knows.</param>
    public MendResult Run(IStoreOpener stores, StoreAddress old, StoreAddress copy)
    {
        IReadOnlyList<PositionChange> positions = [];
        using (MendPlan plan = PlanOf(stores, old))
        using (IStoreMender mender = stores.Mend(copy, _version.TextEncoding))
        {
            TableShape[] tables = [.. _version.Tables.Where(table => _version.Mends.Any(mend => mend.Table?.Name == table.Name))];
            var places = tables.ToDictionary(table => table.Name, mender.Prepare);
            using (IStore read = stores.Open(mender.HasPlacesOfOriginal ? old : copy, _version.TextEncoding))
                foreach (TableShape table in tables) MendTable(read, mender, plan, table, places[table.Name]);
            foreach (Mend mend in _version.Mends)
            {
                if (mend.Kind == MendKind.RebuildIndexes && mender.RebuildIndexes() is { Length: > 0 } what)
                {
                    Count(mend, "", "", 0);
                    _list(["", "", "", "", what, mend.Name]);
                }
                if (mend.Kind != MendKind.SetPositions) continue;
                positions = mender.SetPositions();
                foreach (PositionChange position in positions)
                {
                    Count(mend, position.Name, "", 1);
                    _list([position.Name, "", "", FormattableString.Invariant($"{position.Before}"),
                        FormattableString.Invariant($"{position.After}"), mend.Name]);
                }
            }
            mender.Complete();
        }
        return new MendResult([.. _counts.Select(entry =>
            new MendCount(entry.Key.Mend, entry.Key.Table, entry.Key.Column, entry.Value.Count, entry.Value.Because))], _left, positions,
                [], "");
    }

    private MendPlan PlanOf(IStoreOpener stores, StoreAddress old)
    {
        using IStore store = stores.Open(old, _version.TextEncoding);
        return MendPlan.Of(store, _version, _observer, _cancel);
    }

    private void Count(Mend mend, string table, string column, long count)
    {
        (long Count, string Because) sofar = _counts.GetValueOrDefault((mend.Name, table, column), (0, mend.Because));
        _counts[(mend.Name, table, column)] = (sofar.Count + count, sofar.Because);
    }

    private void Leave(string what)
    {
        if (!_left.Contains(what) && _left.Count < 100) _left.Add(what);
    }

    // What is to become of one record: taken out by a mend, or new values of columns.
    private sealed record Change(Mend Mend, int Column, string? Value);

    private void MendTable(IStore store, IStoreMender mender, MendPlan plan, TableShape table, ColumnShape place)
    {
        Mend[] mends = [.. _version.Mends.Where(mend => mend.Table?.Name == table.Name)];
        var batch = new RecordBatch([.. table.Columns, place]);
        int[] key = [.. table.Key.Select(table.OrdinalOf)], all = [.. Enumerable.Range(0, table.Columns.Count)], name = key.Length > 0
            ? key : all;
        var keyDigest = new RowDigest(key);
        var links = plan.LinksOf(table.Name)
            .Select(link => (link.Missing, Digest: new RowDigest([.. link.Relation.Columns.Select(table.OrdinalOf)]))).ToArray();
        var seen = new HashSet<ulong>();
        var sums = new TableSums();
        _sums[table.Name] = sums;
        var bytes = new CanonicalWriter();
        var after = new RecordBatch(table.Columns);
        long rows = 0, total = store.CountRows(table.Name);
        foreach (RecordBatch _ in store.Batches(table with { Columns = batch.Columns }, [], _cancel, batch))
        {
            HashSet<int> unreadable = [.. batch.Faults.Select(fault => fault.Row)];
            for (int row = 0; row < batch.RowCount; row++)
            {
                List<Change> changes = ChangesOf(row);
                if (changes.Count == 0) continue;
                string record = batch.ShowKey(row, name);
                if (unreadable.Contains(row))
                {
                    Leave($"{table.Name} {record}: it has a value that cannot be read");
                    continue;
                }
                Apply(row, record, changes);
            }
            _observer.Progress("mending " + table.Name, rows += batch.RowCount, total);
        }

        List<Change> ChangesOf(int row)
        {
            var changes = new List<Change>();
            ulong digest = key.Length > 0 ? keyDigest.Of(batch, row) : 0;
            foreach (Mend mend in mends)
            {
                switch (mend.Kind)
                {
                    case MendKind.DropCopies when plan.CopiesOf(table.Name).Contains(digest):
                        if (!seen.Add(digest)) return [new Change(mend, -1, null)];
                        break;
                    case MendKind.SetOrphansAside when links.Any(link => link.Digest.IsWhole(batch, row)
                        && link.Missing.Contains(link.Digest.Of(batch, row))):
                        return [new Change(mend, -1, null)];
                    case MendKind.Recompute when plan.TotalsOf(mend).TryGetValue(digest, out Int128 sum):
                        int ordinal = table.OrdinalOf(mend.Columns[0]);
                        // The rule's scale is that of the finer side; the column may have fewer decimals.
                        if (DecimalText.TryRescale(sum, mend.Rule!.Scale, table.Columns[ordinal].Type.Scale, FieldType.MaxPrecision,
                            out Int128 units) is null)
                            changes.Add(new Change(mend, ordinal, DecimalText.Format(units, table.Columns[ordinal].Type.Scale)));
                        else Leave($"{table.Name} {batch.ShowKey(row, name)}: the total has more decimals than {mend.Columns[0]}");
                        break;
                    case MendKind.DecodeAgain or MendKind.Trim:
                        foreach (int column in mend.Columns.Select(table.OrdinalOf))
                        {
                            var texts = (BytesVector)batch.Vectors[column];
                            if (texts.IsNull(row)) continue;
                            string now = changes.FindLast(change => change.Column == column)?.Value ?? texts.Show(row);
                            string? better = mend.Kind == MendKind.Trim ? Trimmed(now)
                                : _twice.Again(System.Text.Encoding.UTF8.GetBytes(now));
                            if (better is not null && better != now) changes.Add(new Change(mend, column, better));
                        }
                        break;
                    default: break;
                }
            }
            return changes;
        }

        void Apply(int row, string record, List<Change> changes)
        {
            UInt128 before = DigestOf(batch, row);
            if (changes is [{ Column: < 0 } takenOut])
            {
                mender.Delete(table, batch.Vectors[^1], row);
                Count(takenOut.Mend, table.Name, "", 1);
                sums.TakenOut++;
                sums.Expected = new Fingerprint(sums.Expected.Rows - 1, unchecked(sums.Expected.Sum - before));
                // The whole record, so that what was set aside can be entered again from the list.
                foreach (int column in all) _list([table.Name, record, table.Columns[column].Name, batch.Show(row, column), "(taken out)",
                    takenOut.Mend.Name]);
                return;
            }
            after.Reset();
            var last = changes.GroupBy(change => change.Column).ToDictionary(group => group.Key, group => group.Last().Value!);
            foreach (int column in last.Keys)
            {
                if (mender.CanHold(table, table.Columns[column], last[column])) continue;
                Leave($"{table.Name} {record}: {table.Columns[column].Name} cannot hold what it should become");
                last.Remove(column);
            }
            if (last.Count == 0) return;
            mender.Update(table, batch.Vectors[^1], row,
                [.. last.Select(value => KeyValuePair.Create(table.Columns[value.Key], value.Value))]);
            for (int column = 0; column < table.Columns.Count; column++)
            {
                if (last.TryGetValue(column, out string? value)) Append(after.Vectors[column], value);
                else after.Vectors[column].AppendFrom(batch.Vectors[column], row);
            }
            sums.Changed++;
            sums.Expected = new Fingerprint(sums.Expected.Rows, unchecked(sums.Expected.Sum - before + DigestOf(after, 0)));
            foreach (Change change in changes.Where(change => last.ContainsKey(change.Column)))
            {
                Count(change.Mend, table.Name, table.Columns[change.Column].Name, 1);
                _list([table.Name, record, table.Columns[change.Column].Name, batch.Show(row, change.Column),
                    table.Columns[change.Column].IsPrivate
                    ? TableShape.Private : change.Value!, change.Mend.Name]);
            }
        }

        UInt128 DigestOf(RecordBatch of, int row)
        {
            bytes.Clear();
            for (int column = 0; column < table.Columns.Count; column++) of.Vectors[column].Encode(row, bytes);
            return System.IO.Hashing.XxHash128.HashToUInt128(bytes.Written);
        }
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
    private static string Trimmed(string text) => text.Trim().Trim([.. Enumerable.Range(0, 0x20).Select(value => (char)value), (char)0x7F,
        ' ', '\u00A0']);

    /// <summary>Reads both stores anew and proves that they are the same but for the listed changes.</summary>
    public IReadOnlyList<MendedTable> Prove(IStoreOpener stores, StoreAddress old, StoreAddress copy)
    {
        using IStore before = stores.Open(old, _version.TextEncoding), after = stores.Open(copy, _version.TextEncoding);
        var proved = new List<MendedTable>();
        foreach (TableShape table in _version.Tables)
        {
            Fingerprint was = FingerprintOf(before, table), now = FingerprintOf(after, table);
            TableSums sums = _sums.GetValueOrDefault(table.Name) ?? new TableSums();
            proved.Add(new MendedTable(table.Name, was.Rows, sums.TakenOut, sums.Changed, now.Rows,
                new Fingerprint(0, unchecked(was.Sum + sums.Expected.Sum))
                .ToString(), now.ToString()));
        }
        return proved;
    }

    private Fingerprint FingerprintOf(IStore store, TableShape table)
    {
        var fingerprint = new BucketedFingerprint();
        var batch = new RecordBatch(table.Columns);
        var encoder = new RowEncoder(table, batch.Vectors);
        long rows = 0, total = store.CountRows(table.Name);
        foreach (RecordBatch _ in store.Batches(table, [], _cancel, batch))
        {
            for (int row = 0; row < batch.RowCount; row++) fingerprint.Add(encoder.Key(row), encoder.Row(row));
            _observer.Progress("proving " + table.Name, rows += batch.RowCount, total);
        }
        return fingerprint.Total();
    }
}
