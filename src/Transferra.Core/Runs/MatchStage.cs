// MatchStage.cs: proves the staged new store against the old one, hop by hop and over the whole way.
using System.Globalization;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>The proof before the change-over.</summary>
public sealed class MatchStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Match;

    /// <summary>Matches the stores of a company's way.</summary>
    /// <param name="on">The company and its run.</param>
    /// <param name="stores">One more than hops: the old store first, the newest last.</param>
    public static WayMatched Of(CompanyRun on, IReadOnlyList<StoreAddress> stores)
    {
        IReadOnlyList<KitVersion> versions = on.Way.Versions;
        return WayMatch.Run(on.Way, at => on.Context.Stores.Open(stores[at], versions[at].TextEncoding),
            hop => ConvertStage.Refused(on, hop), on.Company.Answers, on.Context.Observer, on.Context.Cancel,
            on.Company.VendorMade is { } made ? () => on.Context.Stores.Open(made, on.Way.To.TextEncoding) : null);
    }

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        WayMatched matched = Of(On, [On.Company.OldStore, .. On.Way.Hops.Select(hop => On.Staged(hop.To.Name))]);
        On.SaveResult(Name, matched);
        int totals = matched.Hops.Sum(hop => hop.Totals.Count) + matched.OverTheWay.Count;
        return new StageOutcome(true, matched.Verdict switch
        {
            Verdict.Proved => string.Create(CultureInfo.InvariantCulture,
                $"{matched.Hops[^1].Tables.Sum(table => table.Found)} records are the same, {totals} control totals agree"),
            Verdict.ProvedInPart => string.Create(CultureInfo.InvariantCulture,
                $"what was carried is the same, {totals} control totals agree; {matched.Exceptions} records are exceptions"),
            _ => string.Create(CultureInfo.InvariantCulture,
                $"not proved: {matched.Differences} differences, {matched.TotalsThatDisagree} control totals disagree")
                + string.Concat(matched.OnOneSide.Where(part => part.IsGone).Select(part => $", gone: {part.What}"))
                + string.Concat(matched.NotLookedAt.Where(left => left.Allows == Verdict.NotProved)
                    .Select(left => $", not looked at: {left.What}")),
        }, Facts(("proved", matched.Verdict == Verdict.Proved ? 1 : 0), ("differences", matched.Differences),
            ("verdict", matched.Verdict)), matched);
    }
}
