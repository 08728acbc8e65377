// CommandLine.cs: the commands and their options, and the one place where errors become words and exit codes.
using System.CommandLine;
using Transferra.Cli.Commands;
using Transferra.Cli.Rendering;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Cli;

internal static class CommandLine
{
    private static readonly Option<string> OfficeOption =
        new("--office") { Description = "Folder of office.yaml; the present folder when left out", HelpName = "DIR", Recursive = true };
    private static readonly Option<bool> JsonOption = new("--json")
    {
        Description = "One JSON document on stdout instead of words",
        Recursive = true
    };
    private static readonly Option<bool> TraceOption = new("--trace")
    {
        Description = "With an error, show where in the program it arose",
        Recursive = true
    };

    /// <summary>Runs a command line.</summary>
    public static async Task<int> RunAsync(string[] arguments, IVolume volume)
    {
        // Whatever is made, by us or by a library, is for its owner alone until somebody says otherwise.
        const uint ownerAlone = 0x3F; // 077
        Session.UsersMask = Processes.SetMask(ownerAlone);
        // The runtime alone keeps about a hundred open; without handles it cannot even say what is wrong, so this is asked before
        // anything is begun.
        const ulong neededFiles = 256;
        if (Processes.MostOpenFiles() is var files && files < neededFiles)
        {
            await Console.Error.WriteLineAsync(FormattableString.Invariant($"transferra: only {files} files may be open at once here, and {neededFiles} are needed; nothing was done")).ConfigureAwait(false);
            await Console.Error.WriteLineAsync("  Allow more: ulimit -n 1024").ConfigureAwait(false);
            return ExitCodes.Refused;
        }
        using var stopping = new Stopping();
        ParseResult parsed = Build(volume, stopping).Parse(arguments);
        if (parsed.Errors.Count > 0)
        {
            foreach (string error in parsed.Errors.Select(error => error.Message)
                .Distinct()) await Console.Error.WriteLineAsync($"transferra: {error}").ConfigureAwait(false);
            await Console.Error.WriteLineAsync("See: transferra --help").ConfigureAwait(false);
            return ExitCodes.Refused;
        }
        return await parsed.InvokeAsync(new InvocationConfiguration
        {
            EnableDefaultExceptionHandler = false,
            ProcessTerminationTimeout = null
        }, stopping.Token).ConfigureAwait(false);
    }

    private static RootCommand Build(IVolume volume, Stopping stopping)
    {
        var root = new RootCommand("Upgrades packaged accounting, inventory, payroll and records software: backs up company data, "
            + "converts it, checks it, and proves that the records match.")
        {
            OfficeOption, JsonOption, TraceOption,
        };
        var codes = new Argument<string[]>("company")
        {
            Description = "Company codes; all companies when left out",
            Arity = ArgumentArity.ZeroOrMore,
            HelpName = "CODE"
        };
        var yes = new Option<string[]>("--yes")
        {
            Description = "Confirm a company by its code; once for each",
            HelpName = "CODE",
            AllowMultipleArgumentsPerToken = false
        };
        var run = new Option<string?>("--run") { Description = "The run meant; the newest when left out", HelpName = "RUN" };
        var to = new Option<string?>("--to")
        {
            Description = "Unpack into this new folder instead of the company's own place",
            HelpName = "DIR"
        };
        var set = new Option<string?>("--set") { Description = "The backup set; the company's newest when left out", HelpName = "FILE" };
        var html = new Option<string?>("--html") { Description = "Also write the report as one HTML page", HelpName = "FILE" };
        var into = new Option<string?>("--in")
        {
            Description = "New or empty folder for the demo office; a temporary one when left out",
            HelpName = "DIR"
        };
        var resume = new Option<bool>("--resume") { Description = "Go on with the run that stopped part-way" };

        var engine = new Option<string?>("--engine")
        {
            Description = "Keep the demo's stores on a server: "
            + $"{string.Join(", ", StoreAddress.ServerEngines)}",
            HelpName = "ENGINE"
        };
        var host = new Option<string?>("--host")
        {
            Description = "The server's name, or folder of its socket; localhost when left out",
            HelpName = "HOST"
        };
        var port = new Option<int?>("--port")
        {
            Description = "The server's port; the engine's usual one when left out",
            HelpName = "PORT"
        };
        var user = new Option<string?>("--user") { Description = "Name at the server", HelpName = "NAME" };
        var passwordFile = new Option<string?>("--password-file")
        {
            Description = "File with the password, which only you may read",
            HelpName = "FILE"
        };
        var databases = new Option<string?>("--databases")
        {
            Description = "Folder for databases that are files (Firebird)",
            HelpName = "DIR"
        };
        var save = new Option<string?>("--save") { Description = "Also save the survey, to be compared with later", HelpName = "FILE" };
        var compare = new Option<string?>("--compare") { Description = "Show what is different from a saved survey", HelpName = "FILE" };
        var write = new Option<bool>("--write") { Description = "Add the companies that were found to office.yaml" };
        var newOffice = new Option<string?>("--new")
        {
            Description = "Draft an office.yaml from a folder, "
            + "or from a server named by its engine",
            HelpName = "WHERE"
        };
        var kits = new Option<string?>("--kits")
        {
            Description = "With --new: folder of the kits; \"kits\" in the office's folder when "
            + "left out",
            HelpName = "DIR"
        };
        Add("survey", "What have we got: versions, companies, stores, sizes, services, settings",
            [html, save, compare, write, newOffice, kits, host, port, user, passwordFile, databases], (session, parsed) =>
            parsed.GetValue(newOffice) is { } where
            ? SurveyCommand.Draft(session, where, Path.GetFullPath(parsed.GetValue(kits) ?? Path.Combine(session.OfficeFolder, "kits")),
                StoreAddress.ServerEngines.Contains(where) ? NamedServer.From(where, parsed.GetValue(host), parsed.GetValue(port),
                    parsed.GetValue(user),
                    parsed.GetValue(passwordFile), parsed.GetValue(databases)) : null)
            : SurveyCommand.Run(session, new SurveyOptions(parsed.GetValue(html), parsed.GetValue(save), parsed.GetValue(compare),
                parsed.GetValue(write))));
        var confirm = new Option<string[]>("--confirm")
        {
            Description = "Give your word on something that only people know; once for each",
            HelpName = "NAME",
            AllowMultipleArgumentsPerToken = false
        };
        var ask = new Option<bool>("--ask") { Description = "Ask for each word that is needed" };
        var by = new Option<string?>("--by") { Description = "Whose word it is; the user's when left out", HelpName = "PERSON" };
        Add("ready", "May we go: every reason why the upgrade may not start, with what to do; how long it will take",
            [codes, confirm, ask, by],
            (session, parsed) => ReadyCommand.Run(session, parsed.GetValue(confirm) ?? [], parsed.GetValue(ask), parsed.GetValue(by)));
        var endSessions = new Option<bool>("--end-sessions") { Description = "Put out those who are still in after the grace period" };
        var stayClosed = new Option<bool>("--stay-closed")
        {
            Description = "Leave the office closed afterwards; open it with: "
            + "transferra reopen"
        };
        var showOnly = new Option<bool>("--show") { Description = "Only show what would be done" };
        Add("close", "Everybody out: tell users, keep new ones out, stop jobs and services, prove it", [endSessions, showOnly],
            (session, parsed) =>
            CloseCommand.Run(session, parsed.GetValue(endSessions), parsed.GetValue(showOnly)));
        var giveUpClosing = new Option<bool>("--give-up")
        {
            Description = "End a closing that cannot be opened again by its journal; "
            + "what it changed is listed, to be put right by hand"
        };
        Add("reopen", "In again: everything that was closed is put back exactly as it was", [giveUpClosing, yes], (session, parsed) =>
            CloseCommand.Reopen(session, parsed.GetValue(giveUpClosing)));
        var explain = new Option<string?>("--explain")
        {
            Description = "Tell what a kind of finding means, where it comes from and what "
            + "to do; all kinds when none is named",
            HelpName = "KIND",
            Arity = ArgumentArity.ZeroOrOne
        };
        var sheet = new Option<string?>("--sheet")
        {
            Description = "Also write the findings, with their lists, as a workbook (.xlsx)",
            HelpName = "FILE"
        };
        var mend = new Option<bool>("--mend")
        {
            Description = "Put right what the kit allows: on a copy, after a proved backup set; the "
            + "copy then takes the original's place"
        };
        var salvage = new Option<string?>("--salvage")
        {
            Description = "Write what can be read of a damaged store to a new one: a file "
            + "or folder, on a server a database's name",
            HelpName = "PLACE"
        };
        Add("check", "Is the data sound: a full scan of every company, nothing changed", [codes, explain, sheet, mend, salvage, yes],
            (session, parsed) =>
            parsed.GetResult(explain) is not null ? CheckCommand.Explain(session, parsed.GetValue(explain) ?? "")
            : parsed.GetValue(mend) ? MendCommand.Run(session)
            : parsed.GetValue(salvage) is { } place ? MendCommand.Salvage(session, place)
            : CheckCommand.Run(session, parsed.GetValue(sheet) is { } file ? Path.GetFullPath(file) : null));
        Add("backup", "Write backup sets and prove each by reading it back", [codes], (session, _) => BackupCommand.Run(session));
        var only = new Option<string?>("--only")
        {
            Description = "With --to: only what begins so, such as store, documents/0/letters, "
            + "kit, or table:NAME as delimited text",
            HelpName = "WHAT"
        };
        var contents = new Option<bool>("--show") { Description = "Only list what is in the set" };
        var database = new Option<string?>("--database")
        {
            Description = "Restore into a new database of this name; the other options "
            + "say where, the company's own server when left out",
            HelpName = "NAME"
        };
        var onEngine = new Option<string?>("--engine")
        {
            Description = "The server's engine, the set's own when left out: "
            + $"{string.Join(", ", StoreAddress.ServerEngines)}",
            HelpName = "ENGINE"
        };
        Add("restore", "Put a company back from a backup set, or unpack a set, a table or a document elsewhere",
            [codes, set, to, only, contents, database, onEngine, host, port, user, passwordFile, yes], (session, parsed) =>
            RestoreCommand.Run(session, parsed.GetValue(set), parsed.GetValue(to), parsed.GetValue(only), parsed.GetValue(contents),
                NamedDatabase.From(parsed.GetValue(database), parsed.GetValue(onEngine), parsed.GetValue(host), parsed.GetValue(port),
                    parsed.GetValue(user),
                parsed.GetValue(passwordFile))));
        var prove = new Option<bool>("--prove") { Description = "Read every set back and restore it into scratch, the oldest proof first" };
        var heal = new Option<bool>("--heal") { Description = "Prove, and make a damaged set whole again from its copies in other places" };
        var minutes = new Option<int?>("--minutes")
        {
            Description = "With --prove or --heal: as many sets as fit in so many minutes",
            HelpName = "N"
        };
        var tidy = new Option<int?>("--tidy")
        {
            Description = "Remove all but the newest N sets of a company in each place; the last "
            + "proved one always stays",
            HelpName = "N"
        };
        var recovery = new Option<string?>("--recovery-sheet")
        {
            Description = "Write a page to be printed and kept in the safe: where "
            + "the sets are and how to get at them when everything else is gone",
            HelpName = "FILE"
        };
        var newDisk = new Option<string?>("--new-disk")
        {
            Description = "Take the disk that is at this place now into use, "
            + "beside those known there",
            HelpName = "PLACE"
        };
        Add("sets", "List the backup sets; prove them again, heal them, remove old ones", [codes, prove, heal, minutes, tidy, newDisk,
            recovery, yes],
            (session, parsed) => parsed.GetValue(newDisk) is { } disk ? SetsCommand.NewDisk(session, disk)
                : parsed.GetValue(recovery) is { } page
            ? SetsCommand.RecoverySheet(session, Path.GetFullPath(page)) : parsed.GetValue(tidy) is { } keep ? SetsCommand.Tidy(session,
                keep)
            : parsed.GetValue(prove) || parsed.GetValue(heal) ? SetsCommand.Prove(session, parsed.GetValue(minutes),
                parsed.GetValue(heal)) : SetsCommand.Run(session));
        Add("convert", "Convert into a new store beside the old one, without changing over", [codes], (session, _) =>
            ConvertCommand.Run(session));
        Add("match", "Prove that the records of the new store are those of the old one", [codes], (session, _) =>
            MatchCommand.Run(session));
        var despiteFaults = new Option<bool>("--despite-faults")
        { Description = "Try backup, conversion and match also of companies whose check finds faults; they are not changed over for that" };
        Add("upgrade", "All of it: ready, close, check, backup, convert, match, change over, check again, reopen",
            [codes, yes, resume, endSessions, stayClosed, despiteFaults],
            (session, parsed) => UpgradeCommand.Run(session, parsed.GetValue(resume), parsed.GetValue(endSessions),
                parsed.GetValue(stayClosed), parsed.GetValue(despiteFaults)));
        var giveUp = new Option<bool>("--give-up")
        {
            Description = "End a run that can neither go on nor be taken back; "
            + "everything stays where it lies"
        };
        Add("undo", "Take a run back: the office is where it was before", [run, giveUp, yes], (session, parsed) =>
            UndoCommand.Run(session, parsed.GetValue(run), parsed.GetValue(giveUp)));
        Add("signoff", "The report of a run, to be signed", [run, html], (session, parsed) =>
            SignOffCommand.Run(session, parsed.GetValue(run), parsed.GetValue(html)));
        var bundleFile = new Option<string?>("--to")
        {
            Description = "The bundle's file (.zip); one in the office's folder when left out",
            HelpName = "FILE"
        };
        Add("bundle", "What the vendor needs to look into a company's trouble, with personal values masked, and a listing to read first",
            [codes, bundleFile, showOnly], (session, parsed) => BundleCommand.Run(session, parsed.GetValue(bundleFile),
                parsed.GetValue(showOnly)));
        Add("demo", "Write a made-up office to a folder and upgrade it", [into, engine, host, port, user, passwordFile, databases],
            (session, parsed) =>
            DemoCommand.Run(session, parsed.GetValue(into),
            NamedServer.From(parsed.GetValue(engine), parsed.GetValue(host), parsed.GetValue(port), parsed.GetValue(user),
                parsed.GetValue(passwordFile),
                parsed.GetValue(databases))));
        var standIn = new Command("stand-in", "A stand-in of the demo office: service, scheduler or workstation") { Hidden = true };
        var which = new Argument<string>("which");
        var inFolder = new Option<string>("--in") { Required = true };
        var file = new Option<string?>("--file");
        standIn.Arguments.Add(which);
        standIn.Options.Add(inFolder);
        standIn.Options.Add(file);
        standIn.SetAction(parsed => Demo.StandIns.Run(parsed.GetValue(which)!, parsed.GetValue(inFolder)!, parsed.GetValue(file)));
        which.AcceptOnlyFromAmong([.. Demo.StandIns.Names]);
        root.Subcommands.Add(standIn);
        return root;

        void Add(string name, string description, IReadOnlyList<Symbol> symbols, Func<Session, ParseResult, int> action)
        {
            var command = new Command(name, description);
            foreach (Symbol symbol in symbols)
            {
                if (symbol is Argument argument) command.Arguments.Add(argument);
                else command.Options.Add((Option)symbol);
            }
            command.SetAction((parsed, cancel) =>
            {
                bool json = parsed.GetValue(JsonOption);
                using var screen = new Screen(silent: json);
                var session = new Session(name, Path.GetFullPath(parsed.GetValue(OfficeOption) ?? "."), json, symbols.Contains(codes)
                    ? parsed.GetValue(codes) ?? [] : [],
                    symbols.Contains(yes) ? parsed.GetValue(yes) ?? [] : [], volume, screen, cancel);
                stopping.LastWords = () =>
                {
                    PartWay(session);
                    CloseCommand.Remind(session);
                };
                int exitCode = Guarded(session, parsed.GetValue(TraceOption), () => action(session, parsed));
                // At the end, where the eye is: nobody goes home with a closed office and does not know it.
                if (name != "demo" && (name != "close" || exitCode != ExitCodes.Done)) CloseCommand.Remind(session);
                if (screen.Unwritten is { } why)
                {
                    screen.Error($"not all of the output could be written: {why}");
                    if (json && exitCode == ExitCodes.Done) exitCode = ExitCodes.LookAt; // whoever waits for the document has not got it
                }
                return Task.FromResult(exitCode);
            });
            root.Subcommands.Add(command);
        }
    }

    // What is expected to go wrong is told with what to do; anything else is a defect and says so.
    private static int Guarded(Session session, bool trace, Func<int> action)
    {
        try
        {
            return action();
        }
        catch (DescriptionException error)
        {
            session.Screen.Error($"{error.Errors.Count} {(error.Errors.Count == 1 ? "mistake" : "mistakes")} in the description of the "
                + "office; nothing was done:");
            foreach (DescriptionError mistake in error.Errors) session.Screen.Error("  " + mistake);
            return Failed(ExitCodes.Refused, error, "description", error.Errors);
        }
        catch (TransferraException error)
        {
            session.Screen.Error(error.Message);
            if (error.Next.Length > 0) session.Screen.Error("  " + error.Next);
            return Failed(ExitCodes.Refused, error, "refused", new { error.Message, error.Next });
        }
        catch (OperationCanceledException error) when (session.Cancel.IsCancellationRequested)
        {
            session.Screen.Error("stopped by hand");
            return Failed(PartWay(session), error, "stopped", null);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            session.Screen.Error(error.Message);
            return Failed(PartWay(session), error, "disk", new { error.Message });
        }
        catch (Exception error)
        {
            // A defect of our own, or of something we rest on: told in words, kept for who mends it, and never called done.
            string words = Unforeseen.Words(error);
            session.Screen.Error(words);
            string? log = session.Diagnostics.Write("the command as a whole", error);
            session.Screen.Error(log is not null
                ? $"  Where it arose is written down, without any value of a record, in {log}; please report it."
                : "  Please report it; --trace shows where it arose.");
            return Failed(PartWay(session) is var left && left == ExitCodes.Refused ? ExitCodes.Unproved : left, error, "defect",
                new { message = words, log });
        }
        int Failed(int exitCode, Exception error, string kind, object? details)
        {
            if (trace) session.Screen.Error(error.ToString());
            return session.Answer(exitCode, new { error = kind, details });
        }
    }

    private static int PartWay(Session session)
    {
        try
        {
            // What the office is left as is said at the end of every command.
            if (session.Runs.Unfinished() is not { } run) return session.Closings.Current() is null ? ExitCodes.Refused : ExitCodes.PartWay;
            session.Screen.Error($"  The run {run.Id} is unfinished. Go on with it: transferra upgrade --resume. Or take it back: "
                + "transferra undo");
            return ExitCodes.PartWay;
        }
        catch (Exception)
        {
            return ExitCodes.PartWay; // what state it is in cannot be told; the commands that say it tell why
        }
    }
}
