// CheckCommand.cs: check: is the data sound? And what a kind of finding means.
using System.CommandLine;
using Transferra.Cli.Rendering;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class CheckCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var explain = new Option<string?>("--explain")
        {
            Description = "Tell what a kind of finding means, where it comes from and what "
            + "to do; all kinds when none is named",
            HelpName = "KIND",
            Arity = ArgumentArity.ZeroOrOne
        };
        var sheet = new Option<string?>("--sheet")
        {
            Description = "Also write the findings, with their lists, as a workbook (.xlsx)",
            HelpName = "FILE"
        };
        var mend = new Option<bool>("--mend")
        {
            Description = "Put right what the kit allows: on a copy, after a proved backup set; the "
            + "copy then takes the original's place"
        };
        var salvage = new Option<string?>("--salvage")
        {
            Description = "Write what can be read of a damaged store to a new one: a file "
            + "or folder, on a server a database's name",
            HelpName = "PLACE"
        };
        commands.Add("check", "Is the data sound: a full scan of every company, nothing changed", [commands.Codes, commands.Store,
            commands.Encoding, explain, sheet, mend, salvage, commands.Yes],
            (session, parsed) =>
            parsed.GetResult(explain) is not null ? Explain(session, parsed.GetValue(explain) ?? "")
            : (parsed.GetValue(commands.Store) ?? parsed.GetValue(commands.Encoding)) is not null ? Bare(session, commands, parsed,
                parsed.GetValue(mend) || parsed.GetValue(salvage)
                is not null, parsed.GetValue(sheet))
            : parsed.GetValue(mend) ? MendCommand.Run(session)
            : parsed.GetValue(salvage) is { } place ? MendCommand.Salvage(session, place)
            : Run(session, parsed.GetValue(sheet) is { } file ? Path.GetFullPath(file) : null));
    }

    internal sealed record CompanyChecked(string Company, CheckResult Check)
    {
        public string Kept { get; init; } = "";
    }

    private static int Bare(Session session, CommandSet commands, ParseResult parsed, bool mends, string? sheet)
    {
        if (mends) throw new TransferraException("--mend and --salvage need an office, whose sets they can go back to",
            "Name a company; or take a set first: transferra backup --store PLACE --to DIR");
        using BareStore store = BareStore.Of(session, commands, parsed)!;
        session.Screen.Line($"{store.Shown}, without a kit: what the store itself declares is checked");
        return Run(store.Session, sheet is null ? null : Path.GetFullPath(sheet));
    }

    public static int Run(Session session, string? sheet)
    {
        var results = new List<CompanyChecked>();
        var observer = session.Observer();
        if (sheet is not null && File.Exists(sheet)) throw new TransferraException($"{sheet} is there already",
            "Name a file that is not there yet.");
        if (sheet is not null && !Directory.Exists(Path.GetDirectoryName(sheet)))
            throw new TransferraException($"there is no folder {Path.GetDirectoryName(sheet)}", "Make it, or name another file.");
        var failed = new Dictionary<string, string>();
        foreach (Company company in session.Companies)
        {
            Exception? error = session.Attempt(company.Code, "check", () =>
            {
                KitVersion version = Companies.VersionOf(company);
                session.Screen.Heading($"{company.Code}  check: is the data sound?");
                KeptCheck kept = Check(session, company, version, observer.At(company.Code + " check"));
                Results.Check(session.Screen, kept.Result);
                if (company.Kit.IsNone && version.TextEncoding is null && kept.Result.Findings.Any(found => found.Kind
                    == FindingKinds.NotText))
                    session.Screen.Look("Text that cannot be read may be of another code page; say which: --encoding NAME");
                if (kept.Folder.Length > 0) Results.Lists(session.Screen, kept.Result, kept.Folder);
                else if (kept.NotKept.Length > 0) session.Screen.Look($"The lists of records could not be kept: {kept.NotKept}");
                results.Add(new CompanyChecked(company.Code, kept.Result) { Kept = kept.Folder });
            });
            if (error is null) continue;
            if (session.Companies.Count == 1) System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(error);
            failed[company.Code] = session.TellFailed($"{company.Code} was NOT checked", error);
        }
        if (sheet is not null) WriteSheet(session, results, sheet);
        if (failed.Count > 0) return session.Answer(ExitCodes.Unproved, new JsonFacts { { "checks", results }, { "notChecked", failed } });
        return session.Answer(results.All(result => result.Check.Findings.Count == 0) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }

    /// <summary>Checks a company, keeps what was found, and compares it with the check before of the same version.</summary>
    public static KeptCheck Check(Session session, Company company, KitVersion version, ScreenObserver observer)
    {
        if (company.Kit.IsNone)
            return new KeptCheck("", DateTimeOffset.UtcNow, CompanyChecks.Run(session.Context(observer), company, company.OldStore,
                version, [], new Dictionary<string, string>(), null));
        KeptCheck? before = session.Checks.Newest(company.Code);
        Way way = company.WayBetween(version.Name, company.WantedVersion) ?? new Way(version, []);
        return session.Checks.Keep(company.Code, folder =>
        {
            CheckResult result = CompanyChecks.Run(session.Context(observer), company, company.StoreNow(session.Places), version,
                way.Foreseen,
                SettingsFor(company, way),
                folder.Length > 0 ? folder : null);
            return before is null || before.Result.Version != version.Name ? result
                : result with
                {
                    Compared = FindingComparison.Of($"the check of {before.At:yyyy-MM-dd HH:mm} UTC",
                    before.Result with { Compared = null }, result, [])
                };
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

    // A check needs no answers yet; a setting that is still open is tried with an empty text. What the kit asks of every office has a part
    // in its rules, which are not judged without it.
    private static Dictionary<string, string> SettingsFor(Company company, Way way) => way.Hops.SelectMany(hop => hop.Settings)
        .Concat(company.Kit.Asks).DistinctBy(setting => setting.Name).Where(setting => company.Answers.ContainsKey(setting.Name)
            || !company.Kit.Asks.Contains(setting)).ToDictionary(setting => setting.Name, setting =>
                company.Answers.GetValueOrDefault(setting.Name, ""));
}
