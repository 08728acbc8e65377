// BackupSets.cs: makes, proves and unpacks backup sets: a tar (POSIX pax) of zstd members. Layout: docs/backup-sets.md.
// Holds: (1) a file that is named like a set is complete and flushed: it is packed under another name and renamed at the end;
//        (2) Verify reads every byte back from the file and notices any change; (3) Unpack writes only below the folder given.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>What is to be packed.</summary>
/// <param name="Company">Whose.</param>
/// <param name="Address">Where its store is now.</param>
/// <param name="Store">The store, opened; one on a server is written out from it. The caller keeps it from changing meanwhile.</param>
/// <param name="DataVersion">Of the store.</param>
/// <param name="Tables">Names of the tables that the baseline tells of.</param>
/// <param name="Baseline">Takes the baseline; called once, on a thread of its own unless the store is on a server.</param>
/// <param name="Folder">Where the packed set is kept until it is put into its places.</param>
public sealed record PackOrder(Company Company, StoreAddress Address, IStore Store, string DataVersion, IReadOnlyList<TableShape> Tables,
    Func<IReadOnlyList<TableBaseline>> Baseline, string Folder)
{
    /// <summary>The run it is made for; "" for none.</summary>
    public string Run { get; init; } = "";

    /// <summary>The code page of the store's texts, when it does not tell by itself.</summary>
    public string? TextEncoding { get; init; }

    /// <summary>Path of an earlier set that is proved, from which unchanged members are taken; null when there is none.</summary>
    public string? Earlier { get; init; }
}

/// <summary>What is in a packed set, without its list of files, which is long.</summary>
/// <param name="Label">Whose, of when.</param>
/// <param name="Files">How many files.</param>
/// <param name="ContentBytes">Their size before packing.</param>
/// <param name="LeftOut">What should be there and is not.</param>
/// <param name="Changing">Names of files that were changed while they were read.</param>
internal sealed record PackedContents(SetLabel Label, int Files, long ContentBytes, IReadOnlyList<LeftOut> LeftOut,
    IReadOnlyList<string> Changing)
{
    /// <summary>Of a set.</summary>
    public static PackedContents Of(SetManifest manifest) => new(manifest.Label, manifest.Files, manifest.ContentBytes, manifest.LeftOut,
        [.. manifest.Members.Where(member => member.Changing).Select(member => member.Name)]);
}

/// <summary>A set that is packed and in no place yet; what was packed goes when it is disposed.</summary>
public sealed class PackedSet : IDisposable
{
    private readonly IVolume _volume;
    private readonly string _folder;
    private readonly PackedNotes _notes;

    internal PackedSet(IVolume volume, string folder, string path, PackedContents contents, PackedNotes notes)
    {
        (_volume, _folder, Path, Contents, _notes) = (volume, folder, path, contents, notes);
        Bytes = new FileInfo(path).Length;
    }

    /// <summary>The finished set: in the packing folder, then in the place that adopted it.</summary>
    public string Path { get; private set; }

    /// <summary>Its size.</summary>
    public long Bytes { get; }

    /// <summary>What is in it.</summary>
    internal PackedContents Contents { get; }

    /// <summary>How many files were taken from the earlier set.</summary>
    public int Reused => _notes.Reused;

    /// <summary>Whether a member of the manifest, by its place, is one of them.</summary>
    internal bool IsReused(int member) => _notes.IsReused(member);

    /// <summary>XXH128 of the content of each member as it was packed; null for those taken from the earlier set.</summary>
    internal IReadOnlyList<UInt128?> JustPacked => _notes.Digests;

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
    /// <summary>What files and folders are for that stand in a place only for a while.</summary>
    public const string Packing = "packing", Writing = "part", Proving = "proof", Healing = "healing";

    private static readonly string[] Whiles = [Packing, Writing, Proving, Healing];

    /// <summary>What something is called that stands in a place only for a while: no set is named so, and whose it is can be
    /// seen.</summary>
    /// <param name="office">The office that makes it.</param>
    /// <param name="of">The set or company it is for.</param>
    /// <param name="purpose">One of the names above.</param>
    public static string ForAWhile(OfficeIdentity office, string of, string purpose) => $"{of}.{office.Short}.{purpose}";

    /// <summary>The name of a new set: company, package, data version, date and time, and the run it was made for.</summary>
    public static string NameOf(SetLabel label, DateTimeOffset at, bool isLocked) =>
        string.Create(CultureInfo.InvariantCulture,
            $"{BeginningOfName(label.Company, label.Package)}{label.DataVersion}_{at.UtcDateTime:yyyyMMdd-HHmmss}"
                + $"{(label.Run.Length > 0 ? "_run" + label.Run : "")}{(isLocked ? SetPlaces.LockedSuffix : SetPlaces.Suffix)}");

    /// <summary>What the names of all sets of a company begin with.</summary>
    internal static string BeginningOfName(string company, string package) => $"{company}_{package}_v";

    /// <summary>Packs a company's files into one set, once for all places.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="order">What.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    /// <exception cref="TransferraException">A part of the store cannot be read, or is changed meanwhile.</exception>
    public static PackedSet Pack(BackupContext context, PackOrder order, Action<long, long> progress)
    {
        IVolume volume = context.Volume;
        OfficeDescription office = context.Office;
        Company company = order.Company;
        string folder = Path.Combine(order.Folder, ForAWhile(context.Identity, company.Code, Packing)), path = Path.Combine(folder, "set");
        volume.Remove(folder); // of an earlier try that was interrupted
        volume.MakeFolder(folder);
        Task<IReadOnlyList<TableBaseline>>? taking = null;
        try
        {
            string storePath = order.Address.Path;
            Func<IReadOnlyList<TableBaseline>> baseline;
            // Before another thread reads the store.
            TableBaseline[] room = [.. order.Tables.Select(table => TableBaseline.Longest(table.Name,
                2 * order.Store.AboutRows(table.Name)))];
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
            if (!order.Address.IsOnServer && earlier?.Manifest.Label.DataVersion == order.DataVersion && earlier.HasAllOf(tree.Sources,
                "store/")
                && earlier.HasAllOf(tree.Sources, "kit/")
                && HasSameTables(earlier.Manifest, order)) baseline = () => earlier.Manifest.Baseline;
            else if (!order.Address.IsOnServer) taking = Task.Run(order.Baseline);
            var label = new SetLabel(office.Name, company.Code, company.Name, company.Kit.Id, order.DataVersion, DateTimeOffset.UtcNow,
                Environment.UserName,
                context.Tool, order.Run)
            { OfficeId = context.Identity.Id };
            var draft = new SetManifest(SetManifest.CurrentFormat, label,
                [.. company.DocumentFolders.Select(documents => Path.GetRelativePath(office.Folder, documents))],
                new SetStore(order.Address.Name, order.Address.Engine, order.Address.Options) { TextEncoding = order.TextEncoding }, [],
                    tree.LeftOut,
                room)
            { Tables = [.. order.Tables.Select(WrittenTable.Of)] };
            using ISetSink sink = context.Sets.LocksNewSets ? new LockedSink(path, label, context.Sets.Secret.CheckForNewSets())
                : new PlainSink(path);
            SpentMemory.GiveBackAfter(tree.Sources.Count);
            using var writer = new SetWriter(sink, earlier, progress, context.Cancel);
            return new PackedSet(volume, folder, path, PackedContents.Of(writer.Run(tree.Sources, draft, baseline)), writer.Notes);
        }
        catch
        {
            // The store may be closed by the caller only when nobody reads it any more.
            if (taking is not null) ((IAsyncResult)taking).AsyncWaitHandle.WaitOne();
            volume.Remove(folder);
            throw;
        }
    }

    /// <summary>Removes what earlier backups, proofs and healings of an office left in a place when they were interrupted. Only one
    /// command of an office is at work there at a time, so that nothing of it is in use.</summary>
    /// <param name="place">The place.</param>
    /// <param name="office">The office.</param>
    public static void ClearLeftovers(ISetPlace place, OfficeIdentity office)
    {
        foreach (PlacedFile file in place.List())
            if (Whiles.Any(purpose => file.Name.EndsWith(ForAWhile(office, "", purpose),
                StringComparison.Ordinal))) place.Remove(file.Name);
    }

    /// <summary>What is wrong with a set's name: it tells company, package, version and time, and must not tell others than the set
    /// does.</summary>
    /// <returns>Null when nothing is.</returns>
    /// <param name="name">The file's name.</param>
    /// <param name="label">What the set says of itself.</param>
    public static SetFault? JudgeName(string name, SetLabel label)
    {
        // A name that was taken got a later second.
        string begins = $"{BeginningOfName(label.Company, label.Package)}{label.DataVersion}_";
        return name.StartsWith(begins, StringComparison.Ordinal) && name.Length >= begins.Length + NameTime.Length
            && DateTimeOffset.TryParseExact(name.AsSpan(begins.Length, NameTime.Length), NameTime, CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal, out DateTimeOffset at)
            && at >= label.MadeAt.AddSeconds(-1) && at <= label.MadeAt.AddHours(1) ? null
            : new SetFault("name", SetManifest.FirstMember,
                $"the set is not what its name says: it is of {label.Company}, {label.Package} version {label.DataVersion}, "
                + $"made {label.MadeAt.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture)} UTC");
    }

    private const string NameTime = "yyyyMMdd-HHmmss";

    // The same tables, read as the same types, by a release that recorded as much as this one.
    private static bool HasSameTables(SetManifest earlier, PackOrder order) => earlier.Recorded() is not null
        && earlier.Tables is { } tables && tables.Count == order.Tables.Count
        && tables.Zip(order.Tables.Select(WrittenTable.Of)).All(pair => pair.First.Name == pair.Second.Name
            && pair.First.Columns.SequenceEqual(pair.Second.Columns) && pair.First.Key.SequenceEqual(pair.Second.Key));

    private static SourceTree SourcesOf(OfficeDescription office, Company company, string storeName, string storePath)
    {
        var tree = new SourceTree(path => IsLeftOut(office, path));
        tree.Add(storePath, "store/" + storeName);
        AddDocuments(tree, company);
        // What is needed to make sense of the records years later: the kit, and the settings files of the program that the kit knows.
        if (Directory.Exists(company.Kit.Folder)) tree.Add(company.Kit.Folder, "kit");
        if (office.PackageOf(company.Code)?.ProgramFolder is not { } program) return tree;
        foreach (string name in company.Kit.Settings.Select(setting => setting.Place?.File)
            .Concat(company.Kit.ProgramEvidence.Select(place => place.File))
            .OfType<string>().Distinct().Order(StringComparer.Ordinal))
        {
            string file = Path.Combine(program, name);
            // A name that leads out of the program's folder would lead out of the set's as well.
            if (File.Exists(file) && Path.GetFullPath(file).StartsWith(Path.GetFullPath(program) + Path.DirectorySeparatorChar,
                StringComparison.Ordinal))
                tree.Add(file, "settings/" + name);
        }
        return tree;
    }

    private static void AddDocuments(SourceTree tree, Company company)
    {
        for (int i = 0; i < company.DocumentFolders.Count; i++) tree.Add(company.DocumentFolders[i],
            FormattableString.Invariant($"documents/{i}"));
    }

    /// <summary>A company's documents, as a set of it would hold them.</summary>
    internal static SourceTree DocumentsOf(OfficeDescription office, Company company)
    {
        var tree = new SourceTree(path => IsLeftOut(office, path));
        AddDocuments(tree, company);
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

    /// <summary>Unpacks a set, or some of its members, into a folder that is empty or not there, comparing all that is unpacked; it is on
    /// the disk when this returns.</summary>
    /// <param name="file">The set.</param>
    /// <param name="folder">Where to.</param>
    /// <param name="isWanted">Which members, by their names; null for all.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    /// <param name="remark">Hears of what could not be brought back beside content, such as access control lists on a volume that keeps
    /// none.</param>
    /// <param name="whenStoreIsUnpacked">Called when the store is there, which may be long before the documents are.</param>
    /// <param name="cancel">Stops.</param>
    /// <returns>What is wrong; the folder is of use only when nothing is.</returns>
    public static IReadOnlyList<SetFault> Unpack(ISetFile file, string folder, Func<string, bool>? isWanted = null, Action<long,
        long>? progress = null,
        Action? whenStoreIsUnpacked = null, Action<string>? remark = null, CancellationToken cancel = default)
    {
        using var reader = new SetReader(file, SetScrutiny.Content, folder, isWanted, progress, cancel)
        {
            Part = IsOfStore,
            WhenPartIsUnpacked = whenStoreIsUnpacked
        };
        IReadOnlyList<SetFault> faults = reader.Run();
        foreach (string what in reader.Remarks) remark?.Invoke(what);
        if (faults.Count == 0) PosixFiles.FlushVolume(PosixFiles.Bytes(folder));
        return faults;
    }

    /// <summary>Whether a member belongs to the store.</summary>
    public static bool IsOfStore(string member) => member.StartsWith("store/", StringComparison.Ordinal);

    /// <summary>Whether the records of an unpacked store are those the manifest tells of.</summary>
    public static IReadOnlyList<SetFault> CompareRecords(SetManifest manifest, IReadOnlyList<TableBaseline> now)
    {
        var faults = new List<SetFault>();
        Dictionary<string, TableBaseline> byName = now.ToDictionary(table => table.Table);
        foreach (TableBaseline then in manifest.Baseline)
        {
            TableBaseline? table = byName.GetValueOrDefault(then.Table);
            if (!then.IsSameAs(table))
                faults.Add(new SetFault("records", then.Table,
                    $"the table {then.Table} had {then.Records} records with fingerprint {then.Fingerprint}, and has "
                        + $"{table?.Records ?? 0} with {table?.Fingerprint ?? "none"}"));
        }
        return faults;
    }
}
