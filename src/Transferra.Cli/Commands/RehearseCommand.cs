// RehearseCommand.cs: rehearse: the whole upgrade on copies in scratch; what would stop the real one, and how long that will take.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Gates;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class RehearseCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var fresh = new Option<bool>("--fresh") { Description = "On copies of what is there now, also where there is a proved backup set" };
        var into = new Option<string?>("--in")
        {
            Description = "Folder to work in, on a disk with enough room; the office's own when left out",
            HelpName = "DIR"
        };
        var keep = new Option<bool>("--keep") { Description = "Keep what it makes, to be looked at with the new program" };
        var letGo = new Option<bool>("--let-go") { Description = "Only remove what earlier rehearsals kept or left" };
        commands.Add("rehearse", "The same upgrade on copies: what would stop it, and how long it takes",
            [commands.Codes, fresh, into, keep, letGo], (session, parsed) => parsed.GetValue(letGo) ? LetGo(session)
                : Run(session, new RehearsalWishes(parsed.GetValue(into) is { } folder ? Path.GetFullPath(folder) : null,
                    parsed.GetValue(fresh), parsed.GetValue(keep), session.Person is null ? null : () => IsDone(session))));
    }

    private static bool IsDone(Session session)
    {
        session.Screen.Prompt("Press Enter when that is done on the copy, or type later to leave it for the night: ");
        return Screen.ReadLine(session.Cancel)?.Trim() is { Length: 0 };
    }

    private static int LetGo(Session session)
    {
        using IDisposable one = session.Lock();
        RunContext context = session.Context(session.Observer());
        var book = new Rehearsals(session.OfficeFolder, session.Volume);
        IReadOnlyList<RehearsalMade> left = book.Left();
        if (left.Count == 0) session.Screen.Line("Nothing is left of a rehearsal.");
        bool all = true;
        foreach (RehearsalMade made in left)
        {
            bool gone = RehearsalRun.Remove(context, made);
            all &= gone;
            if (gone) session.Screen.Line($"What the rehearsal {made.Id} made is removed.");
        }
        return session.Answer(all ? ExitCodes.Done : ExitCodes.Unproved,
            new JsonFacts { { "removed", left.Select(made => made.Id) }, { "isWhole", all } });
    }

    public static int Run(Session session, RehearsalWishes wishes)
    {
        using IDisposable one = session.Lock();
        Companies.RefuseWhileUnfinished(session.Runs);
        RunContext context = session.Context(session.Observer()) with { Closing = null };
        foreach (RehearsalMade earlier in new Rehearsals(session.OfficeFolder, session.Volume).Left().Where(made => !made.IsKept))
            RehearsalRun.Remove(context, earlier); // interrupted, it left something
        session.Screen.Progress.Show("looking at every gate", 0, 0);
        ReadinessResult ready = Readiness.Of(context, session.Companies, session.Words, session.Tools.Commands);
        foreach (string code in ready.There) session.Screen.Line($"{code} is at the wanted version already; there is nothing to rehearse.");
        Candidate[] able = [.. ready.Candidates.Where(candidate => candidate.From is { } from
            && candidate.Company.WayBetween(from.Name, candidate.Company.WantedVersion) is not null)];
        foreach (Candidate unable in ready.Candidates.Except(able))
            session.Screen.Look($"{unable.Company.Code} cannot be rehearsed: "
                + $"{ready.Gates.FirstOrDefault(gate => gate.Company == unable.Company.Code && gate.State == GateState.Blocked)?.What}");
        if (able.Length == 0) return session.Answer(ready.Candidates.Count == 0 ? ExitCodes.Done : ExitCodes.Refused,
            new JsonFacts { { "rehearsal", (Rehearsal?)null }, { "gates", ready.Gates } });
        foreach (Candidate candidate in able) KitTrust.Require(candidate.Company.Kit, session.Words);
        RequireRoom(session, wishes, able);
        NotDone(session);
        Rehearsal rehearsal = RehearsalRun.Run(context, [.. able.Select(candidate => (candidate.Company, candidate.From!))], wishes);
        Gate[] open = [.. ready.Gates.Where(gate => gate.State is GateState.Blocked or GateState.NeedsWord or GateState.WillStop)];
        Tell(session.Screen, rehearsal, open, wishes);
        string results = new Rehearsals(session.OfficeFolder, session.Volume).ResultsOf(rehearsal.Id);
        if (Directory.Exists(results)) session.Screen.Line($"Its results and lists are kept in {results}");
        bool isClean = rehearsal.Companies.All(company => company is
        {
            Outcome: "through",
            Verdict: "proved",
            IsOriginalAsBefore: true
        }) && open.Length == 0;
        return session.Answer(isClean ? ExitCodes.Done : ExitCodes.LookAt, new JsonFacts { { "rehearsal", rehearsal }, { "gates", open } });
    }

    // Old copy, converted copies, set and its proof; documents are packed from where they lie.
    private static void RequireRoom(Session session, RehearsalWishes wishes, IReadOnlyList<Candidate> companies)
    {
        const int setAndProof = 3, converted = 2;
        string folder = wishes.In ?? session.OfficeFolder;
        if (!Directory.Exists(folder)) throw new TransferraException($"there is no folder {folder}", "Make it first, or name another.");
        long needed = companies.Sum(candidate =>
        {
            int hops = candidate.Company.WayBetween(candidate.From!.Name, candidate.Company.WantedVersion)!.Hops.Count;
            return (candidate.Survey.StoreBytes * (setAndProof + (converted * hops))) + candidate.Survey.DocumentBytes;
        }), free = new DriveInfo(folder).AvailableFreeSpace;
        if (free - needed >= session.Office.KeepFreeBytes) return;
        throw new TransferraException($"a rehearsal needs up to {Sizes.Of(needed)}, and {folder} has {Sizes.Of(free)} free"
            + (session.Office.KeepFreeBytes > 0 ? $", of which {Sizes.Of(session.Office.KeepFreeBytes)} are to be kept free" : ""),
            "Name a folder on another disk with --in DIR, or rehearse fewer companies.");
    }

    private static void NotDone(Session session)
    {
        ClosingPlan plan = session.Office.Closing;
        session.Screen.Line("All of this is done on copies; nobody has to leave. What the real run does beside, and this does not:");
        session.Screen.Line("  no store is shut, and nobody is disconnected");
        if (plan.Tell.Count > 0) session.Screen.Line($"  nobody is told, and {ClosedTime.Words(plan.Grace)} of grace are not waited");
        foreach (ServicePlan service in plan.Services.Where(service => !service.StaysUp))
            session.Screen.Line($"  the service {service.Name} is not stopped");
        foreach (JobPlan job in plan.Jobs) session.Screen.Line($"  the job {job.Name} is not held back");
        int carried = session.Companies.Sum(company => company.Carry.Count);
        if (carried > 0) session.Screen.Line($"  no files are carried ({Results.Count(carried, "entry", "entries")} of office.yaml)");
        if (plan.BlockedPorts.Count > 0) session.Screen.Line($"  no port is blocked ({string.Join(", ", plan.BlockedPorts)})");
        session.Screen.Line("  sets go to scratch, and not to your places, which may be slower");
    }

    private static void Tell(Screen screen, Rehearsal rehearsal, IReadOnlyList<Gate> open, RehearsalWishes wishes)
    {
        foreach (RehearsedCompany company in rehearsal.Companies.Where(company => company.Stages.Count > 0))
        {
            screen.Heading($"{company.Company}  how long it took");
            screen.Table(["Stage or hop", ">Took"], company.Stages.SelectMany(stage =>
                (IEnumerable<IReadOnlyList<string>>)[[stage.Stage, Durations.Of(stage.Seconds)], .. stage.Stage == Stages.Convert
                    ? company.Hops.Select(hop => (IReadOnlyList<string>)[$"  version {hop.From} to {hop.To}", Durations.Of(hop.Seconds)])
                    : []]));
            if (company.Longest.Count > 0)
                screen.Table(["What took longest", "In", ">About"], company.Longest.Take(MostShown).Select(part =>
                    (IReadOnlyList<string>)[part.What, part.Stage, Durations.Of(part.Seconds)]));
        }
        screen.Heading("How it would come out");
        screen.Table(["Company", "Outcome", ">Records", ">Took", "What now"], rehearsal.Companies.Select(company =>
            (IReadOnlyList<string>)[company.Company, company.Outcome == "not-rehearsed" ? "not rehearsed" : company.Outcome,
                Results.Number(company.Records), Durations.Of(company.Seconds), WhatNow(company)]));
        foreach (RehearsedCompany company in rehearsal.Companies.Where(company => company.Stages.Count > 0))
            screen.Line(company.IsOriginalAsBefore ? $"{company.Company}: the original is as it was before, by its digest."
                : $"{company.Company}: the original is NOT as it was before. People worked with it meanwhile, or the vendor's "
                    + $"conversion wrote "
                    + "to it though it was given a copy; find out which before the night.");
        // Of what did not come to its end the time tells nothing.
        double all = rehearsal.Companies.All(company => company.Outcome == "through") ? rehearsal.Companies.Sum(company => company.Seconds)
            : 0;
        if (all > 0)
            screen.Line($"Closed time to expect: {ClosedTime.Words(TimeSpan.FromSeconds(all * ClosedTime.BelowKnown))} to "
                + $"{ClosedTime.Words(TimeSpan.FromSeconds(all * ClosedTime.AboveKnown))}, and what closing, opening and installing take.");
        foreach (Gate gate in open) screen.Look($"Before the night: {Companies.NameOf(gate)}: {gate.What}");
        if (!wishes.IsKept) return;
        foreach (RehearsedCompany company in rehearsal.Companies.Where(company => company.Kept.Length > 0))
            screen.Line($"Kept, to be looked at: {company.Kept}");
        screen.Line("When you have seen enough: transferra rehearse --let-go");
    }

    private const int MostShown = 8;

    private static string WhatNow(RehearsedCompany company) => company switch
    {
        { Outcome: "through", Verdict: "proved" } => "Nothing stands in the way that a rehearsal can see",
        { Outcome: "through" } => "It goes through; look at what the match said above",
        _ => string.Join("; ", company.Reasons)
    };
}
