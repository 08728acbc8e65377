// WayMatch.cs: one verdict for a company about its whole way, from the first store to the last, naming what was not looked at.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What a match of a way may use beside its stores.</summary>
internal sealed record BesideStores
{
    /// <summary>Opens the store that the vendor's new program made; null when there is none.</summary>
    public Func<IStore>? VendorMade { get; init; }

    /// <summary>What a hop came to that was matched before, and of which a store was let go since; null to match it.</summary>
    public Func<int, HopMatched?> Known { get; init; } = _ => null;

    /// <summary>What an interrupted match of a hop came to; asked before its stores are opened. Null where nothing is kept.</summary>
    public Func<int, MatchSoFar?> SoFar { get; init; } = _ => null;

    /// <summary>Hears of every difference, with the new version of its hop; null where nobody wants them all.</summary>
    public Action<string, Difference>? Every { get; init; }
}

/// <summary>Matches the stores of a whole way: hop by hop, and what a match of hops does not see.</summary>
internal static class WayMatch
{
    /// <summary>Matches them.</summary>
    /// <param name="way">The way, at least one hop.</param>
    /// <param name="open">Opens the store of a version by its number on the way: 0 for the old one, the number of hops for the
    /// newest.</param>
    /// <param name="refused">The old records of a hop that its new store refused when it was made.</param>
    /// <param name="settings">Answers to the new settings.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="beside">What else there is.</param>
    /// <param name="cancel">Stops.</param>
    public static WayMatched Run(Way way, Func<int, IStore> open, Func<Hop, RefusedRecords> refused,
        IReadOnlyDictionary<string, string> settings, IProgressObserver observer, BesideStores beside, CancellationToken cancel)
    {
        var hops = new List<HopMatched>();
        // The new store of a hop is the old one of the next, and opened once: a server takes its time to tell what is in one.
        IStore? old = null;
        try
        {
            for (int i = 0; i < way.Hops.Count; i++)
            {
                if (beside.Known(i) is { } before)
                {
                    hops.Add(before);
                    continue;
                }
                MatchSoFar? soFar = beside.SoFar(i);
                old ??= open(i);
                IStore renewed = open(i + 1);
                try { hops.Add(Hop(way, i, old, renewed, refused(way.Hops[i]), settings, observer, beside, soFar, cancel)); }
                catch
                {
                    renewed.Dispose();
                    throw;
                }
                old.Dispose();
                old = renewed;
            }
        }
        finally { old?.Dispose(); }
        Correspondence final = hops[^1].Actual ?? throw new InvalidOperationException("the last hop is always matched anew");
        using IStore last = open(way.Hops.Count);
        using IStore? fresh = final.IsOnVendorMade ? null : beside.VendorMade?.Invoke();
        KitVersion[] versions = [.. way.Versions.SkipLast(1), final.To];
        return new WayMatched([.. hops.Select(hop => hop.Match)], Totals(way.Versions, open, settings, cancel),
            // What weighs most comes first.
            [.. hops[0].LeftOfOld.Concat(LeftOfNew(last, versions, isVendorMade: final.IsOnVendorMade, isByOthers: final.IsByOthers))
                .OrderByDescending(left => left.Allows)])
        {
            OnOneSide = [.. hops.SelectMany(hop => hop.OnOneSide)],
            WithFresh = fresh is not null && fresh.Identity.Engine == last.Identity.Engine ? DeclarationMatch.WithFresh(fresh, last) : null,
            Proposals = [.. hops.SelectMany(hop => hop.Proposals)]
        };
    }

    /// <summary>Matches one hop of a way.</summary>
    /// <param name="way">The way.</param>
    /// <param name="number">Which hop, from 0.</param>
    /// <param name="old">The store it begins with.</param>
    /// <param name="renewed">The store it ends with.</param>
    /// <param name="refused">The old records that the new store refused when it was made.</param>
    /// <param name="settings">Answers to the new settings.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="beside">What else there is.</param>
    /// <param name="soFar">What an interrupted match of this hop came to; null where nothing is kept.</param>
    /// <param name="cancel">Stops.</param>
    public static HopMatched Hop(Way way, int number, IStore old, IStore renewed, RefusedRecords refused,
        IReadOnlyDictionary<string, string> settings, IProgressObserver observer, BesideStores beside, MatchSoFar? soFar,
        CancellationToken cancel)
    {
        using IStore? made = way.Hops[number].Correspondence.IsOnVendorMade ? beside.VendorMade?.Invoke() : null;
        Correspondence actual = ActualHop.Of(way, number, old, () => renewed);
        if (made is not null) actual = new ShippedRecords(actual, made, old, settings, cancel).Resolved();
        MatchResult match = new CompanyMatch(actual, settings, observer, cancel)
        {
            Refused = refused,
            VendorMade = made,
            SoFar = soFar,
            Every = beside.Every is not { } every ? null : difference => every(actual.To.Name, difference)
        }.Run(old, renewed);
        match = match with { Share = ComparedShare.Of(old, actual, match.Accounts) };
        return new HopMatched(match, [.. ByOthers(actual, old)], match.IsSame && actual.Gone.Count == 0 ? []
            : new Proposals(actual, old, renewed, cancel).Of(match),
            number > 0 ? [] : LeftOfOld(old, actual, isCopied: way.IsOnCopy))
        { Actual = actual };
    }

    // What the vendor took away, and what it added.
    private static IEnumerable<OnOneSide> ByOthers(Correspondence hop, IStore old) => hop.Gone.Select(gone =>
        new OnOneSide(IsGone: true, hop.From.Name, (gone.Column.Length == 0 ? $"the table {gone.Table}"
            : $"the column {gone.Column} of {gone.Table}") + (gone.What.Length > 0 ? $": {gone.What}" : "; the kit does not say why"))
        {
            Gone = new Unexplained(hop.To.Name, UnexplainedKind.Gone, gone.Table, gone.Column, old.CountRows(gone.Table))
        })
        .Concat(hop.Added.GroupBy(added => added.Column.Length == 0 ? "" : added.Table).Select(of => new OnOneSide(IsGone: false,
            hop.To.Name, of.Key.Length == 0
                ? $"the table{(of.Count() == 1 ? "" : "s")} " + string.Join(", ", of.Select(added => added.Table))
            : $"the column{(of.Count() == 1 ? "" : "s")} {string.Join(", ", of.Select(added => added.Column))} of {of.Key}")));

    /// <summary>Control totals of versions that are no neighbours on the way.</summary>
    /// <param name="versions">One more than hops: the first one first.</param>
    /// <param name="stores">The store of each, opened by the caller when asked.</param>
    /// <param name="answers">What the office has answered.</param>
    /// <param name="cancel">Stops.</param>
    public static IReadOnlyList<TotalMatch> Totals(IReadOnlyList<KitVersion> versions, Func<int, IStore> stores,
        IReadOnlyDictionary<string, string> answers, CancellationToken cancel)
    {
        var totals = new List<TotalMatch>();
        foreach ((string name, int from, int to) in OverTheWay(versions))
        {
            using IStore old = stores(from), renewed = stores(to);
            totals.AddRange(ControlTotals.Compare(old, versions[from], renewed, versions[to], answers, cancel, wanted => wanted == name));
        }
        return totals;
    }

    /// <summary>Which totals of which versions, by their number on the way, are compared beside those of neighbours.</summary>
    public static IEnumerable<(string Name, int From, int To)> OverTheWay(IReadOnlyList<KitVersion> versions)
    {
        foreach (string name in versions.SelectMany(version => version.ControlTotals).Select(total => total.Name).Distinct())
        {
            int[] having = [.. Enumerable.Range(0, versions.Count).Where(at => Has(versions[at], name))];
            var pairs = having.Zip(having.Skip(1)).ToList();
            if (having.Length > 2) pairs.Add((having[0], having[^1]));
            foreach ((int from, int to) in pairs.Where(pair => pair.Second - pair.First > 1)) yield return (name, from, to);
        }
    }

    /// <summary>What of the first store nothing on the way looks at.</summary>
    /// <param name="old">The store.</param>
    /// <param name="first">What answers to what in the first hop.</param>
    /// <param name="isCopied">Whether each store began as a copy of the one before; what they declare is compared then.</param>
    public static IReadOnlyList<NotLookedAt> LeftOfOld(IStore old, Correspondence first, bool isCopied = false)
    {
        KitVersion from = first.From;
        return
        [
            // A custom column of a table whose records are combined is in the version, and no map carries it.
            .. Unknown(old, name => first.MapOf(name)?.From ?? from.Table(name))
                .Select(left => new NotLookedAt("old", from.Name, left.What, left.Records, Verdict.NotProved)),
            // A copy brings it all the same, and nobody can say whether it is what it was.
            .. (isCopied ? old.NotCompared() : old.NotRead()).Select(left => new NotLookedAt("old", from.Name, left, 0,
                isCopied ? Verdict.ProvedInPart : Verdict.NotProved)),
            .. Doubts(old, "old", from),
            .. first.TablesLeftOut.Where(entry => from.Table(entry.Key) is not null)
                .Select(entry => new NotLookedAt("old", from.Name, $"the table {entry.Key}, left out by the kit: {entry.Value}",
                    old.CountRows(entry.Key), Verdict.Proved)),
            .. (isCopied ? [] : Objects(old)).Select(what => new NotLookedAt("old", from.Name, what, 0, Verdict.Proved)),
        ];
    }

    /// <summary>What of the last store, and of totals, nothing on the way looks at.</summary>
    /// <param name="renewed">The last store.</param>
    /// <param name="versions">One more than hops, the last with the custom fields that are carried.</param>
    /// <param name="isVendorMade">Whether the last store began as the one that the vendor made, whose own tables are the vendor's
    /// matter.</param>
    /// <param name="isByOthers">Whether others made the last store; what is new in it is told apart.</param>
    public static IReadOnlyList<NotLookedAt> LeftOfNew(IStore renewed, IReadOnlyList<KitVersion> versions, bool isVendorMade = false,
        bool isByOthers = false)
    {
        KitVersion to = versions[^1];
        return
        [
            .. Doubts(renewed, "new", to),
            .. (isByOthers ? [] : Unknown(renewed, to.Table)).Select(left => new NotLookedAt("new", to.Name, left.What, left.Records,
                isVendorMade ? Verdict.Proved : Verdict.ProvedInPart)),
            .. versions.SelectMany(version => version.ControlTotals).GroupBy(total => total.Name).Where(same => same.Count() == 1)
                .Select(same => new NotLookedAt("old", versions.First(version => Has(version, same.Key)).Name,
                    $"the control total \"{same.Key}\", which no other version of the way has", 0, Verdict.Proved)),
        ];
    }

    private static bool Has(KitVersion version, string total) => version.ControlTotals.Any(known => known.Name == total);

    private static IEnumerable<(string What, long Records)> Unknown(IStore store, Func<string, TableShape?> knows)
    {
        foreach (TableShape real in store.ReadShape())
        {
            if (knows(real.Name) is not { } known)
            {
                yield return ($"the table {real.Name}, which the kit does not know", store.CountRows(real.Name));
                continue;
            }
            string[] columns = [.. real.Columns.Where(column => known.OrdinalOf(column.Name) < 0).Select(column => column.Name)];
            if (columns.Length > 0)
                yield return ($"of the table {real.Name} the column{(columns.Length == 1 ? "" : "s")} {string.Join(", ", columns)}, "
                    + "which the kit does not know", store.CountRows(real.Name));
        }
    }

    private static IEnumerable<NotLookedAt> Doubts(IStore store, string side, KitVersion version) =>
        store.Doubts.Select(doubt => new NotLookedAt(side, version.Name, doubt.What, doubt.Records, Verdict.NotProved));

    // Views, triggers and routines are no records.
    private static IEnumerable<string> Objects(IStore store) => store.ListObjects().GroupBy(thing => thing.Kind)
        .Select(kind => $"{kind.Count()} {kind.Key}{(kind.Count() == 1 ? "" : "s")}: "
            + $"{string.Join(", ", kind.Select(thing => thing.Name).Take(5))}{(kind.Count() > 5 ? ", ..." : "")}");
}
