// SignOffCommand.cs: signoff: the report of a run, as text and as one HTML page, sealed; and whether it still is as it was sealed.
using System.CommandLine;
using System.Security.Cryptography;
using System.Text;
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class SignOffCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var verify = new Option<bool>("--verify")
        {
            Description = "See whether the sign-off, its journal, its sets and the old stores still belong together; with --html, whether "
                + "that page is the one that was sealed"
        };
        commands.Add("signoff", "The report of a run, to be signed, and sealed with the office's key",
            [commands.RunMeant, commands.Html, verify], (session, parsed) => parsed.GetValue(verify)
                ? Verify(session, parsed.GetValue(commands.RunMeant), parsed.GetValue(commands.Html))
                : Run(session, parsed.GetValue(commands.RunMeant), parsed.GetValue(commands.Html)));
    }

    private static Run Meant(Session session, string? id)
    {
        IReadOnlyList<Run> runs = session.Runs.List();
        return (id is not null ? runs.FirstOrDefault(run => run.Id == id) : runs.FirstOrDefault(run => run.Kind == RunKind.Upgrade.Name)
            ?? runs.FirstOrDefault())
            ?? throw new TransferraException(id is null ? "there is no run to report" : $"there is no run {id}", runs.Count == 0
                ? "Begin one: transferra upgrade" : $"The runs are {string.Join(", ", runs.Select(run => run.Id))}.");
    }

    public static int Run(Session session, string? id, string? html)
    {
        Run run = Meant(session, id);
        RunReport report = session.ReportOf(run);
        Show(session.Screen, report);
        string page = Seal(session, run, report);
        if (html is not null) session.Volume.Replace(Path.GetFullPath(html), File.ReadAllBytes(page));
        session.Screen.Line($"Written: {(html is null ? page : Path.GetFullPath(html))}");
        session.Screen.Line($"Sealed with the office's key {Key(session).Fingerprint}. To check later that nothing was altered: "
            + "transferra signoff --verify");
        return session.Answer(ExitCodes.Done, report);
    }

    private static OfficeKey Key(Session session) => new(session.Office.Folder, session.Volume);

    /// <summary>Writes the page of a run into its folder, and seals it with all that belongs to it.</summary>
    /// <returns>The page's path.</returns>
    public static string Seal(Session session, Run run, RunReport report)
    {
        using ECDsa key = Key(session).ToSign();
        RunSeal.Write(session.Volume, run, report, Encoding.UTF8.GetBytes(HtmlSignOff.Render(report, SignedDigests.FingerprintOf(key))),
            key);
        return Path.Combine(run.Folder, RunSeal.PageName);
    }

    private static int Verify(Session session, string? id, string? html)
    {
        Run run = Meant(session, id);
        session.Screen.Heading($"signoff: is the record of the run {run.Id} still as it was sealed?");
        RunContext context = session.Context(session.Observer());
        SealChecked seen = RunSeal.Verify(run, Key(session).Fingerprint, path => CompanyBackup.SealOf(session.Sets, path),
            code => OriginalOf(session, context, run, code));
        if (html is not null) seen = seen with { Parts = [.. seen.Parts, RunSeal.OfPage(run, Path.GetFullPath(html))] };
        // Results that are as they were say nothing one by one.
        ILookup<string, SealCheck> results = seen.Parts.Where(part => part.State == SealState.Holds && part.What.EndsWith(".json",
            StringComparison.Ordinal) && part.What.Contains('/')).ToLookup(part => part.What[..part.What.LastIndexOf('/')]);
        IEnumerable<SealCheck> told = seen.Parts.Where(part => !results.Any(of => of.Contains(part))).Concat(results.Select(of =>
            new SealCheck($"the results of {of.Key}", SealState.Holds, Results.Count(of.Count(), "file"))));
        session.Screen.Table(["What", "", ""], told.Select(part => (IReadOnlyList<string>)[part.What, part.State switch
        {
            SealState.Holds => "as sealed",
            SealState.NotThere => "not there",
            _ => "ALTERED"
        }, part.Words]));
        int code = seen.State switch
        {
            SealState.Holds => ExitCodes.Done,
            SealState.NotThere => ExitCodes.LookAt,
            _ => ExitCodes.Unproved
        };
        if (seen.Parts.Any(part => part.What.StartsWith("a set", StringComparison.Ordinal)))
            session.Screen.Line("Of a set, only its seal was compared. To read each of them through: transferra sets --prove");
        if (code == ExitCodes.Done) session.Screen.Good("All of it is as it was sealed.");
        else if (code == ExitCodes.LookAt) session.Screen.Look("What is there is as it was sealed; what is not there is named above.");
        else session.Screen.Bad("NOT as it was sealed; what was altered is named above.");
        return session.Answer(code, seen);
    }

    private static string? OriginalOf(Session session, RunContext context, Run run, string code)
    {
        if (session.Office.Companies.All(company => company.Code != code)) return null;
        CompanyRun on = UpgradeRun.OnRun(context, run, code);
        return session.Places.Exists(on.Aside) ? on.DigestOfOld(on.Aside) : null;
    }

    /// <summary>Writes the page of a run; one that cannot be written stops nothing, and is told.</summary>
    /// <returns>Its path; "" when it could not be written.</returns>
    public static string TryWritePage(Session session, Run run, RunReport report)
    {
        string page = "";
        if (session.Attempt("", "sign-off page", () => page = Seal(session, run, report)) is { } error)
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
        SignOffSummary summary = SignOffSummary.Of(report);
        screen.Line();
        screen.Line(summary.Sentence);
        screen.Line(string.Join("; ", summary.Figures.Select(figure => $"{figure.Value} {figure.Of}")) + ".");
        if (summary.ToDo.Count > 0) screen.Line("What is left to do:");
        foreach (string left in summary.ToDo) screen.Line("  - " + left);
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
