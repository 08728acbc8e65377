// SignOffCommand.cs: signoff: the report of a run, as text and as one HTML page.
using System.Text;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class SignOffCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        commands.Add("signoff", "The report of a run, to be signed", [commands.RunMeant, commands.Html], (session, parsed) =>
            Run(session, parsed.GetValue(commands.RunMeant), parsed.GetValue(commands.Html)));
    }

    public static int Run(Session session, string? id, string? html)
    {
        IReadOnlyList<Run> runs = session.Runs.List();
        Run run = (id is not null ? runs.FirstOrDefault(run => run.Id == id) : runs.FirstOrDefault(run => run.Kind == RunKind.Upgrade.Name)
            ?? runs.FirstOrDefault())
            ?? throw new TransferraException(id is null ? "there is no run to report" : $"there is no run {id}", runs.Count == 0
                ? "Begin one: transferra upgrade" : $"The runs are {string.Join(", ", runs.Select(run => run.Id))}.");
        RunReport report = RunReport.Of(session.Office, run);
        Show(session.Screen, report);
        if (html is not null) session.Screen.Line($"Written: {WritePage(session, run, report, Path.GetFullPath(html))}");
        return session.Answer(ExitCodes.Done, report);
    }

    /// <summary>Writes the HTML page to a file; into the run's folder when none is named.</summary>
    public static string WritePage(Session session, Run run, RunReport report, string? path)
    {
        path ??= Path.Combine(run.Folder, "signoff.html");
        session.Volume.Replace(path, Encoding.UTF8.GetBytes(HtmlSignOff.Render(report)));
        return path;
    }

    /// <summary>Writes the page of a run; one that cannot be written stops nothing, and is told.</summary>
    /// <returns>Its path; "" when it could not be written.</returns>
    public static string TryWritePage(Session session, Run run, RunReport report)
    {
        string page = "";
        if (session.Attempt("", "sign-off page", () => page = WritePage(session, run, report, null)) is { } error)
            session.Screen.Look("The sign-off page could not be written: "
                + $"{(error is TransferraException ? error.Message : Unforeseen.Words(error))}. To write it: "
                + "transferra signoff --html FILE");
        return page;
    }

    private static void Show(Screen screen, RunReport report)
    {
        screen.Heading($"{report.Office}: record of the {report.Kind} run {report.Run}");
        screen.Line($"Begun {report.BegunAt:yyyy-MM-dd HH:mm:ss} UTC by {report.By}, last entry {report.LastAt:yyyy-MM-dd HH:mm:ss} UTC, "
            + $"state: {report.State}");
        screen.Line($"Journal {report.JournalPath}");
        screen.Line($"{report.JournalLines} lines, digest {report.JournalSha256}");
        if (report.Closing is { } closing)
            screen.Line($"The office was closed {closing.BegunAt:yyyy-MM-dd HH:mm:ss} UTC, proved "
                + $"{(closing.ClosedAt is { } at ? $"{at:HH:mm:ss}" : "never")}, open again "
                + $"{(closing.OpenAt is { } open ? $"{open:yyyy-MM-dd HH:mm:ss} UTC" : "not yet")}.");
        foreach (CompanyReport company in report.Companies)
        {
            screen.Heading($"{company.Code}  {company.Name}, {company.Package}, version {company.From} to {company.To}: {company.Outcome}");
            if (company.Outcome == "undone") screen.Look(RunReport.TakenBackSince);
            screen.Table(["Stage", "State", ">Took", "Remark"], company.Stages.Select(stage => (IReadOnlyList<string>)
                [stage.Stage, stage.State, stage.Seconds is { } seconds ? Durations.Of(seconds) : "", stage.Remark]));
            if (company.Check is not null)
            {
                screen.Line("Before:");
                Results.Check(screen, company.Check);
            }
            if (company.Backups is not null) Results.Backups(screen, company.Backups);
            if (company.Conversion is not null) Results.Conversion(screen, company.Conversion);
            if (company.Match is not null) Results.Match(screen, company.Code, company.Match);
            if (company.CheckAgain is not null)
            {
                screen.Line("After:");
                Results.Check(screen, company.CheckAgain);
            }
            if (company.SetAside.Length > 0) screen.Line($"The old store is kept as {company.SetAside}");
        }
        screen.Line();
        screen.Line("Carried out by ______________________  Date __________   Checked by ______________________");
    }
}
