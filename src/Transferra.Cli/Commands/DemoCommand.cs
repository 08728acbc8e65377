// DemoCommand.cs: demo: writes the made-up office and does the whole job on it.
using System.CommandLine;
using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Demo;

namespace Transferra.Cli.Commands;

internal static class DemoCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var into = new Option<string?>("--in")
        {
            Description = "New or empty folder for the demo office; a temporary one when left out",
            HelpName = "DIR"
        };
        var engine = new Option<string?>("--engine")
        {
            Description = "Keep the demo's stores on a server: "
            + $"{string.Join(", ", StoreAddress.ServerEngines)}",
            HelpName = "ENGINE"
        };
        commands.Add("demo", "Write a made-up office to a folder and upgrade it", [into, engine, commands.Host, commands.Port,
            commands.User, commands.PasswordFile, commands.Databases],
            (session, parsed) =>
            Run(session, parsed.GetValue(into),
            NamedServer.From(parsed.GetValue(engine), parsed.GetValue(commands.Host), parsed.GetValue(commands.Port),
                parsed.GetValue(commands.User),
                parsed.GetValue(commands.PasswordFile),
                parsed.GetValue(commands.Databases))));
    }

    public static int Run(Session session, string? into, NamedServer? server)
    {
        string folder = into is not null ? Path.GetFullPath(into) : Directory.CreateTempSubdirectory("quaverholt-").FullName;
        if (Path.Exists(folder) && (File.Exists(folder) || Directory.EnumerateFileSystemEntries(folder).Any()))
            throw new TransferraException($"{folder} is there already and not empty", "Name a new folder with --in.");
        Screen screen = session.Screen;
        screen.Line($"Writing the made-up office Quaverholt Instrument Hire to {folder}");
        screen.Progress.Show("writing the demo office", 0, 0);
        DemoOffice.Write(folder, port: FreePort());
        if (server is not null)
        {
            screen.Line($"and the old ledgers to the {server.Engine} server at {server.Server.Host}");
            server.Move(folder, session.Stores);
        }
        // The commands below speak words; the demo's own JSON document comes at the end.
        Session office = session with { OfficeFolder = folder, Json = false, Confirmed = ["QIH", "QWS", "QST", "QPW"], Codes = [] };
        string program = Path.Combine(folder, "programs/ledger");
        var commands = new SystemCommands(folder, Session.UsersMask, []);
        void outside(params string[] command) => Outside(screen, commands, command);
        try
        {
            screen.Heading("What runs in a real office is stood in for:");
            outside("sh", "programs/ledger/stand-in.sh", "service", "start");
            outside("sh", "programs/ledger/stand-in.sh", "scheduler", "start");
            screen.Heading("$ transferra survey");
            SurveyCommand.Run(office, new SurveyOptions());
            screen.Heading("$ transferra ready");
            ReadyCommand.Run(office, [], asks: false, null);
            string[] words = ["notes-5-to-6", "users-told", "vendors-told", "laptops-in", "one-disk", "kit"];
            screen.Heading($"$ transferra ready {string.Join(' ', words.Select(word => $"--confirm {word}"))}");
            int ready = ReadyCommand.Run(office, words, asks: false, "the demo");
            if (ready != ExitCodes.Done) return session.Answer(ExitCodes.Unproved, new JsonFacts { { "ready", ready } });
            // Somebody has the books open, is told, and leaves.
            using Process? workstation = server is null ? StartWorkstation(program, Path.Combine(folder, "data/QIH/ledger.db")) : null;
            screen.Heading("$ transferra rehearse QPW");
            RehearseCommand.Run(office with { Codes = ["QPW"] }, new RehearsalWishes(null, IsFresh: false, IsKept: false, null));
            screen.Heading("$ transferra upgrade --yes QIH --yes QWS --yes QST --yes QPW");
            int waiting = UpgradeCommand.Run(office, resume: false);
            screen.Heading("A person does the steps that the payroll waits for, which is stood in for:");
            outside("sh", "programs/wages/stand-in.sh", "first-login", "data/QPW/wages.db");
            screen.Heading("$ transferra upgrade --resume");
            int upgraded = UpgradeCommand.Run(office, resume: true);
            screen.Heading("The vendor's installers, which are stood in for:");
            outside("sh", "installers/ledger-6/install.sh", "programs/ledger");
            outside("sh", "installers/stockroom-4/install.sh", "programs/stockroom");
            screen.Heading("$ transferra reopen");
            int reopened = CloseCommand.Reopen(office, givesUp: false);
            Run run = office.Runs.List()[0];
            screen.Heading($"$ transferra survey --compare transferra/runs/{run.Id}/survey-before.json");
            SurveyCommand.Run(office, new SurveyOptions(Compare: Path.Combine(run.Folder, "survey-before.json")));
            return Tell(session, office, folder, run, waiting == ExitCodes.PartWay
                && upgraded == ExitCodes.LookAt && reopened == ExitCodes.Done);
        }
        finally
        {
            foreach (string standIn in (string[])["service", "scheduler"]) commands.Run(["sh", "programs/ledger/stand-in.sh", standIn,
                "stop"], TimeSpan.FromSeconds(30));
        }
    }

    // One that the system gives, as two demos may run at the same time.
    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    // What a person would type that is not a command of ours.
    private static void Outside(Screen screen, SystemCommands commands, IReadOnlyList<string> command)
    {
        screen.Line("$ " + SystemCommands.Shown(command));
        CommandResult said = commands.Run(command, TimeSpan.FromSeconds(30));
        if (said.ExitCode != 0) throw new TransferraException($"{SystemCommands.Shown(command)} ended with "
            + $"{said.ExitCode}: {said.FirstLine}", "The demo cannot go on without it.");
    }

    private static Process StartWorkstation(string program, string file)
    {
        string assembly = Path.Combine(AppContext.BaseDirectory, "transferra.dll"), host = Environment.ProcessPath!;
        var start = new ProcessStartInfo(host) { RedirectStandardOutput = true, RedirectStandardError = true };
        if (Path.GetFileNameWithoutExtension(host) == "dotnet") start.ArgumentList.Add(assembly);
        foreach (string argument in (string[])["stand-in", "workstation", "--in", program, "--file",
            file]) start.ArgumentList.Add(argument);
        Process process = Process.Start(start)!;
        // It says with this file that it has the books open.
        for (int i = 0; i < 100 && !process.HasExited && !File.Exists(Path.Combine(program, "workstation.pid")); i++) Thread.Sleep(50);
        return process;
    }

    private static int Tell(Session session, Session office, string folder, Run run, bool asTold)
    {
        Screen screen = session.Screen;
        RunReport report = office.ReportOf(run);
        string text = string.Join(", ", report.Companies.Select(company => $"{company.Code} {company.Outcome}"));
        asTold &= text == "QIH through, QWS stopped, QST through, QPW through";
        screen.Heading(asTold ? "That is the whole job: three companies are through, the fourth waits for four corrections."
            : $"This is not how the demo should end: {text}");
        screen.Line($"The office is in {folder}. Look around in it:");
        string[] changed = [.. run.Companies.Where(code => run.IsDone(code, Stages.ChangeOver)).Select(code => $"--yes {code}")];
        foreach (string hint in (string[])["survey", "match QIH", "signoff", $"undo {string.Join(' ', changed)}"])
            screen.Line($"  transferra {hint} --office {folder}");
        return session.Answer(asTold ? ExitCodes.Done : ExitCodes.Unproved, report);
    }
}
