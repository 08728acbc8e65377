// UpgradeCommand.cs: upgrade: all stages of all companies, or what is left of them.
using System.CommandLine;
using System.Text.Json;
using Transferra.Cli.Rendering;
using Transferra.Core.Closing;
using Transferra.Core.Gates;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Cli.Commands;

internal static class UpgradeCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var resume = new Option<bool>("--resume") { Description = "Go on with the run that stopped part-way" };
        var stayClosed = new Option<bool>("--stay-closed")
        {
            Description = "Leave the office closed afterwards; open it with: "
            + "transferra reopen"
        };
        var despiteFaults = new Option<bool>("--despite-faults")
        { Description = "Try backup, conversion and match also of companies whose check finds faults; they are not changed over for that" };
        var keepBetween = new Option<bool>("--keep-between")
        { Description = "Keep the stores between the hops of a long way; otherwise each goes when the hops around it are proved" };
        commands.Add("upgrade", "All of it: ready, close, check, backup, convert, match, change over, check again, reopen",
            [commands.Codes, commands.Yes, resume, commands.EndSessions, stayClosed, despiteFaults, keepBetween],
            (session, parsed) => Run(session, parsed.GetValue(resume), parsed.GetValue(commands.EndSessions),
                parsed.GetValue(stayClosed), parsed.GetValue(despiteFaults), parsed.GetValue(keepBetween)));
    }

    public static int Run(Session session, bool resume, bool endsSessions = false, bool staysClosed = false, bool despiteFaults = false,
        bool keepsBetween = false)
    {
        using IDisposable one = session.LockStores();
        RunContext context = session.Context(session.Observer()) with { Asked = session.Person };
        Run run;
        if (resume)
        {
            run = session.Runs.Unfinished() ?? throw new TransferraException("no run stopped part-way, so there is nothing to resume",
                "Begin one: transferra upgrade");
            if (run.IsUndoing) throw new TransferraException($"the run {run.Id} was being undone", "Finish that: transferra undo");
            foreach (Package package in session.Office.Packages.Where(package => package.Companies.Any(company =>
                run.Companies.Contains(company.Code)))) KitTrust.Require(package.Kit, session.Words);
            run = session.Runs.Continue(run);
            session.Screen.Line($"Going on with the run {run.Id}.");
            // What a reboot or somebody has opened meanwhile is closed again, and the rest is proved anew.
            if (!Closed(session, endsSessions, takesBack: false)) return session.Answer(ExitCodes.PartWay,
                new JsonFacts { { "run", run.Id }, { "closed", false } });
        }
        else
        {
            Companies.RefuseWhileUnfinished(session.Runs);
            IReadOnlyList<(Company Company, KitVersion From)>? ready = Companies.Gates(session, context, session.Companies,
                out IReadOnlyList<Gate> gates);
            if (ready is null) return session.Answer(ExitCodes.Refused, new JsonFacts { { "gates", gates } });
            if (ready.Count == 0) return session.Answer(ExitCodes.Done, new JsonFacts { { "gates", gates } });
            if (!session.Confirm([.. ready.Select(entry => entry.Company.Code)], "Upgrade")) return session.Answer(ExitCodes.Refused,
                new JsonFacts { { "gates", gates }, { "confirmed", false } });
            bool wasOpen = session.Closings.Current() is null;
            OfficeSurvey before = Survey.Of(session.Office, session.Tools, looksForMore: false);
            if (!Closed(session, endsSessions, takesBack: true)) return session.Answer(ExitCodes.Refused,
                new JsonFacts { { "gates", gates }, { "closed", false } });
            run = Begun(session, context, ready, wasOpen, despiteFaults, keepsBetween);
            session.Screen.Line($"Run {run.Id}, journal {run.Journal.FilePath}");
            // To be compared with when the new program is there: what it forgot, and what is gone.
            session.Volume.WriteNew(Path.Combine(run.Folder, "survey-before.json"), JsonSerializer.SerializeToUtf8Bytes(before,
                CliJson.Form.OfficeSurvey));
        }
        IReadOnlyList<CompanyOutcome> outcomes = UpgradeRun.Execute(context, run);
        RunReport report = session.ReportOf(run);
        string page = SignOffCommand.TryWritePage(session, run, report);
        Tell(session, run, report, outcomes, page);
        int exitCode = Math.Max(ExitCode(outcomes), report.Companies.Any(company => company.Match is { Verdict: Verdict.AnsweredFor })
            ? ExitCodes.LookAt : ExitCodes.Done);
        bool opened = Opened(session, run, outcomes, staysClosed);
        report = session.ReportOf(run);
        SignOffCommand.TryWritePage(session, run, report); // now with the time that the office was closed
        return session.Answer(opened ? exitCode : ExitCodes.Unproved, report);
    }

    /// <summary>How a run came out, as an exit code.</summary>
    public static int ExitCode(IReadOnlyList<CompanyOutcome> outcomes) => outcomes.Any(outcome => !outcome.IsSettled) ? ExitCodes.PartWay
        : outcomes.All(outcome => outcome.IsThrough) ? ExitCodes.Done : ExitCodes.LookAt;

    /// <summary>What to do about a company that is neither through nor back where it was.</summary>
    public static string Unsettled(CompanyOutcome outcome) => outcome.IsWaiting
        ? "Do the steps that are listed above, then go on: transferra upgrade --resume. Or take it back: transferra undo"
        : $"Neither through nor back where it was: {outcome.Reasons[^1]} Put that right, then go on: transferra upgrade --resume. Or take "
            + "it back: transferra undo";

    // When the run cannot even begin, nothing was done, and the office is opened again.
    private static Run Begun(Session session, RunContext context, IReadOnlyList<(Company Company, KitVersion From)> ready, bool wasOpen,
        bool despiteFaults, bool keepsBetween)
    {
        try
        {
            return UpgradeRun.Begin(context, RunKind.Upgrade, ready, session.Closings.Current()?.Id ?? "", despiteFaults, keepsBetween);
        }
        catch (Exception) when (wasOpen && session.Closings.Current() is not null)
        {
            CloseCommand.Open(session, session.Closings.Current()!);
            throw;
        }
    }

    // Everybody out, before anything is looked at that must not change any more. When somebody stays, the office is as it was.
    private static bool Closed(Session session, bool endsSessions, bool takesBack)
    {
        bool wasOpen = session.Closings.Current() is null;
        session.Screen.Heading("close: everybody out");
        ClosingOutcome outcome;
        try
        {
            outcome = session.Closing.Close(session.Office, "upgrade", Session.Version, endsSessions);
        }
        catch (Exception) when (takesBack && wasOpen && !session.Cancel.IsCancellationRequested)
        {
            if (session.Closings.Current() is { } begun) CloseCommand.Open(session, begun);
            throw;
        }
        CloseCommand.Tell(session, outcome);
        if (outcome.IsClosed) return true;
        if (outcome.StillIn.Count > 0)
            session.Screen.Error($"{Results.Count(outcome.StillIn.Count, "session")} still in: {outcome.StillIn[0].Company} "
                + $"{outcome.StillIn[0].Session.Words}; nothing was upgraded. Close the program there, then try again; or disconnect them: "
                + "transferra upgrade --end-sessions");
        if (takesBack && wasOpen && session.Closings.Current() is { } closed) CloseCommand.Open(session, closed);
        return false;
    }

    // In again, unless the program that is installed cannot read what the data has become.
    private static bool Opened(Session session, Run run, IReadOnlyList<CompanyOutcome> outcomes, bool staysClosed)
    {
        if (session.Closings.Current() is not { IsForUpgrade: true } closed) return true;
        // What the data has become is what the run says, which mends and restores leave at its version, whatever office.yaml wants next.
        string[] unfit = [.. outcomes.Where(outcome => outcome.IsThrough).SelectMany(outcome => session.Office.Packages
            .Where(package => package.Companies.Any(company => company.Code == outcome.Company))
                .Select(package => (package, run.BegunFact(outcome.Company, "to") ?? package.WantedVersion)))
            .Distinct().Select(pair => ProgramVersions.UnfitFor(pair.package, pair.Item2,
                session.Tools.Of(pair.package.Kit).Commands)).OfType<string>()];
        bool isSettled = outcomes.All(outcome => outcome.IsSettled);
        if (!staysClosed && unfit.Length == 0 && isSettled) return CloseCommand.Open(session, closed).Count == 0;
        session.Screen.Heading("The office stays closed");
        foreach (string why in unfit) session.Screen.Look(why);
        if (!isSettled) session.Screen.Look("A company is neither through nor back where it was. Finish that first, or take it back.");
        session.Screen.Line(!isSettled ? "When that is done, let users in again: transferra reopen" : unfit.Length > 0
            ? "Install that, then let users in again: transferra reopen" : "When you are content, let users in again: transferra reopen");
        return true;
    }

    private static void Tell(Session session, Run run, RunReport report, IReadOnlyList<CompanyOutcome> outcomes, string page)
    {
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", "Outcome", "Data version", "Took", "What now"], report.Companies.Select(company =>
        {
            CompanyOutcome outcome = outcomes.First(outcome => outcome.Company == company.Code);
            string took = Durations.Of(company.Stages.Sum(stage => stage.Seconds ?? 0));
            // A mend that was interrupted is continued here as well.
            if (run.Kind == RunKind.Mend.Name && outcome.IsThrough)
                return (IReadOnlyList<string>)[company.Code, "through", company.To, took,
                    "Look through the list of changes; keep the old store until everyone is content"];
            return (IReadOnlyList<string>)(outcome.IsThrough
                ? [company.Code, "through", company.To, took,
                    company.Program?.Opens == true ? "Keep the old store until everyone is content" : "Install program version "
                        + (company.Program is { Wanted.Length: > 0 } program ? program.Wanted : company.To)
                        + "; keep the old store until everyone is content"]
                : !outcome.IsSettled ? [company.Code, outcome.IsWaiting ? "waiting" : "unfinished", company.From, took, Unsettled(outcome)]
                : [company.Code, "stopped", company.From, took,
                    company.Match is { Verdict: Verdict.NotProved }
                        ? $"Explain in the kit what is meant{(company.Match.Unexplained.Count > 0 ? " or answer for it" : "")}, have the "
                            + $"rest corrected, then: transferra upgrade {company.Code}"
                        : $"Correct what is listed above in version {company.From}, then: transferra upgrade {company.Code}"]);
        }));
        if (page.Length > 0) session.Screen.Line($"To be signed: {page}");
        if (outcomes.Any(outcome => outcome.IsThrough)) session.Screen.Line("To go back to exactly where the office was: transferra "
            + $"undo --run {run.Id}");
    }
}
