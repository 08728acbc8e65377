// CheckCommand.cs: check: is the data sound? And what a kind of finding means.
using Transferra.Cli.Rendering;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class CheckCommand
{
    private sealed record CompanyChecked(string Company, CheckResult Check)
    {
        public string Kept { get; init; } = "";
    }

    public static int Run(Session session, string? sheet)
    {
        var results = new List<CompanyChecked>();
        var observer = new ScreenObserver(session.Screen);
        if (sheet is not null && File.Exists(sheet)) throw new TransferraException($"{sheet} is there already", "Name a file that is not there yet.");
        if (sheet is not null && !Directory.Exists(Path.GetDirectoryName(sheet)))
            throw new TransferraException($"there is no folder {Path.GetDirectoryName(sheet)}", "Make it, or name another file.");
        foreach (Company company in session.Companies)
        {
            KitVersion version = Companies.VersionOf(company);
            session.Screen.Heading($"{company.Code}  check: is the data sound?");
            KeptCheck kept = Check(session, company, version, observer.At(company.Code + " check"));
            Results.Check(session.Screen, kept.Result);
            Results.Lists(session.Screen, kept.Result, kept.Folder);
            results.Add(new CompanyChecked(company.Code, kept.Result) { Kept = kept.Folder });
        }
        if (sheet is not null) WriteSheet(session, results, sheet);
        return session.Answer(results.All(result => result.Check.Findings.Count == 0) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }

    /// <summary>Checks a company, keeps what was found, and compares it with the check before of the same version.</summary>
    public static KeptCheck Check(Session session, Company company, KitVersion version, ScreenObserver observer)
    {
        using IStore store = session.Stores.Open(company.StoreNow(session.Places), version.TextEncoding);
        KeptCheck? before = session.Checks.Newest(company.Code);
        return session.Checks.Keep(company.Code, folder =>
        {
            CheckResult result = new CompanyCheck(version, Companies.NextHop(company, version), SettingsFor(company, version), observer,
                session.Cancel)
            { DocumentFolders = company.DocumentFolders, ListFolder = folder }.Run(store);
            return before is null || before.Result.Version != version.Name ? result
                : result with { Compared = FindingComparison.Of($"the check of {before.At:yyyy-MM-dd HH:mm} UTC", before.Result with { Compared = null }, result, []) };
        });
    }

    /// <summary>Tells what a kind of finding means; all kinds when none is named.</summary>
    public static int Explain(Session session, string kind)
    {
        if (kind.Length == 0)
        {
            session.Screen.Table(["Kind", "Means"], FindingKinds.All.Select(help => (IReadOnlyList<string>)[help.Kind, help.Meaning]));
            return session.Answer(ExitCodes.Done, FindingKinds.All);
        }
        FindingHelp help = FindingKinds.Help(kind) ?? throw new TransferraException($"there is no kind of finding {ValueText.Quote(kind)}",
            $"The kinds are {string.Join(", ", FindingKinds.All.Select(known => known.Kind))}.");
        session.Screen.Heading(help.Kind);
        session.Screen.Paragraph("Means", help.Meaning);
        session.Screen.Paragraph("Usually from", help.Cause);
        session.Screen.Paragraph("What to do", help.Remedy);
        return session.Answer(ExitCodes.Done, help);
    }

    private static void WriteSheet(Session session, IReadOnlyList<CompanyChecked> results, string path)
    {
        using (FileStream file = new(path, FileMode.CreateNew, FileAccess.ReadWrite))
            FindingSheet.Write([.. results.Select(result => new SheetCompany(result.Company, result.Check, result.Kept))], file);
        session.Volume.FlushFile(path);
        session.Screen.Line($"Written: {path}");
    }

    // A check needs no answers yet; a setting that is still open is tried with an empty text.
    private static Dictionary<string, string> SettingsFor(Company company, KitVersion version) =>
        (Companies.NextHop(company, version)?.Settings ?? []).ToDictionary(setting => setting.Name, setting => company.Answers.GetValueOrDefault(setting.Name, ""));
}
