// Way.cs: the hops that lead from the version found to the version wanted.
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>A way; without hops it stays where it is.</summary>
/// <param name="From">The version it begins with.</param>
/// <param name="Hops">In order; each begins where the one before ended.</param>
public sealed record Way(KitVersion From, IReadOnlyList<Hop> Hops)
{
    /// <summary>The version it ends with.</summary>
    public KitVersion To => Hops.Count > 0 ? Hops[^1].To : From;

    /// <summary>All versions on it, one more than hops.</summary>
    public IReadOnlyList<KitVersion> Versions => [From, .. Hops.Select(hop => hop.To)];

    /// <summary>Whether every store on it begins as a copy of the one before.</summary>
    public bool IsOnCopy => Hops.Count > 0 && Hops.All(hop => hop.Correspondence.IsOnCopy);

    /// <summary>What answers to what in the hops before the first in which others convert; what comes of that is known only then.</summary>
    public IReadOnlyList<Correspondence> Foreseen => [.. Hops.Select(hop => hop.Correspondence).TakeWhile(hop => !hop.IsByOthers)];

    /// <summary>What answers to what, hop by hop.</summary>
    public IReadOnlyList<Correspondence> Correspondences => [.. Hops.Select(hop => hop.Correspondence)];

    /// <summary>The way as a company goes it: what answers to what also depends on whether its new stores begin as copies.</summary>
    /// <param name="old">Where its records are.</param>
    /// <param name="renewed">Where they are to be.</param>
    public Way Of(StoreAddress old, StoreAddress renewed) => this with
    {
        Hops = [.. Hops.Select((hop, i) => hop with
        {
            Correspondence = hop.Correspondence with
            {
                IsOnVendorMade = hop.Beginning.IsVendorMade,
                IsOnCopy = hop.From.TextEncoding == hop.To.TextEncoding && hop.Beginning.Copies(i == 0 ? old : renewed, renewed)
            }
        })]
    };

    /// <summary>The way between two versions of a kit with the fewest hops; null when none leads there.</summary>
    public static Way? Between(Kit kit, string from, string to)
    {
        if (kit.Version(from) is not { } begins) return null;
        var cameBy = new Dictionary<string, Hop?> { [from] = null };
        var next = new Queue<string>([from]);
        while (next.TryDequeue(out string? here))
        {
            if (here == to) break;
            foreach (Hop hop in kit.Hops)
                if (hop.From.Name == here && cameBy.TryAdd(hop.To.Name, hop)) next.Enqueue(hop.To.Name);
        }
        if (!cameBy.TryGetValue(to, out Hop? last)) return null;
        var hops = new List<Hop>();
        for (Hop? hop = last; hop is not null; hop = cameBy[hop.From.Name]) hops.Insert(0, hop);
        return new Way(begins, hops);
    }

    /// <summary>How many ways lead from one version to another, none of them through a version twice.</summary>
    public static int Count(Kit kit, string from, string to)
    {
        return From(from, []);

        int From(string here, HashSet<string> seen)
        {
            if (here == to) return 1;
            if (!seen.Add(here)) return 0;
            int ways = kit.Hops.Where(hop => hop.From.Name == here).Sum(hop => From(hop.To.Name, seen));
            seen.Remove(here);
            return ways;
        }
    }
}
