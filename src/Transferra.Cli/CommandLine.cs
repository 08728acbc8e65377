// CommandLine.cs: what is typed: the commands in the order of the work, and the options that all of them have.
using System.CommandLine;
using Transferra.Cli.Commands;
using Transferra.Core.Machine;
using Transferra.Stores;

namespace Transferra.Cli;

internal static class CommandLine
{
    internal static readonly Option<string> OfficeOption =
        new("--office") { Description = "Folder of office.yaml; the present folder when left out", HelpName = "DIR", Recursive = true };
    internal static readonly Option<bool> JsonOption = new("--json")
    {
        Description = "One JSON document on stdout instead of words",
        Recursive = true
    };
    internal static readonly Option<bool> TraceOption = new("--trace")
    {
        Description = "With an error, show where in the program it arose",
        Recursive = true
    };
    internal static readonly Option<int?> MemoryOption = new("--memory")
    {
        Description = FormattableString.Invariant(
            $"About how much memory to use at most; {MemoryBudget.Usual >> 20} when left out, less on a small machine"),
        HelpName = "MB",
        Recursive = true,
        Validators = { IsEnoughMemory },
    };

    private static void IsEnoughMemory(System.CommandLine.Parsing.OptionResult given)
    {
        if (given.Errors.Any() || given.Tokens.Count != 1) return;
        if (!int.TryParse(given.Tokens[0].Value, System.Globalization.CultureInfo.InvariantCulture, out int megabytes)
            || megabytes < MemoryBudget.Least >> 20)
            given.AddError(FormattableString.Invariant(
                $"--memory needs a number of megabytes, at least {MemoryBudget.Least >> 20}, not \"{given.Tokens[0].Value}\""));
    }

    // In the order of the help, which is that of the work.
    private static readonly Action<CommandSet>[] Declared =
    [
        SurveyCommand.Declare, ReadyCommand.Declare, CloseCommand.Declare, CheckCommand.Declare, BackupCommand.Declare,
        RestoreCommand.Declare, SetsCommand.Declare, RehearseCommand.Declare, ConvertCommand.Declare, MatchCommand.Declare,
        UpgradeCommand.Declare, UndoCommand.Declare, SignOffCommand.Declare, BundleCommand.Declare, KitCommand.Declare,
        KitPackCommand.Declare, DemoCommand.Declare,
    ];

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
            await Console.Error.WriteLineAsync(string.Create(System.Globalization.CultureInfo.InvariantCulture,
                $"transferra: only {files} files may be open at once here, and {neededFiles} are needed; nothing was done"))
                .ConfigureAwait(false);
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
        if (parsed.GetValue(MemoryOption) is { } megabytes) MemoryBudget.Set((long)megabytes << 20);
        try
        {
            return await parsed.InvokeAsync(new InvocationConfiguration
            {
                EnableDefaultExceptionHandler = false,
                ProcessTerminationTimeout = null
            }, stopping.Token).ConfigureAwait(false);
        }
        finally
        {
            new StoreOpener().LetGo();
        }
    }

    private static RootCommand Build(IVolume volume, Stopping stopping)
    {
        var root = new RootCommand("Upgrades packaged accounting, inventory, payroll and records software: backs up company data, "
            + "converts it, checks it, and proves that the records match.")
        {
            OfficeOption, JsonOption, MemoryOption, TraceOption,
        };
        var commands = new CommandSet(root, volume, stopping);
        foreach (Action<CommandSet> declare in Declared) declare(commands);
        root.Subcommands.Add(StandIn());
        return root;
    }

    private static Command StandIn()
    {
        var standIn = new Command("stand-in", "A stand-in of the demo office: service, scheduler or workstation") { Hidden = true };
        var which = new Argument<string>("which");
        var inFolder = new Option<string>("--in") { Required = true };
        var file = new Option<string?>("--file");
        standIn.Arguments.Add(which);
        standIn.Options.Add(inFolder);
        standIn.Options.Add(file);
        standIn.SetAction(parsed => Demo.StandIns.Run(parsed.GetValue(which)!, parsed.GetValue(inFolder)!, parsed.GetValue(file)));
        which.AcceptOnlyFromAmong([.. Demo.StandIns.Names]);
        return standIn;
    }
}
