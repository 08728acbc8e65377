// Alignment.cs: records of an old table beside the new ones that they became, by their keys.
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <summary>Records side by side: row i of one batch became row i of the other.</summary>
/// <param name="Old">Old records.</param>
/// <param name="New">New records.</param>
/// <param name="How">The columns by which they were found, as words.</param>
internal sealed record Alignment(RecordBatch Old, RecordBatch New, string How)
{
    // Fewer say too little of what belongs together.
    private const int Fewest = 3;

    /// <summary>How many.</summary>
    public int Rows => Old.RowCount;

    /// <summary>Old records of which several have the key of one new one.</summary>
    public int Several { get; private init; }

    /// <summary>Finds them; null when the two tables share no key, or hardly any of its values.</summary>
    /// <param name="old">The old table.</param>
    /// <param name="renewed">The new one.</param>
    /// <param name="isCertain">Whether it is known that they answer to each other, so that the few records of small tables will do.</param>
    public static Alignment? Of(TableProfile old, TableProfile renewed, bool isCertain)
    {
        int least = isCertain ? (int)Math.Clamp(Math.Min(old.Rows, renewed.Rows), 1, Fewest) : Fewest;
        foreach ((ColumnProfile[] from, ColumnProfile[] to) in Keys(old, renewed))
            if (Beside(old, renewed, from, to, least) is { } found) return found;
        return null;
    }

    private static IEnumerable<(ColumnProfile[] From, ColumnProfile[] To)> Keys(TableProfile old, TableProfile renewed)
    {
        // The new key, each column with the old one that has most of its values.
        if (renewed.Key.Count > 0)
        {
            ColumnProfile?[] from = [.. renewed.Key.Select(key => old.Columns.Where(column => column.Distinct > 0)
                .Select(column => (Column: column, Score: Score(column, key))).Where(found => found.Score > 0.2)
                .OrderByDescending(found => found.Score).FirstOrDefault().Column)];
            if (from.All(column => column is not null) && from.Distinct().Count() == from.Length)
                yield return ([.. from.Select(column => column!)], [.. renewed.Key]);
        }
        // Any two columns in which no value comes twice.
        foreach (ColumnProfile[] pair in old.Columns.Where(column => column.IsNearlyUnique).SelectMany(column => renewed.Columns
            .Where(other => other.IsNearlyUnique).Select(other => (Pair: new[] { column, other }, Score: Score(column, other))))
            .Where(found => found.Score > 0.5).OrderByDescending(found => found.Score).Take(3).Select(found => found.Pair))
            yield return ([pair[0]], [pair[1]]);
    }

    private static double Score(ColumnProfile old, ColumnProfile renewed) =>
        old.Overlap(renewed) + (0.1 * NameLikeness.Of(old.Name, renewed.Name));

    private static Alignment? Beside(TableProfile old, TableProfile renewed, ColumnProfile[] from, ColumnProfile[] to,
        int least)
    {
        var rows = new Dictionary<string, int>(StringComparer.Ordinal);
        for (int row = 0; row < old.Kept.RowCount; row++)
            if (KeyOf(old.Kept, from, row) is { } key) rows[key] = rows.ContainsKey(key) ? -1 : row;
        (RecordBatch left, RecordBatch right) = (Empty(old), Empty(renewed));
        var seen = new HashSet<string>(StringComparer.Ordinal);
        for (int row = 0; row < renewed.Kept.RowCount; row++)
        {
            if (KeyOf(renewed.Kept, to, row) is not { } key || !rows.TryGetValue(key, out int other) || other < 0
                || !seen.Add(key)) continue;
            for (int i = 0; i < old.Columns.Length; i++) left.Vectors[i].AppendFrom(old.Kept.Vectors[i], other);
            for (int i = 0; i < renewed.Columns.Length; i++) right.Vectors[i].AppendFrom(renewed.Kept.Vectors[i], row);
        }
        int fewest = Math.Min(old.Kept.RowCount, renewed.Kept.RowCount);
        return left.RowCount >= least && left.RowCount * 4 >= fewest ? new Alignment(left, right, string.Join(", ", from.Zip(to)
            .Select(pair => pair.First.Name == pair.Second.Name ? pair.First.Name : $"{pair.First.Name} = {pair.Second.Name}")))
        { Several = rows.Values.Count(row => row < 0) } : null;
    }

    private static RecordBatch Empty(TableProfile table) => new(table.Shape.Columns, new BatchLimits(int.MaxValue, long.MaxValue));

    private static string? KeyOf(RecordBatch batch, ColumnProfile[] columns, int row)
    {
        if (columns.All(column => batch.Vectors[column.Ordinal].IsNull(row))) return null;
        return string.Join('\0', columns.Select(column => ColumnProfile.Canonical(batch.Vectors[column.Ordinal].Show(row))));
    }
}
