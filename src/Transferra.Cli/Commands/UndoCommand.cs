// UndoCommand.cs: undo: takes a run back; the office is where it was before. And undo --give-up: ends a run that can neither go on nor be
// taken back.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Machine;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class UndoCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var giveUp = new Option<bool>("--give-up")
        {
            Description = "End a run that can neither go on nor be taken back; "
            + "everything stays where it lies"
        };
        commands.Add("undo", "Take a run back: the office is where it was before", [commands.RunMeant, giveUp, commands.Yes],
            (session, parsed) =>
            Run(session, parsed.GetValue(commands.RunMeant), parsed.GetValue(giveUp)));
    }

    public static int Run(Session session, string? id, bool givesUp)
    {
        using IDisposable one = session.LockStores();
        IReadOnlyList<Run> runs = session.Runs.List();
        // The newest was undone, and only the opening of the office was interrupted: nothing else is meant by undoing once more.
        if (id is null && !givesUp && runs is [{ IsUndone: true }, ..] && session.Closings.Current() is
            {
                IsForUpgrade: true,
                IsReopening: true
            } opening)
            return session.Answer(CloseCommand.Open(session, opening).Count > 0 ? ExitCodes.Unproved : ExitCodes.Done,
                new JsonFacts { { "run", runs[0].Id }, { "takenBack", Array.Empty<string>() } });
        Run run = Meant(runs, id);
        if (givesUp) return GiveUp(session, run);
        if (run.Journal.Damage is { } damage) throw damage;
        if (run.IsUndone) throw new TransferraException($"the run {run.Id} was undone already", "Nothing is left to take back.");
        if (run.IsGivenUp) throw new TransferraException($"the run {run.Id} was given up where it stood",
            "Bring the company back from a backup set: transferra restore CODE");
        RefuseWhenBuiltOn(runs, run);
        string[] changed = [.. run.Companies.Where(code => run.IsDone(code, Stages.ChangeOver) || run.IsDone(code, Stages.PutBack))];
        session.Screen.Line($"Taking back the {run.Kind} run {run.Id}, begun {run.BegunAt:yyyy-MM-dd HH:mm} UTC.");
        if (!session.Confirm(changed, "Put back the old data of")) return session.Answer(ExitCodes.Refused,
            new JsonFacts { { "confirmed", false } });
        run = session.Runs.Continue(run);
        bool began = run.IsUndoing;
        try
        {
            UndoResult undone = UpgradeRun.Undo(session.Context(session.Observer()), run);
            Tell(session.Screen, run, undone, changed.Length > 0);
            bool opened = session.Closings.Current() is not { IsForUpgrade: true } closed || CloseCommand.Open(session, closed).Count == 0;
            return session.Answer(!opened ? ExitCodes.Unproved : undone.IsWhole ? ExitCodes.Done : ExitCodes.LookAt,
                new JsonFacts { { "run", run.Id }, { "takenBack", undone.Lines } });
        }
        catch (TransferraException error) when (began || run.IsUndoing)
        {
            session.Screen.Error(error.Message);
            session.Screen.Error("  " + error.Next);
            return session.Answer(ExitCodes.Unproved,
                new JsonFacts { { "run", run.Id }, { "error", error.Message }, { "next", error.Next } });
        }
    }

    private static Run Meant(IReadOnlyList<Run> runs, string? id) => id is not null
        ? runs.FirstOrDefault(run => run.Id == id) ?? throw new TransferraException($"there is no run {id}",
            $"The runs are {string.Join(", ", runs.Select(run => run.Id))}.")
        : runs.FirstOrDefault(run => !run.IsUndone && !run.IsGivenUp) ?? throw new TransferraException("there is no run to undo",
            "Nothing was changed by Transferra in this office, or all of it was undone.");

    // What a later run built on would lose its ground.
    private static void RefuseWhenBuiltOn(IReadOnlyList<Run> runs, Run run)
    {
        if (runs.FirstOrDefault(later => string.CompareOrdinal(later.Id, run.Id) > 0 && !later.IsUndone && !later.IsGivenUp
            && later.Companies.Intersect(run.Companies)
            .Any(code => later.IsDone(code, Stages.ChangeOver) || later.IsDone(code, Stages.PutBack))) is { } on)
            throw new TransferraException($"the run {on.Id} came after {run.Id} and changed the same company",
                $"Undo that first: transferra undo --run {on.Id}");
    }

    // Only what was looked at is claimed: that the original is back was seen by its digest, stage by stage.
    private static void Tell(Screen screen, Run run, UndoResult undone, bool wasChanged)
    {
        if (undone.Lines.Count == 0) screen.Good("There was nothing to take back.");
        else if (!undone.IsWhole) screen.Look("Taken back, but for what is named above as kept.");
        else screen.Good(wasChanged ? "Undone: the office is where it was before."
            : $"Undone: what the {run.Kind} run made is removed; no store had been changed over.");
    }

    // Nothing on the disk is touched, so that whatever is lost by it can be fetched by hand.
    private static int GiveUp(Session session, Run run)
    {
        if (run is { IsBroken: false, IsUnfinished: false, IsUndoing: false })
            throw new TransferraException($"the run {run.Id} did not stop part-way, so there is nothing to give up",
                $"To take it back: transferra undo --run {run.Id}");
        session.Screen.Line($"The run {run.Id} is to end where it stands. Everything stays where it lies; nothing is renamed or removed.");
        if (!session.Confirm(run.IsBroken ? [run.Id] : run.Companies, "Give up")) return session.Answer(ExitCodes.Refused,
            new JsonFacts { { "confirmed", false } });
        if (run.IsBroken)
        {
            string folder = session.Runs.PutAway(run);
            session.Screen.Look($"Given up. Its folder, with what can be read of its journal, is now {folder}");
            session.Screen.Line("The journal's lines announced and done name the places of every store. What it set aside lies in a "
                + "folder transferra-RUN-COMPANY beside the store.");
            return session.Answer(ExitCodes.LookAt, new JsonFacts { { "run", run.Id }, { "givenUp", true }, { "folder", folder } });
        }
        IReadOnlyList<string> lines = UpgradeRun.GiveUp(session.Context(session.Observer()), session.Runs.Continue(run));
        foreach (string line in lines) session.Screen.Line("  " + line);
        session.Screen.Look("Given up. To bring a company back from a backup set: transferra restore "
            + $"{string.Join(" or ", run.Companies)}");
        return session.Answer(ExitCodes.LookAt, new JsonFacts { { "run", run.Id }, { "givenUp", true }, { "lies", lines } });
    }
}
