// StoreFinder.cs: companies that lie on the disk or on a server but not in office.yaml. One of ten that nobody backed up is how books are
// lost.
// Looks in the folders around the known stores and in the program's folder, and at the other databases of the known servers; what tells a
// version of the kit by its signs is a store of the package. Reads only.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Surveys;

/// <summary>A store that office.yaml does not name.</summary>
/// <param name="Kit">Id of the kit it is a store of.</param>
/// <param name="Title">The package.</param>
/// <param name="Address">Where it is.</param>
/// <param name="DataVersion">Its version.</param>
/// <param name="Code">A code that would do for the company.</param>
public sealed record UnlistedStore(string Kit, string Title, StoreAddress Address, string DataVersion, string Code);

/// <summary>Finds stores.</summary>
public static class StoreFinder
{
    private const int Deepest = 4, Most = 50_000;
    private static readonly byte[] SqliteMagic = [.. "SQLite format 3\0"u8];

    /// <summary>Stores of the office's packages that office.yaml does not name.</summary>
    public static IReadOnlyList<UnlistedStore> Unlisted(OfficeDescription office, IStoreOpener stores)
    {
        StoreAddress[] known = [.. office.Companies.SelectMany(company => (StoreAddress?[])[company.OldStore,
            company.MovesTo]).OfType<StoreAddress>()];
        string[] roots = [.. office.Packages.Select(package => package.ProgramFolder).OfType<string>(),
            .. known.Where(store => !store.IsOnServer)
            .Select(store => Around(store, office.Folder))];
        IEnumerable<StoreAddress> candidates = [.. InFolders(roots, [.. office.Backup.Folders]), .. known.Where(store => store.IsOnServer)
            .DistinctBy(store => (store.Engine, store.Server)).SelectMany(store => OnServer(store, stores))];
        return Recognised(candidates.Where(candidate => !known.Any(store => store.Shown == candidate.Shown)),
            [.. office.Packages.Select(package => package.Kit)], stores, [.. office.Companies.Select(company => company.Code)]);
    }

    // The folder above the store's own, where its siblings would lie; never one that belongs to the whole machine.
    private static string Around(StoreAddress store, string officeFolder)
    {
        string own = store.Folder, above = Path.GetDirectoryName(own) ?? own;
        return above.Count(c => c == '/') < 2 || officeFolder.StartsWith(above + "/", StringComparison.Ordinal) ? own : above;
    }

    /// <summary>What looks like a store of files below some folders: SQLite files, and folders with .dbf tables.</summary>
    /// <param name="roots">Full paths.</param>
    /// <param name="without">Folders that are left out.</param>
    public static IReadOnlyList<StoreAddress> InFolders(IEnumerable<string> roots, IReadOnlyList<string> without)
    {
        var found = new Dictionary<string, StoreAddress>(StringComparer.Ordinal);
        int seen = 0;
        foreach (string root in roots.Distinct().Where(Directory.Exists)) Look(new DirectoryInfo(root), 0);
        return [.. found.Values.OrderBy(store => store.Path, StringComparer.Ordinal)];

        void Look(DirectoryInfo folder, int depth)
        {
            if (without.Contains(folder.FullName) || folder.Name.StartsWith("transferra", StringComparison.Ordinal)) return;
            try
            {
                foreach (FileSystemInfo entry in folder.EnumerateFileSystemInfos())
                {
                    if (++seen > Most) return;
                    if (entry is DirectoryInfo below)
                    {
                        if (depth < Deepest && below.LinkTarget is null) Look(below, depth + 1);
                    }
                    else if (string.Equals(entry.Extension, ".dbf",
                        StringComparison.OrdinalIgnoreCase)) found[folder.FullName] = new StoreAddress("dbf", folder.FullName);
                    else if (IsSqlite(entry.FullName)) found[entry.FullName] = new StoreAddress("sqlite", entry.FullName);
                }
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* what may not be seen is not found */ }
        }
    }

    /// <summary>Whether a file begins as SQLite files do.</summary>
    public static bool IsSqlite(string path)
    {
        try
        {
            using FileStream file = PlainFile.Open(path, 0);
            Span<byte> start = stackalloc byte[16];
            return file.ReadAtLeast(start, start.Length, throwOnEndOfStream: false) == start.Length && start.SequenceEqual(SqliteMagic);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return false; }
    }

    /// <summary>The databases of a server, but those that runs made.</summary>
    /// <param name="like">A store on it, which need not be there.</param>
    /// <param name="stores">Reaches it.</param>
    public static IReadOnlyList<StoreAddress> OnServer(StoreAddress like, IStoreOpener stores)
    {
        try
        {
            return [.. stores.ServerOf(like).Names(like.Path).Where(name => !Path.GetFileName(name)
                .StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)).Select(name => like with { Path = name })];
        }
        catch (TransferraException)
        {
            return []; // that the server does not answer is told of the companies on it
        }
    }

    /// <summary>Those candidates that are stores of a kit.</summary>
    /// <param name="candidates">Where to look.</param>
    /// <param name="kits">What to look for.</param>
    /// <param name="stores">Opens them.</param>
    /// <param name="taken">Codes that are taken.</param>
    public static IReadOnlyList<UnlistedStore> Recognised(IEnumerable<StoreAddress> candidates, IReadOnlyList<Kit> kits,
        IStoreOpener stores, IReadOnlyCollection<string> taken)
    {
        var codes = new HashSet<string>(taken, StringComparer.OrdinalIgnoreCase);
        var found = new List<UnlistedStore>();
        foreach (StoreAddress candidate in candidates)
        {
            foreach (Kit kit in kits.DistinctBy(kit => kit.Folder))
            {
                if (VersionOf(candidate, kit, stores) is not { } version) continue;
                found.Add(new UnlistedStore(kit.Id, kit.Title, candidate, version, CodeFor(candidate, codes)));
                break;
            }
            // It may be anybody's; nothing of us stays in it.
            if (candidate.IsOnServer) stores.LetGo();
        }
        return found;
    }

    private static string? VersionOf(StoreAddress candidate, Kit kit, IStoreOpener stores)
    {
        try
        {
            using IStore store = stores.Open(candidate);
            List<VersionSign> signs = Survey.SignsOf(kit, store, candidate);
            return signs.Count > 0 && signs.All(sign => sign.Version is not null) && signs.Select(sign => sign.Version).Distinct()
                .Count() == 1 ? signs[0].Version : null;
        }
        // Nobody said that it is one of ours; what cannot be read, or goes while it is looked at, is none.
        catch (Exception error) when (error is not (OutOfMemoryException or OperationCanceledException)) { return null; }
    }

    // By the folder's name when the store's own says nothing of the company, as in data/QNX/ledger.db.
    private static string CodeFor(StoreAddress store, HashSet<string> codes)
    {
        string own = Path.GetFileNameWithoutExtension(store.Name), folder = Path.GetFileName(store.Folder);
        string start = string.Concat((folder.Length > 0 && !store.IsOnServer ? folder : own).ToUpperInvariant()
            .Where(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_'));
        if (start.Length == 0) start = "COMPANY";
        string code = start;
        for (int i = 2; !codes.Add(code); i++) code = FormattableString.Invariant($"{start}-{i}");
        return code;
    }
}
