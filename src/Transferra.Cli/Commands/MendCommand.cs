// MendCommand.cs: check --mend: puts right what the kit allows, on a copy that then takes the original's place; undo brings the original
// back.
// And check --salvage: what can be read of a damaged store, into a new one.
using Transferra.Cli.Rendering;
using Transferra.Core.Checks;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Cli.Commands;

internal static class MendCommand
{
    public static int Run(Session session)
    {
        if (session.Codes.Count == 0)
            throw new TransferraException("check --mend needs the codes of the companies to be mended",
                $"The companies are {string.Join(", ", session.Office.Companies.Select(company => company.Code))}.");
        using IDisposable one = session.LockStores();
        Companies.RefuseWhileUnfinished(session.Runs);
        var companies = new List<(Company Company, KitVersion From)>();
        foreach (Company company in session.Companies)
        {
            KitVersion version = WithStore(session, company, Companies.VersionOf(company));
            if (version.Mends.Count == 0)
                throw new TransferraException($"the kit {company.Kit.Id} allows no mends in version {version.Name}",
                    "Correct what the check found in the old program, or ask the vendor which mends are safe and list them under mends.");
            StoreAddress now = company.StoreNow(session.Places);
            if (session.Places.OpenedBy(now) is [var holder, ..])
                throw new TransferraException($"the store of {company.Code} is open: {holder}",
                    "Close it there, or have everybody out: transferra close");
            companies.Add((company with { OldStore = now, MovesTo = null }, version));
        }
        foreach ((Company company, KitVersion version) in companies)
        {
            session.Screen.Heading($"{company.Code}  what the kit allows to be put right in version {version.Name}");
            session.Screen.Table(["Mend", "Where", "Because"],
                version.Mends.Select(mend => (IReadOnlyList<string>)[mend.Name, Where(mend), mend.Because]));
        }
        if (!session.Confirm([.. companies.Select(entry => entry.Company.Code)], "Mend a copy, and put it in the place of"))
            return session.Answer(ExitCodes.Refused, new JsonFacts { { "confirmed", false } });
        RunContext context = session.Context(session.Observer());
        Run run = UpgradeRun.Begin(context, RunKind.Mend, companies, session.Closings.Current()?.Id ?? "");
        session.Screen.Line($"Run {run.Id}, journal {run.Journal.FilePath}");
        IReadOnlyList<CompanyOutcome> outcomes = UpgradeRun.Execute(context, run);
        RunReport report = session.ReportOf(run);
        string page = SignOffCommand.TryWritePage(session, run, report);
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", "Outcome", "What now"],
            outcomes.Select(outcome => (IReadOnlyList<string>)[outcome.Company, outcome.IsThrough ? "through" : "stopped",
            outcome.IsThrough ? $"Look through the list of changes; to go back to the store as it was: transferra undo --run {run.Id}"
                : outcome.IsSettled ? "Its store is in its place, untouched. " + outcome.Reasons[0] : UpgradeCommand.Unsettled(outcome)]));
        if (page.Length > 0) session.Screen.Line($"To be signed: {page}");
        return session.Answer(UpgradeCommand.ExitCode(outcomes), report);
    }

    // What may be mended in tables that are as the store has them is known when it is there.
    private static KitVersion WithStore(Session session, Company company, KitVersion version)
    {
        if (!version.IsOfStore) return version;
        using IStore store = session.Stores.Open(company.StoreNow(session.Places), version.TextEncoding);
        return CustomFields.Of(store, version).In(version);
    }

    private static string Where(Mend mend) => mend.Rule is not null ? $"{mend.Table!.Name}.{mend.Columns[0]}, by \"{mend.Rule.Name}\""
        : mend.Table is null
        ? "all tables" : mend.Columns.Count > 0 ? $"{mend.Table.Name}: {string.Join(", ", mend.Columns)}" : mend.Table.Name;

    internal sealed record Salvaged(string Company, string Store, string List, SalvageResult Result);

    /// <summary>Writes what can be read of a company's store to a new one of the same engine.</summary>
    /// <param name="session">The call.</param>
    /// <param name="place">A file or folder; on a server, the name of a database that is not there yet.</param>
    public static int Salvage(Session session, string place)
    {
        if (session.Codes.Count != 1)
            throw new TransferraException("check --salvage needs exactly one company code",
                $"The companies are {string.Join(", ", session.Office.Companies.Select(company => company.Code))}.");
        Company company = session.Companies[0];
        StoreAddress damaged = company.StoreNow(session.Places);
        // What tells the version may be damaged itself; then it is read as the version that an upgrade would begin with.
        CompanySurvey survey = Survey.VersionOf(company, session.Stores);
        KitVersion version = (survey.DataVersion is { } told ? company.Kit.Version(told) : null) ?? company.Kit.Versions[0];
        StoreAddress into = damaged with { Path = damaged.IsOnServer ? place : Path.GetFullPath(place) };
        if (session.Places.Exists(into)) throw new TransferraException($"{into.Shown} is there already",
            "Name a place that is not there yet.");
        string list = Path.GetFullPath((damaged.IsOnServer ? Path.GetFileName(place) : into.Path) + "-lost.csv");
        if (File.Exists(list)) throw new TransferraException($"{list} is there already", "Move it away first.");
        session.Screen.Heading($"{company.Code}  salvage: what can be read of {damaged.Shown}");
        SalvageResult result;
        long lines = 0;
        using (var values = new CsvFile(list, ["table", "record", "column", "value", "reason"]))
        {
            using IStore store = session.Stores.Open(damaged, version.TextEncoding);
            using IStoreBuilder builder = session.Stores.Create(into, damaged.Engine is "sqlite" ? null : version.TextEncoding);
            result = Core.Checks.Salvage.Run(store, builder, line => { values.Add(line); lines++; }, (table, column) =>
                version.IsPrivate(table, column) || version.Table(table) is { } known
                && !known.MayShow(column), session.Observer().At(company.Code + " salvage"), session.Cancel);
            foreach (LostPart part in result.Lost) values.Add([part.Table, part.Where, "", "", part.Why]);
        }
        if (lines + result.Lost.Count == 0) session.Volume.Remove(list);
        session.Screen.Table(["Table", ">Records written", "Lost"],
            result.Tables.Select(table => (IReadOnlyList<string>)[table.Key, Results.Number(table.Value),
            string.Join("\n", result.Lost.Where(part => part.Table == table.Key).Select(part => part.Where).DefaultIfEmpty("nothing"))]));
        session.Screen.Line($"Written: {into.Shown}, without keys and relations. It cannot be used as a company yet: "
            + "send it to the vendor, with: "
            + $"transferra bundle {company.Code}");
        if (lines + result.Lost.Count > 0) session.Screen.Bad($"What is lost is listed: {list}");
        return session.Answer(result.Lost.Count + result.ValuesLost + result.Refused == 0 ? ExitCodes.Done : ExitCodes.LookAt,
            new Salvaged(company.Code, into.Shown, lines + result.Lost.Count > 0 ? list : "", result));
    }
}
