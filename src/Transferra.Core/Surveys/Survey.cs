// Survey.cs: what have we got? Reads, and says what it found where; changes nothing and never throws for one broken company.
using System.Collections.ObjectModel;
using Transferra.Core.Closing;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Surveys;

/// <summary>What a survey found of a company.</summary>
/// <param name="Code">The company.</param>
/// <param name="Name">Its name.</param>
/// <param name="Package">Its package.</param>
/// <param name="StorePath">Where the store is.</param>
/// <param name="Engine">Engine and its version; "" when the store cannot be opened.</param>
/// <param name="DataVersion">The version all signs agree on; null when they do not, or there are none.</param>
/// <param name="WantedVersion">The version to come to.</param>
/// <param name="Signs">Every place that was looked at and said something.</param>
/// <param name="StoreBytes">Size of the store.</param>
/// <param name="Records">Records in all tables.</param>
/// <param name="Tables">Records by table.</param>
/// <param name="DeletedRecords">Records that the store still has but marks as deleted; they are kept apart and not carried.</param>
/// <param name="GuessedForm">How the store's text seems to be written, where office.yaml does not say it; "" otherwise.</param>
/// <param name="LastChange">Time of last change of the store, UTC.</param>
/// <param name="Documents">Files in the document folders.</param>
/// <param name="DocumentBytes">Their size.</param>
/// <param name="OpenedBy">Programs that hold the store open.</param>
/// <param name="Problem">Why the store could not be read; "" when it could.</param>
/// <param name="Next">What to do about the problem; "" when there is none.</param>
public sealed record CompanySurvey(string Code, string Name, string Package, string StorePath, string Engine, string? DataVersion,
    string WantedVersion,
    IReadOnlyList<VersionSign> Signs, long StoreBytes, long Records, IReadOnlyDictionary<string, long> Tables, long DeletedRecords,
        string GuessedForm,
        DateTimeOffset? LastChange, int Documents, long DocumentBytes,
    IReadOnlyList<string> OpenedBy, string Problem, string Next)
{
    /// <summary>What the engine tells of the store beside: versions of its file structure, character set, settings; by name.</summary>
    public IReadOnlyDictionary<string, string> Facts { get => field ?? ReadOnlyDictionary<string, string>.Empty; init; }

    /// <summary>Where the store really is, when links lead elsewhere; "" when it is at its path.</summary>
    public string ReallyAt { get => field ?? ""; init; }

    /// <summary>Its document folders.</summary>
    public IReadOnlyList<string> DocumentFolders { get => field ?? []; init; }

    /// <summary>Settings that stand in its records.</summary>
    public IReadOnlyList<SettingFound> Settings { get => field ?? []; init; }

    /// <summary>Its documents that are not as the vendor ships them.</summary>
    public IReadOnlyList<CustomFile> CustomFiles { get => field ?? []; init; }

    /// <summary>Where the store contradicts itself; it does not add up and is not converted.</summary>
    public IReadOnlyList<StoreDoubt> Doubts { get => field ?? []; init; }

    /// <summary>What the store has beside tables.</summary>
    public IReadOnlyList<StoreObject> Objects { get => field ?? []; init; }

    /// <summary>What it declares, in the engine's own words.</summary>
    public IReadOnlyList<StoreDeclaration> Declarations { get => field ?? []; init; }

    /// <summary>Whether a new store begins as a copy of it, so that what it declares goes along; null when it goes nowhere.</summary>
    public bool? GoesAlong { get; init; }
}

/// <summary>What a survey found of a package.</summary>
/// <param name="Kit">The kit's id.</param>
/// <param name="Title">The package's name.</param>
/// <param name="ProgramVersion">Version of the installed program, when all places that tell it agree; null when they do not, or none
/// tells.</param>
/// <param name="ProgramSigns">The places it was looked for.</param>
/// <param name="Companies">Its companies.</param>
/// <param name="Remarks">What does not go together, and what that means.</param>
public sealed record PackageSurvey(string Kit, string Title, string? ProgramVersion, IReadOnlyList<VersionSign> ProgramSigns,
    IReadOnlyList<CompanySurvey> Companies, IReadOnlyList<string> Remarks)
{
    /// <summary>What belongs to the package beside the program.</summary>
    public IReadOnlyList<ComponentSurvey> Components { get => field ?? []; init; }

    /// <summary>Workstations with the program's version there.</summary>
    public IReadOnlyList<ComponentSurvey> Workstations { get => field ?? []; init; }

    /// <summary>Settings of the program.</summary>
    public IReadOnlyList<SettingFound> Settings { get => field ?? []; init; }

    /// <summary>Files of the program that are not as the vendor ships them.</summary>
    public IReadOnlyList<CustomFile> CustomFiles { get => field ?? []; init; }
}

/// <summary>A component or workstation.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version, when all places agree; null otherwise.</param>
/// <param name="Signs">The places that were looked at.</param>
public sealed record ComponentSurvey(string Name, string? Version, IReadOnlyList<VersionSign> Signs);

/// <summary>A service or job.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Kind">service or job.</param>
/// <param name="State">on, off, or why it cannot be told.</param>
/// <param name="Ports">Ports of it that somebody listens on now.</param>
/// <param name="StaysUp">Whether closing leaves it running.</param>
public sealed record ServiceSurvey(string Name, string Kind, string State, IReadOnlyList<int> Ports, bool StaysUp);

/// <summary>What a survey found of an office.</summary>
/// <param name="Office">Its name.</param>
/// <param name="At">When it was looked at, UTC.</param>
/// <param name="Packages">Its packages.</param>
/// <param name="Services">Its services and jobs.</param>
/// <param name="Unlisted">Stores of its packages that office.yaml does not name.</param>
public sealed record OfficeSurvey(string Office, DateTimeOffset At, IReadOnlyList<PackageSurvey> Packages,
    IReadOnlyList<ServiceSurvey> Services,
    IReadOnlyList<UnlistedStore> Unlisted);

/// <summary>Surveys.</summary>
public static class Survey
{
    /// <summary>Surveys an office.</summary>
    /// <param name="office">Which.</param>
    /// <param name="tools">Stores and commands.</param>
    /// <param name="looksForMore">Whether stores are looked for that office.yaml does not name; that opens every database of the known
    /// servers.</param>
    public static OfficeSurvey Of(OfficeDescription office, ClosingTools tools, bool looksForMore) =>
        new(office.Name, DateTimeOffset.UtcNow, [.. office.Packages.Select(package => Of(package, tools.Of(package.Kit)))],
        ServicesOf(office.Closing, tools), looksForMore ? StoreFinder.Unlisted(office, tools.Stores) : []);

    private static PackageSurvey Of(Package package, ClosingTools tools)
    {
        IReadOnlyList<VersionSign> program = ProgramSigns(package, tools.Commands);
        string? programVersion = Agreed(program);
        CompanySurvey[] companies = [.. package.Companies.Select(company => Of(company, tools.Stores))];
        ComponentSurvey[] workstations =
            [.. package.Workstations.Select(workstation => Component(workstation.Key, workstation.Value, package.Kit.ProgramEvidence,
                tools.Commands))];
        return new PackageSurvey(package.Kit.Id, package.Kit.Title, programVersion, program, companies,
            [.. Remarks(package, program, programVersion, companies, workstations)])
        {
            Components = ComponentsOf(package, tools.Commands),
            Workstations = workstations,
            Settings = SettingsRecord.OfProgram(package, tools.Commands),
            CustomFiles = CustomFiles.OfProgram(package, package.Kit.Versions.FirstOrDefault(version => programVersion is not null
                && version.Programs.Count > 0 && ProgramVersions.Fits(programVersion, version))),
        };
    }

    /// <summary>The components of a package with their versions.</summary>
    public static IReadOnlyList<ComponentSurvey> ComponentsOf(Package package, ICommands commands) =>
        [.. package.Kit.Components.Select(component => Component(component.Name, package.ProgramFolder, component.Places, commands))];

    private static ComponentSurvey Component(string name, string? folder, IReadOnlyList<Evidence> places, ICommands commands)
    {
        VersionSign[] signs = [.. places.Select(place => Read(folder, place, commands))];
        return new ComponentSurvey(name, Agreed(signs), signs);
    }

    // What one place says and no other contradicts.
    internal static string? Agreed(IReadOnlyList<VersionSign> signs) => signs.Select(sign => sign.Version).OfType<string>().Distinct()
        .ToArray() is [var only] ? only : null;

    /// <summary>What each place says that tells the version of the installed program.</summary>
    public static IReadOnlyList<VersionSign> ProgramSigns(Package package, ICommands commands) =>
        [.. package.Kit.ProgramEvidence.Select(evidence => Read(package.ProgramFolder, evidence, commands))];

    private static VersionSign Read(string? folder, Evidence evidence, ICommands commands)
    {
        if (folder is null) return new VersionSign(evidence.Where, "office.yaml names no folder of the program", null);
        Told told = evidence.Read(folder, commands);
        return new VersionSign(evidence.File is null ? evidence.Where : Path.Combine(folder, evidence.Where), told.Text ?? told.Problem,
            told.Text);
    }

    private static List<ServiceSurvey> ServicesOf(ClosingPlan plan, ClosingTools tools)
    {
        IReadOnlySet<int> listening = Network.ListeningPorts();
        var services = new List<ServiceSurvey>();
        foreach (ServicePlan service in plan.Services)
            services.Add(new ServiceSurvey(service.Name, "service", State(() => SwitchStep.IsOn(service.Switch, tools)),
                [.. service.Ports.Where(listening.Contains)], service.StaysUp));
        foreach (JobPlan job in plan.Jobs)
            services.Add(new ServiceSurvey(job.Name, "job", State(() => job.CronFile is { } file ? File.Exists(file)
                : SwitchStep.IsOn(job.Switch!, tools)),
                [], false));
        return services;

        static string State(Func<bool> isOn)
        {
            try
            {
                return isOn() ? "on" : "off";
            }
            catch (TransferraException error)
            {
                return error.Message;
            }
        }
    }

    private static IEnumerable<string> Remarks(Package package, IReadOnlyList<VersionSign> program, string? programVersion,
        CompanySurvey[] companies,
        ComponentSurvey[] workstations)
    {
        VersionSign[] saying = [.. program.Where(sign => sign.Version is not null)];
        if (programVersion is null && saying.Length > 1)
            yield return "The places that tell the program's version disagree: "
                + $"{string.Join("; ", saying.Select(sign => $"{sign.Where} says {sign.Version}"))}. An installation may have stopped "
                + "half-way; find out which is right before anything is upgraded.";
        foreach (ComponentSurvey workstation in workstations)
        {
            if (programVersion is not null && workstation.Version is not null && workstation.Version != programVersion)
                yield return $"The workstation {workstation.Name} has program version {workstation.Version}, and the program here is "
                    + $"version {programVersion}: it may not be let in, or may write what the other cannot read. Update it.";
        }
        if (programVersion is null) yield break;
        foreach (CompanySurvey company in companies)
        {
            KitVersion? data = company.DataVersion is null ? null : package.Kit.Version(company.DataVersion);
            if (data is null || ProgramVersions.Fits(programVersion, data)) continue;
            yield return $"The program is version {programVersion}, but the data of {company.Code} is version {data.Name}: the program "
                + $"will not open it. Install program version {ProgramVersions.Wanted(data)}, or convert the data.";
        }
    }

    /// <summary>Surveys one company.</summary>
    public static CompanySurvey Of(Company company, IStoreOpener stores) => Of(company, stores, isWhole: true);

    /// <summary>Looks only at what tells a company's data version, which takes no time; of the rest nothing is told.</summary>
    public static CompanySurvey VersionOf(Company company, IStoreOpener stores) => Of(company, stores, isWhole: false);

    private static CompanySurvey Of(Company company, IStoreOpener stores, bool isWhole)
    {
        (int documents, long documentBytes) = isWhole ? DocumentsOf(company) : default;
        var survey = new CompanySurvey(company.Code, company.Name, company.Kit.Title, company.OldStore.Shown, "", null,
            company.WantedVersion, [], 0, 0,
            new Dictionary<string, long>(), 0, "", null, documents, documentBytes, [], "", "");
        try
        {
            StoreAddress address = company.StoreNow(new StorePlaces(stores, new DiskVolume()));
            survey = survey with { StorePath = address.Shown };
            using IStore store = stores.Open(address);
            IReadOnlyList<VersionSign> signs = SignsOf(company.Kit, store, address);
            // First what a store tells that is damaged elsewhere, so that it can be checked as what it is.
            survey = survey with
            {
                Engine = $"{store.Identity.Engine} {store.Identity.EngineVersion}",
                Signs = signs,
                DataVersion = company.Kit.IsNone ? company.WantedVersion : OneOf(signs),
                StoreBytes = store.Identity.Bytes,
            };
            if (!isWhole && survey.DataVersion is not null) return survey;
            Dictionary<string, long> tables = store.ReadShape().ToDictionary(table => table.Name, table => store.CountRows(table.Name));
            survey = survey with
            {
                Tables = tables,
                Records = tables.Values.Sum(),
                DeletedRecords = store.Identity.HeaderFields.TryGetValue("deleted_records", out string? deleted)
                    ? long.Parse(deleted, System.Globalization.CultureInfo.InvariantCulture) : 0,
                GuessedForm = store.Identity.HeaderFields.GetValueOrDefault(StoreIdentity.Guess) ?? "",
                LastChange = LastChangeOf(stores.FilesOf(address)),
                ReallyAt = ReallyAt(address),
                DocumentFolders = company.DocumentFolders,
                OpenedBy = StorePlaces.OpenedBy(stores, address),
                Facts = store.Identity.HeaderFields,
                Objects = store.ListObjects(),
                Declarations = store.Declarations(),
                Doubts = store.Doubts,
            };
            return Judged(survey, company, store);
        }
        catch (TransferraException error)
        {
            return survey with { Problem = error.Message, Next = error.Next };
        }
        // A server may end the connection at any moment, and a defect may be our own: that company is told, and the others go on.
        catch (Exception error) when (error is not (OutOfMemoryException or OperationCanceledException))
        {
            return survey with { Problem = Unforeseen.Words(error), Next = "Look at it again: transferra survey" };
        }
    }

    // With what only a known version tells, or with why none is known.
    private static CompanySurvey Judged(CompanySurvey survey, Company company, IStore store)
    {
        if (survey.DataVersion is not null && company.Kit.Version(survey.DataVersion) is { } version)
            return survey with
            {
                Settings = SettingsRecord.OfCompany(version, store),
                CustomFiles = CustomFiles.OfCompany(company, version),
                GoesAlong = version.Name == company.WantedVersion ? null
                    : company.WayBetween(version.Name, company.WantedVersion)?.IsOnCopy,
            };
        if (survey.Signs.Count == 0)
            return survey with
            {
                Problem = $"this store is not of a version of {company.Kit.Title} that the kit knows",
                Next = "Check the path in office.yaml; it may be the store of another program.",
            };
        string told = string.Join("; ", survey.Signs.Select(sign => $"{sign.Where} says {ValueText.Quote(sign.Says)}"));
        return survey with
        {
            Problem = $"the places that tell the data version disagree: {told}",
            Next = "An earlier upgrade may have stopped half-way. Ask the vendor before going on.",
        };
    }

    private static DateTimeOffset? LastChangeOf(IReadOnlyList<string> files) => files.Count == 0 ? null
        : new DateTimeOffset(files.Max(File.GetLastWriteTimeUtc));

    // Where links lead: a path in office.yaml can look like the default place and be on another disk.
    private static string ReallyAt(StoreAddress address)
    {
        if (address.IsOnServer || FileIdentity.RealPath(address.Path) is not { } real || real == address.Path) return "";
        return real;
    }

    private static (int Files, long Bytes) DocumentsOf(Company company)
    {
        int files = 0;
        long bytes = 0;
        foreach (string folder in company.DocumentFolders.Where(Directory.Exists))
        {
            using var below = new FolderFiles(folder);
            foreach (FoundFile file in below.All((_, _) => { })) // what cannot be read is told by the check and by the backup
            {
                files++;
                bytes += file.IsLink ? 0 : file.Stat.Bytes;
            }
        }
        return (files, bytes);
    }

    /// <summary>The one data version that a store tells by itself; null when it tells none, or several.</summary>
    internal static string? DataVersionOf(Kit kit, IStore store, StoreAddress place) => OneOf(SignsOf(kit, store, place));

    // All signs have to tell the same.
    private static string? OneOf(IReadOnlyList<VersionSign> signs) =>
        signs.Select(sign => sign.Version).Distinct().ToArray() is [{ } version] ? version : null;

    // Each sign is looked at once; a query that fails says nothing, as tables of one version are not there in another.
    // What lies around it tells only of the company's own place, and only where nothing in the store does.
    internal static List<VersionSign> SignsOf(Kit kit, IStore store, StoreAddress? place = null)
    {
        List<VersionSign> signs = SignsIn(kit, store);
        if (signs.Count > 0 || place is null) return signs;
        foreach (IGrouping<string, (KitVersion Version, DataEvidence Evidence)> sign in kit.Versions.SelectMany(version =>
            version.Evidence.Where(evidence => evidence.Outside is not null).Select(evidence => (version, evidence))).GroupBy(entry =>
                entry.evidence.Where))
            if (sign.First().Evidence.Outside!.SaidOf(place) is { } says)
                signs.Add(new VersionSign(sign.Key, says, sign.FirstOrDefault(entry => entry.Evidence.Value == says).Version?.Name));
        return signs;
    }

    private static List<VersionSign> SignsIn(Kit kit, IStore store)
    {
        var signs = new List<VersionSign>();
        foreach (IGrouping<string, (KitVersion Version, DataEvidence Evidence)> place in kit.Versions
            .SelectMany(version => version.Evidence.Where(evidence => evidence.Outside is null).Select(evidence => (version, evidence)))
            .GroupBy(entry => entry.evidence.Where))
        {
            DataEvidence first = place.First().Evidence;
            string? says = null;
            try
            {
                says = first switch
                {
                    { IsByTables: true } => first.SaidBy(store.ReadShape()),
                    { Header: { } header } => store.Identity.HeaderFields.GetValueOrDefault(header),
                    { Sql: { } sql } => store.Ask(sql).Rows is [var row, ..] ? row[0] : null,
                    _ => InRecord(store, first.Record!),
                };
            }
            catch (TransferraException) { continue; }
            string? version = place.FirstOrDefault(entry => entry.Evidence.Value == says).Version?.Name;
            // A header field is there in any store; by itself, with a value that means nothing, it tells nothing.
            if (says is null || (first.Header is not null && version is null && says == "0")) continue;
            signs.Add(new VersionSign(place.Key, says, version));
        }
        return signs;
    }

    /// <summary>What stands in a record; null when there is none such.</summary>
    internal static string? InRecord(IStore store, RecordSign sign)
    {
        if (sign.Over(sign.Table.Columns.Count > 0 ? [] : store.ReadShape()) is not { } there) return null;
        sign = there;
        var condition = new ExpressionCompiler(new ExpressionScope(sign.Table.Name, sign.Table.Columns, [], new Dictionary<string,
            string>())).CompileCondition(sign.Where);
        var batch = new RecordBatch(sign.Table.Columns);
        var context = new EvaluationContext(batch, []);
        Vector value = batch.Vectors[sign.Table.OrdinalOf(sign.Column)];
        foreach (RecordBatch _ in store.Batches(sign.Table, [], CancellationToken.None, batch))
        {
            context.ActivateAll();
            var holds = (LongVector)condition.Evaluate(context);
            for (int row = 0; row < batch.RowCount; row++)
                if (!holds.IsNull(row) && holds.Values[row] != 0) return value.IsNull(row) ? null : value.Show(row);
        }
        return null;
    }
}
