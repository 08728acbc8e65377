// UndoCommand.cs: undo: takes a run back; the office is where it was before.
using Transferra.Cli.Rendering;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class UndoCommand
{
    public static int Run(Session session, string? id)
    {
        using IDisposable one = session.Lock();
        IReadOnlyList<Run> runs = session.Runs.List();
        // The newest was undone, and only the opening of the office was broken off: nothing else is meant by undoing once more.
        if (id is null && runs is [{ IsUndone: true }, ..] && session.Closings.Current() is { IsForUpgrade: true, IsReopening: true } opening)
            return session.Answer(CloseCommand.Open(session, opening).Count > 0 ? ExitCodes.Unproved : ExitCodes.Done, new { run = runs[0].Id, takenBack = Array.Empty<string>() });
        Run run = id is not null
            ? runs.FirstOrDefault(run => run.Id == id) ?? throw new TransferraException($"there is no run {id}", $"The runs are {string.Join(", ", runs.Select(run => run.Id))}.")
            : runs.FirstOrDefault(run => !run.IsUndone) ?? throw new TransferraException("there is no run to undo",
                "Nothing was changed by Transferra in this office, or all of it was undone.");
        if (run.IsUndone) throw new TransferraException($"the run {run.Id} was undone already", "Nothing is left to take back.");
        // What a later run built on would lose its ground.
        if (runs.FirstOrDefault(later => string.CompareOrdinal(later.Id, run.Id) > 0 && !later.IsUndone && later.Companies.Intersect(run.Companies)
            .Any(code => later.IsDone(code, Stages.ChangeOver) || later.Kind == "restore")) is { } on)
            throw new TransferraException($"the run {on.Id} came after {run.Id} and changed the same company", $"Undo that first: transferra undo --run {on.Id}");
        string[] changed = [.. run.Companies.Where(code => run.IsDone(code, Stages.ChangeOver) || run.IsDone(code, "put-back"))];
        session.Screen.Line($"The {run.Kind} run {run.Id}, begun {run.BegunAt:yyyy-MM-dd HH:mm} UTC, is taken back.");
        if (!session.Confirm(changed, "Put back the old data of")) return session.Answer(ExitCodes.Refused, new { confirmed = false });
        run = session.Runs.Continue(run);
        bool began = run.IsUndoing;
        try
        {
            IReadOnlyList<string> lines = UpgradeRun.Undo(session.Context(new ScreenObserver(session.Screen)), run);
            session.Screen.Good(lines.Count == 0 ? "There was nothing to take back." : "Undone: the office is where it was before.");
            if (session.Closings.Current() is { IsForUpgrade: true } closed && CloseCommand.Open(session, closed).Count > 0)
                return session.Answer(ExitCodes.Unproved, new { run = run.Id, takenBack = lines });
            return session.Answer(ExitCodes.Done, new { run = run.Id, takenBack = lines });
        }
        catch (TransferraException error) when (began || run.IsUndoing)
        {
            session.Screen.Error(error.Message);
            session.Screen.Error("  " + error.Next);
            return session.Answer(ExitCodes.Unproved, new { run = run.Id, error = error.Message, next = error.Next });
        }
    }
}
