// Baseline.cs: what was recorded of the tables of a store before anything was done: counts and fingerprints.
using System.Text.Json.Serialization;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What was recorded of one table before anything was done.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Records">How many.</param>
/// <param name="Unreadable">Cells that are not what their column is declared for; they count as missing values in the fingerprint.</param>
/// <param name="Fingerprint">32 hexadecimal digits.</param>
public sealed record TableBaseline(string Table, long Records, long Unreadable, string Fingerprint)
{
    /// <summary>The fingerprints of its groups, in the form of <see cref="RecordedTable.Groups"/>; null where nobody asked for them, and in
    /// sets of earlier releases.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Groups { get; init; }

    /// <summary>The highest number that a key began with; null where keys do not begin with a whole number, or are private.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public long? Last { get; init; }

    /// <summary>Whether another reading came to the same records.</summary>
    public bool IsSameAs(TableBaseline? other) => other is not null && this with { Groups = null, Last = null } == other with
    {
        Groups = null,
        Last = null
    };

    /// <summary>As long as one of a table of about so many records can become when it is written.</summary>
    internal static TableBaseline Longest(string table, long records) => new(table, long.MaxValue, long.MaxValue, new string('f', 32))
    {
        Groups = RecordedTable.Written(new Fingerprint[RecordedTable.GroupsFor(records)]),
        Last = long.MinValue
    };

    /// <summary>The same, with no more groups than another has.</summary>
    internal TableBaseline Within(TableBaseline room) => Groups is null || Groups.Length <= room.Groups!.Length ? this : this with
    {
        Groups = RecordedTable.Written(RecordedTable.Joined(RecordedTable.ReadGroups(Groups, Table),
            RecordedTable.ReadGroups(room.Groups, Table).Length))
    };
}

/// <summary>Takes baselines.</summary>
public static class Baseline
{
    /// <summary>Reads every table of a version and fingerprints it.</summary>
    /// <param name="store">The store.</param>
    /// <param name="tables">Its tables.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops.</param>
    /// <param name="byGroups">Whether the fingerprints of groups are wanted, too, for a match of later; 2 MB more while a table is read.
    /// </param>
    public static IReadOnlyList<TableBaseline> Of(IStore store, IReadOnlyList<TableShape> tables, Machine.IProgressObserver observer,
        CancellationToken cancel, bool byGroups = false) =>
        [.. tables.Select(table => Of(store, table, observer, byGroups ? new BucketedFingerprint() : null, cancel))];

    private static TableBaseline Of(IStore store, TableShape table, Machine.IProgressObserver observer, BucketedFingerprint? groups,
        CancellationToken cancel)
    {
        long total = store.AboutRows(table.Name), unreadable = 0, rows = 0;
        Fingerprint sum = default;
        var batch = new RecordBatch(table.Columns);
        var digests = new RowDigests(table, batch.Vectors);
        var number = new KeyNumber(table);
        foreach (RecordBatch _ in store.BatchesAhead(table, batch, cancel))
        {
            if (groups is null) sum += digests.Of(Rows.Upto(batch.RowCount));
            else
            {
                digests.Add(groups, Rows.Upto(batch.RowCount));
                number.Note(batch);
            }
            unreadable += batch.Faults.Count;
            rows += batch.RowCount;
            observer.Progress(table.Name, rows, total);
        }
        if (groups is null) return new TableBaseline(table.Name, sum.Rows, unreadable, sum.ToString());
        sum = groups.Total();
        return new TableBaseline(table.Name, sum.Rows, unreadable, sum.ToString())
        {
            Groups = RecordedTable.Written(groups.Groups(RecordedTable.GroupsFor(sum.Rows))),
            Last = number.Last
        };
    }
}
