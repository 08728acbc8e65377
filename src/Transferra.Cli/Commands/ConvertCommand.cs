// ConvertCommand.cs: convert: a new store beside the old one, to look at and to match; nothing changes over.
using System.CommandLine;
using Transferra.Core.Gates;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class ConvertCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var keepBetween = new Option<bool>("--keep-between")
        { Description = "Keep the stores between the hops of a long way; otherwise each goes when the hops around it are proved" };
        commands.Add("convert", "Convert into a new store beside the old one, without changing over", [commands.Codes,
            keepBetween], (session, parsed) => Run(session, parsed.GetValue(keepBetween)));
    }

    public static int Run(Session session, bool keepsBetween = false)
    {
        using IDisposable one = session.LockStores();
        Companies.RefuseWhileUnfinished(session.Runs);
        RunContext context = session.Context(session.Observer());
        IReadOnlyList<(Company Company, KitVersion From)>? ready = Companies.Gates(session, context, session.Companies,
            out IReadOnlyList<Gate> gates);
        if (ready is null) return session.Answer(ExitCodes.Refused, new JsonFacts { { "gates", gates } });
        if (ready.Count == 0) return session.Answer(ExitCodes.Done, new JsonFacts { { "gates", gates } });
        TakeBackEarlier(session, context, ready);
        Run run = UpgradeRun.Begin(context, RunKind.Convert, ready, keepsBetween: keepsBetween);
        session.Changed = null; // from here on the run tells
        IReadOnlyList<CompanyOutcome> outcomes = UpgradeRun.Execute(context, run);
        RunReport report = session.ReportOf(run);
        session.Screen.Line();
        foreach (CompanyReport company in report.Companies.Where(company => company.Conversion is not null && company.Outcome == "through"))
            session.Screen.Line($"{company.Code}: the new store is {company.Conversion!.NewStore}. Prove it: transferra match "
                + $"{company.Code}. Remove it: transferra undo");
        foreach (CompanyOutcome outcome in outcomes.Where(outcome => !outcome.IsSettled))
            session.Screen.Look($"{outcome.Company}: {UpgradeCommand.Unsettled(outcome)}");
        bool clean = outcomes.All(outcome => outcome.IsThrough) && report.Companies.All(company => company.Conversion?.Exceptions == 0);
        return session.Answer(outcomes.Any(outcome => !outcome.IsSettled) ? ExitCodes.PartWay : clean ? ExitCodes.Done : ExitCodes.LookAt,
            report);
    }

    // An earlier trial conversion can be made again at any time; two of them side by side would only be mixed up. Those of other
    // companies stay.
    private static void TakeBackEarlier(Session session, RunContext context, IReadOnlyList<(Company Company, KitVersion From)> ready)
    {
        foreach (Run earlier in session.Runs.List().Where(run => run is { IsUndone: false, IsUnfinished: false }
            && run.Kind == RunKind.Convert.Name && run.Companies.Any(code => run.IsDone(code, Stages.Convert)
                && ready.Any(entry => entry.Company.Code == code))))
        {
            session.Changed = $"The earlier conversion {earlier.Id} was being removed to make way for a new one, which was not started. "
                + "Start it again: transferra convert " + string.Join(' ', ready.Select(entry => entry.Company.Code));
            try
            {
                UpgradeRun.Undo(context, session.Runs.Continue(earlier),
                [.. ready.Select(entry => entry.Company.Code).Where(earlier.Companies.Contains)]);
            }
            catch (TransferraException error)
            {
                throw new TransferraException($"the earlier conversion {earlier.Id} could not be "
                + $"removed: {error.Message}", error.Next, error);
            }
        }
    }
}
