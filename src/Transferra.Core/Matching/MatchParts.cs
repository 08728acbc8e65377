// MatchParts.cs: the parts of a hop that can be compared without each other: new tables, with all old ones that feed any of them.
// Why: a match that was interrupted takes over what was compared; a new table alone is none of that, as what became of an old table's
// records is known only when all tables it goes into have been looked at.
// Holds: (1) every new table and every map is in exactly one part; (2) a part is told of only when all its tables were read on both sides
// and are the same.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What a part came to that is the same on both sides.</summary>
/// <param name="Tables">Its new tables as they were read.</param>
/// <param name="Accounts">What became of the old records, in the order of the hop's maps.</param>
public sealed record PartSoFar(IReadOnlyList<RecordedTable> Tables, IReadOnlyList<TableAccount> Accounts);

/// <summary>The parts of a hop, and what is known of each while both sides are read, by two threads.</summary>
internal sealed class MatchParts
{
    private sealed class Part
    {
        public readonly List<string> Tables = [];
        public readonly List<TableMap> Maps = [];
        public readonly Dictionary<string, RecordedTable> Recorded = [];
        public readonly Dictionary<TableMap, TableAccount> Accounts = new(ReferenceEqualityComparer.Instance);
        public DateTimeOffset? Began;
        public int Compared;
        public bool IsSame = true;
    }

    private readonly Dictionary<string, Part> _of = [];
    private readonly MatchSoFar? _soFar;
    private readonly Lock _one = new();

    /// <summary>The parts of a hop.</summary>
    /// <param name="hop">What answers to what.</param>
    /// <param name="soFar">Hears of every part that is the same; null when nobody wants to know.</param>
    public MatchParts(Correspondence hop, MatchSoFar? soFar)
    {
        _soFar = soFar;
        foreach (TableShape table in hop.To.Tables)
        {
            var alone = new Part();
            alone.Tables.Add(table.Name);
            _of.Add(table.Name, alone);
        }
        foreach (TableMap map in hop.Tables)
        {
            Part[] joined = [.. map.Into.Select(target => _of[target.Table.Name]).Distinct()];
            foreach (Part other in joined[1..])
            {
                joined[0].Tables.AddRange(other.Tables);
                joined[0].Maps.AddRange(other.Maps);
                foreach (string table in other.Tables) _of[table] = joined[0];
            }
            joined[0].Maps.Add(map);
        }
        // Maps of parts that were joined later stand in the order of the hop again.
        Dictionary<TableMap, int> order = new(ReferenceEqualityComparer.Instance);
        foreach (TableMap map in hop.Tables) order.TryAdd(map, order.Count);
        foreach (Part part in _of.Values.Distinct()) part.Maps.Sort((a, b) => order[a].CompareTo(order[b]));
    }

    /// <summary>What was found of a hop's parts before, where it still is of this hop.</summary>
    /// <returns>The tables, and the account of each map.</returns>
    public IEnumerable<(IReadOnlyList<RecordedTable> Tables, IEnumerable<(TableMap Map, TableAccount Account)> Accounts)> TakenOver()
    {
        foreach (PartSoFar known in _soFar?.Known ?? [])
        {
            Part? part = known.Tables.Count == 0 ? null : _of.GetValueOrDefault(known.Tables[0].Table.Name);
            if (part is null || !part.Tables.ToHashSet().SetEquals(known.Tables.Select(table => table.Table.Name))
                || !part.Maps.Select(map => map.From.Name).SequenceEqual(known.Accounts.Select(account => account.Table))) continue;
            yield return (known.Tables, part.Maps.Zip(known.Accounts));
        }
    }

    /// <summary>A table of a part is read from now on.</summary>
    public void Begin(string table)
    {
        lock (_one) _of[table].Began ??= DateTimeOffset.UtcNow;
    }

    /// <summary>What became of the records of an old table.</summary>
    public void Account(TableMap map, TableAccount account)
    {
        lock (_one) _of[map.Into[0].Table.Name].Accounts[map] = account;
    }

    /// <summary>A new table was read.</summary>
    public void Recorded(RecordedTable table)
    {
        lock (_one) _of[table.Table.Name].Recorded[table.Table.Name] = table;
    }

    /// <summary>A new table was compared; what is known of it and of what feeds it was told before.</summary>
    public void Compared(string table, ReadTable read)
    {
        lock (_one)
        {
            Part part = _of[table];
            part.IsSame &= read.Differing.Count == 0 && read.Expected == read.Found;
            if (++part.Compared == part.Tables.Count && part.IsSame && part.Began is { } began && part.Maps.All(part.Accounts.ContainsKey))
                _soFar?.Add(new PartSoFar([.. part.Tables.Select(name => part.Recorded[name])],
                    [.. part.Maps.Select(map => part.Accounts[map])]), began);
        }
    }
}
