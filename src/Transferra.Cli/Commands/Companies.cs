// Companies.cs: what several commands need to know of a company before they begin.
using Transferra.Core.Gates;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;
using Transferra.Stores;

namespace Transferra.Cli.Commands;

internal static class Companies
{
    /// <summary>The data version a company has now.</summary>
    /// <exception cref="TransferraException">The store cannot be read or tells no version.</exception>
    public static KitVersion VersionOf(Company company)
    {
        CompanySurvey survey = Survey.VersionOf(company, new StoreOpener());
        return survey.DataVersion is not null ? company.Kit.Version(survey.DataVersion)!
            : throw new TransferraException($"{company.Code}: {survey.Problem}", survey.Next);
    }

    /// <summary>Refuses while a run stands part-way.</summary>
    /// <exception cref="TransferraException">There is such a run.</exception>
    public static void RefuseWhileUnfinished(OfficeRuns runs)
    {
        IReadOnlyList<Run> all = runs.List();
        // An older one that was altered is of no concern to what comes; the newest may have left the office half-way.
        if (all is [{ IsBroken: true } newest, ..]) throw newest.Journal.Damage!;
        if (all.FirstOrDefault(run => run.IsUnfinished) is { } run)
            throw new TransferraException($"the run {run.Id} stopped part-way",
                "Go on with it: transferra upgrade --resume. Or take it back: transferra undo");
    }

    /// <summary>What a gate is called where all of them are listed: its company or package, and itself.</summary>
    public static string NameOf(Gate gate) => string.Join(", ", ((string[])[gate.Company.Length > 0 ? gate.Company : gate.Package,
        gate.Name]).Where(part => part.Length > 0));

    /// <summary>Asks all gates of all companies and shows those that are blocked.</summary>
    /// <returns>The companies that are to be upgraded, with their versions; null when a gate is blocked.</returns>
    public static IReadOnlyList<(Company Company, KitVersion From)>? Gates(Session session, RunContext context,
        IReadOnlyList<Company> companies, out IReadOnlyList<Gate> gates)
    {
        ReadinessResult result = Readiness.Of(context, companies, session.Words, session.Tools.Commands);
        foreach (string code in result.There)
            session.Screen.Line($"{code} is at version {companies.First(company => company.Code == code).WantedVersion} already; there "
                + "is nothing to do.");
        gates = result.Gates;
        IReadOnlyList<Gate> all = result.Gates;
        Gate[] blocked = [.. all.Where(gate => !gate.IsPassed)];
        if (blocked.Length == 0) return [.. result.Candidates.Select(candidate => (candidate.Company, candidate.From!))];
        session.Screen.Error($"{blocked.Length} {(blocked.Length == 1 ? "thing stands" : "things stand")} in the way; nothing was done:");
        foreach (Gate gate in blocked)
        {
            session.Screen.Error($"  {NameOf(gate)}: {gate.What}");
            if (gate.Next.Length > 0) session.Screen.Error($"    {gate.Next}");
        }
        return null;
    }
}
