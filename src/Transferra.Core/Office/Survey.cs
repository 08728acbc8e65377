// Survey.cs: what have we got? Reads, and says what it found where; changes nothing and never throws for one broken company.
using System.Text.RegularExpressions;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Core.Office;

/// <summary>A version as one place tells it.</summary>
/// <param name="Where">The place, in words.</param>
/// <param name="Says">What stands there; "" when nothing does.</param>
/// <param name="Version">The version that means; null when none.</param>
public sealed record VersionSign(string Where, string Says, string? Version);

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
public sealed record CompanySurvey(string Code, string Name, string Package, string StorePath, string Engine, string? DataVersion, string WantedVersion,
    IReadOnlyList<VersionSign> Signs, long StoreBytes, long Records, IReadOnlyDictionary<string, long> Tables, long DeletedRecords, string GuessedForm, DateTimeOffset? LastChange, int Documents, long DocumentBytes,
    IReadOnlyList<string> OpenedBy, string Problem, string Next)
{
    /// <summary>What the engine tells of the store beside: versions of its file structure, character set, settings; by name.</summary>
    public IReadOnlyDictionary<string, string> Facts { get; init; } = new Dictionary<string, string>();

    /// <summary>What the store has beside tables; a conversion makes the new version's own and does not carry these.</summary>
    public IReadOnlyList<StoreObject> Objects { get; init; } = [];
}

/// <summary>What a survey found of a package.</summary>
/// <param name="Kit">The kit's id.</param>
/// <param name="Title">The package's name.</param>
/// <param name="ProgramVersion">Version of the installed program; null when it is not found.</param>
/// <param name="ProgramSigns">The places it was looked for.</param>
/// <param name="Companies">Its companies.</param>
/// <param name="Remarks">Where program and data do not go together, and what that means.</param>
public sealed record PackageSurvey(string Kit, string Title, string? ProgramVersion, IReadOnlyList<VersionSign> ProgramSigns, IReadOnlyList<CompanySurvey> Companies, IReadOnlyList<string> Remarks);

/// <summary>Surveys.</summary>
public static class Survey
{
    /// <summary>Surveys every package.</summary>
    public static IReadOnlyList<PackageSurvey> Of(OfficeDescription office, IStoreOpener stores) => [.. office.Packages.Select(package =>
    {
        IReadOnlyList<VersionSign> program = ProgramSigns(package);
        string? programVersion = program.Select(sign => sign.Version).FirstOrDefault(version => version is not null);
        CompanySurvey[] companies = [.. package.Companies.Select(company => Of(company, stores))];
        return new PackageSurvey(package.Kit.Id, package.Kit.Title, programVersion, program, companies, [.. Remarks(package, programVersion, companies)]);
    })];

    private static IEnumerable<string> Remarks(Package package, string? programVersion, CompanySurvey[] companies)
    {
        if (programVersion is null) yield break;
        foreach (CompanySurvey company in companies)
        {
            KitVersion? data = company.DataVersion is null ? null : package.Kit.Version(company.DataVersion);
            if (data is null || ProgramVersions.Fits(programVersion, data)) continue;
            yield return $"The program is version {programVersion}, but the data of {company.Code} is version {data.Name}: the program will not open it. Install program version {ProgramVersions.Wanted(data)}, or convert the data.";
        }
    }

    /// <summary>What each place says that tells the version of the installed program.</summary>
    public static IReadOnlyList<VersionSign> ProgramSigns(Package package) => [.. package.Kit.ProgramEvidence.Select(evidence => ReadProgramVersion(package.ProgramFolder, evidence))];

    private static VersionSign ReadProgramVersion(string? folder, FileEvidence evidence)
    {
        if (folder is null) return new VersionSign(evidence.File, "", null);
        string path = Path.Combine(folder, evidence.File);
        try
        {
            Match match = evidence.Pattern.Match(File.ReadAllText(path));
            return match.Success ? new VersionSign(path, match.Value, match.Groups["version"].Value) : new VersionSign(path, "", null);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or RegexMatchTimeoutException)
        {
            return new VersionSign(path, "", null);
        }
    }

    /// <summary>Surveys one company.</summary>
    public static CompanySurvey Of(Company company, IStoreOpener stores)
    {
        (int documents, long documentBytes) = DocumentsOf(company);
        var survey = new CompanySurvey(company.Code, company.Name, company.Kit.Title, company.OldStore.Shown, "", null, company.WantedVersion, [], 0, 0,
            new Dictionary<string, long>(), 0, "", null, documents, documentBytes, [], "", "");
        try
        {
            StoreAddress address = company.StoreNow(new StorePlaces(stores, new DiskVolume()));
            survey = survey with { StorePath = address.Shown };
            using IStore store = stores.Open(address);
            IReadOnlyList<VersionSign> signs = SignsOf(company.Kit, store);
            string[] versions = [.. signs.Select(sign => sign.Version).OfType<string>().Distinct()];
            Dictionary<string, long> tables = store.ReadShape().ToDictionary(table => table.Name, table => store.CountRows(table.Name));
            survey = survey with
            {
                Engine = $"{store.Identity.Engine} {store.Identity.EngineVersion}",
                Signs = signs,
                DataVersion = versions.Length == 1 && signs.All(sign => sign.Version is not null) ? versions[0] : null,
                StoreBytes = store.Identity.Bytes,
                Tables = tables,
                Records = tables.Values.Sum(),
                DeletedRecords = store.Identity.HeaderFields.TryGetValue("deleted_records", out string? deleted) ? long.Parse(deleted, System.Globalization.CultureInfo.InvariantCulture) : 0,
                GuessedForm = store.Identity.HeaderFields.GetValueOrDefault(StoreIdentity.Guess) ?? "",
                LastChange = address.IsOnServer ? null : new DateTimeOffset(File.GetLastWriteTimeUtc(address.Path)),
                OpenedBy = StorePlaces.OpenedBy(stores, address),
                Facts = store.Identity.HeaderFields,
                Objects = store.ListObjects(),
            };
            if (survey.DataVersion is not null) return survey;
            return signs.Count == 0
                ? survey with { Problem = $"this store is of no version of {company.Kit.Title} that the kit knows", Next = "Check the path in office.yaml; it may be the store of another program." }
                : survey with { Problem = $"the places that tell the data version disagree: {string.Join("; ", signs.Select(sign => $"{sign.Where} says {ValueText.Quote(sign.Says)}"))}", Next = "An earlier upgrade may have stopped half-way. Ask the vendor before going on." };
        }
        catch (TransferraException error)
        {
            return survey with { Problem = error.Message, Next = error.Next };
        }
    }

    private static (int Files, long Bytes) DocumentsOf(Company company)
    {
        int files = 0;
        long bytes = 0;
        foreach (string folder in company.DocumentFolders.Where(Directory.Exists))
        {
            foreach (FileInfo file in new DirectoryInfo(folder).EnumerateFiles("*", SearchOption.AllDirectories))
            {
                files++;
                bytes += file.Length;
            }
        }
        return (files, bytes);
    }

    // Each sign is looked at once; a query that fails says nothing, as tables of one version are not there in another.
    private static List<VersionSign> SignsOf(Kit kit, IStore store)
    {
        var signs = new List<VersionSign>();
        foreach (IGrouping<string, (KitVersion Version, DataEvidence Evidence)> place in kit.Versions
            .SelectMany(version => version.Evidence.Select(evidence => (version, evidence))).GroupBy(entry => entry.evidence.Where))
        {
            DataEvidence first = place.First().Evidence;
            string? says = null;
            try
            {
                says = first switch
                {
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

    private static string? InRecord(IStore store, RecordSign sign)
    {
        var condition = new ExpressionCompiler(new ExpressionScope(sign.Table.Name, sign.Table.Columns, [], new Dictionary<string, string>())).CompileCondition(sign.Where);
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
