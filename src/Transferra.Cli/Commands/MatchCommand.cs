// MatchCommand.cs: match: old store against new store, at any time before or after the change-over.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class MatchCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var old = new Option<string?>("--old")
        {
            Description = "Match without an office or a kit: what is taken for right. A store, a folder or a set; a store on a server as "
                + "office.yaml writes it",
            HelpName = "PLACE"
        };
        var renewed = new Option<string?>("--new") { Description = "What is held against it", HelpName = "PLACE" };
        var list = new Option<string?>("--list")
        {
            Description = "Also write every difference to this folder, as a workbook (.xlsx) and as JSON lines",
            HelpName = "DIR"
        };
        var sample = new Option<long?>("--sample")
        {
            Description = "With --old and --new: of large tables compare only so many records, drawn at random. A quick look, and no proof",
            HelpName = "RECORDS"
        };
        var baseline = new Option<bool>("--baseline")
        {
            Description = "With --old SET and --new: compare with what the set tells of its records, group by group, without unpacking it"
        };
        var before = new Option<string?>("--printed-before")
        {
            Description = "Compare reports: the folder that the old program printed or exported into (text, delimited, HTML, .xlsx, PDF)",
            HelpName = "DIR"
        };
        var after = new Option<string?>("--printed-after") { Description = "The folder of the new program", HelpName = "DIR" };
        var aside = new Option<string[]>("--aside")
        {
            Description = "Of reports, leave aside what matches this regular expression; once for each",
            HelpName = "REGEX",
            AllowMultipleArgumentsPerToken = false
        };
        commands.Add("match", "Prove that the records of the new store are those of the old one",
            [commands.Codes, old, renewed, list, sample, baseline, before, after, aside],
            (session, parsed) => (parsed.GetValue(old), parsed.GetValue(renewed)) switch
            {
                _ when parsed.GetValue(sample) is < 1 => throw new TransferraException("--sample needs a number of records, at least 1",
                    "10000 is a good one."),
                (null, null) when parsed.GetValue(sample) is not null => throw new TransferraException(
                    "--sample goes with --old and --new; the proof of a run is never a sample", "Name both places, or leave it out."),
                ({ } from, { } to) when parsed.GetValue(baseline) && session.Codes.Count == 0 && parsed.GetValue(sample) is null
                    && parsed.GetValue(list) is null => MatchBaseline.Run(session, from, to),
                _ when parsed.GetValue(baseline) => throw new TransferraException(
                    "--baseline goes with --old SET and --new, and neither a company nor --sample or --list with them",
                    "Name both places; leave it out to see which records differ."),
                (null, null) when (parsed.GetValue(before), parsed.GetValue(after)) is ({ } printed, { } again)
                    && session.Codes.Count == 0 => MatchPrinted.Run(session, printed, again, parsed.GetValue(aside) ?? []),
                _ when parsed.GetValue(before) is not null || parsed.GetValue(after) is not null => throw new TransferraException(
                    "--printed-before and --printed-after belong together, and neither a company nor --old and --new with them",
                    "Name both folders, and nothing else but --aside."),
                (null, null) => Run(session, parsed.GetValue(list)),
                ({ } from, { } to) when session.Codes.Count == 0 => Bare(session, from, to, parsed.GetValue(list), parsed.GetValue(sample)),
                _ => throw new TransferraException("--old and --new belong together, and no company is named with them",
                    "Name both places, or a company and none.")
            });
    }

    internal sealed record BareMatched(string Old, string New, bool Same, WayMatched Match);

    // Whatever two places hold, whoever made them.
    private static int Bare(Session session, string from, string to, string? list, long? sample)
    {
        using NamedPlace old = NamedPlace.Of(session, from), renewed = NamedPlace.Of(session, to);
        session.Screen.Heading("match: are the records the same?");
        session.Screen.Line($"old: {old.Shown}");
        session.Screen.Line($"new: {renewed.Shown}");
        using DifferenceLists? lists = ListsIn(session, list, "differences");
        WayMatched matched = BareMatch.Run(session.Stores, old.Side, renewed.Side, session.Observer().At("match"), session.Cancel,
            lists is null ? null : lists.Add, sample);
        BareResults.Match(session.Screen, matched);
        if (lists is not null) session.Screen.Line(lists.Write(matched));
        bool isSame = BareMatch.IsSame(matched);
        return session.Answer(isSame ? ExitCodes.Done : ExitCodes.LookAt, new BareMatched(old.Shown, renewed.Shown, isSame, matched));
    }

    private static DifferenceLists? ListsIn(Session session, string? folder, string name) => folder is null ? null
        : new DifferenceLists(session.Volume, Path.GetFullPath(folder), name);

    /// <summary>A company's match, or why there is none.</summary>
    internal sealed record CompanyMatched(string Company, string Run, WayMatched? Match, string NotMatched = "")
    {
        /// <summary>Where nothing of the old data is left: the new store against what the run recorded of it.</summary>
        public SinceRecorded? Since { get; init; }
    }

    public static int Run(Session session, string? list = null)
    {
        IReadOnlyList<Run> runs = session.Runs.List();
        var results = new List<CompanyMatched>();
        int code = ExitCodes.Done;
        foreach (Company company in session.Companies)
        {
            CompanyMatched? matched = null;
            Exception? error = session.Attempt(company.Code, "match", () => matched = Match(session, runs, company, list));
            if (error is not null && session.Companies.Count == 1) System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(error);
            results.Add(matched ?? new CompanyMatched(company.Code, "", null, session.TellFailed($"{company.Code} was NOT matched",
                error!)));
            code = Math.Max(code, CodeOf(matched));
        }
        if (results.All(result => result.Match is null && result.NotMatched == NoStore))
            throw new TransferraException(session.Companies.Count == 1 ? $"{session.Companies[0].Code} has no converted store to match"
                : "no company has a converted store to match",
                session.Companies.Count == 1 ? $"Convert it first: transferra convert {session.Companies[0].Code}"
                    : "Convert first: transferra convert");
        foreach (CompanyMatched without in results.Where(result => result.NotMatched == NoStore))
            session.Screen.Look($"{without.Company}: not matched, as it has no converted store. Convert it first: "
                + $"transferra convert {without.Company}");
        return session.Answer(code, results);
    }

    private static int CodeOf(CompanyMatched? matched) => matched switch
    {
        null => ExitCodes.Unproved,
        { Since: { IsSame: true, Later: 0, Verdict: Verdict.Proved } } => ExitCodes.Done,
        { Match: { Verdict: Verdict.Proved, Levels: not { IsToLookAt: true } } } => ExitCodes.Done,
        _ => ExitCodes.LookAt
    };

    private const string NoStore = "there is no converted store";

    private static CompanyMatched Match(Session session, IReadOnlyList<Run> runs, Company company, string? list)
    {
        RunContext context = session.Context(session.Observer().At(company.Code + " match"));
        CompanyRun? on = runs.Where(run => !run.IsBroken && RunKind.Find(run) is { Converts: true } && !run.IsUndone
            && run.Companies.Contains(company.Code)
                && run.IsDone(company.Code, Stages.Convert))
            .Select(run => UpgradeRun.OnRun(context, run, company.Code)).FirstOrDefault(on => session.Places.Exists(on.Aside)
                || session.Places.Exists(on.FinalStaged) || IsChangedOver(session, on));
        if (on is null) return new CompanyMatched(company.Code, "", null, NoStore);
        bool changedOver = IsChangedOver(session, on) || session.Places.Exists(on.Aside);
        StoreAddress last = changedOver ? company.NewStore : on.FinalStaged;
        session.Screen.Heading($"{company.Code}  match: are the records the same?");
        using OldStoreLeft old = OldStoreLeft.Of(session, on, changedOver);
        foreach (string why in old.NotUsed) session.Screen.Look(why);
        session.Screen.Line($"old: {old.Shown}");
        session.Screen.Line($"new: {last.Shown}");
        if (old.Address is not { } address) return Since(session, on, last);
        using DifferenceLists? lists = ListsIn(session, list, $"{company.Code}-differences");
        WayMatched matched = MatchStage.Of(on, [address, .. on.Way.Hops.SkipLast(1).Select(hop => on.Staged(hop.To.Name)), last],
            lists is null ? null : lists.Add);
        Results.Match(session.Screen, company.Code, matched, changedOver ? ProvedAt(on) : null);
        if (lists is not null) session.Screen.Line(lists.Write(matched));
        return new CompanyMatched(company.Code, on.Run.Id, matched);
    }

    private static bool IsChangedOver(Session session, CompanyRun on) => on.Run.IsDone(on.Company.Code, Stages.ChangeOver)
        && session.Places.Exists(on.Company.NewStore);

    // Nothing but what the run recorded is left.
    private static CompanyMatched Since(Session session, CompanyRun on, StoreAddress renewed)
    {
        SinceRecorded since = MatchStage.Since(on, renewed) ?? throw new TransferraException(
            $"the old store of {on.Company.Code} is not there any more, and the run recorded too little to match without it",
            "Match with a backup set: transferra match --old SET --new STORE");
        MatchedSinceText.Tell(session.Screen, on.Company.Code, since);
        return new CompanyMatched(on.Company.Code, on.Run.Id, null) { Since = since };
    }

    // When the new store was put in place, if it was proved then.
    private static DateTimeOffset? ProvedAt(CompanyRun on)
    {
        JournalEntry? done(string stage) => on.Run.Journal.Entries.LastOrDefault(entry => entry.Company == on.Company.Code
            && entry.Stage == stage && entry.State == "done");
        return done(Stages.Match)?.Facts.GetValueOrDefault("proved") == "1" ? done(Stages.ChangeOver)?.At : null;
    }
}
