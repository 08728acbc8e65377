// UpgradeCommand.cs: upgrade: all stages of all companies, or what is left of them.
using Transferra.Cli.Rendering;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class UpgradeCommand
{
    public static int Run(Session session, bool resume)
    {
        using IDisposable one = session.Runs.Lock();
        RunContext context = session.Context(new ScreenObserver(session.Screen));
        Run run;
        if (resume)
        {
            run = session.Runs.Unfinished() ?? throw new TransferraException("no run stopped part-way, so there is nothing to resume", "Begin one: transferra upgrade");
            if (run.IsUndoing) throw new TransferraException($"the run {run.Id} was being undone", "Finish that: transferra undo");
            run = session.Runs.Continue(run);
            session.Screen.Line($"Going on with the run {run.Id}.");
        }
        else
        {
            Companies.RefuseWhileUnfinished(session.Runs);
            IReadOnlyList<(Company Company, KitVersion From)>? ready = Companies.Gates(session, context, session.Companies, out IReadOnlyList<Gate> gates);
            if (ready is null) return session.Answer(ExitCodes.Refused, new { gates });
            if (ready.Count == 0) return session.Answer(ExitCodes.Done, new { gates });
            if (!session.Confirm([.. ready.Select(entry => entry.Company.Code)], "Upgrade")) return session.Answer(ExitCodes.Refused, new { gates, confirmed = false });
            run = UpgradeRun.Begin(context, "upgrade", ready);
            session.Screen.Line($"Run {run.Id}, journal {run.Journal.FilePath}");
        }
        IReadOnlyList<CompanyOutcome> outcomes = UpgradeRun.Execute(context, run);
        RunReport report = RunReport.Of(session.Office, run);
        string page = SignOffCommand.WritePage(session, run, report, null);
        Tell(session, run, report, outcomes, page);
        int exitCode = outcomes.All(outcome => outcome.IsThrough) ? ExitCodes.Done : ExitCodes.LookAt;
        return session.Answer(exitCode, report);
    }

    private static void Tell(Session session, Run run, RunReport report, IReadOnlyList<CompanyOutcome> outcomes, string page)
    {
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", "Outcome", "Data version", "Took", "What now"], report.Companies.Select(company =>
        {
            CompanyOutcome outcome = outcomes.First(outcome => outcome.Company == company.Code);
            string took = company.Stages.Sum(stage => stage.Seconds ?? 0).ToString("0.0 s", System.Globalization.CultureInfo.InvariantCulture);
            return (IReadOnlyList<string>)(outcome.IsThrough
                ? [company.Code, "through", company.To, took, $"Install program version {company.To}; keep the old store until everyone is content"]
                : [company.Code, "stopped", company.From, took, $"Correct what is listed above in version {company.From}, then: transferra upgrade {company.Code}"]);
        }));
        session.Screen.Line($"To be signed: {page}");
        if (outcomes.Any(outcome => outcome.IsThrough)) session.Screen.Line($"To go back to exactly where the office was: transferra undo --run {run.Id}");
    }
}
