// CommandGuard.cs: the one place where errors become words and exit codes (docs/exit-codes.md).
using Transferra.Core.Kits;
using Transferra.Core.Machine;

namespace Transferra.Cli;

internal static class CommandGuard
{
    /// <summary>Does a command. What is expected to go wrong is told with what to do; anything else is a defect and says so.</summary>
    /// <param name="session">What it works with.</param>
    /// <param name="trace">Whether to show where in the program an error arose.</param>
    /// <param name="action">Does it; returns the exit code.</param>
    /// <returns>The exit code.</returns>
    public static int Run(Session session, bool trace, Func<int> action)
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
            return Failed(ExitCodes.Refused, error, "refused", new JsonFacts { { "message", error.Message }, { "next", error.Next } });
        }
        catch (OperationCanceledException error) when (session.Cancel.IsCancellationRequested)
        {
            session.Screen.Error("stopped by hand");
            return Failed(PartWay(session), error, "stopped", (JsonFacts?)null);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            session.Screen.Error(error.Message);
            return Failed(PartWay(session), error, "disk", new JsonFacts { { "message", error.Message } });
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
                new JsonFacts { { "message", words }, { "log", log } });
        }
        int Failed<T>(int exitCode, Exception error, string kind, T details)
        {
            if (trace) session.Screen.Error(error.ToString());
            // What the command changed by itself stays, so "nothing was done" would not be true.
            if (exitCode == ExitCodes.Refused && session.Changed is { } changed)
            {
                session.Screen.Error("  " + changed);
                exitCode = ExitCodes.PartWay;
            }
            return session.Answer(exitCode, new JsonFacts { { "error", kind }, { "details", details } });
        }
    }

    /// <summary>Says what is unfinished and how to go on.</summary>
    /// <returns>3 when something is, otherwise 2.</returns>
    public static int PartWay(Session session)
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
