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

    /// <summary>Whether every table of the copy was read anew and is the old one but for the listed changes.</summary>
    public bool IsProved => Tables.Count > 0 && Tables.All(table => table.IsProved);
}

/// <summary>Mends copies of stores.</summary>
internal sealed partial class StoreMending
{
    /// <summary>Headings of the list of changes.</summary>
    public static readonly IReadOnlyList<string> Headings = ["table", "record", "column", "before", "after", "mend"];

    private readonly KitVersion _version;
    private readonly Action<IReadOnlyList<string>> _list;
    private readonly IReadOnlyDictionary<string, string> _answers;
    private readonly IProgressObserver _observer;
    private readonly CancellationToken _cancel;
    private readonly DecodedTwice _twice;
    private readonly Dictionary<(string Mend, string Table, string Column), (long Count, string Because)> _counts = [];
    private readonly Dictionary<string, TableSums> _sums = [];
    private readonly List<string> _left = [];

    /// <param name="version">The version of the store, with its custom fields, and what may be mended in it.</param>
    /// <param name="answers">What the office has answered.</param>
    /// <param name="list">Receives every change, as lines of <see cref="Headings"/>.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public StoreMending(KitVersion version, IReadOnlyDictionary<string, string> answers, Action<IReadOnlyList<string>> list,
        IProgressObserver observer, CancellationToken cancel)
    {
        (_version, _answers, _list, _observer, _cancel) = (version, answers, list, observer, cancel);
        _twice = new DecodedTwice(TextPages.OfAll(version.TextEncoding));
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
                foreach (TableShape table in tables)
                    _sums[table.Name] = new TableMending(this, mender, plan, table, places[table.Name]).Run(read);
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
        return MendPlan.Of(store, _version, _answers, _observer, _cancel);
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
        Fingerprint sum = default;
        var batch = new RecordBatch(table.Columns);
        var encoder = new RowEncoder(table, batch.Vectors);
        long rows = 0, total = store.CountRows(table.Name);
        foreach (RecordBatch _ in store.Batches(table, [], _cancel, batch))
        {
            for (int row = 0; row < batch.RowCount; row++) sum += Fingerprint.Of(encoder.Row(row));
            _observer.Progress("proving " + table.Name, rows += batch.RowCount, total);
        }
        return sum;
    }
}
