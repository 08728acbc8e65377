// MatchStage.cs: proves the staged new store against the old one, hop by hop and over the whole way.
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>The proof before the change-over.</summary>
public sealed class MatchStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Match;

    /// <summary>The result document with what is recorded of the new store.</summary>
    internal const string Found = "match-found";

    private const string Answered = "answered", FoundDigest = "found-sha256";

    private static string FoundPath(CompanyRun on) => Path.Combine(on.ResultFolder, Found + ".json");

    /// <summary>Whether the stores between the hops are there, as far as a match needs them: those of hops that were proved on the way are
    /// not missed.</summary>
    /// <param name="on">The company and its run.</param>
    public static bool HasStoresBetween(CompanyRun on)
    {
        var proofs = new HopProofs(on);
        return Enumerable.Range(0, on.Way.Hops.Count - 1).All(hop => proofs.IsLetGo(hop)
            || on.Context.Places.Exists(on.Staged(on.Way.Hops[hop].To.Name)));
    }

    /// <summary>Matches a company's new store with what the run recorded of it, where the old one is not there any more.</summary>
    /// <param name="on">The company and its run.</param>
    /// <param name="renewed">Where the new store is now.</param>
    /// <returns>Null when the run recorded nothing, as runs of earlier releases did not.</returns>
    /// <exception cref="TransferraException">What was recorded is not what the journal says it was.</exception>
    public static SinceRecorded? Since(CompanyRun on, StoreAddress renewed)
    {
        if (on.FactsOf(Stages.Match)?.GetValueOrDefault(FoundDigest) is not { } known) return null;
        if (PlainFile.DigestOf(FoundPath(on)) != known || on.LoadResult<RecordedStore>(Found) is not { } recorded)
            throw new TransferraException($"{FoundPath(on)} is gone or was altered, and the old store is not there any more",
                "Match with a backup set instead: transferra match --old SET --new STORE");
        using IStore store = on.Context.Stores.Open(renewed, on.To.TextEncoding);
        return RecordedMatch.Run(store, recorded, on.Context.Observer, on.Context.Cancel);
    }

    /// <summary>Matches the stores of a company's way, with what people have answered for.</summary>
    /// <param name="on">The company and its run.</param>
    /// <param name="stores">One more than hops: the old store first, the newest last.</param>
    /// <param name="every">Hears of every difference, with the new version of its hop; null where nobody wants them all.</param>
    public static WayMatched Of(CompanyRun on, IReadOnlyList<StoreAddress> stores, Action<string, Difference>? every = null)
    {
        IReadOnlyList<KitVersion> versions = on.Way.Versions;
        var proofs = new HopProofs(on);
        StoreAddress? made = on.Company.VendorMade is { } vendors && (on.Way.Hops[^1].Beginning.IsVendorMade
            || on.Context.Places.Exists(vendors)) ? vendors : null;
        var progress = new MatchProgress(on, stores, made);
        WayMatched matched = WayMatch.Run(on.Way, at => on.Context.Stores.Open(stores[at], versions[at].TextEncoding),
            hop => ConvertStage.Refused(on, hop), on.Company.Answers, on.Context.Observer, new BesideStores
            {
                VendorMade = made is null ? null : () => on.Context.Stores.Open(made, on.Way.To.TextEncoding),
                Known = hop => proofs.Kept(hop, stores[0]),
                SoFar = progress.Of,
                Every = every
            }, on.Context.Cancel).With([.. on.Company.AnsweredFor, .. GivenIn(on)]) with
        { Levels = Levels(on, stores[0], stores[^1]) };
        progress.Forget();
        return matched;
    }

    private static MatchedLevels Levels(CompanyRun on, StoreAddress oldPlace, StoreAddress newPlace)
    {
        using IStore old = on.Context.Stores.Open(oldPlace, on.Way.From.TextEncoding),
            renewed = on.Context.Stores.Open(newPlace, on.Way.To.TextEncoding);
        ILookup<string, SettingFound> after = SettingsRecord.OfCompany(on.Way.To, renewed).ToLookup(setting => setting.Name);
        string[] sets = [.. (on.LoadResult<List<BackupResult>>(Stages.Backup) ?? []).Where(set => set.IsProved).Select(set => set.Path)];
        return new MatchedLevels(Survey.DataVersionOf(on.Company.Kit, old, oldPlace),
            Survey.DataVersionOf(on.Company.Kit, renewed, newPlace),
            [.. SettingsRecord.OfCompany(on.Way.From, old).Where(setting => after.Contains(setting.Name))
                .Select(setting => new SettingMatched(setting.Name, setting.Value, after[setting.Name].First().Value))],
            DocumentsMatch.Of(on.Context, on.Company, sets))
        {
            Program = ProgramVersions.Matched(on.Run.BegunFact(on.Company.Code, RunReport.ProgramFact),
                on.Context.ProgramVersion(on.Company), on.Way.To)
        };
    }

    // What was answered for while the run went on is not asked again.
    private static IEnumerable<Answer> GivenIn(CompanyRun on) => on.Run.Journal.Entries.Where(entry => entry.Company == on.Company.Code
        && entry is { Stage: Stages.Match, State: Answered }).Select(entry => new Answer(entry.Facts["to"],
            Enum.Parse<UnexplainedKind>(entry.Facts["what"]), entry.Facts["table"], entry.Facts["column"],
            long.Parse(entry.Facts["records"], CultureInfo.InvariantCulture), entry.Facts["by"], entry.Facts["because"]));

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        WayMatched matched = Of(On, [On.Company.OldStore, .. On.Way.Hops.Select(hop => On.Staged(hop.To.Name))]);
        if (matched.NeedsOnlyAnswers && On.Context.Asked is { } asked) matched = Ask(asked, matched);
        On.SaveResult(Name, matched);
        On.SaveResult(Found, new RecordedStore(On.To.Name, DateTimeOffset.UtcNow, matched.Verdict, matched.Hops[^1].Recorded));
        return new StageOutcome(true, Summary(matched), Facts(("proved", matched.Verdict == Verdict.Proved ? 1 : 0),
            ("differences", matched.Differences), ("answered", matched.Answered.Count), ("verdict", matched.Verdict),
            (FoundDigest, PlainFile.DigestOf(FoundPath(On)))), matched);
    }

    private WayMatched Ask(IPersonAsked asked, WayMatched matched)
    {
        foreach (Unexplained what in matched.Unexplained)
        {
            if (asked.AnswersFor(CompanyCode, what) is not { } answer) break;
            On.Run.Journal.Append(CompanyCode, Name, Answered, Facts(("to", what.To), ("what", what.Kind), ("table", what.Table),
                ("column", what.Column), ("records", what.Records), ("by", answer.By), ("because", answer.Because)));
        }
        return matched.With(GivenIn(On));
    }

    private static string Summary(WayMatched matched)
    {
        int totals = matched.Hops.Sum(hop => hop.Totals.Count) + matched.OverTheWay.Count;
        return matched.Verdict switch
        {
            Verdict.Proved => string.Create(CultureInfo.InvariantCulture,
                $"{matched.Hops[^1].Tables.Sum(table => table.Found)} records are the same, {totals} control totals agree"),
            Verdict.AnsweredFor => string.Create(CultureInfo.InvariantCulture,
                $"{matched.Hops[^1].Tables.Sum(table => table.Found)} records looked at; for what nobody explained "
                    + $"{string.Join(" and ", matched.Answered.Select(answer => answer.By).Distinct())} answers"),
            Verdict.ProvedInPart => string.Create(CultureInfo.InvariantCulture,
                $"what was carried is the same, {totals} control totals agree; {matched.Exceptions} records are exceptions"),
            _ => string.Create(CultureInfo.InvariantCulture,
                $"not proved: {matched.Differences} differences, {matched.TotalsThatDisagree} control totals disagree")
                + string.Concat(matched.OnOneSide.Where(part => part.IsGone).Select(part => $", gone: {part.What}"))
                + string.Concat(matched.NotLookedAt.Where(left => left.Allows == Verdict.NotProved)
                    .Select(left => $", not looked at: {left.What}")),
        };
    }
}
