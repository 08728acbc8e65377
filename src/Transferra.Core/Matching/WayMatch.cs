// WayMatch.cs: one verdict for a company about its whole way, from the first store to the last, naming what was not looked at.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What a match comes to.</summary>
public enum Verdict
{
    /// <summary>Every old record and value is accounted for and the same.</summary>
    Proved,
    /// <summary>What was carried is the same, but not all is: there are exceptions, or something new that nothing stands for.</summary>
    ProvedInPart,
    /// <summary>Something differs, or something old was not looked at.</summary>
    NotProved,
}

/// <summary>Something that was not looked at.</summary>
/// <param name="Side">old or new.</param>
/// <param name="Version">The data version of that side.</param>
/// <param name="What">The thing, as a person names it.</param>
/// <param name="Records">How many records it has; 0 for what has none.</param>
/// <param name="Allows">The best verdict that is left with it.</param>
public sealed record NotLookedAt(string Side, string Version, string What, long Records, Verdict Allows);

/// <summary>Tables or columns that only one of two stores has, where others converted.</summary>
/// <param name="IsGone">Whether the old store has them; otherwise they are new.</param>
/// <param name="Version">The version that has them.</param>
/// <param name="What">The things, as a person names them.</param>
public sealed record OnOneSide(bool IsGone, string Version, string What);

/// <summary>The match of a company.</summary>
/// <param name="Hops">Each hop.</param>
/// <param name="OverTheWay">Control totals of versions that are no neighbours: the first and the last that have one, and where those
/// between do not.</param>
/// <param name="NotLookedAt">What was not looked at.</param>
public sealed record WayMatched(IReadOnlyList<MatchResult> Hops, IReadOnlyList<TotalMatch> OverTheWay,
    IReadOnlyList<NotLookedAt> NotLookedAt)
{
    /// <summary>Where others converted, what only one of the stores has. What is gone and not explained is not proved.</summary>
    public IReadOnlyList<OnOneSide> OnOneSide { get; init; } = [];

    /// <summary>What could be written into the kit to explain what does not come out even, where others converted.</summary>
    public IReadOnlyList<Proposal> Proposals { get; init; } = [];

    /// <summary>Old records that could not be converted, over the whole way.</summary>
    public long Exceptions => Hops.Sum(hop => hop.Exceptions);

    /// <summary>All differences.</summary>
    public long Differences => Hops.Sum(hop => hop.DifferenceCount);

    /// <summary>Control totals that disagree.</summary>
    public int TotalsThatDisagree => Hops.Sum(hop => hop.Totals.Count(total => !total.IsSame)) + OverTheWay.Count(total => !total.IsSame);

    /// <summary>The verdict.</summary>
    public Verdict Verdict
    {
        get
        {
            if (!Hops.All(hop => hop.IsSame) || !OverTheWay.All(total => total.IsSame) || OnOneSide.Any(part => part.IsGone))
                return Verdict.NotProved;
            bool isWhole = Exceptions == 0 && Hops.All(hop => hop.Declarations?.Lost.Count is null or 0);
            return NotLookedAt.Select(left => left.Allows).Append(isWhole ? Verdict.Proved : Verdict.ProvedInPart).Max();
        }
    }
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
    /// <param name="cancel">Stops.</param>
    /// <param name="vendorMade">Opens the store that the vendor's new program made; null when there is none.</param>
    public static WayMatched Run(Way way, Func<int, IStore> open, Func<Hop, RefusedRecords> refused,
        IReadOnlyDictionary<string, string> settings, IProgressObserver observer, CancellationToken cancel, Func<IStore>? vendorMade = null)
    {
        var hops = new List<MatchResult>();
        var actual = new List<Correspondence>();
        var proposals = new List<Proposal>();
        for (int i = 0; i < way.Hops.Count; i++)
        {
            using IStore old = open(i), renewed = open(i + 1);
            using IStore? made = way.Hops[i].Correspondence.IsOnVendorMade ? vendorMade?.Invoke() : null;
            actual.Add(ActualHop.Of(way, i, old, () => renewed));
            hops.Add(new CompanyMatch(actual[i], settings, observer, cancel)
            {
                Refused = refused(way.Hops[i]),
                VendorMade = made
            }.Run(old, renewed));
            if (!hops[i].IsSame || actual[i].Gone.Count > 0)
                proposals.AddRange(new Proposals(actual[i], old, renewed, cancel).Of(hops[i]));
        }
        using IStore first = open(0), last = open(way.Hops.Count);
        return new WayMatched(hops, Totals(way.Versions, open, cancel),
            Left(first, last, [actual[0].From, .. actual.Select(hop => hop.To)], actual[0],
                isCopied: way.IsOnCopy, isVendorMade: actual[^1].IsOnVendorMade, isByOthers: actual[^1].IsByOthers))
        {
            OnOneSide = [.. ByOthers(actual)],
            Proposals = proposals
        };
    }

    // What the vendor took away, and what it added.
    private static IEnumerable<OnOneSide> ByOthers(List<Correspondence> way) => way.SelectMany(hop => hop.Gone.Select(gone =>
        new OnOneSide(IsGone: true, hop.From.Name, (gone.Column.Length == 0 ? $"the table {gone.Table}"
            : $"the column {gone.Column} of {gone.Table}") + (gone.What.Length > 0 ? $": {gone.What}" : "; the kit does not say why")))
        .Concat(hop.Added.GroupBy(added => added.Column.Length == 0 ? "" : added.Table).Select(of => new OnOneSide(IsGone: false,
            hop.To.Name, of.Key.Length == 0
                ? $"the table{(of.Count() == 1 ? "" : "s")} " + string.Join(", ", of.Select(added => added.Table))
            : $"the column{(of.Count() == 1 ? "" : "s")} {string.Join(", ", of.Select(added => added.Column))} of {of.Key}"))));

    /// <summary>Control totals of versions that are no neighbours on the way.</summary>
    /// <param name="versions">One more than hops: the first one first.</param>
    /// <param name="stores">The store of each, opened by the caller when asked.</param>
    /// <param name="cancel">Stops.</param>
    public static IReadOnlyList<TotalMatch> Totals(IReadOnlyList<KitVersion> versions, Func<int, IStore> stores, CancellationToken cancel)
    {
        var totals = new List<TotalMatch>();
        foreach (string name in versions.SelectMany(version => version.ControlTotals).Select(total => total.Name).Distinct())
        {
            int[] having = [.. Enumerable.Range(0, versions.Count).Where(at => Has(versions[at], name))];
            var pairs = having.Zip(having.Skip(1)).ToList();
            if (having.Length > 2) pairs.Add((having[0], having[^1]));
            foreach ((int from, int to) in pairs.Where(pair => pair.Second - pair.First > 1))
            {
                using IStore old = stores(from), renewed = stores(to);
                totals.AddRange(ControlTotals.Compare(old, versions[from], renewed, versions[to], cancel, wanted => wanted == name));
            }
        }
        return totals;
    }

    /// <summary>What nothing on the way looks at.</summary>
    /// <param name="old">The first store.</param>
    /// <param name="renewed">The last store.</param>
    /// <param name="versions">One more than hops, with the custom fields that are carried.</param>
    /// <param name="first">What answers to what in the first hop.</param>
    /// <param name="isCopied">Whether each store began as a copy of the one before; what they declare is compared then.</param>
    /// <param name="isVendorMade">Whether the last store began as the one that the vendor made, whose own tables are the vendor's
    /// matter.</param>
    /// <param name="isByOthers">Whether others made the last store; what is new in it is told apart.</param>
    public static IReadOnlyList<NotLookedAt> Left(IStore old, IStore renewed, IReadOnlyList<KitVersion> versions, Correspondence first,
        bool isCopied = false, bool isVendorMade = false, bool isByOthers = false)
    {
        KitVersion from = versions[0], to = versions[^1];
        return
        [
            // A custom column of a table whose records are combined is in the version, and no map carries it.
            .. Unknown(old, name => first.MapOf(name)?.From ?? from.Table(name))
                .Select(left => new NotLookedAt("old", from.Name, left.What, left.Records, Verdict.NotProved)),
            // A copy brings it all the same, and nobody can say whether it is what it was.
            .. (isCopied ? old.NotCompared() : old.NotRead()).Select(left => new NotLookedAt("old", from.Name, left, 0,
                isCopied ? Verdict.ProvedInPart : Verdict.NotProved)),
            .. Doubts(old, "old", from), .. Doubts(renewed, "new", to),
            .. (isByOthers ? [] : Unknown(renewed, to.Table)).Select(left => new NotLookedAt("new", to.Name, left.What, left.Records,
                isVendorMade ? Verdict.Proved : Verdict.ProvedInPart)),
            .. first.TablesLeftOut.Where(entry => from.Table(entry.Key) is not null)
                .Select(entry => new NotLookedAt("old", from.Name, $"the table {entry.Key}, left out by the kit: {entry.Value}",
                    old.CountRows(entry.Key), Verdict.Proved)),
            .. (isCopied ? [] : Objects(old)).Select(what => new NotLookedAt("old", from.Name, what, 0, Verdict.Proved)),
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
