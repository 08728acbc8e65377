// SurveyCommand.cs: survey: what have we got?
using Transferra.Cli.Rendering;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Stores;

namespace Transferra.Cli.Commands;

internal static class SurveyCommand
{
    // What an administrator asks a server or a file about, in the words they know.
    private static readonly (string Fact, string Words)[] Told = [("character_set", "character set"), ("code_page", "code page"), ("collation", "collation"), ("on_disk_structure", "on-disk structure"), ("dialect", "dialect"), ("forced_writes", "forced writes"), ("owner", "owner"),
        ("other_schemas", "tables also in the schemas"), ("tables_without_transactions", "tables without transactions")];

    private static string FactsOf(CompanySurvey company) =>
        string.Join(", ", Told.Where(told => company.Facts.ContainsKey(told.Fact)).Select(told => $"{told.Words} {company.Facts[told.Fact]}"));

    private static string ObjectsOf(CompanySurvey company) => string.Join(", ", company.Objects.Where(one => one.Kind is not ("sequence" or "numbering")).GroupBy(one => one.Kind).Select(kind =>
        kind.Count() <= 3 ? $"{kind.Key} {string.Join(", ", kind.Select(one => one.Name))}" : Results.Count(kind.Count(), kind.Key)));

    public static int Run(Session session)
    {
        Screen screen = session.Screen;
        IReadOnlyList<PackageSurvey> packages = Survey.Of(session.Office, new StoreOpener());
        screen.Line($"{session.Office.Name}, in {session.Office.Folder}");
        foreach (PackageSurvey package in packages)
        {
            screen.Heading($"{package.Title}: program version {package.ProgramVersion ?? "not found"}");
            screen.Table(["Code", "Company", "Data", "Wanted", ">Records", ">Store", "Engine", ">Documents", "Open in"], package.Companies.Select(company => (IReadOnlyList<string>)
                [company.Code, company.Name, company.DataVersion ?? "unknown", company.WantedVersion, Results.Number(company.Records), Sizes.Of(company.StoreBytes), company.Engine,
                    company.Documents == 0 ? "none" : $"{company.Documents}, {Sizes.Of(company.DocumentBytes)}", company.OpenedBy.Count == 0 ? "nobody" : string.Join(", ", company.OpenedBy)]));
            foreach (CompanySurvey company in package.Companies)
            {
                screen.Line($"  {company.Code}: {company.StorePath}");
                if (company.DeletedRecords > 0) screen.Line($"       {Results.Count(company.DeletedRecords, "record")} marked as deleted in the files, kept apart and not carried");
                if (company.GuessedForm.Length > 0) screen.Look($"       its text seems to be written so: {company.GuessedForm}; say it in office.yaml before anything is converted");
                if (FactsOf(company) is { Length: > 0 } facts) screen.Line($"       {facts}");
                if (company.Facts.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting)) screen.Look($"       changes lie beside the store and not yet in it: {waiting}");
                if (ObjectsOf(company) is { Length: > 0 } objects) screen.Line($"       beside its tables: {objects}; version {company.WantedVersion} brings its own, these are not carried");
                if (company.Problem.Length == 0)
                {
                    foreach (VersionSign sign in company.Signs) screen.Line($"       version {sign.Version} by {sign.Where}: {sign.Says}");
                    continue;
                }
                screen.Bad($"       {company.Problem}");
                screen.Line($"       {company.Next}");
            }
            foreach (string remark in package.Remarks) screen.Look(remark);
        }
        if (session.Runs.Unfinished() is { } run)
            screen.Look($"The run {run.Id} is unfinished. Go on with it: transferra upgrade --resume. Or take it back: transferra undo");
        bool clean = packages.All(package => package.Remarks.Count == 0 && package.Companies.All(company => company.Problem.Length == 0));
        return session.Answer(clean ? ExitCodes.Done : ExitCodes.LookAt, packages);
    }
}
