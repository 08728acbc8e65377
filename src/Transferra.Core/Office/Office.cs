// Office.cs: one place of work as office.yaml describes it. Reading and checking: OfficeLoader.cs; format: docs/office.md.
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>An office.</summary>
/// <param name="Name">As it calls itself.</param>
/// <param name="Folder">Where office.yaml lies; relative paths start here.</param>
/// <param name="Packages">Its packages.</param>
/// <param name="Backup">Where backup sets go and how.</param>
/// <param name="KeepFreeBytes">Room on each volume that must be left free.</param>
public sealed record OfficeDescription(string Name, string Folder, IReadOnlyList<Package> Packages, BackupPlan Backup, long KeepFreeBytes)
{
    /// <summary>How it is closed and opened again.</summary>
    public ClosingPlan Closing { get; init; } = ClosingPlan.None;

    /// <summary>Whom a vendor answers to, by kind: person, phone, mail.</summary>
    public IReadOnlyDictionary<string, string> Contact { get; init; } = new Dictionary<string, string>();

    /// <summary>Names of the variables of the environment in which the office keeps passwords, passphrases and keys.</summary>
    public IEnumerable<string> SecretVariables => ((string?[])[
        .. Companies.SelectMany(company => (StoreAddress?[])[company.OldStore, company.MovesTo])
            .Select(store => store?.Server?.PasswordVariable),
        .. Backup.ProveOn.Select(store => store.Server?.PasswordVariable),
            .. Backup.Places.Select(place => place.Server?.PasswordVariable), Backup.LockedWith?.Variable,
        .. Packages.SelectMany(package => package.Keys.Values).Select(key => key.Variable)]).OfType<string>()
            .Distinct(StringComparer.Ordinal);

    /// <summary>All companies of all packages.</summary>
    public IEnumerable<Company> Companies => Packages.SelectMany(package => package.Companies);

    /// <summary>The package of a company, by its code; null when the office has no such company.</summary>
    public Package? PackageOf(string company) => Packages.FirstOrDefault(package => package.Companies.Any(known => known.Code == company));
}

/// <summary>A packaged program as installed.</summary>
/// <param name="Kit">What is known about it.</param>
/// <param name="ProgramFolder">Full path; null when office.yaml names none.</param>
/// <param name="WantedVersion">The data version to come to.</param>
/// <param name="Companies">Its companies.</param>
public sealed record Package(Kit Kit, string? ProgramFolder, string WantedVersion, IReadOnlyList<Company> Companies)
{
    /// <summary>Where the new version's installer lies; null when office.yaml does not say.</summary>
    public string? InstallerFolder { get; init; }

    /// <summary>Where its keys are kept, by name.</summary>
    public IReadOnlyDictionary<string, KeyPlace> Keys { get; init; } = new Dictionary<string, KeyPlace>();

    /// <summary>Workstations that have the program, by name, with the folder that it is installed in there as it is seen from
    /// here.</summary>
    public IReadOnlyDictionary<string, string> Workstations { get; init; } = new Dictionary<string, string>();
}

/// <summary>Where a key is kept, and what is written on its paper.</summary>
/// <param name="File">File that only its owner may read, with the key in its first line; null when there is none.</param>
/// <param name="Variable">Environment variable that holds it; null when there is none.</param>
/// <param name="ValidUntil">Its last day; null when nothing is said.</param>
/// <param name="MaintenanceUntil">Last day of the maintenance contract; null when nothing is said.</param>
public sealed record KeyPlace(string? File, string? Variable, DateOnly? ValidUntil, DateOnly? MaintenanceUntil);

/// <summary>One set of books.</summary>
/// <param name="Code">Unique in the office; letters, digits, "-" and "_".</param>
/// <param name="Name">As people say it.</param>
/// <param name="Kit">Its package's kit.</param>
/// <param name="WantedVersion">The data version to come to.</param>
/// <param name="OldStore">Where its records live before an upgrade.</param>
/// <param name="MovesTo">Where they live after one that changes the engine, in the same folder or on a server; null when the new store
/// takes the old one's place.</param>
/// <param name="DocumentFolders">Full paths.</param>
/// <param name="Answers">New settings, by name.</param>
public sealed record Company(string Code, string Name, Kit Kit, string WantedVersion, StoreAddress OldStore, StoreAddress? MovesTo,
    IReadOnlyList<string> DocumentFolders,
    IReadOnlyDictionary<string, string> Answers)
{
    /// <summary>The empty store of the wanted version that the vendor's new program made, for a new store that begins as that; null when
    /// there is none.</summary>
    public StoreAddress? VendorMade { get; init; }

    /// <summary>Files that are carried to the new program's place.</summary>
    public IReadOnlyList<FilesCarried> Carry { get; init; } = [];

    /// <summary>What a person answers for where others convert and nobody explained it.</summary>
    public IReadOnlyList<Matching.Answer> AnsweredFor { get; init; } = [];

    /// <summary>Where the records live after an upgrade.</summary>
    public StoreAddress NewStore => MovesTo ?? OldStore;

    /// <summary>The way between two versions, as this company goes it; null when the kit knows none.</summary>
    public Way? WayBetween(string from, string to) => Way.Between(Kit, from, to)?.Of(OldStore, NewStore);

    /// <summary>The one of its two addresses that has a file or folder of this name; the old one when neither has.</summary>
    public StoreAddress StoreNamed(string name) => MovesTo is not null && MovesTo.Name == name ? MovesTo : OldStore;

    /// <summary>Where the records live now: at the new place when only that one is there.</summary>
    public StoreAddress StoreNow(Office.StorePlaces places) => MovesTo is not null && places.Exists(MovesTo) && !places.Exists(OldStore)
        ? MovesTo : OldStore;
}
