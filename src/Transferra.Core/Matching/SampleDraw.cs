// SampleDraw.cs: which records of large tables are compared where only a sample is asked for, and what such a sample says.
// How: a table's records are cut, in the order of their key, into as many strata as there are blocks, and in each a block is drawn at
// random. Records that stand together are read together, which costs a hundredth of reading as many one by one.
// Source of the confidence: the chance that b independent draws all miss a share p of records is (1 - p)^b (the "rule of three" for 95 %).
// Holds: (1) the first and the last records of a table are always among those compared; (2) every record of a table that cannot be drawn
// from is compared.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>A table of which a sample was compared.</summary>
/// <param name="Table">Its name in the old store.</param>
/// <param name="Old">How many records the old store has.</param>
/// <param name="New">How many the new one has.</param>
/// <param name="Compared">How many of the old ones were compared.</param>
/// <param name="Blocks">In how many blocks they were drawn.</param>
public sealed record SampledTable(string Table, long Old, long New, long Compared, int Blocks)
{
    // The first and the last block are not drawn, and say nothing of what lies between.
    private const int NotDrawn = 2;

    /// <summary>Of so many records, scattered over the table, one would have to differ to be found in 95 of 100 draws.</summary>
    public long OneIn => Compared * (Blocks - NotDrawn) / Blocks is > 0 and long drawn
        ? Math.Max(1, (long)(1 / (1 - Math.Pow(0.05, 1.0 / drawn)))) : Old;

    /// <summary>What that says, in words.</summary>
    public string Words => string.Create(CultureInfo.InvariantCulture, $"{Table}: {Compared:#,0} of {Old:#,0} records compared: the "
        + $"first, the last, and {Blocks - NotDrawn} blocks drawn at random. If one record in {OneIn:#,0} differed, scattered over the "
        + $"table, 95 of 100 such draws would have found one; differences that lie close together may lie between the blocks.");
}

/// <summary>Draws samples.</summary>
internal sealed class SampleDraw
{
    /// <summary>In how many blocks a table's sample is drawn.</summary>
    public const int Blocks = 50;

    private readonly Dictionary<string, IReadOnlyList<KeyRange>> _old = new(StringComparer.OrdinalIgnoreCase),
        _new = new(StringComparer.OrdinalIgnoreCase);
    private readonly List<(SampledTable Table, int Columns)> _tables = [];

    /// <summary>Draws.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="renewed">The new store.</param>
    /// <param name="records">How many records of a table are compared; tables of at most twice as many are compared whole.</param>
    /// <param name="random">Decides.</param>
    /// <param name="cancel">Stops.</param>
    public SampleDraw(IStore old, IStore renewed, long records, Random random, CancellationToken cancel)
    {
        var tables = renewed.ReadShape().ToLookup(table => table.Name, StringComparer.OrdinalIgnoreCase);
        foreach (TableShape table in old.ReadShape())
        {
            if (tables[table.Name].ToArray() is not [{ } there] || KeyOf(table) is not { } key || KeyOf(there) is not { } keyThere
                || !string.Equals(key.Name, keyThere.Name, StringComparison.OrdinalIgnoreCase) || key.Type.Kind != keyThere.Type.Kind
                || old.CountRows(table.Name) is var count && count <= 2 * records) continue;
            IReadOnlyList<KeyRange> ranges = Ranges(old, table, key, count, records, random, cancel);
            _old[table.Name] = ranges;
            _new[there.Name] = [.. ranges.Select(range => range with { Column = keyThere.Name })];
            _tables.Add((new SampledTable(table.Name, count, renewed.CountRows(there.Name), 0, Blocks), table.Columns.Count));
        }
    }

    // One column by whose values every engine finds a block without reading all the others.
    private static ColumnShape? KeyOf(TableShape table) => table.Key.Count == 1
        && table.Columns[table.OrdinalOf(table.Key[0])] is { Type.Kind: FieldKind.Integer } key ? key : null;

    private static List<KeyRange> Ranges(IStore old, TableShape table, ColumnShape key, long count, long records, Random random,
        CancellationToken cancel)
    {
        long size = Math.Max(1, (records + Blocks - 1) / Blocks), stratum = count / Blocks;
        var places = new List<long>();
        for (int block = 0; block < Blocks; block++)
        {
            long from = block == 0 ? 0 : block == Blocks - 1 ? count - size : (block * stratum) + random.NextInt64(stratum - size + 1);
            places.AddRange([from, from + size]);
        }
        var limits = new string?[places.Count];
        long at = 0;
        int next = 0;
        TableShape keys = table with { Columns = [key], Relations = [], Indexes = [] };
        foreach (RecordBatch batch in old.Batches(keys, [key.Name], cancel))
        {
            for (; next < places.Count && places[next] < at + batch.RowCount; next++)
                limits[next] = batch.Vectors[0].Show((int)(places[next] - at));
            at += batch.RowCount;
            if (next == places.Count) break;
        }
        (limits[0], limits[^1]) = (null, null);
        return [.. Enumerable.Range(0, Blocks).Select(block => new KeyRange(key.Name, limits[2 * block], limits[(2 * block) + 1]))];
    }

    /// <summary>The old store, as far as it is compared.</summary>
    public IStore Old(IStore store) => new SampledStore(store, _old);

    /// <summary>The new store, as far as it is compared.</summary>
    public IStore New(IStore store) => new SampledStore(store, _new);

    /// <summary>A match of these two, with what the sample left out.</summary>
    public WayMatched Told(WayMatched matched)
    {
        MatchResult hop = matched.Hops[0];
        (SampledTable Table, int Columns)[] tables = [.. _tables.Select(drawn => (drawn.Table with
        {
            Compared = hop.Accounts.Where(account => string.Equals(account.Table, drawn.Table.Table,
                StringComparison.OrdinalIgnoreCase)).Sum(account => account.Read)
        }, drawn.Columns))];
        NotCompared[] left = [.. tables.Select(drawn => new NotCompared(drawn.Table.Table, "", drawn.Table.Old - drawn.Table.Compared,
            (drawn.Table.Old - drawn.Table.Compared) * drawn.Columns, "not drawn into the sample"))];
        return matched with
        {
            Sampled = [.. tables.Select(drawn => drawn.Table)],
            // Which parents have another number a sample cannot say.
            Hops = [hop with
            {
                Children = [],
                Share = hop.Share is not { } share ? null : share with
                {
                    Values = share.Values + left.Sum(part => part.Values),
                    Parts = [.. left, .. share.Parts]
                }
            }],
            NotLookedAt = [.. matched.NotLookedAt, .. tables.Select(drawn => Left(drawn.Table))]
        };
    }

    // As many on both sides is no proof of what lies between; another number is a difference that nobody has located.
    private static NotLookedAt Left(SampledTable table) => new("old", "old", $"records of {table.Table} between the drawn blocks"
        + (table.Old == table.New ? "" : string.Create(CultureInfo.InvariantCulture,
            $"; the new place has {table.New:#,0} records, the old one {table.Old:#,0}")), table.Old - table.Compared,
        table.Old == table.New ? Verdict.ProvedInPart : Verdict.NotProved);
}
