// SystemCalls.cs: every call to the system that .NET does not offer, and the one table of its numbers.
// Why one file: the numbers differ between processors, and a wrong one is silent: O_NOFOLLOW of one machine is O_LARGEFILE on another.
// Source: the Linux manual pages of sections 2 and 3 that each function names; asm-generic/fcntl.h and its variants for ARM.
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>Flags of open(2).</summary>
internal static class OpenFlags
{
    private static readonly bool IsArm = RuntimeInformation.ProcessArchitecture is Architecture.Arm64 or Architecture.Arm;

    public const int ReadOnly = 0, ReadWrite = 2, Create = 0x40, Exclusive = 0x80, NonBlocking = 0x800, NoAccessTime = 0x40000,
        CloseOnExec = 0x80000;

    /// <summary>Fail when the last part of the path is a symbolic link.</summary>
    public static readonly int NoFollow = IsArm ? 0x8000 : 0x20000;

    /// <summary>Fail when it is not a folder.</summary>
    public static readonly int Directory = IsArm ? 0x4000 : 0x10000;

    /// <summary>A file without a name in a folder.</summary>
    public static readonly int Nameless = 0x400000 | Directory;

    /// <summary>Only a place in the tree, for the calls that begin at one; nothing can be read through it.</summary>
    public const int PathOnly = 0x200000;
}

/// <summary>Numbers of errors, errno(3).</summary>
internal static class SystemError
{
    public const int NotPermitted = 1, NoEntry = 2, NoSuchProcess = 3, BadHandle = 9, WouldBlock = 11, AccessDenied = 13, Exists = 17,
        OtherVolume = 18,
        NotAFolder = 20, IsFolder = 21, Invalid = 22, NoLocks = 37, NoSuchCall = 38, NotEmpty = 39, TooManyLinks = 40, NotSupported = 95;
}

/// <summary>Calls to the system. Paths are bytes that end with zero, as a name on Linux need not be UTF-8.</summary>
internal static partial class SystemCalls
{
    /// <summary>Instead of a handle: paths begin at the present folder.</summary>
    public const int AtCurrentFolder = -100;

    /// <summary>For the calls that begin at a handle: a link itself, not what it leads to; a folder is meant; the handle itself is
    /// meant.</summary>
    public const int LinkItself = 0x100, RemoveFolder = 0x200, HandleItself = 0x1000;

    /// <summary>For renameat2(2): fail when the new name is taken.</summary>
    public const uint KeepExisting = 1;

    /// <summary>For flock(2).</summary>
    public const int LockAlone = 2, LockDoNotWait = 4;

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    public static partial int Open(byte[] path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "openat", SetLastError = true)]
    public static partial int OpenAt(SafeFileHandle folder, byte[] path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "close")]
    public static partial int Close(int handle);

    [LibraryImport("libc", EntryPoint = "fsync", SetLastError = true)]
    public static partial int Flush(int handle);

    [LibraryImport("libc", EntryPoint = "flock", SetLastError = true)]
    public static partial int Lock(SafeFileHandle file, int operation);

    [LibraryImport("libc", EntryPoint = "umask")]
    public static partial uint SetMask(uint mask);

    [LibraryImport("libc", EntryPoint = "getrlimit", SetLastError = true)]
    public static partial int Limits(int resource, ulong[] nowAndMost);

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    public static partial int StatX(int folder, byte[] path, int flags, uint mask, byte[] buffer);

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    public static partial int StatX(SafeFileHandle folder, byte[] path, int flags, uint mask, byte[] buffer);

    [LibraryImport("libc", EntryPoint = "statfs", SetLastError = true)]
    public static partial int StatVolume(byte[] path, byte[] buffer);

    [LibraryImport("libc", EntryPoint = "realpath", StringMarshalling = StringMarshalling.Utf8)]
    public static partial nint RealPath(string path, nint buffer);

    [LibraryImport("libc", EntryPoint = "free")]
    public static partial void Free(nint memory);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    public static partial uint EffectiveUser();

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    public static partial int Kill(int process, int signal);

    [LibraryImport("libc", EntryPoint = "opendir", SetLastError = true)]
    public static partial nint OpenFolder(byte[] path);

    [LibraryImport("libc", EntryPoint = "fdopendir", SetLastError = true)]
    public static partial nint OpenFolder(int handle);

    [LibraryImport("libc", EntryPoint = "readdir", SetLastError = true)]
    public static partial nint ReadFolder(nint stream);

    [LibraryImport("libc", EntryPoint = "closedir")]
    public static partial int CloseFolder(nint stream);

    [LibraryImport("libc", EntryPoint = "mkdir", SetLastError = true)]
    public static partial int MakeFolder(byte[] path, int mode);

    [LibraryImport("libc", EntryPoint = "mkdirat", SetLastError = true)]
    public static partial int MakeFolderAt(SafeFileHandle folder, byte[] path, int mode);

    [LibraryImport("libc", EntryPoint = "rmdir", SetLastError = true)]
    public static partial int RemoveEmptyFolder(byte[] path);

    [LibraryImport("libc", EntryPoint = "unlinkat", SetLastError = true)]
    public static partial int RemoveAt(SafeFileHandle folder, byte[] path, int flags);

    [LibraryImport("libc", EntryPoint = "renameat2", SetLastError = true)]
    public static partial int Rename(int fromFolder, byte[] from, int toFolder, byte[] to, uint flags);

    [LibraryImport("libc", EntryPoint = "readlink", SetLastError = true)]
    public static partial nint ReadLink(byte[] path, byte[] buffer, nint size);

    [LibraryImport("libc", EntryPoint = "symlinkat", SetLastError = true)]
    public static partial int MakeLinkAt(byte[] target, SafeFileHandle folder, byte[] path);

    [LibraryImport("libc", EntryPoint = "linkat", SetLastError = true)]
    public static partial int MakeNameAt(SafeFileHandle existingFolder, byte[] existing, SafeFileHandle folder, byte[] path, int flags);

    [LibraryImport("libc", EntryPoint = "fchmodat", SetLastError = true)]
    public static partial int SetModeAt(int folder, byte[] path, int mode, int flags);

    [LibraryImport("libc", EntryPoint = "fchmod", SetLastError = true)]
    public static partial int SetMode(SafeFileHandle file, int mode);

    [LibraryImport("libc", EntryPoint = "lchown", SetLastError = true)]
    public static partial int SetOwner(byte[] path, uint owner, uint group);

    [LibraryImport("libc", EntryPoint = "fchownat", SetLastError = true)]
    public static partial int SetOwnerAt(SafeFileHandle folder, byte[] path, uint owner, uint group, int flags);

    [LibraryImport("libc", EntryPoint = "utimensat", SetLastError = true)]
    public static partial int SetTimesAt(SafeFileHandle folder, byte[] path, long[] times, int flags);

    [LibraryImport("libc", EntryPoint = "llistxattr", SetLastError = true)]
    public static partial nint ListAttributes(byte[] path, byte[] list, nint size);

    [LibraryImport("libc", EntryPoint = "lgetxattr", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial nint GetAttribute(byte[] path, string name, byte[] value, nint size);

    [LibraryImport("libc", EntryPoint = "lsetxattr", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial int SetAttribute(byte[] path, string name, byte[] value, nint size, int flags);

    [LibraryImport("libc", EntryPoint = "fsetxattr", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial int SetAttribute(SafeFileHandle file, string name, byte[] value, nint size, int flags);

    [LibraryImport("libc", EntryPoint = "syncfs", SetLastError = true)]
    public static partial int FlushVolume(SafeFileHandle file);

    [LibraryImport("libc", EntryPoint = "posix_fadvise")]
    public static partial int Advise(SafeFileHandle file, long offset, long length, int advice);

    [LibraryImport("libc", EntryPoint = "sync_file_range")]
    public static partial int FlushRange(SafeFileHandle file, long position, long bytes, uint flags);

    [LibraryImport("libc", EntryPoint = "copy_file_range", SetLastError = true)]
    public static partial nint CopyFileRange(SafeFileHandle from, ref long fromAt, SafeFileHandle to, ref long toAt, nint length,
        uint flags);
}
