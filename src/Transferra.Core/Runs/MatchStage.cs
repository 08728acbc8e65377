// MatchStage.cs: proves the staged new store against the old one, hop by hop.
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Matches the stores of a way.</summary>
public static class WayMatch
{
    /// <summary>Matches each hop's old and new store.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">For the answers.</param>
    /// <param name="way">The hops.</param>
    /// <param name="stores">One more than hops: the old store first, the newest last.</param>
    public static IReadOnlyList<MatchResult> Run(RunContext context, Company company, IReadOnlyList<Hop> way, IReadOnlyList<StoreAddress> stores)
    {
        var results = new List<MatchResult>();
        for (int i = 0; i < way.Count; i++)
        {
            using IStore old = context.Stores.Open(stores[i], way[i].From.TextEncoding), renewed = context.Stores.Open(stores[i + 1], way[i].To.TextEncoding);
            results.Add(new CompanyMatch(way[i], company.Answers, context.Observer, context.Cancel).Run(old, renewed));
        }
        return results;
    }
}

/// <summary>The proof before the change-over.</summary>
public sealed class MatchStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Match;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        StoreAddress[] stores = [On.Company.OldStore, .. On.Way.Select(hop => On.Staged(hop.To.Name))];
        IReadOnlyList<MatchResult> results = WayMatch.Run(On.Context, On.Company, On.Way, stores);
        On.SaveResult(Name, results);
        bool proved = results.All(result => result.IsProved);
        long differences = results.Sum(result => result.DifferenceCount);
        int totals = results.Sum(result => result.Totals.Count(total => !total.IsSame));
        return new StageOutcome(true, proved
            ? FormattableString.Invariant($"{results[^1].Tables.Sum(table => table.Found)} records are the same, {results[^1].Totals.Count} control totals agree")
                : FormattableString.Invariant($"not proved: {differences} differences, {totals} control totals disagree"),
            Facts(("proved", proved ? 1 : 0), ("differences", differences)), results);
    }
}
