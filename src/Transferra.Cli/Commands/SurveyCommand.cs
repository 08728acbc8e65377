// SurveyCommand.cs: survey: what have we got?
using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Transferra.Cli.Rendering;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

/// <summary>What a survey is asked to do beside looking.</summary>
/// <param name="Html">File for a page; null for none.</param>
/// <param name="Save">File for the survey itself; null for none.</param>
/// <param name="Compare">An earlier survey's file to compare with; null for none.</param>
/// <param name="Write">Whether companies that were found are added to office.yaml.</param>
internal sealed record SurveyOptions(string? Html = null, string? Save = null, string? Compare = null, bool Write = false);

internal static class SurveyCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var save = new Option<string?>("--save") { Description = "Also save the survey, to be compared with later", HelpName = "FILE" };
        var compare = new Option<string?>("--compare") { Description = "Show what is different from a saved survey", HelpName = "FILE" };
        var write = new Option<bool>("--write") { Description = "Add the companies that were found to office.yaml" };
        var newOffice = new Option<string?>("--new")
        {
            Description = "Draft an office.yaml from a folder, "
            + "or from a server named by its engine",
            HelpName = "WHERE"
        };
        var kits = new Option<string?>("--kits")
        {
            Description = "With --new: folder of the kits; \"kits\" in the office's folder when "
            + "left out",
            HelpName = "DIR"
        };
        commands.Add("survey", "What have we got: versions, companies, stores, sizes, services, settings",
            [commands.Store, commands.Encoding, commands.Html, save, compare, write, newOffice, kits, commands.Host, commands.Port,
                commands.User, commands.PasswordFile,
                commands.Databases], (session, parsed) =>
            parsed.GetValue(newOffice) is { } where
            ? Draft(session, where, Path.GetFullPath(parsed.GetValue(kits) ?? Path.Combine(session.OfficeFolder, "kits")),
                StoreAddress.ServerEngines.Contains(where) ? NamedServer.From(where, parsed.GetValue(commands.Host),
                    parsed.GetValue(commands.Port),
                    parsed.GetValue(commands.User),
                    parsed.GetValue(commands.PasswordFile), parsed.GetValue(commands.Databases)) : null)
            : Run(session, commands, parsed, new SurveyOptions(parsed.GetValue(commands.Html), parsed.GetValue(save),
                parsed.GetValue(compare),
                parsed.GetValue(write))));
    }

    // What an administrator asks a server or a file about, in the words they know.
    private static readonly (string Fact, string Words)[] Told =
        [("character_set", "character set"), ("code_page", "code page"), ("collation", "collation"),
            ("on_disk_structure", "on-disk structure"),
        ("dialect", "dialect"), ("forced_writes", "forced writes"), ("owner", "owner"), ("connection", "connection"),
        ("other_schemas", "tables also in the schemas"), ("tables_without_transactions", "tables without transactions")];

    private static string FactsOf(CompanySurvey company) =>
        string.Join(", ", Told.Where(told => company.Facts.ContainsKey(told.Fact))
            .Select(told => $"{told.Words} {company.Facts[told.Fact]}"));

    private static string ObjectsOf(CompanySurvey company) =>
        string.Join(", ", company.Objects.Where(one => one.Kind is not ("sequence" or "numbering")).GroupBy(one => one.Kind).Select(kind =>
        kind.Count() <= 3 ? $"{kind.Key} {string.Join(", ", kind.Select(one => one.Name))}" : Results.Count(kind.Count(), kind.Key)));

    // How many of each kind; each of them stands in --json.
    private static string DeclaredBy(CompanySurvey company) => string.Join(", ", company.Declarations
        .Where(thing => thing.Kind is not ("table" or "column" or "file setting" or "view" or "trigger"))
        .GroupBy(thing => thing.Kind).OrderBy(kind => kind.Key, StringComparer.Ordinal)
        .Select(kind => $"{kind.Key} {Results.Number(kind.Count())}"));

    private static int Run(Session session, CommandSet commands, ParseResult parsed, SurveyOptions options)
    {
        using BareStore? store = BareStore.Of(session, commands, parsed);
        if (store is not null && options.Write) throw new TransferraException("--write adds to office.yaml, and --store does without",
            "Draft an office.yaml: transferra survey --new WHERE");
        return Run(store?.Session ?? session, options, store);
    }

    public static int Run(Session session, SurveyOptions options, BareStore? bare = null)
    {
        Screen screen = session.Screen;
        OfficeSurvey? earlier = options.Compare is null ? null : ReadSaved(options.Compare);
        OfficeSurvey survey = Survey.Of(session.Office, session.Tools, looksForMore: bare is null);
        if (bare is not null) ShowBare(screen, survey.Packages[0].Companies[0] with { StorePath = bare.Shown }, bare.Office);
        else
        {
            screen.Line($"{session.Office.Name}, in {session.Office.Folder}");
            foreach (PackageSurvey package in survey.Packages) Show(screen, package, session.Office.Folder);
        }
        ShowServices(screen, survey);
        ShowUnlisted(session, survey, options.Write);
        IReadOnlyList<SurveyDifference> differences = earlier is null ? [] : SurveyComparison.Of(earlier, survey);
        if (earlier is not null) ShowDifferences(screen, earlier, differences);
        if (options.Html is { } page) WriteFile(screen, page, HtmlSurvey.Render(survey));
        if (options.Save is { } file) WriteFile(screen, file, JsonSerializer.Serialize(survey, CliJson.Form.OfficeSurvey));
        if (bare is null && session.Runs.Unfinished() is { } run)
            screen.Look($"The run {run.Id} is unfinished. Go on with it: transferra upgrade --resume. Or take it back: transferra undo");
        bool clean = survey.Packages.All(package => package.Remarks.Count == 0
            && package.Companies.All(company => company.Problem.Length == 0 && company.Doubts.Count == 0))
            && (survey.Unlisted.Count == 0 || options.Write) && differences.Count == 0;
        int exitCode = clean ? ExitCodes.Done : ExitCodes.LookAt;
        return earlier is null ? session.Answer(exitCode, survey)
            : session.Answer(exitCode, new JsonFacts { { "survey", survey }, { "differences", differences } });
    }

    private static OfficeSurvey ReadSaved(string path)
    {
        const string next = "Name a file that survey --save wrote, or survey-before.json in a run's folder.";
        try
        {
            return JsonSerializer.Deserialize(PlainFile.ReadText(path), CliJson.Form.OfficeSurvey) is
            {
                Packages: not null,
                Services: not null
            } survey
                ? survey : throw new JsonException();
        }
        catch (Exception error) when (error is JsonException or NotSupportedException)
        {
            throw new TransferraException($"{path} is not a saved survey", next, error);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"{path} cannot be read: {error.Message}", next, error);
        }
    }

    internal static void WriteFile(Screen screen, string path, string content)
    {
        path = Path.GetFullPath(path);
        string staged = path + ".part";
        File.WriteAllText(staged, content);
        File.Move(staged, path, overwrite: true);
        screen.Line($"Written: {path}");
    }

    private static string NotTold(ComponentSurvey component) =>
        "version not told: " + string.Join("; ", component.Signs.Select(sign => $"{sign.Where}: {sign.Says}"));

    // A path in the office's folder is told from there, as lines have 100 columns.
    private static string Near(string folder, string path) => path.StartsWith(folder + "/", StringComparison.Ordinal)
        ? path[(folder.Length + 1)..] : path;

    private static void Show(Screen screen, PackageSurvey package, string folder)
    {
        screen.Heading($"{package.Title}: program version {package.ProgramVersion ?? "not told"}");
        if (package.ProgramVersion is null || package.ProgramSigns.Count > 1)
            foreach (VersionSign sign in package.ProgramSigns) screen.Line($"  by {sign.Where}: {sign.Says}");
        foreach (ComponentSurvey component in package.Components)
            screen.Line($"  {component.Name}: "
                + (component.Version ?? NotTold(component)));
        foreach (ComponentSurvey workstation in package.Workstations)
            screen.Line($"  workstation {workstation.Name}: "
                + (workstation.Version ?? NotTold(workstation)));
        foreach (SettingFound setting in package.Settings) screen.Line($"  setting {setting.Name}: {setting.Value ?? "(not set)"}");
        foreach (CustomFile file in package.CustomFiles) screen.Look($"  not as the vendor ships it ({file.State}): "
            + $"{Near(folder, file.Path)}");
        screen.Table(["Code", "Company", "Data", "Wanted", ">Records", ">Store", "Engine", ">Documents", "Open in"],
            package.Companies.Select(company => (IReadOnlyList<string>)
            [company.Code, company.Name, company.DataVersion ?? "unknown", company.WantedVersion, Results.Number(company.Records),
                Sizes.Of(company.StoreBytes), company.Engine,
                company.Documents == 0 ? "none" : $"{company.Documents}, {Sizes.Of(company.DocumentBytes)}", company.OpenedBy.Count == 0
                    ? "nobody" : string.Join(", ", company.OpenedBy)]));
        foreach (CompanySurvey company in package.Companies) Show(screen, company, folder);
        foreach (string remark in package.Remarks) screen.Look(remark);
    }

    // What a store has, where nobody said what it should have.
    private static void ShowBare(Screen screen, CompanySurvey company, BareOffice bare)
    {
        screen.Heading($"{company.Name}: {company.Engine}, {Sizes.Of(company.StoreBytes)}, {Results.Count(company.Records, "record")}");
        screen.Line(bare.VersionTold.Length == 0 ? "       nothing was found in it that tells the version of its data"
            : $"       data version {company.DataVersion} by {bare.VersionTold}");
        Show(screen, company, "");
        screen.Table(["Table", ">Records", ">Columns", "Key", "Points to"], bare.Version.Tables.Select(table => (IReadOnlyList<string>)
        [
            table.Name, Results.Number(company.Tables.GetValueOrDefault(table.Name)), Results.Number(table.Columns.Count),
            table.Key.Count > 0 ? string.Join(", ", table.Key) : "none",
            string.Join(", ", table.Relations.Select(relation => relation.To).Distinct())
        ]));
    }

    private static void Show(Screen screen, CompanySurvey company, string folder)
    {
        screen.Line($"  {company.Code}: {company.StorePath}");
        if (company.ReallyAt.Length > 0) screen.Look($"       really at {company.ReallyAt}");
        if (company.LastChange is { } changed)
            screen.Line(string.Create(CultureInfo.InvariantCulture,
                $"       last changed {changed:yyyy-MM-dd HH:mm} UTC, {Results.Count(company.Tables.Count, "table")}"));
        foreach (string documents in company.DocumentFolders) screen.Line($"       documents in {Near(folder, documents)}");
        if (company.DeletedRecords > 0) screen.Line($"       {Results.Count(company.DeletedRecords, "record")} marked as deleted in the "
            + "files, kept apart and not carried");
        if (company.GuessedForm.Length > 0) screen.Look($"       its text seems to be written so: {company.GuessedForm}; say it in "
            + "office.yaml before anything is converted");
        if (FactsOf(company) is { Length: > 0 } facts) screen.Line($"       {facts}");
        foreach (StoreDoubt doubt in company.Doubts) screen.Bad($"       does not add up: {doubt.What}");
        if (company.Doubts.Count > 0) screen.Line($"       {StoreDoubts.Next(company.Code)}");
        if (company.Facts.TryGetValue(StoreIdentity.WaitingChanges,
            out string? waiting)) screen.Look($"       changes lie beside the store and not yet in it: {waiting}");
        if (ObjectsOf(company) is { Length: > 0 } objects)
            screen.Line($"       beside its tables: {objects}" + company.GoesAlong switch
            {
                true => "; all that goes along",
                false => $"; version {company.WantedVersion} brings its own, these are not carried",
                null => "",
            });
        if (DeclaredBy(company) is { Length: > 0 } declared) screen.Line($"       declares: {declared}");
        foreach (SettingFound setting in company.Settings) screen.Line($"       setting {setting.Name}: {setting.Value ?? "(not set)"}");
        foreach (CustomFile file in company.CustomFiles) screen.Look($"       not as the vendor ships it ({file.State}): "
            + $"{Near(folder, file.Path)}");
        if (company.Problem.Length == 0)
        {
            foreach (VersionSign sign in company.Signs) screen.Line($"       version {sign.Version} by {sign.Where}: {sign.Says}");
            return;
        }
        screen.Bad($"       {company.Problem}");
        screen.Line($"       {company.Next}");
    }

    private static void ShowServices(Screen screen, OfficeSurvey survey)
    {
        if (survey.Services.Count == 0) return;
        screen.Heading("Services and jobs");
        screen.Table(["Name", "Kind", "State", "Listens on", "When closed"], survey.Services.Select(service => (IReadOnlyList<string>)
            [service.Name, service.Kind, service.State, service.Ports.Count == 0 ? "-" : string.Join(", ", service.Ports), service.StaysUp
                ? "stays up" : "is stopped"]));
    }

    private static void ShowUnlisted(Session session, OfficeSurvey survey, bool write)
    {
        if (survey.Unlisted.Count == 0)
        {
            if (write) session.Screen.Line("There is nothing to add: every store that was found is in office.yaml.");
            return;
        }
        session.Screen.Heading("Found, but not in office.yaml");
        session.Screen.Table(["Package", "Data version", "Where", "Code"],
            survey.Unlisted.Select(store => (IReadOnlyList<string>)[store.Title, store.DataVersion, store.Address.Shown, store.Code]));
        if (!write)
        {
            session.Screen.Look("Nobody backs them up or upgrades them. To add them: transferra survey --write");
            return;
        }
        string path = Path.Combine(session.OfficeFolder, OfficeLoader.FileName), before = File.ReadAllText(path);
        string after = OfficeDraft.WithCompanies(before, session.OfficeFolder, session.Office, survey.Unlisted), staged = path + ".part";
        File.WriteAllText(staged, after);
        File.Move(staged, path, overwrite: true);
        try
        {
            OfficeLoader.Load(session.OfficeFolder);
        }
        catch (DescriptionException)
        {
            File.WriteAllText(staged, before);
            File.Move(staged, path, overwrite: true);
            throw;
        }
        session.Screen.Good($"Added to {path}: {string.Join(", ", survey.Unlisted.Select(store => store.Code))}. Give them their names "
            + "there, and their documents.");
    }

    private static void ShowDifferences(Screen screen, OfficeSurvey earlier, IReadOnlyList<SurveyDifference> differences)
    {
        screen.Heading(FormattableString.Invariant($"Compared with {earlier.At:yyyy-MM-dd HH:mm} UTC"));
        if (differences.Count == 0) screen.Good("Nothing is different: versions, settings, components, services and files are the same.");
        else
            screen.Table(["What", "Then", "Now"], differences.Select(difference =>
                (IReadOnlyList<string>)[difference.What, difference.Before.Length > 0 ? difference.Before : "-", difference.Now.Length > 0
                ? difference.Now : "-"]));
    }

    /// <summary>Drafts an office.yaml from a folder or a server.</summary>
    /// <param name="session">The call; its folder is where office.yaml is to lie.</param>
    /// <param name="where">A folder; for a server, the engine's name.</param>
    /// <param name="kitsFolder">The folder that holds the kits' folders.</param>
    /// <param name="server">The server; null for a folder.</param>
    public static int Draft(Session session, string where, string kitsFolder, NamedServer? server)
    {
        string path = Path.Combine(session.OfficeFolder, OfficeLoader.FileName);
        if (File.Exists(path))
            throw new TransferraException($"there is an {OfficeLoader.FileName} in {session.OfficeFolder} already",
                "To add what it does not name: transferra survey --write");
        if (!Directory.Exists(kitsFolder))
            throw new TransferraException($"there is no folder {kitsFolder} with kits",
                "Put the kits of your packages there, each in a folder of its own, or name another folder with --kits DIR.");
        var errors = new DescriptionErrors();
        Kit[] kits = [.. Directory.EnumerateDirectories(kitsFolder).Where(folder => File.Exists(Path.Combine(folder, "kit.yaml")))
            .Order(StringComparer.Ordinal)
            .Select(folder => KitLoader.Load(folder, folder, KnownKinds.All, errors)).OfType<Kit>()];
        errors.ThrowIfAny();
        if (server is null && !Directory.Exists(where))
            throw new TransferraException($"there is no folder {where}",
                $"Name the folder where the companies' data lies, or a server engine ({string.Join(", ", StoreAddress.ServerEngines)}) "
                    + "with --host, --user and --password-file.");
        IReadOnlyList<StoreAddress> candidates = server is null ? StoreFinder.InFolders([Path.GetFullPath(where)], [])
            : StoreFinder.OnServer(new StoreAddress(server.Engine, server.Folder is null ? "" : Path.Combine(server.Folder, "any.fdb"),
                Server: server.Server), session.Stores);
        IReadOnlyList<UnlistedStore> found = StoreFinder.Recognised(candidates, kits, session.Stores, []);
        if (found.Count == 0)
            throw new TransferraException($"none of {Results.Count(candidates.Count, "store")} in {where} is one of "
                + $"{string.Join(", ", kits.Select(kit => kit.Title))}", "See that the folder or server is the right one, and that there "
                + "is a kit for the package.");
        session.Screen.Table(["Package", "Data version", "Where", "Code"],
            found.Select(store => (IReadOnlyList<string>)[store.Title, store.DataVersion, store.Address.Shown, store.Code]));
        string text = OfficeDraft.New(Path.GetFileName(session.OfficeFolder.TrimEnd('/')), session.OfficeFolder, kits, found);
        session.Volume.WriteNew(path, System.Text.Encoding.UTF8.GetBytes(text));
        session.Volume.FlushFolder(session.OfficeFolder);
        session.Screen.Good($"Drafted: {path}. Read it and correct what could only be guessed; then: transferra survey");
        return session.Answer(ExitCodes.Done, new JsonFacts { { "office", path }, { "found", found } });
    }
}
