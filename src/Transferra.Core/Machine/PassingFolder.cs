// PassingFolder.cs: a folder of one process, of which nothing is to stay once that has ended, however it ended: records lie in it
// unpacked.
// Holds: (1) it goes when it is disposed; (2) one whose process was killed goes when the next one is made beside it; (3) one that is in
// use, one of another user and a link stay.
namespace Transferra.Core.Machine;

/// <summary>A folder that is there as long as it is used.</summary>
public sealed class PassingFolder : IDisposable
{
    private const int MostTries = 20;

    private readonly IVolume _volume;
    private readonly FolderLock _held;

    private PassingFolder(IVolume volume, string path, FolderLock held) => (_volume, Path, _held) = (volume, path, held);

    /// <summary>Its full path.</summary>
    public string Path { get; }

    /// <summary>Makes one, empty, and clears those that were left beside it.</summary>
    /// <param name="volume">Makes and removes.</param>
    /// <param name="above">Where; it is there.</param>
    /// <param name="prefix">How the names of all of the kind begin, and no others.</param>
    /// <exception cref="IOException">It cannot be made.</exception>
    public static PassingFolder Make(IVolume volume, string above, string prefix)
    {
        ClearLeft(volume, above, prefix);
        for (int tries = 1; ; tries++)
        {
            string path = System.IO.Path.Combine(above, prefix + System.IO.Path.GetRandomFileName());
            volume.MakeFolder(path);
            FolderLock? held = null;
            try { held = FolderLock.TryTake(path); }
            catch (IOException) when (!Directory.Exists(path)) { /* cleared, see below */ }
            // Whoever cleared up before it was locked took it for one that was left.
            if (held is not null && Directory.Exists(path)) return new PassingFolder(volume, path, held);
            held?.Dispose();
            if (tries == MostTries) throw new IOException($"no folder could be kept in {above}: others remove what is made there");
        }
    }

    private static void ClearLeft(IVolume volume, string above, string prefix)
    {
        foreach (string left in Directory.EnumerateDirectories(above, prefix + "*"))
        {
            if (PosixFiles.Stat(PosixFiles.Bytes(left)) is not { Kind: FileKind.Folder } stat || stat.Owner != FileIdentity.EffectiveUser)
                continue;
            try
            {
                using FolderLock? nobodys = FolderLock.TryTake(left);
                if (nobodys is not null) volume.Remove(left);
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* another clears it, or the next one */ }
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _volume.Remove(Path);
        _held.Dispose();
    }
}
