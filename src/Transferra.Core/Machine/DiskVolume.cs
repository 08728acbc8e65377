// DiskVolume.cs: the disk of this machine as a volume.
using System.Runtime.InteropServices;

namespace Transferra.Core.Machine;

/// <summary>The real disk.</summary>
public sealed class DiskVolume : IVolume
{
    private const UnixFileMode OwnersFile = UnixFileMode.UserRead | UnixFileMode.UserWrite,
        OwnersFolder = OwnersFile | UnixFileMode.UserExecute;

    /// <inheritdoc/>
    public bool Exists(string path) => PosixFiles.Stat(PosixFiles.Bytes(path)) is not null;

    /// <inheritdoc/>
    public void CreateFolder(string path) => Directory.CreateDirectory(path, OwnersFolder);

    /// <inheritdoc/>
    public void MakeFolder(string path) => PosixFiles.Check(SystemCalls.MakeFolder(Terminated(path), (int)OwnersFolder),
        "make the folder", PosixFiles.Bytes(path));

    /// <inheritdoc/>
    public void Rename(string from, string to)
    {
        if (SystemCalls.Rename(SystemCalls.AtCurrentFolder, Terminated(from), SystemCalls.AtCurrentFolder, Terminated(to),
            SystemCalls.KeepExisting) == 0) return;
        int error = Marshal.GetLastPInvokeError();
        if (error == SystemError.Exists) throw new IOException($"cannot rename {from}: {to} is there already");
        if (error is not (SystemError.Invalid or SystemError.NoSuchCall)) throw PosixFiles.Failed(error, $"rename to {to}:",
            PosixFiles.Bytes(from));
        // A volume that cannot keep what is there by itself is looked at first.
        if (Exists(to)) throw new IOException($"cannot rename {from}: {to} is there already");
        if (Directory.Exists(from)) Directory.Move(from, to);
        else File.Move(from, to, overwrite: false);
    }

    /// <inheritdoc/>
    public void Remove(string path)
    {
        switch (PosixFiles.Stat(PosixFiles.Bytes(path))?.Kind)
        {
            case FileKind.Folder:
                // .NET cannot remove what has a name that is not UTF-8.
                using (var tree = new FolderTree(PosixFiles.Bytes(path))) tree.Clear();
                if (!RemoveEmptyFolder(path)) throw new IOException($"{path} could not be removed: something came into it meanwhile");
                break;
            case not null: File.Delete(path); break;
        }
    }

    /// <inheritdoc/>
    public bool RemoveEmptyFolder(string path)
    {
        if (SystemCalls.RemoveEmptyFolder(Terminated(path)) == 0) return true;
        int error = Marshal.GetLastPInvokeError();
        return error == SystemError.NoEntry || (error is SystemError.NotEmpty or SystemError.Exists ? false
            : throw PosixFiles.Failed(error, "remove the folder", PosixFiles.Bytes(path)));
    }

    /// <inheritdoc/>
    public void WriteNew(string path, ReadOnlySpan<byte> content) => Write(path, FileMode.CreateNew, content);

    /// <inheritdoc/>
    public void Append(string path, ReadOnlySpan<byte> content) => Write(path, FileMode.Append, content);

    private static void Write(string path, FileMode mode, ReadOnlySpan<byte> content)
    {
        using var file = new FileStream(path, new FileStreamOptions
        {
            Mode = mode,
            Access = FileAccess.Write,
            Share = FileShare.Read,
            UnixCreateMode = OwnersFile,
        });
        file.Write(content);
        file.Flush(flushToDisk: true);
    }

    /// <inheritdoc/>
    public void Replace(string path, ReadOnlySpan<byte> content)
    {
        string aside = $"{path}.{Path.GetRandomFileName()}";
        try
        {
            Write(aside, FileMode.CreateNew, content);
            File.Move(aside, path, overwrite: true);
        }
        catch
        {
            File.Delete(aside);
            throw;
        }
        FlushFolder(Path.GetDirectoryName(path)!);
    }

    /// <inheritdoc/>
    public void ReplaceWith(string path, string source)
    {
        string aside = $"{path}.{Path.GetRandomFileName()}";
        try
        {
            using (FileStream from = PlainFile.Open(source, 1 << 20))
            using (var to = new FileStream(aside, new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = OwnersFile
            }))
            {
                from.CopyTo(to, 1 << 20);
                to.Flush(flushToDisk: true);
            }
            SetOwner(aside, source);
            SetMode(aside, File.GetUnixFileMode(source));
            File.Move(aside, path, overwrite: true);
        }
        catch
        {
            File.Delete(aside);
            throw;
        }
        FlushFolder(Path.GetDirectoryName(path)!);
    }

    /// <inheritdoc/>
    public void TryWriting(string folder)
    {
        int handle = SystemCalls.Open(Terminated(folder), OpenFlags.ReadWrite | OpenFlags.Nameless | OpenFlags.CloseOnExec,
            (int)OwnersFile);
        if (handle >= 0)
        {
            _ = SystemCalls.Close(handle);
            return;
        }
        int error = Marshal.GetLastPInvokeError();
        if (error is not (SystemError.NotSupported or SystemError.IsFolder
            or SystemError.Invalid)) throw new IOException(Marshal.GetPInvokeErrorMessage(error).ToLowerInvariant());
        // File systems that have no nameless files, such as those of memory sticks, get one with a name that nobody can have put there
        // before.
        using FileStream file = new(Path.Combine(folder, ".transferra-" + Path.GetRandomFileName()), FileMode.CreateNew, FileAccess.Write,
            FileShare.None, 1,
            FileOptions.DeleteOnClose);
    }

    /// <inheritdoc/>
    public double TryRate(string folder)
    {
        const int size = 8 << 20;
        byte[] bytes = new byte[size];
        Random.Shared.NextBytes(bytes); // so that no file system packs it
        int opened = SystemCalls.Open(Terminated(folder), OpenFlags.ReadWrite | OpenFlags.Nameless | OpenFlags.CloseOnExec,
            (int)OwnersFile);
        if (opened < 0) throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), "write in", PosixFiles.Bytes(folder));
        using var handle = new Microsoft.Win32.SafeHandles.SafeFileHandle(opened, ownsHandle: true);
        var clock = System.Diagnostics.Stopwatch.StartNew();
        RandomAccess.Write(handle, bytes, 0);
        RandomAccess.FlushToDisk(handle);
        return size / Math.Max(0.001, clock.Elapsed.TotalSeconds);
    }

    /// <inheritdoc/>
    public void SetMode(string path, UnixFileMode mode) =>
        PosixFiles.Check(SystemCalls.SetModeAt(SystemCalls.AtCurrentFolder, Terminated(path), (int)mode, SystemCalls.LinkItself),
            "set the permissions of", PosixFiles.Bytes(path));

    /// <inheritdoc/>
    public void SetOwner(string path, string like)
    {
        if (FileIdentity.Of(like) is { } owner && FileIdentity.EffectiveUser == 0 && SystemCalls.SetOwner(Terminated(path), owner.Owner,
            owner.Group) != 0)
            throw new IOException($"{path} cannot be given to the owner of {like}: "
                + $"{Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError()).ToLowerInvariant()}");
    }

    /// <inheritdoc/>
    public void SetOwner(string path, uint user, uint group)
    {
        if (SystemCalls.SetOwner(Terminated(path), user, group) != 0)
            throw new IOException($"{path} cannot be given to another user: "
                + Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError()).ToLowerInvariant());
    }

    /// <inheritdoc/>
    public void FlushFile(string path) => Flush(path, 0, "file");

    /// <inheritdoc/>
    public void FlushFolder(string path) => Flush(path, OpenFlags.Directory, "folder");

    // .NET refuses a handle to a folder on Linux, and to a file that a server has locked, so the system is asked directly: open(2),
    // fsync(2), close(2).
    private static void Flush(string path, int flags, string kind)
    {
        int handle = SystemCalls.Open(Terminated(path), OpenFlags.ReadOnly | OpenFlags.CloseOnExec | flags, 0);
        if (handle < 0) throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), $"open for flushing the {kind}", PosixFiles.Bytes(path));
        try
        {
            PosixFiles.Check(SystemCalls.Flush(handle), $"flush the {kind}", PosixFiles.Bytes(path));
        }
        finally
        {
            _ = SystemCalls.Close(handle);
        }
    }

    private static byte[] Terminated(string path) => PosixFiles.Terminated(PosixFiles.Bytes(path));
}
