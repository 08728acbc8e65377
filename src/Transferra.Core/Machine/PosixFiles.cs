// PosixFiles.cs: files by the bytes of their names, and what .NET does not offer of them: links, owners, holes, attributes, exact times.
// Source: the manual pages of section 2 that each function names. All throw IOException (or UnauthorizedAccessException) with the system's words.
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>Files of Linux, by the bytes of their paths.</summary>
internal static partial class PosixFiles
{
    private const int AtCurrentFolder = -100, NoFollow = 0x100, NotPermitted = 1, NoEntry = 2, AccessDenied = 13, NotSupported = 95;

    // The one flag of open(2) used here whose value is another one on ARM.
    private static readonly int NoFollowFlag = RuntimeInformation.ProcessArchitecture is Architecture.Arm64 or Architecture.Arm ? 0x8000 : 0x20000;

    /// <summary>A path of .NET as bytes.</summary>
    public static byte[] Bytes(string path) => Encoding.UTF8.GetBytes(path);

    /// <summary>An entry below a folder.</summary>
    public static byte[] Join(byte[] folder, ReadOnlySpan<byte> name) => [.. folder, (byte)'/', .. name];

    /// <summary>What can be shown of a name: bytes that are not UTF-8 are written as % and two hexadecimal digits.</summary>
    public static string Shown(ReadOnlySpan<byte> name)
    {
        var text = new StringBuilder();
        while (!name.IsEmpty)
        {
            if (Rune.DecodeFromUtf8(name, out Rune rune, out int used) == System.Buffers.OperationStatus.Done) text.Append(rune.ToString());
            else
                foreach (byte bad in name[..used]) text.Append(System.Globalization.CultureInfo.InvariantCulture, $"%{bad:X2}");
            name = name[used..];
        }
        return text.ToString();
    }

    /// <summary>What is at a path; null when nothing is.</summary>
    public static FileStat? Stat(byte[] path, bool follow = false)
    {
        const int basic = 0x7FF, size = 256;
        byte[] buffer = new byte[size];
        if (StatX(AtCurrentFolder, Terminated(path), follow ? 0 : NoFollow, basic, buffer) == 0) return FileStat.FromStatX(buffer);
        int error = Marshal.GetLastPInvokeError();
        return error is NoEntry or 20 ? null : throw Failed(error, "look at", path);
    }

    /// <summary>The names in a folder, in order of their bytes.</summary>
    public static List<byte[]> Names(byte[] folder)
    {
        nint stream = OpenFolder(Terminated(folder));
        if (stream == 0) throw Failed(Marshal.GetLastPInvokeError(), "list", folder);
        var names = new List<byte[]>();
        try
        {
            // struct dirent: inode 8, offset 8, length 2, type 1, then the name, ended by zero.
            const int nameOffset = 19;
            for (nint entry; (entry = ReadFolder(stream)) != 0;)
            {
                int length = 0;
                while (Marshal.ReadByte(entry, nameOffset + length) != 0) length++;
                byte[] name = new byte[length];
                Marshal.Copy(entry + nameOffset, name, 0, length);
                if (!name.AsSpan().SequenceEqual("."u8) && !name.AsSpan().SequenceEqual(".."u8)) names.Add(name);
            }
        }
        finally
        {
            _ = CloseFolder(stream);
        }
        names.Sort((left, right) => left.AsSpan().SequenceCompareTo(right));
        return names;
    }

    /// <summary>Opens a file for reading; a link is not followed. Its time of last reading is left alone where this user may.</summary>
    public static SafeFileHandle OpenRead(byte[] path)
    {
        const int closeOnExec = 0x80000, noAccessTime = 0x40000;
        int handle = Open(Terminated(path), NoFollowFlag | closeOnExec | noAccessTime, 0);
        if (handle < 0 && Marshal.GetLastPInvokeError() == NotPermitted) handle = Open(Terminated(path), NoFollowFlag | closeOnExec, 0); // another's file
        return handle >= 0 ? new SafeFileHandle(handle, ownsHandle: true) : throw Failed(Marshal.GetLastPInvokeError(), "read", path);
    }

    /// <summary>Creates a file that must not be there, readable by its owner only.</summary>
    public static SafeFileHandle CreateNew(byte[] path)
    {
        const int readWrite = 2, create = 0x40, exclusive = 0x80, closeOnExec = 0x80000;
        int handle = Open(Terminated(path), readWrite | create | exclusive | closeOnExec, 0x180);
        return handle >= 0 ? new SafeFileHandle(handle, ownsHandle: true) : throw Failed(Marshal.GetLastPInvokeError(), "create", path);
    }

    /// <summary>Makes a folder, with those above it; fine when it is there.</summary>
    public static void MakeFolder(byte[] path)
    {
        const int exists = 17;
        if (MakeDirectory(Terminated(path), 0x1C0) == 0) return;
        int error = Marshal.GetLastPInvokeError(), above = path.AsSpan().LastIndexOf((byte)'/');
        if (error == exists) return;
        if (error != NoEntry || above <= 0) throw Failed(error, "make the folder", path);
        MakeFolder(path[..above]);
        if (MakeDirectory(Terminated(path), 0x1C0) != 0 && Marshal.GetLastPInvokeError() is var again and not exists) throw Failed(again, "make the folder", path);
    }

    /// <summary>Where a symbolic link leads to.</summary>
    public static byte[] ReadLink(byte[] path)
    {
        byte[] buffer = new byte[4096];
        nint length = ReadLink(Terminated(path), buffer, buffer.Length);
        return length >= 0 ? buffer[..(int)length] : throw Failed(Marshal.GetLastPInvokeError(), "read the link", path);
    }

    /// <summary>Makes a symbolic link.</summary>
    public static void MakeLink(byte[] path, byte[] target) => Check(SymLink(Terminated(target), Terminated(path)), "make the link", path);

    /// <summary>Gives a file a second name.</summary>
    public static void MakeName(byte[] existing, byte[] path) => Check(Link(Terminated(existing), Terminated(path)), "make the second name", path);

    /// <summary>Sets permission bits.</summary>
    public static void SetMode(byte[] path, int mode) => Check(ChangeMode(Terminated(path), mode), "set the permissions of", path);

    /// <summary>Gives an entry to a user and a group; a link itself, not what it leads to.</summary>
    public static void SetOwner(byte[] path, uint owner, uint group) => Check(ChangeOwner(Terminated(path), owner, group), "set the owner of", path);

    /// <summary>Sets when the content was changed last; of a link itself. The time of last reading becomes the same.</summary>
    public static void SetModified(byte[] path, long nanoseconds)
    {
        long seconds = Math.DivRem(nanoseconds, 1_000_000_000, out long rest);
        if (rest < 0) (seconds, rest) = (seconds - 1, rest + 1_000_000_000);
        Check(SetTimes(AtCurrentFolder, Terminated(path), [seconds, rest, seconds, rest], NoFollow), "set the time of", path);
    }

    /// <summary>The extended attributes of an entry, among them its access control lists; empty where there are none or the volume keeps none.</summary>
    public static IReadOnlyDictionary<string, byte[]> Attributes(byte[] path)
    {
        // Most files have none, and there are many files.
        byte[] terminated = Terminated(path);
        nint length = ListAttributes(terminated, [], 0);
        if (length <= 0) return NoAttributes;
        byte[] list = new byte[1 << 16];
        length = ListAttributes(terminated, list, list.Length);
        var attributes = new SortedDictionary<string, byte[]>(StringComparer.Ordinal);
        if (length <= 0) return attributes;
        foreach (string name in Encoding.UTF8.GetString(list, 0, (int)length).Split('\0', StringSplitOptions.RemoveEmptyEntries))
        {
            byte[] value = new byte[1 << 16];
            nint size = GetAttribute(Terminated(path), name, value, value.Length);
            if (size >= 0) attributes[name] = value[..(int)size];
        }
        return attributes;
    }

    private static readonly IReadOnlyDictionary<string, byte[]> NoAttributes = new Dictionary<string, byte[]>();

    /// <summary>Sets an extended attribute.</summary>
    /// <returns>False when the volume keeps none, or this user may not.</returns>
    public static bool SetAttribute(byte[] path, string name, byte[] value)
    {
        if (SetAttribute(Terminated(path), name, value, value.Length, 0) == 0) return true;
        int error = Marshal.GetLastPInvokeError();
        return error is NotPermitted or AccessDenied or NotSupported ? false : throw Failed(error, $"set {name} of", path);
    }

    /// <summary>Puts everything that was written to a volume on its disk: syncfs(2).</summary>
    public static void FlushVolume(byte[] folder)
    {
        int handle = Open(Terminated(folder), 0, 0);
        if (handle < 0) throw Failed(Marshal.GetLastPInvokeError(), "flush", folder);
        using var owned = new SafeFileHandle(handle, ownsHandle: true);
        Check(SyncVolume(owned), "flush", folder);
    }

    /// <summary>Lets the system forget what it keeps of a file in memory, so that reading it reads the disk: posix_fadvise(2). Without effect where the volume
    /// has its own mind.</summary>
    public static void ForgetCached(SafeFileHandle file) => ForgetCached(file, 0, 0);

    /// <summary>The same of a part of a file; whole pages only.</summary>
    /// <param name="file">The file.</param>
    /// <param name="position">Where the part begins.</param>
    /// <param name="bytes">How long it is; 0: to the end.</param>
    public static void ForgetCached(SafeFileHandle file, long position, long bytes) => _ = Advise(file, position, bytes, 4);

    /// <summary>Begins to put a part of a file on the disk, without waiting for it: sync_file_range(2). Without effect where the volume has its own mind.</summary>
    public static void BeginFlush(SafeFileHandle file, long position, long bytes) => _ = SyncRange(file, position, bytes, 2);

    /// <summary>Waits until a part of a file has gone to the disk: sync_file_range(2). It may stand in the disk's own memory, and the file's size is not flushed by this.</summary>
    public static void FinishFlush(SafeFileHandle file, long position, long bytes) => _ = SyncRange(file, position, bytes, 7);

    /// <summary>Copies bytes from file to file inside the system, shared by both where the volume can: copy_file_range(2).</summary>
    /// <returns>False when these two files cannot do it; then nothing was copied.</returns>
    public static bool CopyRange(SafeFileHandle from, long fromAt, SafeFileHandle to, long toAt, long bytes)
    {
        bool any = false;
        const long CopiedAtATime = 8 << 20; // measured: from 1 to 16 MiB a call take half the time of larger ones
        while (bytes > 0)
        {
            nint done = CopyFileRange(from, ref fromAt, to, ref toAt, (nint)Math.Min(bytes, CopiedAtATime), 0);
            if (done < 0 && !any && Marshal.GetLastPInvokeError() is 18 or 22 or 38 or NotSupported) return false;
            if (done <= 0)
                throw new IOException(done == 0 ? "the file ended while it was copied" : Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError())
                    .ToLowerInvariant());
            any = true;
            bytes -= done;
        }
        return true;
    }

    /// <summary>The name of a user; "" when there is none.</summary>
    public static string UserName(uint number) => NameOf(Passwords, number);

    /// <summary>The name of a group; "" when there is none.</summary>
    public static string GroupName(uint number) => NameOf(Groups, number);

    /// <summary>The number of a user here; null when there is none of that name.</summary>
    public static uint? UserNumber(string name) => Names(Passwords).TryGetValue(name, out uint number) ? number : null;

    /// <summary>The number of a group here; null when there is none of that name.</summary>
    public static uint? GroupNumber(string name) => Names(Groups).TryGetValue(name, out uint number) ? number : null;

    private const string Passwords = "/etc/passwd", Groups = "/etc/group";

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<string, IReadOnlyDictionary<string, uint>> Known = new();

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<(string, uint), string> KnownNames = new();

    private static string NameOf(string file, uint number) => KnownNames.GetOrAdd((file, number), _ => Names(file).FirstOrDefault(entry => entry.Value == number).Key ?? "");

    // passwd(5), group(5): the name first, the number third.
    private static IReadOnlyDictionary<string, uint> Names(string file) => Known.GetOrAdd(file, path =>
    {
        var names = new Dictionary<string, uint>(StringComparer.Ordinal);
        if (!File.Exists(path)) return names;
        foreach (string line in File.ReadLines(path))
            if (line.Split(':') is [var name, _, var number, ..] && uint.TryParse(number, out uint parsed)) names.TryAdd(name, parsed);
        return names;
    });

    private static byte[] Terminated(byte[] path) => [.. path, 0];

    private static void Check(int result, string doing, byte[] path)
    {
        if (result != 0) throw Failed(Marshal.GetLastPInvokeError(), doing, path);
    }

    private static Exception Failed(int error, string doing, byte[] path)
    {
        string words = $"cannot {doing} {Shown(path)}: {Marshal.GetPInvokeErrorMessage(error).ToLowerInvariant()}";
        return error is NotPermitted or AccessDenied ? new UnauthorizedAccessException(words) : new IOException(words, error);
    }

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    private static partial int StatX(int folder, byte[] path, int flags, uint mask, byte[] buffer);

    [LibraryImport("libc", EntryPoint = "opendir", SetLastError = true)]
    private static partial nint OpenFolder(byte[] path);

    [LibraryImport("libc", EntryPoint = "readdir", SetLastError = true)]
    private static partial nint ReadFolder(nint stream);

    [LibraryImport("libc", EntryPoint = "closedir")]
    private static partial int CloseFolder(nint stream);

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int Open(byte[] path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "mkdir", SetLastError = true)]
    private static partial int MakeDirectory(byte[] path, int mode);

    [LibraryImport("libc", EntryPoint = "readlink", SetLastError = true)]
    private static partial nint ReadLink(byte[] path, byte[] buffer, nint size);

    [LibraryImport("libc", EntryPoint = "symlink", SetLastError = true)]
    private static partial int SymLink(byte[] target, byte[] path);

    [LibraryImport("libc", EntryPoint = "link", SetLastError = true)]
    private static partial int Link(byte[] existing, byte[] path);

    [LibraryImport("libc", EntryPoint = "chmod", SetLastError = true)]
    private static partial int ChangeMode(byte[] path, int mode);

    [LibraryImport("libc", EntryPoint = "lchown", SetLastError = true)]
    private static partial int ChangeOwner(byte[] path, uint owner, uint group);

    [LibraryImport("libc", EntryPoint = "utimensat", SetLastError = true)]
    private static partial int SetTimes(int folder, byte[] path, long[] times, int flags);

    [LibraryImport("libc", EntryPoint = "llistxattr", SetLastError = true)]
    private static partial nint ListAttributes(byte[] path, byte[] list, nint size);

    [LibraryImport("libc", EntryPoint = "lgetxattr", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial nint GetAttribute(byte[] path, string name, byte[] value, nint size);

    [LibraryImport("libc", EntryPoint = "lsetxattr", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetAttribute(byte[] path, string name, byte[] value, nint size, int flags);

    [LibraryImport("libc", EntryPoint = "syncfs", SetLastError = true)]
    private static partial int SyncVolume(SafeFileHandle file);

    [LibraryImport("libc", EntryPoint = "posix_fadvise")]
    private static partial int Advise(SafeFileHandle file, long offset, long length, int advice);

    [LibraryImport("libc", EntryPoint = "sync_file_range")]
    private static partial int SyncRange(SafeFileHandle file, long position, long bytes, uint flags);

    [LibraryImport("libc", EntryPoint = "copy_file_range", SetLastError = true)]
    private static partial nint CopyFileRange(SafeFileHandle from, ref long fromAt, SafeFileHandle to, ref long toAt, nint length, uint flags);
}
