// Commands.cs: runs the programs that office.yaml and kits name, and nothing else.
// Holds: (1) what a program starts and leaves running keeps no pipe of ours and no terminal, so that it lives on when we end or are
//        interrupted; (2) a program that does not end in time is killed and that is an error.
using System.ComponentModel;
using System.Diagnostics;

namespace Transferra.Core.Machine;

/// <summary>What a program came to.</summary>
/// <param name="ExitCode">Its exit code.</param>
/// <param name="Output">What it said, both streams, without line ends at the end.</param>
public sealed record CommandResult(int ExitCode, string Output)
{
    /// <summary>The first line of what it said, cut short; for messages.</summary>
    public string FirstLine => Output.Split('\n')[0] is { Length: <= 160 } line ? line : Output.Split('\n')[0][..160];
}

/// <summary>Runs programs.</summary>
public interface ICommands
{
    /// <summary>Runs a program and waits for it.</summary>
    /// <param name="command">Program and arguments; no shell is involved.</param>
    /// <param name="limit">How long it may take.</param>
    /// <exception cref="TransferraException">It is not there, cannot be run, or does not end.</exception>
    CommandResult Run(IReadOnlyList<string> command, TimeSpan limit);
}

/// <summary>Programs of this machine.</summary>
/// <param name="folder">Folder they are run in.</param>
/// <param name="mask">Permissions that are taken from what they make, umask(2): those of whoever called us, not ours.</param>
/// <param name="secrets">Variables of the environment that hold passwords and passphrases; no program gets to see them.</param>
public sealed class SystemCommands(string folder, uint mask, IReadOnlyCollection<string> secrets) : ICommands
{
    private const int NotExecutable = 126, NotFound = 127;

    // What a program says is for messages; megabytes of it are not, and are not kept.
    private const int MostOutput = 4 << 20;
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(200);

    /// <inheritdoc/>
    public CommandResult Run(IReadOnlyList<string> command, TimeSpan limit)
    {
        string output = Path.GetTempFileName();
        try
        {
            // A file instead of pipes: a service that keeps its streams open would otherwise keep us waiting, and die of a broken pipe
            // later.
            var start = new ProcessStartInfo("/bin/sh",
                ["-c", $"umask {Convert.ToString(mask, 8)}; out=$1; shift; exec setsid -w \"$@\" >>\"$out\" 2>&1 </dev/null", "sh", output,
                .. command])
            { WorkingDirectory = folder };
            foreach (string secret in secrets) start.Environment.Remove(secret);
            using Process process = Process.Start(start)!;
            Await(process, output, command, limit);
            var result = new CommandResult(process.ExitCode, ReadStart(output));
            if (result.ExitCode is NotExecutable or NotFound)
                throw new TransferraException($"{Shown(command)} cannot be run: {result.FirstLine}",
                    "Correct the command in office.yaml or the kit, or install the program.");
            return result;
        }
        catch (Win32Exception error)
        {
            throw new TransferraException($"{Shown(command)} cannot be run: {error.Message}",
                "See that the office's folder is there and may be entered.", error);
        }
        finally
        {
            File.Delete(output);
        }
    }

    private static void Await(Process process, string output, IReadOnlyList<string> command, TimeSpan limit)
    {
        var clock = Stopwatch.StartNew();
        while (!process.WaitForExit(clock.Elapsed < limit ? Beat : TimeSpan.Zero))
        {
            string? why = clock.Elapsed >= limit ? $"did not end within {limit.TotalSeconds:0} s"
                : new FileInfo(output).Length > MostOutput ? "does not stop printing" : null;
            if (why is null) continue;
            process.Kill(entireProcessTree: true);
            throw new TransferraException($"{Shown(command)} {why}, and was ended",
                "Run it by hand to see why, or allow it more time in office.yaml.");
        }
    }

    private static string ReadStart(string path)
    {
        const int most = 1 << 16;
        using var text = new StreamReader(path);
        char[] buffer = new char[most];
        return new string(buffer, 0, text.ReadBlock(buffer)).TrimEnd();
    }

    /// <summary>A command as a person would type it.</summary>
    public static string Shown(IReadOnlyList<string> command) =>
        string.Join(' ', command.Select(part => part.Any(char.IsWhiteSpace) ? $"\"{part}\"" : part));
}
