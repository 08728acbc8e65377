// FolderFiles.cs: the files below a folder, by their names as the disk has them, which need not be text in UTF-8.
// Why not the platform's own listing: it turns such names into ones that are not there, and follows links in circles.
namespace Transferra.Core.Machine;

/// <summary>A file, or a link, below a folder.</summary>
/// <param name="Name">Its path below the folder, as the disk has it.</param>
/// <param name="Stat">What the disk says of it.</param>
internal sealed record FoundFile(byte[] Name, FileStat Stat)
{
    /// <summary>Its path below the folder, for a person.</summary>
    public string Shown => PosixFiles.Shown(Name);

    /// <summary>Whether it is a link, which is not followed.</summary>
    public bool IsLink => Stat.Kind == FileKind.Link;
}

/// <summary>A folder whose files are looked at.</summary>
internal sealed class FolderFiles : IDisposable
{
    private readonly byte[] _path;
    private readonly FolderTree _tree;

    /// <summary>Opens the folder, or what it is a link to.</summary>
    /// <exception cref="IOException">It is not there or is not a folder.</exception>
    public FolderFiles(string folder)
    {
        _path = PosixFiles.Bytes(FileIdentity.RealPath(folder) ?? folder);
        _tree = new FolderTree(_path);
    }

    /// <summary>Files and links, folder by folder, in order of their bytes.</summary>
    /// <param name="unreadable">Hears of a folder that cannot be read, and why; null when that is an error.</param>
    public IEnumerable<FoundFile> All(Action<string, string>? unreadable = null) => Below([], unreadable);

    private IEnumerable<FoundFile> Below(byte[] folder, Action<string, string>? unreadable)
    {
        List<byte[]> names;
        try { names = _tree.Names(folder); }
        catch (Exception error) when (unreadable is not null && error is IOException or UnauthorizedAccessException)
        {
            unreadable!(PosixFiles.Shown(folder), error.Message);
            yield break;
        }
        foreach (byte[] name in names)
        {
            byte[] path = folder.Length == 0 ? name : PosixFiles.Join(folder, name);
            if (_tree.Stat(path) is not { } stat) continue;
            if (stat.Kind == FileKind.Folder)
            {
                foreach (FoundFile found in Below(path, unreadable)) yield return found;
            }
            else yield return new FoundFile(path, stat);
        }
    }

    /// <summary>Opens a file for reading.</summary>
    /// <exception cref="IOException">It cannot be read, or is none any more.</exception>
    public Stream Open(FoundFile file) => file.Stat.Kind == FileKind.File ? new FileStream(_tree.OpenRead(file.Name), FileAccess.Read, 0)
        : throw new IOException("it is a pipe, a socket or a device and not a file");

    /// <summary>Where a link leads.</summary>
    public byte[] LinkOf(FoundFile link) => PosixFiles.ReadLink(PosixFiles.Join(_path, link.Name));

    /// <summary>Whether what a link leads to is not there, or is the link again.</summary>
    public bool LeadsNowhere(FoundFile link)
    {
        try { return PosixFiles.Stat(PosixFiles.Join(_path, link.Name), follow: true) is null; }
        catch (IOException) { return true; }
    }

    /// <inheritdoc/>
    public void Dispose() => _tree.Dispose();
}
