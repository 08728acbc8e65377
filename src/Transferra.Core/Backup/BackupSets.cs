// BackupSets.cs: writes, proves and unpacks backup sets: a tar (POSIX pax) of zstd members. Layout: docs/backup-sets.md.
// Holds: (1) a file that is named like a set is complete and flushed: it is written under another name and renamed at the end;
//        (2) Verify reads every byte back from the file and notices any change; (3) Unpack writes only below the folder given.
using System.Formats.Tar;
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using ZstdSharp;

namespace Transferra.Core.Backup;

/// <summary>A set whose files are packed and that is in no place yet; what was packed goes when it is disposed.</summary>
/// <param name="volume">The disk.</param>
/// <param name="folder">Where the packed files are, by their number.</param>
/// <param name="manifest">What the set says of itself.</param>
public sealed class PackedSet(IVolume volume, string folder, SetManifest manifest) : IDisposable
{
    /// <summary>Where the packed files are, by their number.</summary>
    public string Folder { get; } = folder;

    /// <summary>What the set says of itself.</summary>
    public SetManifest Manifest { get; } = manifest;

    /// <inheritdoc/>
    public void Dispose() => volume.Remove(Folder);
}

/// <summary>Backup sets.</summary>
public static class BackupSets
{
    private const string PartSuffix = ".part", PackingSuffix = ".packing";

    /// <summary>What the folder is called, behind the set's name, that a set is restored into to be proved.</summary>
    public const string ProofSuffix = ".proof";

    private const int CompressionLevel = 3;

    /// <summary>The name of a new set: company, package, data version, date and time.</summary>
    public static string NameOf(Company company, string dataVersion, DateTimeOffset at) =>
        string.Create(CultureInfo.InvariantCulture, $"{company.Code}_{company.Kit.Id}_v{dataVersion}_{at.UtcDateTime:yyyyMMdd-HHmmss}.tar");

    /// <summary>Writes a set of a company's files. The caller keeps the store from changing meanwhile.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="address">Where its store is now.</param>
    /// <param name="store">The store, opened; one on a server is written out from it.</param>
    /// <param name="dataVersion">Of the store.</param>
    /// <param name="baseline">Of the store.</param>
    /// <param name="path">Full path of the set; must not exist.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    public static BackupSetInfo Write(RunContext context, Company company, StoreAddress address, IStore store, string dataVersion, IReadOnlyList<TableBaseline> baseline, string path, Action<long, long> progress)
    {
        using PackedSet packed = Pack(context, company, address, store, dataVersion, baseline, Path.GetDirectoryName(path)!, progress);
        return Put(context.Volume, packed, path);
    }

    /// <summary>Packs a company's files into a folder beside sets, once for all places.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="address">Where its store is now.</param>
    /// <param name="store">The store, opened; one on a server is written out from it.</param>
    /// <param name="dataVersion">Of the store.</param>
    /// <param name="baseline">Of the store.</param>
    /// <param name="place">Folder that the packed files are kept below, until the result is disposed.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    public static PackedSet Pack(RunContext context, Company company, StoreAddress address, IStore store, string dataVersion, IReadOnlyList<TableBaseline> baseline, string place, Action<long, long> progress)
    {
        IVolume volume = context.Volume;
        OfficeDescription office = context.Office;
        string packed = Path.Combine(place, company.Code + PackingSuffix);
        volume.Remove(packed); // of an earlier try that was broken off
        volume.CreateFolder(packed);
        try
        {
            string? export = address.IsOnServer ? Path.Combine(packed, "export") : null;
            if (export is not null) StoreExport.Write(store, context.Stores, export, context.Observer, context.Cancel);
            List<(string Source, string Name)> files = FilesOf(company, address.Name, export ?? address.Path);
            files.AddRange(FilesAround(office, company));
            long total = files.Sum(file => new FileInfo(file.Source).Length), done = 0;
            var members = new List<SetMember>();
            foreach ((string source, string name) in files)
            {
                context.Cancel.ThrowIfCancellationRequested();
                members.Add(PackFile(source, name, Path.Combine(packed, members.Count.ToString(CultureInfo.InvariantCulture))));
                progress(done += members[^1].Bytes, total);
            }
            var manifest = new SetManifest(SetManifest.CurrentFormat, office.Name, company.Code, company.Name, company.Kit.Id, dataVersion, DateTimeOffset.UtcNow,
                Environment.UserName, context.Tool, [.. company.DocumentFolders.Select(folder => Path.GetRelativePath(office.Folder, folder))], members, baseline);
            return new PackedSet(volume, packed, manifest);
        }
        catch
        {
            volume.Remove(packed);
            throw;
        }
    }

    /// <summary>Puts a packed set into a place.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="packed">The set.</param>
    /// <param name="path">Full path of the set; must not exist.</param>
    public static BackupSetInfo Put(IVolume volume, PackedSet packed, string path)
    {
        string part = path + PartSuffix;
        volume.Remove(part);
        SetManifest manifest = packed.Manifest;
        try
        {
            using (FileStream file = new(part, FileMode.CreateNew, FileAccess.Write))
            {
                using var sealing = new HashingStream(file);
                // The writer's own end mark, added when it is disposed, would stand before the seal; so it is not disposed.
                var tar = new TarWriter(sealing, TarEntryFormat.Pax, leaveOpen: true);
                Add(tar, SetManifest.FirstMember, new MemoryStream(JsonSerializer.SerializeToUtf8Bytes(manifest, SetManifest.Json)), manifest.MadeAt);
                for (int i = 0; i < manifest.Members.Count; i++)
                {
                    using FileStream member = File.OpenRead(Path.Combine(packed.Folder, i.ToString(CultureInfo.InvariantCulture)));
                    Add(tar, manifest.Members[i].Name + ".zst", member, manifest.Members[i].Modified);
                }
                file.Write(SetSeal.Of(sealing.Digest(), manifest.MadeAt));
            }
            volume.FlushFile(part);
            volume.Rename(part, path);
            volume.FlushFolder(Path.GetDirectoryName(path)!);
            return new BackupSetInfo(path, new FileInfo(path).Length, manifest);
        }
        finally
        {
            volume.Remove(part);
        }
    }

    /// <summary>Removes what an earlier backup, proof or healing of a company left in a place when it was broken off. Nothing of it is named like a set.</summary>
    public static void ClearLeftovers(IVolume volume, string place, string company)
    {
        if (!Directory.Exists(place)) return;
        foreach (string path in Directory.EnumerateFileSystemEntries(place, company + "*"))
        {
            string name = Path.GetFileName(path);
            bool isOurs = name == company + PackingSuffix
                || (name.StartsWith(company + "_", StringComparison.Ordinal) && ((string[])[".tar" + PartSuffix, ".tar" + ProofSuffix, ".tar.healing", ".tar.healing.tar", ".tar.healing.tar" + PartSuffix]).Any(suffix => name.EndsWith(suffix, StringComparison.Ordinal)));
            if (isOurs) volume.Remove(path);
        }
    }

    private static List<(string Source, string Name)> FilesOf(Company company, string storeName, string storePath)
    {
        string store = "store/" + storeName;
        List<(string, string)> files = Directory.Exists(storePath)
            ? [.. Directory.EnumerateFiles(storePath, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal).Select(file => (file, $"{store}/{Path.GetRelativePath(storePath, file)}"))]
            : [(storePath, store)];
        for (int i = 0; i < company.DocumentFolders.Count; i++)
        {
            string folder = company.DocumentFolders[i];
            foreach (string file in Directory.EnumerateFiles(folder, "*", new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = FileAttributes.None }).Order(StringComparer.Ordinal))
                files.Add((file, FormattableString.Invariant($"documents/{i}/{Path.GetRelativePath(folder, file)}")));
        }
        return files;
    }

    // What is needed to make sense of the records years later: the kit, and the settings files of the program that the kit knows.
    private static IEnumerable<(string Source, string Name)> FilesAround(OfficeDescription office, Company company)
    {
        if (Directory.Exists(company.Kit.Folder))
            foreach (string file in Directory.EnumerateFiles(company.Kit.Folder, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
                yield return (file, "kit/" + Path.GetRelativePath(company.Kit.Folder, file));
        if (office.Packages.FirstOrDefault(package => package.Companies.Any(known => known.Code == company.Code))?.ProgramFolder is not { } program) yield break;
        foreach (string name in company.Kit.Settings.Select(setting => setting.Place?.File).Concat(company.Kit.ProgramEvidence.Select(place => place.File)).OfType<string>().Distinct().Order(StringComparer.Ordinal))
        {
            string file = Path.Combine(program, name);
            // A name that leads out of the program's folder would lead out of the set's as well.
            if (File.Exists(file) && Path.GetFullPath(file).StartsWith(Path.GetFullPath(program) + Path.DirectorySeparatorChar, StringComparison.Ordinal)) yield return (file, "settings/" + name);
        }
    }

    private static SetMember PackFile(string source, string name, string target)
    {
        using FileStream input = new(source, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1 << 20, FileOptions.SequentialScan);
        using FileStream output = new(target, FileMode.CreateNew, FileAccess.Write);
        using var packedHash = new HashingStream(output);
        using var plainHash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        long bytes = 0;
        using (var zstd = new CompressionStream(packedHash, CompressionLevel, leaveOpen: true))
        {
            byte[] buffer = new byte[1 << 18];
            for (int read; (read = input.Read(buffer)) > 0; bytes += read)
            {
                plainHash.AppendData(buffer, 0, read);
                zstd.Write(buffer, 0, read);
            }
        }
        string mode = OperatingSystem.IsWindows() ? "644" : Convert.ToString((int)File.GetUnixFileMode(source), 8);
        return new SetMember(name, bytes, Convert.ToHexStringLower(plainHash.GetHashAndReset()), packedHash.Count, packedHash.Digest(), mode,
            new DateTimeOffset(File.GetLastWriteTimeUtc(source)));
    }

    private static void Add(TarWriter tar, string name, Stream content, DateTimeOffset modified) =>
        tar.WriteEntry(new PaxTarEntry(TarEntryType.RegularFile, name) { DataStream = content, ModificationTime = modified });

    /// <summary>The manifest of a set; not proved.</summary>
    /// <exception cref="TransferraException">The file is no set.</exception>
    public static BackupSetInfo ReadInfo(string path)
    {
        try
        {
            using FileStream file = File.OpenRead(path);
            using var tar = new TarReader(file);
            TarEntry? first = tar.GetNextEntry();
            if (first?.Name == SetManifest.FirstMember && first.DataStream is not null
                && JsonSerializer.Deserialize<SetManifest>(first.DataStream, SetManifest.Json) is { Format: SetManifest.CurrentFormat } manifest)
                return new BackupSetInfo(path, file.Length, manifest);
        }
        catch (Exception error) when (error is JsonException or InvalidDataException or EndOfStreamException or FormatException or ArgumentException)
        {
            throw NoSet(path, error);
        }
        catch (IOException error) when (!File.Exists(path))
        {
            throw new TransferraException($"the backup set {path} is not there", "List the sets with: transferra restore", error);
        }
        throw NoSet(path, null);
    }

    private static TransferraException NoSet(string path, Exception? error) => new($"{path} is no backup set, or its beginning is damaged", "Use another set of the company.", error);

    /// <summary>The sets of a folder, newest first; files that are no sets are passed over.</summary>
    public static IReadOnlyList<BackupSetInfo> List(string folder)
    {
        var sets = new List<BackupSetInfo>();
        if (!Directory.Exists(folder)) return sets;
        foreach (string path in Directory.EnumerateFiles(folder, "*.tar"))
        {
            try { sets.Add(ReadInfo(path)); }
            catch (TransferraException) { /* some other file; a damaged set is named when it is asked for by name */ }
        }
        return [.. sets.OrderByDescending(set => set.Manifest.MadeAt)];
    }

    /// <summary>Reads a whole set back and compares every digest.</summary>
    /// <returns>What is wrong; empty when nothing is.</returns>
    public static IReadOnlyList<SetFault> Verify(string path) => new SetReader(path, null).Run();

    /// <summary>Unpacks some members into a folder; the whole set is read and verified on the way.</summary>
    /// <param name="path">The set.</param>
    /// <param name="folder">Empty or not there.</param>
    /// <param name="isWanted">Which members, by their names.</param>
    /// <returns>What is wrong; the folder is of use only when nothing is.</returns>
    public static IReadOnlyList<SetFault> UnpackSome(string path, string folder, Func<string, bool> isWanted) => new SetReader(path, folder, isWanted).Run();

    /// <summary>Unpacks a set into a folder that is empty or not there, verifying it on the way.</summary>
    /// <returns>What is wrong; the folder is of use only when nothing is.</returns>
    public static IReadOnlyList<SetFault> Unpack(string path, string folder) => new SetReader(path, folder).Run();

    /// <summary>Whether the records of an unpacked store are those the manifest tells of.</summary>
    public static IReadOnlyList<SetFault> CompareRecords(SetManifest manifest, IReadOnlyList<TableBaseline> now)
    {
        var faults = new List<SetFault>();
        foreach (TableBaseline then in manifest.Baseline)
        {
            TableBaseline? table = now.FirstOrDefault(table => table.Table == then.Table);
            if (table != then) faults.Add(new SetFault("records", then.Table, $"the table {then.Table} had {then.Records} records with fingerprint {then.Fingerprint}, and has {table?.Records ?? 0} with {table?.Fingerprint ?? "none"}"));
        }
        return faults;
    }
}
