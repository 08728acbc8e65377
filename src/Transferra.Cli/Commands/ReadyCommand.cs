// ReadyCommand.cs: ready: may we go? All gates at once, with what to do about each, and how long it will take.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Gates;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class ReadyCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var confirm = new Option<string[]>("--confirm")
        {
            Description = "Give your word on something that only people know; once for each",
            HelpName = "NAME",
            AllowMultipleArgumentsPerToken = false
        };
        var ask = new Option<bool>("--ask") { Description = "Ask for each word that is needed" };
        var by = new Option<string?>("--by") { Description = "Whose word it is; the user's when left out", HelpName = "PERSON" };
        commands.Add("ready", "May we go: every reason why the upgrade may not start, with what to do; how long it will take",
            [commands.Codes, confirm, ask, by],
            (session, parsed) => Run(session, parsed.GetValue(confirm) ?? [], parsed.GetValue(ask), parsed.GetValue(by)));
    }

    /// <summary>ready</summary>
    /// <param name="session">The call.</param>
    /// <param name="confirmed">Names that are confirmed with this call.</param>
    /// <param name="asks">Whether to ask for each word that is needed.</param>
    /// <param name="by">Whose word it is; the user when left out.</param>
    public static int Run(Session session, IReadOnlyList<string> confirmed, bool asks, string? by)
    {
        Screen screen = session.Screen;
        RunContext context = session.Context(session.Observer());
        if (asks && Console.IsInputRedirected) throw new TransferraException("nobody is there to be asked",
            "Confirm by name: transferra ready --confirm NAME");
        screen.Progress.Show("looking at every gate", 0, 0);
        ReadinessResult result = Readiness.Of(context, session.Companies, session.Words, session.Tools.Commands);
        if (confirmed.Count > 0 || asks)
        {
            using IDisposable one = session.Lock();
            Give(session, result, confirmed, asks, by ?? Environment.UserName);
            result = Readiness.Of(context, session.Companies, session.Words, session.Tools.Commands);
        }
        foreach (string code in result.There) screen.Line($"{code} is at the wanted version already.");
        Show(session, result);
        ClosedTimeOfCompany[] times = [.. result.Candidates.Where(candidate => candidate.From is not null
            && candidate.From.Name != candidate.Company.WantedVersion)
                .Select(candidate => ClosedTime.Of(context, candidate, session.Runs.List()))];
        ShowTimes(screen, times);
        int Count(GateState state) => result.Gates.Count(gate => gate.State == state);
        int blocked = Count(GateState.Blocked), asked = Count(GateState.NeedsWord), stopping = Count(GateState.WillStop),
            unseen = Count(GateState.NotChecked);
        GateState worst = blocked > 0 ? GateState.Blocked : asked > 0 ? GateState.NeedsWord : stopping > 0 ? GateState.WillStop
            : GateState.Passed;
        switch (worst)
        {
            case GateState.Blocked:
                screen.Bad($"Not ready: {Results.Count(blocked, "gate")} "
                + $"blocked{(asked > 0 ? $", and your word is needed {Results.Count(asked, "time")}" : "")}."); break;
            case GateState.NeedsWord: screen.Look($"Nothing is blocked; your word is needed {Results.Count(asked, "time")}."); break;
            case GateState.WillStop:
                screen.Look("Nothing keeps the upgrade from starting, but "
                + $"{Results.Count(stopping, "company", "companies")} will stop at the check. To begin all the same: transferra "
                + "upgrade"); break;
            default:
                screen.Good(result.Candidates.Count == 0 ? "There is nothing to upgrade." : unseen == 0
                    ? "Ready: all gates are passed. To begin: transferra upgrade"
                    : $"Ready: all gates are passed but the check of {Results.Count(unseen, "company", "companies")}, which the upgrade "
                        + "makes first. To begin: transferra upgrade");
                break;
        }
        // What is open, once more and short, where the eye is after a long list.
        foreach (Gate gate in result.Gates.Where(gate => gate.State == GateState.Blocked))
            screen.Line($"  blocked: {Companies.NameOf(gate)}");
        foreach (Gate gate in result.Gates.Where(gate => gate.State == GateState.NeedsWord)) screen.Line($"  your word: {gate.Confirm}");
        foreach (Gate gate in result.Gates.Where(gate =>
            gate.State == GateState.WillStop)) screen.Line($"  will stop: {gate.Company}, {gate.Name}");
        if (asked > 1) screen.Line("To be asked for them one by one: transferra ready --ask");
        var answer = new JsonFacts { { "gates", result.Gates }, { "times", times }, { "there", result.There } };
        return session.Answer(worst switch
        {
            GateState.Blocked => ExitCodes.Refused,
            GateState.Passed => ExitCodes.Done,
            _ => ExitCodes.LookAt
        }, answer);
    }

    private static void Give(Session session, ReadinessResult result, IReadOnlyList<string> confirmed, bool asks, string by)
    {
        // What a kit runs may have changed while a run stands part-way, when no other gate is asked.
        Gate[] open = [.. result.Gates.Where(gate => gate.State == GateState.NeedsWord).Concat(session.Office.Packages.Select(package =>
            KitTrust.Asked(package.Kit, session.Words)).OfType<Gate>()).DistinctBy(gate => gate.Confirm)];
        // All names are looked up before the first is written down.
        Gate[][] meant = [.. confirmed.Select(name =>
        {
            Gate[] gates = [.. open.Where(gate => Gate.IsMeant(gate.Confirm, name))];
            // Said once more, by a person or by a script that always says all of them: it holds already.
            return gates.Length > 0 || session.Words.Under(name) is not null ? gates : throw new TransferraException(
                $"nothing named {name} waits for your word", open.Length == 0
                    ? "No word is needed." : $"These do: {string.Join(", ", open.Select(gate => gate.Confirm))}.");
        })];
        foreach (Gate gate in meant.SelectMany(gates => gates).DistinctBy(gate => gate.Confirm)) session.Words.Give(gate.Confirm,
            gate.What, by);
        if (!asks) return;
        foreach (Gate gate in open.Where(gate => session.Words.For(gate.Confirm, gate.What) is null))
        {
            session.Screen.Line();
            session.Screen.Prompt($"{gate.Name}: {gate.What}\n  Is it so? Type yes, or press Enter to leave it open: ");
            if (string.Equals(Screen.ReadLine(session.Cancel)?.Trim(), "yes",
                StringComparison.OrdinalIgnoreCase)) session.Words.Give(gate.Confirm, gate.What, by);
        }
    }

    private static void Show(Session session, ReadinessResult result)
    {
        Screen screen = session.Screen;
        foreach (IGrouping<string, Gate> about in result.Gates.GroupBy(gate => gate.Company.Length > 0 ? gate.Company : gate.Package))
        {
            Company? company = session.Office.Companies.FirstOrDefault(company => company.Code == about.Key);
            screen.Heading(about.Key.Length == 0 ? "The office" : company is not null
                ? $"{company.Code}  {company.Name}" : session.Office.Packages.First(package => package.Kit.Id == about.Key).Kit.Title);
            screen.Table(["Gate", "", "What"], about.Select(gate =>
                (IReadOnlyList<string>)[gate.Name, Word(gate.State), gate.State == GateState.Passed || gate.Next.Length == 0 ? gate.What
                    : $"{gate.What}\n→ {gate.Next}"]));
        }
    }

    private static string Word(GateState state) => state switch
    {
        GateState.Passed => "passed",
        GateState.Blocked => "blocked",
        GateState.WillStop => "will stop",
        GateState.NotChecked => "not yet checked",
        _ => "your word"
    };

    private static void ShowTimes(Screen screen, ClosedTimeOfCompany[] times)
    {
        if (times.Length == 0) return;
        screen.Heading("How long the office will be closed, roughly");
        IEnumerable<IReadOnlyList<string>> rows = times.Select(time =>
            (IReadOnlyList<string>)[time.Company, Results.Number(time.Records),
                $"{ClosedTime.Words(time.Shortest)} to {ClosedTime.Words(time.Longest)}",
            time.Basis]);
        TimeSpan shortest = TimeSpan.FromTicks(times.Sum(time => time.Shortest.Ticks)),
            longest = TimeSpan.FromTicks(times.Sum(time => time.Longest.Ticks));
        screen.Table(["Company", ">Records", "Takes", "By what"],
            rows.Append(["all", Results.Number(times.Sum(time => time.Records)),
                $"{ClosedTime.Words(shortest)} to {ClosedTime.Words(longest)}",
            "one after the other; installing the program comes on top"]));
    }
}
