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

/// <summary>A baseline with groups that was taken while something else was done.</summary>
/// <param name="Table">Of which table, as it was read.</param>
/// <param name="Baseline">What was recorded.</param>
public sealed record TakenBaseline(TableShape Table, TableBaseline Baseline)
{
    /// <summary>Whether it is what a reading of this table would come to: the same columns, of the same types, and the same key.</summary>
    internal bool IsOf(TableShape table) => Table.Name == table.Name && Table.Key.SequenceEqual(table.Key)
        && Table.Columns.Select(WhatCounts).SequenceEqual(table.Columns.Select(WhatCounts));

    private static (string, FieldType, bool) WhatCounts(ColumnShape column) => (column.Name, column.Type, column.IsPrivate);
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
        [.. tables.Select(table => Of(store, table, observer, byGroups, cancel))];

    /// <summary>Reads one table and fingerprints it; otherwise as <see cref="Of(IStore, IReadOnlyList{TableShape},
    /// Machine.IProgressObserver, CancellationToken, bool)"/>.</summary>
    internal static TableBaseline Of(IStore store, TableShape table, Machine.IProgressObserver observer, bool byGroups,
        CancellationToken cancel)
    {
        long total = store.AboutRows(table.Name), rows = 0;
        var batch = new RecordBatch(table.Columns);
        var taking = new BaselineTaking(table, batch, byGroups);
        foreach (RecordBatch _ in store.BatchesAhead(table, batch, cancel))
        {
            taking.Take();
            rows += batch.RowCount;
            observer.Progress(table.Name, rows, total);
        }
        return taking.Taken();
    }
}

/// <summary>Takes the baseline of a table whose records pass in a batch.</summary>
/// <param name="table">The table.</param>
/// <param name="batch">Of its columns.</param>
/// <param name="byGroups">Whether the fingerprints of groups are wanted, too.</param>
internal sealed class BaselineTaking(TableShape table, RecordBatch batch, bool byGroups)
{
    private readonly RowDigests _digests = new(table, batch.Vectors);
    private readonly KeyNumber _number = new(table);
    private readonly BucketedFingerprint? _groups = byGroups ? new BucketedFingerprint() : null;
    private Fingerprint _sum;
    private long _unreadable;

    /// <summary>Adds the records that are in the batch.</summary>
    public void Take()
    {
        if (_groups is null) _sum += _digests.Of(Rows.Upto(batch.RowCount));
        else
        {
            _digests.Add(_groups, Rows.Upto(batch.RowCount));
            _number.Note(batch);
        }
        _unreadable += batch.Faults.Count;
    }

    /// <summary>The baseline of all that were added.</summary>
    public TableBaseline Taken()
    {
        Fingerprint sum = _groups?.Total() ?? _sum;
        var taken = new TableBaseline(table.Name, sum.Rows, _unreadable, sum.ToString());
        return _groups is null ? taken : taken with
        {
            Groups = RecordedTable.Written(_groups.Groups(RecordedTable.GroupsFor(sum.Rows))),
            Last = _number.Last
        };
    }
}
