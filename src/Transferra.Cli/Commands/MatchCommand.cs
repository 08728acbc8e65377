// MatchCommand.cs: match: old store against new store, at any time before or after the change-over.
using Transferra.Cli.Rendering;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class MatchCommand
{
    private sealed record CompanyMatched(string Company, string Run, IReadOnlyList<MatchResult> Hops);

    public static int Run(Session session)
    {
        var observer = session.Observer();
        RunContext context = session.Context(observer);
        IReadOnlyList<Run> runs = session.Runs.List();
        var results = new List<CompanyMatched>();
        foreach (Company company in session.Companies)
        {
            CompanyRun? on = runs.Where(run => run.Kind != "restore" && !run.IsUndone && run.Companies.Contains(company.Code) && run.IsDone(company.Code, Stages.Convert))
                .Select(run => UpgradeRun.OnRun(context, run, company.Code)).FirstOrDefault(on => session.Places.Exists(on.Aside) || session.Places.Exists(on.FinalStaged));
            if (on is null)
            {
                if (session.Codes.Count == 0 && session.Companies.Count > 1)
                {
                    session.Screen.Line($"{company.Code}: there is no converted store to match.");
                    continue;
                }
                throw new TransferraException($"{company.Code} has no converted store to match", $"Convert it first: transferra convert {company.Code}");
            }
            bool changedOver = session.Places.Exists(on.Aside);
            StoreAddress old = changedOver ? on.Aside : company.OldStore;
            StoreAddress last = changedOver ? company.NewStore : on.FinalStaged;
            session.Screen.Heading($"{company.Code}  match: are the records the same?");
            session.Screen.Line($"old: {old.Shown}");
            session.Screen.Line($"new: {last.Shown}");
            context = context with { Observer = observer.At(company.Code + " match") };
            IReadOnlyList<MatchResult> hops = WayMatch.Run(context, company, on.Way, [old, .. on.Way.SkipLast(1).Select(hop => on.Staged(hop.To.Name)), last]);
            Results.Match(session.Screen, company.Code, hops);
            results.Add(new CompanyMatched(company.Code, on.Run.Id, hops));
        }
        if (results.Count == 0) throw new TransferraException("no company has a converted store to match", "Convert first: transferra convert");
        return session.Answer(results.All(result => result.Hops.All(hop => hop.IsProved)) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }
}
