// KnownCounts.cs: numbers of records, counted once a snapshot.
namespace Transferra.Stores.Servers;

/// <summary>Numbers of records that were counted once. In a snapshot they do not change, and counting reads the whole table.</summary>
internal sealed class KnownCounts
{
    private readonly Dictionary<string, long> _known = [];

    public long Of(string table, Func<string, long> count) => _known.TryGetValue(table, out long known) ? known
        : _known[table] = count(table);
}
