// RecordedMatch.cs: a store against what was recorded of it when it was matched, where nothing else is left of the old data.
// Holds: (1) a table is the same only when every record that it had then is in it with every value, and none was added among them;
//        (2) records whose number comes after the last of then are told apart, and counted; (3) what was not recorded is named.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>One table since it was recorded.</summary>
/// <param name="Table">Its name.</param>
/// <param name="Then">Records it had.</param>
/// <param name="Now">Records it has; 0 when it is gone.</param>
/// <param name="Later">Of these, those that come after the last of then.</param>
/// <param name="Groups">Into how many groups its records were parted by their keys.</param>
/// <param name="Differing">Groups in which a record was altered, added or removed.</param>
public sealed record SinceTable(string Table, long Then, long Now, long Later, int Groups, int Differing)
{
    /// <summary>Why it was not compared; "" when it was.</summary>
    public string NotCompared { get; init; } = "";

    /// <summary>Whether all records of then are there unaltered, and nothing was added among them.</summary>
    public bool IsSame => NotCompared.Length == 0 && Differing == 0;
}

/// <summary>A store since it was recorded.</summary>
/// <param name="Version">The data version it had.</param>
/// <param name="At">When it was recorded.</param>
/// <param name="Verdict">What the match of then came to.</param>
/// <param name="Tables">Each table of then.</param>
/// <param name="NotRecorded">Tables that it has now and that were not recorded.</param>
public sealed record SinceRecorded(string Version, DateTimeOffset At, Verdict Verdict, IReadOnlyList<SinceTable> Tables,
    IReadOnlyList<string> NotRecorded)
{
    /// <summary>Whether all records of then are there unaltered.</summary>
    public bool IsSame => Tables.All(table => table.IsSame);

    /// <summary>Records that were added after the last of then.</summary>
    public long Later => Tables.Sum(table => table.Later);
}

/// <summary>Matches a store with what was recorded of it.</summary>
public static class RecordedMatch
{
    /// <summary>Matches; the store is only read.</summary>
    public static SinceRecorded Run(IStore store, RecordedStore recorded, IProgressObserver observer, CancellationToken cancel)
    {
        SinceTable[] tables = [.. recorded.Tables.Select(table => Compare(store, table, observer, cancel))];
        HashSet<string> known = new(recorded.Tables.Select(table => table.Table.Name), StringComparer.OrdinalIgnoreCase);
        return new SinceRecorded(recorded.Version, recorded.At, recorded.Verdict, tables,
            [.. store.ReadShape().Select(table => table.Name).Where(name => !known.Contains(name))]);
    }

    /// <summary>Matches two stores of which only what was recorded is looked at.</summary>
    public static SinceRecorded Run(RecordedStore now, RecordedStore recorded)
    {
        Dictionary<string, RecordedTable> there = now.Tables.ToDictionary(table => table.Table.Name, StringComparer.OrdinalIgnoreCase);
        SinceTable[] tables = [.. recorded.Tables.Select(then => Compare(there.GetValueOrDefault(then.Table.Name), then))];
        return new SinceRecorded(recorded.Version, recorded.At, recorded.Verdict, tables, [.. now.Tables.Select(table => table.Table.Name)
            .Except(recorded.Tables.Select(table => table.Table.Name), StringComparer.OrdinalIgnoreCase)]);
    }

    private static SinceTable Compare(RecordedTable? now, RecordedTable then)
    {
        Fingerprint[] groups = then.ReadGroups();
        SinceTable unlike(string why) => new(then.Table.Name, then.Records, 0, 0, groups.Length, groups.Length) { NotCompared = why };
        if (now is null) return unlike("it is gone");
        if (!now.Table.Columns.SequenceEqual(then.Table.Columns) || !now.Table.Key.SequenceEqual(then.Table.Key))
            return unlike("its columns or its key were recorded otherwise");
        Fingerprint[] seen = now.ReadGroups();
        int count = Math.Min(groups.Length, seen.Length);
        (groups, seen) = (RecordedTable.Joined(groups, count), RecordedTable.Joined(seen, count));
        return new SinceTable(then.Table.Name, then.Records, now.Records, 0, count,
            Enumerable.Range(0, count).Count(group => seen[group] != groups[group]));
    }

    private static SinceTable Compare(IStore store, RecordedTable then, IProgressObserver observer, CancellationToken cancel)
    {
        Fingerprint[] groups = then.ReadGroups();
        SinceTable unlike(string why) => new(then.Table.Name, then.Records, 0, 0, groups.Length, groups.Length) { NotCompared = why };
        if (store.ReadStoredShape(then.Table.Name) is not { } now) return unlike("it is gone");
        string[] gone = [.. then.Table.Columns.Where(column => now.OrdinalOf(column.Name) < 0).Select(column => column.Name)];
        if (gone.Length > 0) return unlike($"it has no column {string.Join(", ", gone)} any more");
        if (then.Records == 0)
        {
            // Whatever is in a table that was empty came after.
            long added = store.CountRows(then.Table.Name);
            return new SinceTable(then.Table.Name, 0, added, added, groups.Length, 0);
        }
        var scan = new TableReading(then.Table.Shape(), then.IsKept);
        var found = new BucketedFingerprint();
        scan.Into(found, store, then.Last, observer, cancel);
        Fingerprint[] seen = found.Groups(groups.Length);
        var differing = new HashSet<int>(Enumerable.Range(0, groups.Length).Where(group => seen[group] != groups[group]));
        bool isOnlyUnread = differing.Count == 0 && scan.Unreadable.Count > 0;
        differing.UnionWith(scan.Unreadable.Select(bucket => bucket & (groups.Length - 1)));
        return new SinceTable(then.Table.Name, then.Records, found.Total().Rows + scan.Beyond, scan.Beyond, groups.Length, differing.Count)
        {
            NotCompared = isOnlyUnread ? "it has cells that cannot be read, of which nothing was recorded" : ""
        };
    }
}
