// BackupSets.cs: makes, proves and unpacks backup sets: a tar (POSIX pax) of zstd members. Layout: docs/backup-sets.md.
// Holds: (1) a file that is named like a set is complete and flushed: it is packed under another name and renamed at the end;
//        (2) Verify reads every byte back from the file and notices any change; (3) Unpack writes only below the folder given.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Core.Backup;

/// <summary>What is to be packed.</summary>
/// <param name="Company">Whose.</param>
/// <param name="Address">Where its store is now.</param>
/// <param name="Store">The store, opened; one on a server is written out from it. The caller keeps it from changing meanwhile.</param>
/// <param name="DataVersion">Of the store.</param>
/// <param name="Tables">Names of the tables that the baseline tells of.</param>
/// <param name="Baseline">Takes the baseline; called once, on a thread of its own unless the store is on a server.</param>
/// <param name="Folder">Where the packed set is kept until it is put into its places.</param>
public sealed record PackOrder(Company Company, StoreAddress Address, IStore Store, string DataVersion, IReadOnlyList<string> Tables,
    Func<IReadOnlyList<TableBaseline>> Baseline, string Folder)
{
    /// <summary>The run it is made for; "" for none.</summary>
    public string Run { get; init; } = "";

    /// <summary>Path of an earlier set that is proved, from which unchanged members are taken; null when there is none.</summary>
    public string? Earlier { get; init; }
}

/// <summary>A set that is packed and in no place yet; what was packed goes when it is disposed.</summary>
public sealed class PackedSet : IDisposable
{
    private readonly IVolume _volume;
    private readonly string _folder;

    internal PackedSet(IVolume volume, string folder, string path, SetManifest manifest, IReadOnlySet<string> reused)
    {
        (_volume, _folder, Path, Manifest, Reused) = (volume, folder, path, manifest, reused);
        Bytes = new FileInfo(path).Length;
    }

    /// <summary>The finished set: in the packing folder, then in the place that adopted it.</summary>
    public string Path { get; private set; }

    /// <summary>Its size.</summary>
    public long Bytes { get; }

    /// <summary>What it says of itself.</summary>
    public SetManifest Manifest { get; }

    /// <summary>Names of the files that were taken from the earlier set.</summary>
    public IReadOnlySet<string> Reused { get; }

    /// <summary>Gives the set to the place that it was packed in.</summary>
    public void MoveInto(LocalPlace place, string name)
    {
        place.Adopt(Path, name);
        Path = System.IO.Path.Combine(place.Name, name);
    }

    /// <inheritdoc/>
    public void Dispose() => _volume.Remove(_folder);
}

/// <summary>Backup sets.</summary>
public static class BackupSets
{
    private const string PackingSuffix = ".packing";

    /// <summary>What the folder is called, behind the set's name, that a set is restored into to be proved.</summary>
    public const string ProofSuffix = ".proof";

    /// <summary>The name of a new set: company, package, data version, date and time, and the run it was made for.</summary>
    public static string NameOf(SetLabel label, DateTimeOffset at, bool isLocked) =>
        string.Create(CultureInfo.InvariantCulture,
            $"{label.Company}_{label.Package}_v{label.DataVersion}_{at.UtcDateTime:yyyyMMdd-HHmmss}{(label.Run.Length > 0 ? "_run" + label.Run : "")}{(isLocked ? SetPlaces.LockedSuffix : SetPlaces.Suffix)}");

    /// <summary>Packs a company's files into one set, once for all places.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="order">What.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    /// <exception cref="TransferraException">A part of the store cannot be read, or is changed meanwhile.</exception>
    public static PackedSet Pack(RunContext context, PackOrder order, Action<long, long> progress)
    {
        IVolume volume = context.Volume;
        OfficeDescription office = context.Office;
        Company company = order.Company;
        string folder = Path.Combine(order.Folder, company.Code + PackingSuffix), path = Path.Combine(folder, "set");
        volume.Remove(folder); // of an earlier try that was broken off
        volume.CreateFolder(folder);
        Task<IReadOnlyList<TableBaseline>>? taking = null;
        try
        {
            string storePath = order.Address.Path;
            Func<IReadOnlyList<TableBaseline>> baseline;
            using ISetFile? earlierFile = order.Earlier is null ? null : context.Sets.Open(order.Earlier);
            // Its manifest is long; meanwhile the documents are looked up.
            Task<EarlierSet?> readingEarlier = Task.Run(() => earlierFile is null ? null : EarlierSet.From(earlierFile));
            if (order.Address.IsOnServer)
            {
                IReadOnlyList<TableBaseline> taken = order.Baseline();
                baseline = () => taken;
                storePath = Path.Combine(folder, "export");
                StoreExport.Write(order.Store, context.Stores, storePath, context.Observer, context.Cancel);
            }
            else baseline = () => (taking ??= Task.Run(order.Baseline)).GetAwaiter().GetResult();
            using SourceTree tree = SourcesOf(office, company, order.Address.Name, storePath);
            EarlierSet? earlier = readingEarlier.GetAwaiter().GetResult();
            // The same store understood in the same way has the same baseline.
            if (!order.Address.IsOnServer && earlier?.Manifest.Label.DataVersion == order.DataVersion && earlier.HasAllOf(tree.Sources, "store/")
                && earlier.HasAllOf(tree.Sources, "kit/")
                && earlier.Manifest.Baseline.Select(table => table.Table).SequenceEqual(order.Tables)) baseline = () => earlier.Manifest.Baseline;
            else if (!order.Address.IsOnServer) taking = Task.Run(order.Baseline);
            var label = new SetLabel(office.Name, company.Code, company.Name, company.Kit.Id, order.DataVersion, DateTimeOffset.UtcNow, Environment.UserName,
                context.Tool, order.Run);
            var draft = new SetManifest(SetManifest.CurrentFormat, label,
                [.. company.DocumentFolders.Select(documents => Path.GetRelativePath(office.Folder, documents))],
                new SetStore(order.Address.Name, order.Address.Engine, order.Address.Options), [], tree.LeftOut,
                [.. order.Tables.Select(table => new TableBaseline(table, long.MaxValue, long.MaxValue, new string('f', 32)))]);
            using ISetSink sink = context.Sets.LocksNewSets ? new LockedSink(path, label, context.Sets.Secret.CheckForNewSets()) : new PlainSink(path);
            using var writer = new SetWriter(sink, earlier, progress, context.Cancel);
            SetManifest manifest = writer.Run(tree.Sources, draft, baseline);
            return new PackedSet(volume, folder, path, manifest, writer.Reused);
        }
        catch
        {
            // The store may be closed by the caller only when nobody reads it any more.
            if (taking is not null) ((IAsyncResult)taking).AsyncWaitHandle.WaitOne();
            volume.Remove(folder);
            throw;
        }
    }

    /// <summary>Removes what an earlier backup, proof or healing of a company left in a place when it was broken off. Nothing of it is named like a set.</summary>
    public static void ClearLeftovers(ISetPlace place, string company)
    {
        foreach (PlacedFile file in place.List())
        {
            bool isOurs = file.Name == company + PackingSuffix
                || (file.Name.StartsWith(company + "_", StringComparison.Ordinal)
                    && ((string[])[LocalPlace.PartSuffix, ProofSuffix, SetHealing.HealingSuffix])
                        .Any(suffix => file.Name.EndsWith(SetPlaces.Suffix + suffix, StringComparison.Ordinal)
                        || file.Name.EndsWith(SetPlaces.LockedSuffix + suffix, StringComparison.Ordinal)));
            if (isOurs) place.Remove(file.Name);
        }
    }

    private static SourceTree SourcesOf(OfficeDescription office, Company company, string storeName, string storePath)
    {
        var tree = new SourceTree(path => IsLeftOut(office, path));
        tree.Add(storePath, "store/" + storeName);
        for (int i = 0; i < company.DocumentFolders.Count; i++) tree.Add(company.DocumentFolders[i], FormattableString.Invariant($"documents/{i}"));
        // What is needed to make sense of the records years later: the kit, and the settings files of the program that the kit knows.
        if (Directory.Exists(company.Kit.Folder)) tree.Add(company.Kit.Folder, "kit");
        if (office.Packages.FirstOrDefault(package => package.Companies.Any(known => known.Code == company.Code))?.ProgramFolder is not { } program) return tree;
        foreach (string name in company.Kit.Settings.Select(setting => setting.Place?.File).Concat(company.Kit.ProgramEvidence.Select(place => place.File))
            .OfType<string>().Distinct().Order(StringComparer.Ordinal))
        {
            string file = Path.Combine(program, name);
            // A name that leads out of the program's folder would lead out of the set's as well.
            if (File.Exists(file) && Path.GetFullPath(file).StartsWith(Path.GetFullPath(program) + Path.DirectorySeparatorChar, StringComparison.Ordinal))
                tree.Add(file, "settings/" + name);
        }
        return tree;
    }

    // A place for sets that lies in a document folder would otherwise be packed into itself.
    private static bool IsLeftOut(OfficeDescription office, string path) => office.Backup.Folders.Contains(path)
        || path == Path.Combine(office.Folder, "transferra") || office.Backup.Without.Any(pattern =>
        System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern, pattern.Contains('/', StringComparison.Ordinal)
            ? Path.GetRelativePath(office.Folder, path) : Path.GetFileName(path), ignoreCase: false));

    /// <summary>Reads a whole set back and compares every digest.</summary>
    /// <returns>What is wrong; empty when nothing is.</returns>
    public static IReadOnlyList<SetFault> Verify(ISetFile file, Action<long, long>? progress = null, CancellationToken cancel = default)
    {
        using var reader = new SetReader(file, SetScrutiny.All, progress: progress, cancel: cancel);
        return reader.Run();
    }

    /// <summary>Reads a whole set on this machine back and compares every digest.</summary>
    public static IReadOnlyList<SetFault> Verify(string path)
    {
        using var file = new LocalSetFile(path);
        return Verify(file);
    }

    /// <summary>Unpacks a set, or some of its members, into a folder that is empty or not there, comparing all that is unpacked; it is on the disk when this returns.</summary>
    /// <param name="file">The set.</param>
    /// <param name="folder">Where to.</param>
    /// <param name="isWanted">Which members, by their names; null for all.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    /// <param name="whenStoreIsUnpacked">Called when the store is there, which may be long before the documents are.</param>
    /// <param name="cancel">Stops.</param>
    /// <returns>What is wrong; the folder is of use only when nothing is.</returns>
    public static IReadOnlyList<SetFault> Unpack(ISetFile file, string folder, Func<string, bool>? isWanted = null, Action<long, long>? progress = null,
        Action? whenStoreIsUnpacked = null, CancellationToken cancel = default)
    {
        using var reader = new SetReader(file, SetScrutiny.Content, folder, isWanted, progress, cancel) { Part = IsOfStore, WhenPartIsUnpacked = whenStoreIsUnpacked };
        IReadOnlyList<SetFault> faults = reader.Run();
        if (faults.Count == 0) PosixFiles.FlushVolume(PosixFiles.Bytes(folder));
        return faults;
    }

    /// <summary>Whether a member belongs to the store.</summary>
    public static bool IsOfStore(string member) => member.StartsWith("store/", StringComparison.Ordinal);

    /// <summary>Whether the records of an unpacked store are those the manifest tells of.</summary>
    public static IReadOnlyList<SetFault> CompareRecords(SetManifest manifest, IReadOnlyList<TableBaseline> now)
    {
        var faults = new List<SetFault>();
        foreach (TableBaseline then in manifest.Baseline)
        {
            TableBaseline? table = now.FirstOrDefault(table => table.Table == then.Table);
            if (table != then)
                faults.Add(new SetFault("records", then.Table,
                    $"the table {then.Table} had {then.Records} records with fingerprint {then.Fingerprint}, and has {table?.Records ?? 0} with {table?.Fingerprint ?? "none"}"));
        }
        return faults;
    }
}
