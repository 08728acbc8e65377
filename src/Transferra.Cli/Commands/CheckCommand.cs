// CheckCommand.cs: check: is the data sound?
using Transferra.Cli.Rendering;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Cli.Commands;

internal static class CheckCommand
{
    private sealed record CompanyChecked(string Company, CheckResult Check);

    public static int Run(Session session)
    {
        var results = new List<CompanyChecked>();
        var observer = new ScreenObserver(session.Screen);
        foreach (Company company in session.Companies)
        {
            KitVersion version = Companies.VersionOf(company);
            using IStore store = session.Stores.Open(company.StoreNow(session.Places), version.TextEncoding);
            session.Screen.Heading($"{company.Code}  check: is the data sound?");
            CheckResult result = new CompanyCheck(version, Companies.NextHop(company, version), SettingsFor(company, version), observer.At(company.Code + " check"), session.Cancel).Run(store);
            Results.Check(session.Screen, result);
            results.Add(new CompanyChecked(company.Code, result));
        }
        return session.Answer(results.All(result => result.Check.Findings.Count == 0) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }

    // A check needs no answers yet; a setting that is still open is tried with an empty text.
    private static Dictionary<string, string> SettingsFor(Company company, KitVersion version) =>
        (Companies.NextHop(company, version)?.Settings ?? []).ToDictionary(setting => setting.Name, setting => company.Answers.GetValueOrDefault(setting.Name, ""));
}
