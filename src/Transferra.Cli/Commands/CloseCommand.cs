// CloseCommand.cs: close and reopen: everybody out, and in again.
using System.CommandLine;
using System.Globalization;
using Transferra.Cli.Rendering;
using Transferra.Core.Closing;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class CloseCommand
{
    /// <summary>What is typed for both.</summary>
    public static void Declare(CommandSet commands)
    {
        commands.Add("close", "Everybody out: tell users, keep new ones out, stop jobs and services, prove it",
            [commands.EndSessions, commands.ShowOnly],
            (session, parsed) =>
            Run(session, parsed.GetValue(commands.EndSessions), parsed.GetValue(commands.ShowOnly)));
        var giveUpClosing = new Option<bool>("--give-up")
        {
            Description = "End a closing that cannot be opened again by its journal; "
            + "what it changed is listed, to be put right by hand"
        };
        commands.Add("reopen", "In again: everything that was closed is put back exactly as it was", [giveUpClosing, commands.Yes],
            (session, parsed) =>
            Reopen(session, parsed.GetValue(giveUpClosing)));
    }

    /// <summary>close</summary>
    /// <param name="session">The call.</param>
    /// <param name="endsSessions">Whether anyone still in after the grace period is disconnected.</param>
    /// <param name="showOnly">Whether only to say who is in and what would be done.</param>
    public static int Run(Session session, bool endsSessions, bool showOnly)
    {
        if (showOnly) return Show(session);
        using IDisposable one = session.LockStores();
        session.Screen.Heading($"Closing {session.Office.Name}");
        ClosingOutcome outcome;
        try
        {
            outcome = session.Closing.Close(session.Office, "", Session.Version, endsSessions);
        }
        catch (TransferraException error) when (session.Closings.Current() is { IsReopening: false })
        {
            session.Screen.Error(error.Message);
            session.Screen.Error("  " + error.Next);
            return session.Answer(ExitCodes.PartWay, new JsonFacts { { "error", error.Message }, { "next", error.Next } });
        }
        Tell(session, outcome);
        if (outcome.IsClosed) session.Screen.Line("To open it again: transferra reopen");
        return session.Answer(outcome.IsClosed ? ExitCodes.Done : ExitCodes.PartWay, outcome);
    }

    /// <summary>Says how a closing came out.</summary>
    public static void Tell(Session session, ClosingOutcome outcome)
    {
        Screen screen = session.Screen;
        if (outcome.IsClosed)
        {
            int services = session.Office.Closing.Services.Count(service => !service.StaysUp);
            screen.Good("Closed, and proved: no session, no open file"
                + (services > 0 ? ", no process and no listening port of the services." : "."));
            return;
        }
        if (outcome.StillIn.Count > 0)
        {
            screen.Bad($"Not closed: {Results.Count(outcome.StillIn.Count, "session")} still in.");
            ClosingScreen.People(screen, outcome.StillIn);
            screen.Line("New ones are kept out. Ask these to leave and go on: transferra close. Or disconnect them: transferra close "
                + "--end-sessions. Or open again: transferra reopen");
        }
        foreach (string what in outcome.NotAtRest) screen.Bad($"Not at rest: {what}");
        if (outcome.NotAtRest.Count > 0) screen.Line("Put it right and go on: transferra close. Or open again: transferra reopen");
    }

    private static int Show(Session session)
    {
        Screen screen = session.Screen;
        IReadOnlyList<PersonIn> people = OfficeClosing.PeopleIn(session.Office, session.Stores);
        screen.Heading("Who is in");
        if (people.Count == 0) screen.Line("Nobody.");
        else ClosingScreen.People(screen, people);
        if (Environment.UserName != "root") screen.Look("Open files of other users are seen only by root.");
        screen.Heading("What closing would do");
        IReadOnlyList<ClosingStep> steps = session.Closing.Preview(session.Office);
        foreach (ClosingStep step in steps) screen.Line($"  {step.WhenClosed}");
        foreach (ServicePlan service in session.Office.Closing.Services.Where(service =>
            service.StaysUp)) screen.Line($"  {service.Name} stays up, as office.yaml says");
        screen.Line("Nothing was changed.");
        return session.Answer(ExitCodes.Done, new JsonFacts { { "people", people }, { "steps", steps.Select(step => step.WhenClosed) } });
    }

    /// <summary>reopen</summary>
    public static int Reopen(Session session, bool givesUp)
    {
        using IDisposable one = session.Lock();
        if (givesUp) return GiveUp(session);
        if (session.Closings.Current() is not { } closed)
        {
            session.Screen.Line("The office is open; there is nothing to do.");
            return session.Answer(ExitCodes.Done, new JsonFacts { { "wasClosed", false }, { "notReopened", Array.Empty<NotReopened>() } });
        }
        IReadOnlyList<NotReopened> failed = Open(session, closed);
        if (failed.Count == 0) WriteSignOff(session, closed.Id);
        return session.Answer(failed.Count > 0 ? ExitCodes.Unproved : ExitCodes.Done, new JsonFacts
        {
            { "wasClosed", true },
            { "closing", closed.Id },
            { "notReopened", failed }
        });
    }

    // The closing's journal cannot be believed, or what it would bring back cannot be brought back: a person does it by hand.
    private static int GiveUp(Session session)
    {
        if (session.Closings.Newest() is not { } closed)
        {
            session.Screen.Line("The office is open; there is nothing to give up.");
            return session.Answer(ExitCodes.Done, new JsonFacts { { "wasClosed", false } });
        }
        session.Screen.Look("What the closing has changed, and what it had found before, as far as its journal can be read:");
        var steps = new List<JsonFacts>();
        foreach (JournalEntry entry in closed.Journal.Entries.Where(entry => entry.State == "announced"))
        {
            session.Screen.Line($"  {entry.Stage}: "
                + string.Join(", ", entry.Facts.Where(fact => fact.Key != "password-file")
                    .Select(fact => $"{fact.Key} {fact.Value}")));
            steps.Add(new JsonFacts { { "step", entry.Stage }, { "facts", entry.Facts } });
        }
        if (!session.Confirm([closed.Id], "Put that right by hand, and give up the closing")) return session.Answer(ExitCodes.Refused,
            new JsonFacts { { "confirmed", false } });
        string folder = session.Closings.PutAway(closed);
        session.Screen.Look($"Given up. Its folder is now {folder}");
        return session.Answer(ExitCodes.LookAt, new JsonFacts { { "closing", closed.Id }, { "folder", folder }, { "steps", steps } });
    }

    /// <summary>Opens the office and says how that came out.</summary>
    /// <returns>What could not be brought back.</returns>
    public static IReadOnlyList<NotReopened> Open(Session session, OfficeClosed closed)
    {
        if (UnfinishedRun(session) is { } run)
            session.Screen.Look($"The run {run.Id} is unfinished: who works now may work on what it is about to change. Better: "
                + "transferra upgrade --resume, or transferra undo");
        session.Screen.Heading(string.Create(CultureInfo.InvariantCulture,
            $"Opening again what was closed {closed.BegunAt:yyyy-MM-dd HH:mm} UTC"));
        IReadOnlyList<NotReopened> failed = session.Closing.Reopen();
        if (failed.Count == 0) session.Screen.Good("Open: everything that was closed is as it was before, and proved.");
        else session.Screen.Bad($"NOT open: {Results.Count(failed.Count, "thing is", "things are")} not as before, and users were not "
            + "told that it is open.");
        return failed;
    }

    // The page to be signed says how long the office was closed.
    private static void WriteSignOff(Session session, string closing)
    {
        if (session.Attempt("", "sign-off page", () =>
        {
            foreach (Run run in session.Runs.List().Where(run => run.BegunWith("closing") == closing))
                SignOffCommand.Seal(session, run, session.ReportOf(run));
        }) is { } error)
            session.Screen.Look($"The sign-off page could not be written anew: {error.Message} To write it: "
                + "transferra signoff --html FILE");
    }

    // Opening needs no office.yaml, so that a broken one is no reason to stay closed.
    private static Run? UnfinishedRun(Session session)
    {
        try
        {
            return session.Runs.Unfinished();
        }
        catch (Exception)
        {
            return null;
        }
    }

    /// <summary>Says that the office is closed, so that nobody goes home without opening it.</summary>
    public static void Remind(Session session)
    {
        OfficeClosed? closed;
        try
        {
            closed = session.Closings.Current();
        }
        catch (Exception error)
        {
            session.Screen.Error($"it cannot be told whether the office is closed: {error.Message}");
            if (error is TransferraException { Next.Length: > 0 } told) session.Screen.Error("  " + told.Next);
            return;
        }
        if (closed is null) return;
        string how = closed.State switch
        {
            "closed" => "is closed",
            "reopening" => "was being opened again, and that is not finished",
            _ =>
            "was being closed, and that is not finished"
        };
        session.Screen.Notice(string.Create(CultureInfo.InvariantCulture,
            $"The office {how}; begun {closed.BegunAt:yyyy-MM-dd HH:mm} UTC by {closed.By}. To open it: transferra reopen"));
    }
}
