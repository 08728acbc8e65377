// FolderLock.cs: keeps a second Transferra away from a folder, whichever office it works for; flock(2) on the folder itself, so that
// nothing is left in it.
// Holds: (1) the lock goes with the process, however that ends; (2) no file is made unless the volume cannot lock folders.
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>A folder that is locked until this is disposed.</summary>
internal sealed class FolderLock : IDisposable
{
    // Used only where a volume, such as one of another machine, locks no folders.
    private const string FileName = ".transferra-lock";
    private readonly SafeFileHandle _handle;

    private FolderLock(SafeFileHandle handle) => _handle = handle;

    /// <summary>Locks a folder.</summary>
    /// <param name="folder">Full path of a folder that is there.</param>
    /// <returns>Null when somebody else has locked it.</returns>
    /// <exception cref="IOException">It cannot be opened.</exception>
    public static FolderLock? TryTake(string folder)
    {
        byte[] path = PosixFiles.Terminated(PosixFiles.Bytes(folder));
        int opened = SystemCalls.Open(path, OpenFlags.Directory | OpenFlags.CloseOnExec, 0);
        if (opened < 0) throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), "open the folder", PosixFiles.Bytes(folder));
        var handle = new SafeFileHandle(opened, ownsHandle: true);
        if (SystemCalls.Lock(handle, SystemCalls.LockAlone | SystemCalls.LockDoNotWait) == 0) return new FolderLock(handle);
        int error = Marshal.GetLastPInvokeError();
        handle.Dispose();
        if (error == SystemError.WouldBlock) return null;
        return error is SystemError.BadHandle or SystemError.NoLocks or SystemError.Invalid or SystemError.NoSuchCall
            or SystemError.NotSupported
            ? TryTakeFile(Path.Combine(folder, FileName)) : throw PosixFiles.Failed(error, "lock the folder", PosixFiles.Bytes(folder));
    }

    private static FolderLock? TryTakeFile(string file)
    {
        int opened = SystemCalls.Open(PosixFiles.Terminated(PosixFiles.Bytes(file)),
            OpenFlags.ReadWrite | OpenFlags.Create | OpenFlags.NoFollow | OpenFlags.CloseOnExec, 0x180);
        if (opened < 0) throw PosixFiles.Failed(Marshal.GetLastPInvokeError(), "lock", PosixFiles.Bytes(file));
        var handle = new SafeFileHandle(opened, ownsHandle: true);
        if (SystemCalls.Lock(handle, SystemCalls.LockAlone | SystemCalls.LockDoNotWait) == 0) return new FolderLock(handle);
        int error = Marshal.GetLastPInvokeError();
        handle.Dispose();
        return error == SystemError.WouldBlock ? null : throw PosixFiles.Failed(error, "lock", PosixFiles.Bytes(file));
    }

    /// <inheritdoc/>
    public void Dispose() => _handle.Dispose();
}
