// SetPlace.cs: the places sets are kept in, whatever they are, and a set found by its path in any of them.
// Holds: (1) a file that is named like a set is complete and on the disk: Put and Adopt give it its name at the end; (2) nothing that is
// there is overwritten.
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>A file in a place.</summary>
/// <param name="Name">Its name there.</param>
/// <param name="Bytes">Its size.</param>
public sealed record PlacedFile(string Name, long Bytes);

/// <summary>A place that sets are kept in. All its members throw IOException or UnauthorizedAccessException when it cannot be reached or
/// written.</summary>
public interface ISetPlace
{
    /// <summary>What it is called: a folder's full path, or sftp://user@host:port/folder.</summary>
    string Name { get; }

    /// <summary>Its folder on this machine; null when it is elsewhere.</summary>
    string? LocalFolder { get; }

    /// <summary>Whether its folder is there.</summary>
    bool IsThere();

    /// <summary>Reads a small file; null when it is not there or larger.</summary>
    byte[]? ReadSmall(string name, int mostBytes);

    /// <summary>Writes a small file that must not be there.</summary>
    void WriteSmall(string name, byte[] content);

    /// <summary>Makes it ready for sets: its folder is made when it is not there.</summary>
    void Prepare();

    /// <summary>The files and folders in it, by name; none when it is not there.</summary>
    IReadOnlyList<PlacedFile> List();

    /// <summary>How many bytes this user may still write there; null when the place does not tell.</summary>
    long? FreeBytes() => null;

    /// <summary>Whether something of this name is there.</summary>
    bool Has(string name);

    /// <summary>Opens a file for reading.</summary>
    ISetFile Open(string name);

    /// <summary>Opens a file that is about to be read from its beginning to its end.</summary>
    /// <param name="name">Its name there.</param>
    /// <param name="scratch">Folder on this machine for a copy, where one is needed.</param>
    /// <param name="progress">Hears bytes fetched and in all.</param>
    /// <param name="cancel">Stops fetching.</param>
    ISetFile OpenWhole(string name, string scratch, Action<long, long> progress, CancellationToken cancel) => Open(name);

    /// <summary>Copies a finished set into the place: written under another name, put on the disk, renamed.</summary>
    /// <param name="from">A file on this machine.</param>
    /// <param name="name">Must not be taken.</param>
    /// <param name="asWritten">What it is called until then.</param>
    /// <param name="progress">Hears bytes done and in all.</param>
    /// <param name="cancel">Stops between two parts; what was written is removed.</param>
    void Put(string from, string name, string asWritten, Action<long, long> progress, CancellationToken cancel);

    /// <summary>Gives a file another name; fails when that is taken.</summary>
    void Rename(string from, string to);

    /// <summary>Removes a file, or a folder with all that is in it; fine when it is not there.</summary>
    void Remove(string name);
}

/// <summary>A folder on this machine.</summary>
/// <param name="folder">Full path.</param>
/// <param name="volume">The disk.</param>
public sealed class LocalPlace(string folder, IVolume volume) : ISetPlace
{
    private const int CopyBytes = 64 << 20;

    /// <inheritdoc/>
    public string Name => folder;

    /// <inheritdoc/>
    public string? LocalFolder => folder;

    /// <inheritdoc/>
    public bool IsThere() => Directory.Exists(folder);

    /// <inheritdoc/>
    public byte[]? ReadSmall(string name, int mostBytes)
    {
        if (PosixFiles.Stat(PosixFiles.Bytes(Path.Combine(folder, name))) is not { Kind: FileKind.File } stat
            || stat.Bytes > mostBytes) return null;
        return File.ReadAllBytes(Path.Combine(folder, name));
    }

    /// <inheritdoc/>
    public void WriteSmall(string name, byte[] content)
    {
        volume.WriteNew(Path.Combine(folder, name), content);
        volume.FlushFolder(folder);
    }

    /// <inheritdoc/>
    public void Prepare() => volume.CreateFolder(folder);

    /// <inheritdoc/>
    public IReadOnlyList<PlacedFile> List() => !Directory.Exists(folder) ? []
        : [.. new DirectoryInfo(folder).EnumerateFileSystemInfos().OrderBy(entry => entry.Name, StringComparer.Ordinal)
            .Select(entry => new PlacedFile(entry.Name, LengthOf(entry)))];

    // A file that is none of ours may be gone by now, or have a name that is not a text.
    private static long LengthOf(FileSystemInfo entry)
    {
        try { return entry is FileInfo file ? file.Length : 0; }
        catch (IOException) { return 0; }
    }

    /// <inheritdoc/>
    public bool Has(string name) => Path.Exists(Path.Combine(folder, name));

    /// <inheritdoc/>
    public ISetFile Open(string name) => new LocalSetFile(Path.Combine(folder, name));

    /// <inheritdoc/>
    public void Put(string from, string name, string asWritten, Action<long, long> progress, CancellationToken cancel)
    {
        string path = Path.Combine(folder, name), part = Path.Combine(folder, asWritten);
        volume.Remove(part);
        try
        {
            using (var source = new LocalSetFile(from))
            using (var sink = new PlainSink(part))
            {
                for (long at = 0; at < source.Length; at += CopyBytes)
                {
                    cancel.ThrowIfCancellationRequested();
                    sink.AppendFrom(source, at, Math.Min(CopyBytes, source.Length - at));
                    progress(Math.Min(source.Length, at + CopyBytes), source.Length);
                }
                sink.Finish();
            }
            volume.FlushFile(part);
            volume.Rename(part, path);
            volume.FlushFolder(folder);
        }
        finally
        {
            volume.Remove(part);
        }
    }

    /// <summary>Takes a finished set that was packed on the same volume.</summary>
    public void Adopt(string from, string name)
    {
        volume.FlushFile(from);
        volume.Rename(from, Path.Combine(folder, name));
        volume.FlushFolder(folder);
    }

    /// <inheritdoc/>
    public void Rename(string from, string to)
    {
        volume.Rename(Path.Combine(folder, from), Path.Combine(folder, to));
        volume.FlushFolder(folder);
    }

    /// <inheritdoc/>
    public void Remove(string name) => volume.Remove(Path.Combine(folder, name));
}

/// <summary>All places of an office, and sets by their paths.</summary>
/// <param name="places">The places.</param>
/// <param name="secret">Opens locked sets; null when there is none.</param>
/// <param name="locksNewSets">Whether new sets are locked.</param>
public sealed class SetPlaces(IReadOnlyList<ISetPlace> places, SetSecret? secret = null, bool locksNewSets = false)
{
    /// <summary>What the name of a set ends in, and that of a locked one.</summary>
    public const string Suffix = ".tar", LockedSuffix = ".tar.locked";

    /// <summary>The places, in the order of office.yaml.</summary>
    public IReadOnlyList<ISetPlace> Places { get; } = places;

    /// <summary>Whether new sets are locked.</summary>
    public bool LocksNewSets => locksNewSets;

    /// <summary>Opens locked sets.</summary>
    public SetSecret Secret { get; } = secret ?? new SetSecret(() => null);

    /// <summary>Places in folders of this machine.</summary>
    public static SetPlaces Local(IEnumerable<string> folders, IVolume volume) =>
        new([.. folders.Select(folder => new LocalPlace(folder, volume))]);

    /// <summary>Whether a file is named like a set.</summary>
    public static bool IsNamedLikeSet(string name) => name.EndsWith(Suffix, StringComparison.Ordinal)
        || name.EndsWith(LockedSuffix, StringComparison.Ordinal);

    /// <summary>A set's path in a place.</summary>
    public static string PathIn(ISetPlace place, string name) => place.Name + "/" + name;

    /// <summary>The place a set is in, and its name there. Any other path is that of a file on this machine.</summary>
    public (ISetPlace Place, string Name) Find(string path)
    {
        int slash = path.LastIndexOf('/');
        string name = path[(slash + 1)..], folder = slash <= 0 ? "/" : path[..slash];
        return (Places.FirstOrDefault(place => place.Name == folder) ?? new LocalPlace(folder, new DiskVolume()), name);
    }

    /// <summary>Opens a set for reading; a locked one so that what it holds is read.</summary>
    /// <exception cref="TransferraException">It is not there, or its beginning is damaged.</exception>
    /// <exception cref="SetLockedException">It is locked, and the passphrase is not the right one.</exception>
    public ISetFile Open(string path) => Unlock(Stored(path, (place, name) => place.Open(name)), path);

    /// <summary>Opens a set that is about to be read from its beginning to its end; one that is elsewhere is fetched first.</summary>
    /// <param name="path">The set.</param>
    /// <param name="scratch">Folder on this machine for what is fetched.</param>
    /// <param name="progress">Hears bytes fetched and in all.</param>
    /// <param name="cancel">Stops fetching.</param>
    public ISetFile OpenWhole(string path, string scratch, Action<long, long> progress, CancellationToken cancel) =>
        Unlock(Stored(path, (place, name) => place.OpenWhole(name, scratch, progress, cancel)), path);

    /// <summary>What a file holds: itself, or what is locked in it. It belongs to what is returned.</summary>
    internal ISetFile Unlock(ISetFile stored, string path)
    {
        try
        {
            return LockedHeader.IsAt(stored) ? new LockedSetFile(stored, Secret) : stored;
        }
        catch (Exception error)
        {
            stored.Dispose();
            if (error is InvalidDataException)
                throw new TransferraException($"{path}: {error.Message}",
                    "Heal it from another place with transferra sets --heal, or use another set.", error);
            throw;
        }
    }

    /// <summary>Opens a set's file as it is stored.</summary>
    internal ISetFile OpenStored(string path) => Stored(path, (place, name) => place.Open(name));

    private ISetFile Stored(string path, Func<ISetPlace, string, ISetFile> open)
    {
        (ISetPlace place, string name) = Find(path);
        try
        {
            return open(place, name);
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            throw new TransferraException($"the backup set {path} is not there", "List the sets with: transferra sets", error);
        }
    }

    /// <summary>The manifest of a set; not proved.</summary>
    /// <exception cref="TransferraException">The file is not a set.</exception>
    public BackupSetInfo Read(string path)
    {
        using ISetFile file = Open(path);
        return new BackupSetInfo(path, file.Length, ManifestOf(file, path));
    }

    /// <summary>The manifest of a set, held against its seal; nothing else of the set is read.</summary>
    /// <exception cref="TransferraException">The file is not a set, or its manifest is not the one that was written.</exception>
    public BackupSetInfo ReadSealed(string path)
    {
        using ISetFile file = Open(path);
        SetBeginning beginning = SetBeginning.Read(file);
        SetManifest manifest = ManifestIn(beginning, path);
        return beginning.JudgeSeal(file, beginning.Layout()) is not { } fault ? new BackupSetInfo(path, file.Length, manifest)
            : throw new TransferraException($"the set {path} is damaged: {fault.Member}: {fault.What}",
                "Use another set, or heal it: transferra sets --heal");
    }

    internal static SetManifest ManifestOf(ISetFile file, string path) => ManifestIn(SetBeginning.Read(file), path);

    internal static SetManifest ManifestIn(SetBeginning beginning, string path) => beginning.Manifest
        ?? throw new TransferraException($"{path} is not a backup set, or its beginning is damaged", "Use another set of the company.");

    /// <summary>The sets of a place, newest first. Files that are no sets are passed over; a damaged one is named when it is asked for by
    /// name.</summary>
    /// <param name="place">The place.</param>
    /// <param name="begins">What their names begin with; the others are not opened.</param>
    public IReadOnlyList<ListedSet> ListIn(ISetPlace place, string begins = "")
    {
        var sets = new List<ListedSet>();
        foreach (PlacedFile file in place.List().Where(file => IsNamedLikeSet(file.Name)
            && file.Name.StartsWith(begins, StringComparison.Ordinal)))
        {
            string path = PathIn(place, file.Name);
            try
            {
                using ISetFile opened = place.Open(file.Name);
                if (LockedHeader.IsAt(opened)) sets.Add(new ListedSet(path, file.Bytes, LockedHeader.Read(opened).Label, true));
                else if (SetBeginning.ReadLabel(opened) is { } label) sets.Add(new ListedSet(path, file.Bytes, label, false));
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
            { /* gone since, a folder,
                not ours to read, or damaged at its beginning */
            }
        }
        return [.. sets.OrderByDescending(set => set.Label.MadeAt)];
    }

    /// <summary>The sets of all places that can be reached.</summary>
    /// <param name="unreachable">Hears of a place that cannot be.</param>
    public IReadOnlyList<ListedSet> List(Action<ISetPlace, string>? unreachable = null)
    {
        var sets = new List<ListedSet>();
        foreach (ISetPlace place in Places)
        {
            try { sets.AddRange(ListIn(place)); }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                if (unreachable is null) throw;
                unreachable(place, error.Message);
            }
        }
        return sets;
    }
}
