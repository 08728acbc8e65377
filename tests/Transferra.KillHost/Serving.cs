// Serving.cs: the command line again and again in one process, so that thousands of commands cost no start each. A line of JSON in is a
// command and what goes wrong with the disk meanwhile; a line out is what came of it. Who is killed is killed: no line comes out, and
// another process is started.
using System.Diagnostics;
using System.Text.Json;
using Transferra.Cli;
using Transferra.Core.Machine;
using Transferra.Tests;

namespace Transferra.KillHost;

/// <summary>A command.</summary>
/// <param name="Arguments">Of the command line.</param>
/// <param name="Fault">"none", "kill", "fail" (an I/O error) or "fail-for-good".</param>
/// <param name="At">At which operation on the disk; negative after it was done.</param>
/// <param name="Office">The office's folder.</param>
/// <param name="Watched">Folders in which its stores are.</param>
internal sealed record ServedCommand(string[] Arguments, string Fault, int At, string Office, string[] Watched);

internal static class Serving
{
    /// <summary>As a power cut would.</summary>
    public static Exception Die()
    {
        Process.GetCurrentProcess().Kill();
        Thread.Sleep(Timeout.Infinite);
        throw new InvalidOperationException("a killed process does not come here");
    }

    /// <summary>Serves until the input ends.</summary>
    public static async Task<int> Go()
    {
        TextReader commands = Console.In;
        TextWriter answers = Console.Out;
        while (await commands.ReadLineAsync().ConfigureAwait(false) is { } line)
        {
            ServedCommand command = JsonSerializer.Deserialize<ServedCommand>(line, JsonSerializerOptions.Web)!;
            using StringWriter shown = new(), errors = new();
            Console.SetOut(shown);
            Console.SetError(errors);
            var watch = new JournalWatch(new DiskVolume(), command.Office, command.Watched);
            var volume = new FaultyVolume(watch, command.Fault == "none" ? int.MaxValue : Math.Abs(command.At), afterwards: command.At < 0,
                forGood: command.Fault == "fail-for-good", fault: command.Fault == "kill" ? Die : null);
            int exit = await CommandLine.RunAsync(command.Arguments, volume).ConfigureAwait(false);
            var answer = new { Exit = exit, Out = shown.ToString(), Err = errors.ToString(), volume.Operations, watch.Violations };
            await answers.WriteLineAsync(JsonSerializer.Serialize(answer, JsonSerializerOptions.Web)).ConfigureAwait(false);
            await answers.FlushAsync().ConfigureAwait(false);
        }
        return 0;
    }
}
