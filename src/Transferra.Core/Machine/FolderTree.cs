// FolderTree.cs: a folder and all that is below it, reached part by part with handles and never through a link.
// Why handles: between looking at a path and opening it, somebody who may write in one of its folders can put a link there; a set that
// somebody forged brings its links along. A path that is walked by handles leads nowhere else, whatever is put in its way.
// Holds: (1) nothing outside the folder is read, written or removed; (2) nothing that is there is overwritten; (3) a link in the way is
// an error that names it.
// Source: openat(2), O_NOFOLLOW; path_resolution(7). Calls from several threads at a time are fine.
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>A folder and what is below it.</summary>
internal sealed class FolderTree : IDisposable
{
    private const int OwnersFile = 0x180, OwnersFolder = 0x1C0;
    private readonly byte[] _path;
    private readonly SafeFileHandle _root;

    /// <summary>Where it is.</summary>
    public byte[] Path => _path;

    /// <summary>Opens a folder; links in the path that leads to it are followed, the folder itself must be one.</summary>
    /// <exception cref="IOException">It is not there or is not a folder.</exception>
    public FolderTree(byte[] path)
    {
        _path = path;
        int handle = SystemCalls.Open(PosixFiles.Terminated(path), OpenFlags.Directory | OpenFlags.NoFollow | OpenFlags.CloseOnExec, 0);
        _root = handle >= 0 ? new SafeFileHandle(handle, ownsHandle: true) : throw PosixFiles.Failed(Marshal.GetLastPInvokeError(),
            "open the folder", path);
    }

    /// <summary>Creates a file that must not be there, readable by its owner only; folders above it are made.</summary>
    /// <param name="name">Path below the folder.</param>
    public SafeFileHandle CreateNew(byte[] name)
    {
        using Parent parent = ParentOf(name, makes: true);
        return Opened(SystemCalls.OpenAt(parent.Handle, parent.Name,
            OpenFlags.ReadWrite | OpenFlags.Create | OpenFlags.Exclusive | OpenFlags.NoFollow
            | OpenFlags.CloseOnExec, OwnersFile), "create", name);
    }

    /// <summary>Opens a file for reading; a pipe or a device is not waited for.</summary>
    public SafeFileHandle OpenRead(byte[] name)
    {
        using Parent parent = ParentOf(name, makes: false);
        int flags = OpenFlags.ReadOnly | OpenFlags.NoFollow | OpenFlags.NonBlocking | OpenFlags.CloseOnExec;
        int handle = SystemCalls.OpenAt(parent.Handle, parent.Name, flags | OpenFlags.NoAccessTime, 0);
        if (handle < 0 && Marshal.GetLastPInvokeError() == SystemError.NotPermitted) handle = SystemCalls.OpenAt(parent.Handle,
            parent.Name, flags, 0);
        return Opened(handle, "read", name);
    }

    /// <summary>What is at a name, links not followed; null when nothing is.</summary>
    public FileStat? Stat(byte[] name)
    {
        try
        {
            using Parent parent = ParentOf(name, makes: false);
            byte[] buffer = new byte[FileStat.RawBytes];
            if (SystemCalls.StatX(parent.Handle, parent.Name, SystemCalls.LinkItself, FileStat.Wanted,
                buffer) == 0) return FileStat.FromStatX(buffer);
        }
        catch (FileNotFoundException) { return null; }
        int error = Marshal.GetLastPInvokeError();
        return error == SystemError.NoEntry ? null : throw PosixFiles.Failed(error, "look at", PathOf(name));
    }

    /// <summary>The names in a folder below this one, in order of their bytes.</summary>
    /// <exception cref="IOException">It cannot be read to its end.</exception>
    public List<byte[]> Names(byte[] name)
    {
        using SafeFileHandle folder = OpenFolder(name);
        nint stream = SystemCalls.OpenFolder((int)folder.DangerousGetHandle());
        if (stream != 0) folder.SetHandleAsInvalid(); // it is the stream's now
        return PosixFiles.Names(stream, PathOf(name));
    }

    /// <summary>Removes everything in the folder, whatever its name is made of; of a link, the link.</summary>
    public void Clear() => Clear([]);

    private void Clear(byte[] folder)
    {
        foreach (byte[] entry in Names(folder))
        {
            byte[] name = folder.Length == 0 ? entry : PosixFiles.Join(folder, entry);
            bool isFolder = Stat(name)?.Kind == FileKind.Folder;
            if (isFolder) Clear(name);
            using Parent parent = ParentOf(name, makes: false);
            if (SystemCalls.RemoveAt(parent.Handle, parent.Name, isFolder ? SystemCalls.RemoveFolder : 0) != 0
                && Marshal.GetLastPInvokeError() is var error and not SystemError.NoEntry)
                throw PosixFiles.Failed(error, "remove", PathOf(name));
        }
    }

    /// <summary>Makes a folder, with those above it; fine when it is there.</summary>
    public void MakeFolder(byte[] name) => OpenFolder(name, makes: true).Dispose();

    /// <summary>Makes a symbolic link.</summary>
    public void MakeLink(byte[] name, byte[] target)
    {
        using Parent parent = ParentOf(name, makes: true);
        Check(SystemCalls.MakeLinkAt(PosixFiles.Terminated(target), parent.Handle, parent.Name), "make the link", name);
    }

    /// <summary>Gives a file below the folder a second name there.</summary>
    public void MakeName(byte[] existing, byte[] name)
    {
        using Parent from = ParentOf(existing, makes: false), to = ParentOf(name, makes: true);
        Check(SystemCalls.MakeNameAt(from.Handle, from.Name, to.Handle, to.Name, 0), "make the second name", name);
    }

    /// <summary>Sets the permission bits of a file or folder that is opened.</summary>
    public void SetMode(SafeFileHandle file, int mode, byte[] name) => Check(SystemCalls.SetMode(file, mode), "set the permissions of",
        name);

    /// <summary>Gives an entry to a user and a group; a link itself, not what it leads to.</summary>
    public void SetOwner(byte[] name, uint owner, uint group)
    {
        using Parent parent = ParentOf(name, makes: false);
        Check(SystemCalls.SetOwnerAt(parent.Handle, parent.Name, owner, group, SystemCalls.LinkItself), "set the owner of", name);
    }

    /// <summary>Sets when the content was changed last; of a link itself. The time of last reading becomes the same.</summary>
    /// <param name="name">Path below the folder.</param>
    /// <param name="nanoseconds">Since 1970 in UTC.</param>
    public void SetModified(byte[] name, long nanoseconds)
    {
        long seconds = Math.DivRem(nanoseconds, 1_000_000_000, out long rest);
        if (rest < 0) (seconds, rest) = (seconds - 1, rest + 1_000_000_000);
        using Parent parent = ParentOf(name, makes: false);
        Check(SystemCalls.SetTimesAt(parent.Handle, parent.Name, [seconds, rest, seconds, rest], SystemCalls.LinkItself),
            "set the time of", name);
    }

    /// <summary>Sets an extended attribute of a file or folder that is opened.</summary>
    /// <returns>False when the volume keeps none, or this user may not.</returns>
    public bool SetAttribute(SafeFileHandle file, string attribute, byte[] value, byte[] name)
    {
        if (SystemCalls.SetAttribute(file, attribute, value, value.Length, 0) == 0) return true;
        int error = Marshal.GetLastPInvokeError();
        return error is SystemError.NotPermitted or SystemError.AccessDenied or SystemError.NotSupported ? false
            : throw PosixFiles.Failed(error, $"set {attribute} of", PathOf(name));
    }

    /// <summary>Opens a folder below this one; the folder itself for an empty name.</summary>
    public SafeFileHandle OpenFolder(byte[] name, bool makes = false)
    {
        SafeFileHandle at = _root;
        for (int start = 0; start < name.Length;)
        {
            int slash = name.AsSpan(start).IndexOf((byte)'/'), end = slash < 0 ? name.Length : start + slash;
            SafeFileHandle next;
            try { next = Step(at, name, start, end, makes); }
            finally { if (at != _root) at.Dispose(); }
            at = next;
            start = end + 1;
        }
        return at != _root ? at : Opened(SystemCalls.OpenAt(_root, [(byte)'.', 0], OpenFlags.Directory | OpenFlags.CloseOnExec, 0),
            "open the folder", name);
    }

    private SafeFileHandle Step(SafeFileHandle at, byte[] name, int start, int end, bool makes)
    {
        byte[] part = [.. name.AsSpan(start, end - start), 0];
        if (makes && SystemCalls.MakeFolderAt(at, part, OwnersFolder) != 0
            && Marshal.GetLastPInvokeError() is var error and not SystemError.Exists)
            throw PosixFiles.Failed(error, "make the folder", PathOf(name[..end]));
        int handle = SystemCalls.OpenAt(at, part, OpenFlags.Directory | OpenFlags.NoFollow | OpenFlags.CloseOnExec, 0);
        if (handle < 0 && Marshal.GetLastPInvokeError() is SystemError.TooManyLinks or SystemError.NotAFolder)
            throw new IOException($"{PosixFiles.Shown(PathOf(name[..end]))} is a link or a file where a folder should be; nothing is "
                + "read or written through it");
        return Opened(handle, "open the folder", name[..end]);
    }

    private Parent ParentOf(byte[] name, bool makes)
    {
        int slash = name.AsSpan().LastIndexOf((byte)'/');
        return new Parent(OpenFolder(slash < 0 ? [] : name[..slash], makes), [.. name.AsSpan(slash + 1), 0]);
    }

    private readonly record struct Parent(SafeFileHandle Handle, byte[] Name) : IDisposable
    {
        public void Dispose() => Handle.Dispose();
    }

    private SafeFileHandle Opened(int handle, string doing, byte[] name) =>
        handle >= 0 ? new SafeFileHandle(handle, ownsHandle: true) : throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), doing,
            PathOf(name));

    private void Check(int result, string doing, byte[] name) => PosixFiles.Check(result, doing, PathOf(name));

    private byte[] PathOf(byte[] name) => name.Length == 0 ? _path : PosixFiles.Join(_path, name);

    /// <inheritdoc/>
    public void Dispose() => _root.Dispose();
}
