// TableAccount.cs: what became of the records of one old table. The five add up to what was read, or the conversion fails.
namespace Transferra.Core.Conversion;

/// <summary>What became of one old record.</summary>
internal enum RowFate : byte
{
    /// <summary>Not decided yet; no record may end so.</summary>
    Open,
    /// <summary>In the new store, every value as it was, if in another form.</summary>
    Carried,
    /// <summary>In the new store, a value altered by a declared rule.</summary>
    Changed,
    /// <summary>Part of another record by a declared rule.</summary>
    Combined,
    /// <summary>Left out by a declared rule.</summary>
    LeftOut,
    /// <summary>Could not be converted; listed.</summary>
    Exception,
}

/// <summary>The account of one old table.</summary>
/// <param name="Table">The old table.</param>
/// <param name="Read">Records read.</param>
/// <param name="Carried">In the new store as they were.</param>
/// <param name="Changed">In the new store, changed by a declared rule.</param>
/// <param name="Combined">Part of another record by a declared rule.</param>
/// <param name="LeftOut">Left out by a declared rule.</param>
/// <param name="Exceptions">Not converted.</param>
/// <param name="Rules">How many records each rule touched, by its reason; one record may be touched by several.</param>
/// <param name="Into">Records written to each new table.</param>
public sealed record TableAccount(string Table, long Read, long Carried, long Changed, long Combined, long LeftOut, long Exceptions,
    IReadOnlyDictionary<string, long> Rules, IReadOnlyDictionary<string, long> Into)
{
    /// <summary>Whether the five add up to what was read.</summary>
    public bool IsBalanced => Carried + Changed + Combined + LeftOut + Exceptions == Read;

    /// <summary>Sums over tables, for a line at the foot.</summary>
    public static TableAccount Total(IEnumerable<TableAccount> accounts) => accounts.Aggregate(
        new TableAccount("", 0, 0, 0, 0, 0, 0, new Dictionary<string, long>(), new Dictionary<string, long>()),
        (sum, a) => sum with
        {
            Read = sum.Read + a.Read,
            Carried = sum.Carried + a.Carried,
            Changed = sum.Changed + a.Changed,
            Combined = sum.Combined + a.Combined,
            LeftOut = sum.LeftOut + a.LeftOut,
            Exceptions = sum.Exceptions + a.Exceptions,
        });
}

/// <summary>Counts fates as batches pass. Used by one thread at a time.</summary>
internal sealed class TableTally(string table)
{
    private readonly long[] _fates = new long[6];
    private readonly Dictionary<string, long> _rules = [];
    private readonly Dictionary<string, long> _into = [];

    /// <summary>Records so far.</summary>
    public long Read { get; private set; }

    /// <summary>Counts a batch whose fates are final.</summary>
    public void Add(TableTransform done)
    {
        Read += done.RowCount;
        foreach (RowFate fate in done.Fates) _fates[(int)fate]++;
        foreach ((string rule, long count) in done.RuleCounts) _rules[rule] = _rules.GetValueOrDefault(rule) + count;
        long written = 0;
        foreach (RowFate fate in done.Fates)
            if (fate is RowFate.Carried or RowFate.Changed) written++;
        foreach (Records.TableOutput output in done.Outputs) _into[output.Table.Name] = _into.GetValueOrDefault(output.Table.Name)
            + written;
    }

    /// <summary>The account so far.</summary>
    public TableAccount Account() => new(table, Read, _fates[(int)RowFate.Carried], _fates[(int)RowFate.Changed],
        _fates[(int)RowFate.Combined],
        _fates[(int)RowFate.LeftOut], _fates[(int)RowFate.Exception], new Dictionary<string, long>(_rules), new Dictionary<string,
            long>(_into));
}
