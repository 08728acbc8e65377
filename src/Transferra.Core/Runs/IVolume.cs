// IVolume.cs: the file operations that safety rests on, in one place, so that tests can make each of them fail or kill the program at it.
// Reading, and what engines write into a staged store, do not go through here: neither can harm what the office has.
// Holds: (1) Rename never overwrites; (2) Append and WriteNew return after the content is on the disk; (3) a new or changed name is on
//        the disk after FlushFolder.
using System.Runtime.InteropServices;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>File operations on the disk.</summary>
public interface IVolume
{
    /// <summary>Whether a file or folder is there.</summary>
    bool Exists(string path);

    /// <summary>Creates a folder, with those above it; fine when it is there.</summary>
    void CreateFolder(string path);

    /// <summary>Gives a file or folder another name on the same volume; fails when the new name is taken.</summary>
    void Rename(string from, string to);

    /// <summary>Removes a file, or a folder with everything in it; fine when it is not there.</summary>
    void Remove(string path);

    /// <summary>Writes a new file and flushes it; fails when it is there.</summary>
    void WriteNew(string path, ReadOnlySpan<byte> content);

    /// <summary>Adds to the end of a file and flushes it.</summary>
    void Append(string path, ReadOnlySpan<byte> content);

    /// <summary>Proves that files can be made in a folder, by making one that has no name: also after a kill nothing of it is left.</summary>
    /// <exception cref="IOException">They cannot, and why.</exception>
    void TryWriting(string folder);

    /// <summary>Gives a file or folder these permissions.</summary>
    void SetMode(string path, UnixFileMode mode);

    /// <summary>Gives a file or folder to the owner and group of another, as far as this user may; root may, others may not.</summary>
    void SetOwner(string path, string like);

    /// <summary>Flushes a file's content.</summary>
    void FlushFile(string path);

    /// <summary>Flushes the names in a folder.</summary>
    void FlushFolder(string path);
}

/// <summary>The real disk.</summary>
public sealed partial class DiskVolume : IVolume
{
    /// <inheritdoc/>
    public bool Exists(string path) => Path.Exists(path);

    /// <inheritdoc/>
    public void CreateFolder(string path) => Directory.CreateDirectory(path);

    /// <inheritdoc/>
    public void Rename(string from, string to)
    {
        if (Path.Exists(to)) throw new IOException($"cannot rename {from}: {to} is there already");
        if (Directory.Exists(from)) Directory.Move(from, to);
        else File.Move(from, to, overwrite: false);
    }

    /// <inheritdoc/>
    public void Remove(string path)
    {
        if (Directory.Exists(path)) Directory.Delete(path, recursive: true);
        else if (File.Exists(path)) File.Delete(path);
    }

    /// <inheritdoc/>
    public void WriteNew(string path, ReadOnlySpan<byte> content) => Write(path, FileMode.CreateNew, content);

    /// <inheritdoc/>
    public void Append(string path, ReadOnlySpan<byte> content) => Write(path, FileMode.Append, content);

    private static void Write(string path, FileMode mode, ReadOnlySpan<byte> content)
    {
        using FileStream file = new(path, mode, FileAccess.Write, FileShare.Read);
        file.Write(content);
        file.Flush(flushToDisk: true);
    }

    /// <inheritdoc/>
    public void TryWriting(string folder)
    {
        // A file without a name: O_TMPFILE of open(2). File systems that have none, such as those of memory sticks, get one with a name.
        const int readWrite = 2, nameless = 0x410000, noSuchOperation = 95, isFolder = 21, invalid = 22;
        int handle = OpenWithMode(Encoding.UTF8.GetBytes(folder + "\0"), readWrite | nameless, 0x180);
        if (handle >= 0)
        {
            _ = Close(handle);
            return;
        }
        int error = Marshal.GetLastPInvokeError();
        if (error is not (noSuchOperation or isFolder or invalid)) throw new IOException(Marshal.GetPInvokeErrorMessage(error).ToLowerInvariant());
        string probe = Path.Combine(folder, ".transferra-probe");
        using FileStream file = new(probe, FileMode.Create, FileAccess.Write, FileShare.None, 1, FileOptions.DeleteOnClose);
    }

    /// <inheritdoc/>
    public void SetMode(string path, UnixFileMode mode)
    {
        if (!OperatingSystem.IsWindows()) File.SetUnixFileMode(path, mode);
    }

    /// <inheritdoc/>
    public void SetOwner(string path, string like)
    {
        if (FileIdentity.Of(like) is { } owner && FileIdentity.EffectiveUser == 0 && ChangeOwner(path, owner.Owner, owner.Group) != 0)
            throw new IOException($"{path} cannot be given to the owner of {like}: {Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError()).ToLowerInvariant()}");
    }

    /// <inheritdoc/>
    public void FlushFile(string path)
    {
        using FileStream file = new(path, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite | FileShare.Delete);
        file.Flush(flushToDisk: true);
    }

    /// <inheritdoc/>
    public void FlushFolder(string path)
    {
        // .NET refuses a handle to a folder on Linux, so the system is asked directly: open(2), fsync(2), close(2).
        const int readOnly = 0, directory = 0x10000;
        int handle = Open(Encoding.UTF8.GetBytes(path + "\0"), readOnly | directory);
        if (handle < 0) throw new IOException($"cannot open the folder {path} to flush it (error {Marshal.GetLastPInvokeError()})");
        try
        {
            if (FSync(handle) != 0) throw new IOException($"cannot flush the folder {path} (error {Marshal.GetLastPInvokeError()})");
        }
        finally
        {
            _ = Close(handle);
        }
    }

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int Open(byte[] path, int flags);

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int OpenWithMode(byte[] path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "chown", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int ChangeOwner(string path, uint owner, uint group);

    [LibraryImport("libc", EntryPoint = "fsync", SetLastError = true)]
    private static partial int FSync(int handle);

    [LibraryImport("libc", EntryPoint = "close")]
    private static partial int Close(int handle);
}
