// DemoCommand.cs: demo: writes the made-up office and does the whole job on it.
using Transferra.Cli.Rendering;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Demo;

namespace Transferra.Cli.Commands;

internal static class DemoCommand
{
    public static int Run(Session session, string? into, DemoServer? server)
    {
        string folder = into is not null ? Path.GetFullPath(into) : Directory.CreateTempSubdirectory("quaverholt-").FullName;
        if (Path.Exists(folder) && (File.Exists(folder) || Directory.EnumerateFileSystemEntries(folder).Any()))
            throw new TransferraException($"{folder} is there already and not empty", "Name a new folder with --in.");
        Screen screen = session.Screen;
        screen.Line($"Writing the made-up office Quaverholt Instrument Hire to {folder}");
        screen.Progress.Show("writing the demo office", 0, 0);
        DemoOffice.Write(folder);
        if (server is not null)
        {
            screen.Line($"and the old ledgers to the {server.Engine} server at {server.Server.Host}");
            server.Move(folder, session.Stores);
        }
        // The commands below speak words; the demo's own JSON document comes at the end.
        Session office = session with { OfficeFolder = folder, Json = false, Confirmed = ["QIH", "QWS", "QST"], Codes = [] };
        screen.Heading("$ transferra survey");
        SurveyCommand.Run(office);
        screen.Heading("$ transferra upgrade --yes QIH --yes QWS --yes QST");
        int upgraded = UpgradeCommand.Run(office, resume: false);
        Run run = office.Runs.List()[0];
        RunReport report = RunReport.Of(office.Office, run);
        string text = string.Join(", ", report.Companies.Select(company => $"{company.Code} {company.Outcome}"));
        bool asTold = upgraded == ExitCodes.LookAt && text == "QIH through, QWS stopped, QST through";
        screen.Heading(asTold ? "That is the whole job: two companies are through, the third waits for four corrections." : $"This is not how the demo should end: {text}");
        screen.Line($"The office is in {folder}. Look around in it:");
        foreach (string hint in (string[])["survey", "match QIH", "signoff", $"undo --run {run.Id} --yes QIH"])
            screen.Line($"  transferra {hint} --office {folder}");
        return session.Answer(asTold ? ExitCodes.Done : ExitCodes.Unproved, report);
    }
}
