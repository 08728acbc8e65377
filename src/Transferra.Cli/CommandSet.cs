// CommandSet.cs: the commands of the program as they are declared, each by its own class; options that several of them have; and what
// happens round every command: its session and its last words.
using System.CommandLine;
using Transferra.Cli.Commands;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;

namespace Transferra.Cli;

/// <summary>Where commands are declared.</summary>
/// <param name="root">Gets them.</param>
/// <param name="volume">The disk.</param>
/// <param name="stopping">Ctrl-C and its like.</param>
internal sealed class CommandSet(RootCommand root, IVolume volume, Stopping stopping)
{
    public Argument<string[]> Codes { get; } = new("company")
    {
        Description = "Company codes; all companies when left out",
        Arity = ArgumentArity.ZeroOrMore,
        HelpName = "CODE"
    };

    public Option<string[]> Yes { get; } = new("--yes")
    {
        Description = "Confirm a company by its code; once for each",
        HelpName = "CODE",
        AllowMultipleArgumentsPerToken = false
    };

    public Option<string?> Store { get; } = new("--store")
    {
        Description = "Without an office or a kit: a store, a folder or a set; a store on a server as office.yaml writes it",
        HelpName = "PLACE"
    };

    public Option<string?> Encoding { get; } = new("--encoding")
    {
        Description = "With --store: code page of its text, such as ibm850; what the store says, or UTF-8, when left out",
        HelpName = "NAME"
    };

    public Option<string?> RunMeant { get; } = new("--run") { Description = "The run meant; the newest when left out", HelpName = "RUN" };

    public Option<string?> Html { get; } = new("--html") { Description = "Also write the report as one HTML page", HelpName = "FILE" };

    public Option<string?> Host { get; } = new("--host")
    {
        Description = "The server's name, or folder of its socket; localhost when left out",
        HelpName = "HOST"
    };

    public Option<int?> Port { get; } = new("--port")
    {
        Description = "The server's port; the engine's usual one when left out",
        HelpName = "PORT"
    };

    public Option<string?> User { get; } = new("--user") { Description = "Name at the server", HelpName = "NAME" };

    public Option<string?> PasswordFile { get; } = new("--password-file")
    {
        Description = "File with the password, which only you may read",
        HelpName = "FILE"
    };

    public Option<string?> Databases { get; } = new("--databases")
    {
        Description = "Folder for databases that are files (Firebird)",
        HelpName = "DIR"
    };

    public Option<bool> EndSessions { get; } = new("--end-sessions")
    {
        Description = "Disconnect anyone still connected after the grace period"
    };

    public Option<bool> ShowOnly { get; } = new("--show") { Description = "Only show what would be done" };

    /// <summary>Declares a command.</summary>
    /// <param name="name">What is typed.</param>
    /// <param name="description">One line for the help.</param>
    /// <param name="symbols">Its arguments and options, in the order of the help.</param>
    /// <param name="action">Does it; returns the exit code.</param>
    public void Add(string name, string description, IReadOnlyList<Symbol> symbols, Func<Session, ParseResult, int> action)
    {
        // "kit draft" is the command draft below kit.
        string[] words = name.Split(' ');
        var command = new Command(words[^1], description);
        foreach (Symbol symbol in symbols)
        {
            if (symbol is Argument argument) command.Arguments.Add(argument);
            else command.Options.Add((Option)symbol);
        }
        command.SetAction((parsed, cancel) =>
        {
            bool json = parsed.GetValue(CommandLine.JsonOption);
            using var screen = new Screen(silent: json);
            var session = new Session(name, Path.GetFullPath(parsed.GetValue(CommandLine.OfficeOption) ?? "."), json,
                symbols.Contains(Codes) ? parsed.GetValue(Codes) ?? [] : [],
                symbols.Contains(Yes) ? parsed.GetValue(Yes) ?? [] : [], volume, screen, cancel);
            stopping.LastWords = () =>
            {
                CommandGuard.PartWay(session);
                CloseCommand.Remind(session);
            };
            int exitCode = CommandGuard.Run(session, parsed.GetValue(CommandLine.TraceOption), () => action(session, parsed));
            // At the end, where the eye is: nobody goes home with a closed office and does not know it.
            if (name != "demo" && (name != "close" || exitCode != ExitCodes.Done)) CloseCommand.Remind(session);
            if (screen.Unwritten is { } why)
            {
                screen.Error($"not all of the output could be written: {why}");
                if (json && exitCode == ExitCodes.Done) exitCode = ExitCodes.LookAt; // whoever waits for the document has not got it
            }
            return Task.FromResult(exitCode);
        });
        (words.Length == 1 ? root : Above(words[0])).Subcommands.Add(command);
    }

    private Command Above(string name)
    {
        if (root.Subcommands.FirstOrDefault(known => known.Name == name) is { } above) return above;
        above = new Command(name, "Know the package: draft what is known about it, and check it");
        root.Subcommands.Add(above);
        return above;
    }
}
