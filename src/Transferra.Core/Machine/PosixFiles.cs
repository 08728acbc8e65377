// PosixFiles.cs: files by the bytes of their names, and what .NET does not offer of them: what a link leads to, attributes, exact times.
// Writing below a folder, where nothing may lead out of it, is in FolderTree.cs.
// Source: the manual pages of section 2 that each function names. All throw IOException (or UnauthorizedAccessException) with the
// system's words.
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace Transferra.Core.Machine;

/// <summary>Files of Linux, by the bytes of their paths.</summary>
internal static class PosixFiles
{


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
        byte[] buffer = new byte[FileStat.RawBytes];
        if (SystemCalls.StatX(SystemCalls.AtCurrentFolder, Terminated(path), follow ? 0 : SystemCalls.LinkItself, FileStat.Wanted,
            buffer) == 0) return FileStat.FromStatX(buffer);
        int error = Marshal.GetLastPInvokeError();
        return error is SystemError.NoEntry or SystemError.NotAFolder ? null : throw Failed(error, "look at", path);
    }

    /// <summary>The names in a folder that was opened as a stream, in order of their bytes; the stream is closed.</summary>
    /// <exception cref="IOException">The folder cannot be read to its end.</exception>
    internal static List<byte[]> Names(nint stream, byte[] folder)
    {
        if (stream == 0) throw Failed(Marshal.GetLastPInvokeError(), "list", folder);
        var names = new List<byte[]>();
        try
        {
            // struct dirent: inode 8, offset 8, length 2, type 1, then the name, ended by zero.
            const int nameOffset = 19;
            for (nint entry; (entry = SystemCalls.ReadFolder(stream)) != 0;)
            {
                int length = 0;
                while (Marshal.ReadByte(entry, nameOffset + length) != 0) length++;
                byte[] name = new byte[length];
                Marshal.Copy(entry + nameOffset, name, 0, length);
                if (!name.AsSpan().SequenceEqual("."u8) && !name.AsSpan().SequenceEqual(".."u8)) names.Add(name);
            }
            // The end of a folder and an error look alike, but for the error's number.
            if (Marshal.GetLastPInvokeError() is var error and not 0) throw Failed(error, "list to its end", folder);
        }
        finally
        {
            _ = SystemCalls.CloseFolder(stream);
        }
        names.Sort((left, right) => left.AsSpan().SequenceCompareTo(right));
        return names;
    }

    /// <summary>Opens a file for reading; a link is not followed, and a pipe or a device is not waited for. Its time of last reading is
    /// left alone where this user may.</summary>
    public static SafeFileHandle OpenRead(byte[] path)
    {
        int flags = OpenFlags.NoFollow | OpenFlags.NonBlocking | OpenFlags.CloseOnExec;
        int handle = SystemCalls.Open(Terminated(path), flags | OpenFlags.NoAccessTime, 0);
        // Only its owner may ask for that.
        if (handle < 0 && Marshal.GetLastPInvokeError() == SystemError.NotPermitted) handle = SystemCalls.Open(Terminated(path), flags, 0);
        return handle >= 0 ? new SafeFileHandle(handle, ownsHandle: true) : throw Failed(Marshal.GetLastPInvokeError(), "read", path);
    }

    /// <summary>Makes a folder, with those above it; fine when it is there.</summary>
    public static void MakeFolder(byte[] path)
    {
        const int exists = 17;
        if (SystemCalls.MakeFolder(Terminated(path), 0x1C0) == 0) return;
        int error = Marshal.GetLastPInvokeError(), above = path.AsSpan().LastIndexOf((byte)'/');
        if (error == exists) return;
        if (error != SystemError.NoEntry || above <= 0) throw Failed(error, "make the folder", path);
        MakeFolder(path[..above]);
        if (SystemCalls.MakeFolder(Terminated(path), 0x1C0) != 0
            && Marshal.GetLastPInvokeError() is var again and not exists) throw Failed(again, "make the folder", path);
    }

    /// <summary>Where a symbolic link leads to.</summary>
    public static byte[] ReadLink(byte[] path)
    {
        byte[] buffer = new byte[4096];
        nint length = SystemCalls.ReadLink(Terminated(path), buffer, buffer.Length);
        return length >= 0 ? buffer[..(int)length] : throw Failed(Marshal.GetLastPInvokeError(), "read the link", path);
    }

    /// <summary>The extended attributes of an entry, among them its access control lists; empty where there are none or the volume keeps
    /// none.</summary>
    public static IReadOnlyDictionary<string, byte[]> Attributes(byte[] path)
    {
        // Most files have none, and there are many files.
        byte[] terminated = Terminated(path);
        nint length = SystemCalls.ListAttributes(terminated, [], 0);
        if (length <= 0) return NoAttributes;
        byte[] list = new byte[1 << 16];
        length = SystemCalls.ListAttributes(terminated, list, list.Length);
        var attributes = new SortedDictionary<string, byte[]>(StringComparer.Ordinal);
        if (length <= 0) return attributes;
        foreach (string name in Encoding.UTF8.GetString(list, 0, (int)length).Split('\0', StringSplitOptions.RemoveEmptyEntries))
        {
            byte[] value = new byte[1 << 16];
            nint size = SystemCalls.GetAttribute(Terminated(path), name, value, value.Length);
            if (size >= 0) attributes[name] = value[..(int)size];
        }
        return attributes;
    }

    private static readonly IReadOnlyDictionary<string, byte[]> NoAttributes = new Dictionary<string, byte[]>();

    /// <summary>Sets an extended attribute.</summary>
    /// <returns>False when the volume keeps none, or this user may not.</returns>
    public static bool SetAttribute(byte[] path, string name, byte[] value)
    {
        if (SystemCalls.SetAttribute(Terminated(path), name, value, value.Length, 0) == 0) return true;
        int error = Marshal.GetLastPInvokeError();
        return error is SystemError.NotPermitted or SystemError.AccessDenied or SystemError.NotSupported ? false
            : throw Failed(error, $"set {name} of", path);
    }

    /// <summary>Puts everything that was written to a volume on its disk: syncfs(2).</summary>
    public static void FlushVolume(byte[] folder)
    {
        int handle = SystemCalls.Open(Terminated(folder), OpenFlags.ReadOnly | OpenFlags.CloseOnExec, 0);
        if (handle < 0) throw Failed(Marshal.GetLastPInvokeError(), "flush", folder);
        using var owned = new SafeFileHandle(handle, ownsHandle: true);
        Check(SystemCalls.FlushVolume(owned), "flush", folder);
    }

    /// <summary>Lets the system forget what it keeps of a file in memory, so that reading it reads the disk: posix_fadvise(2). Without
    /// effect where the volume has its own mind.</summary>
    public static void ForgetCached(SafeFileHandle file) => ForgetCached(file, 0, 0);

    /// <summary>The same of a part of a file; whole pages only.</summary>
    /// <param name="file">The file.</param>
    /// <param name="position">Where the part begins.</param>
    /// <param name="bytes">How long it is; 0: to the end.</param>
    public static void ForgetCached(SafeFileHandle file, long position, long bytes) => _ = SystemCalls.Advise(file, position, bytes, 4);

    /// <summary>Begins to put a part of a file on the disk, without waiting for it: sync_file_range(2). Without effect where the volume
    /// has its own mind.</summary>
    public static void BeginFlush(SafeFileHandle file, long position, long bytes) => _ = SystemCalls.FlushRange(file, position, bytes, 2);

    /// <summary>Waits until a part of a file has gone to the disk: sync_file_range(2). It may stand in the disk's own memory, and the
    /// file's size is not flushed by this.</summary>
    public static void FinishFlush(SafeFileHandle file, long position, long bytes) => _ = SystemCalls.FlushRange(file, position, bytes, 7);

    /// <summary>Copies bytes from file to file inside the system, shared by both where the volume can: copy_file_range(2).</summary>
    /// <returns>False when these two files cannot do it; then nothing was copied.</returns>
    public static bool CopyRange(SafeFileHandle from, long fromAt, SafeFileHandle to, long toAt, long bytes)
    {
        bool any = false;
        const long CopiedAtATime = 8 << 20; // measured: from 1 to 16 MiB a call take half the time of larger ones
        while (bytes > 0)
        {
            nint done = SystemCalls.CopyFileRange(from, ref fromAt, to, ref toAt, (nint)Math.Min(bytes, CopiedAtATime), 0);
            if (done < 0 && !any && Marshal.GetLastPInvokeError() is SystemError.OtherVolume or SystemError.Invalid
                or SystemError.NoSuchCall or SystemError.NotSupported) return false;
            if (done <= 0)
                throw new IOException(done == 0 ? "the file ended while it was copied"
                    : Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError())
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

    /// <summary>Whether a user here belongs to a group, as the first of its own or as a member.</summary>
    public static bool IsInGroup(string user, uint group) =>
        LinesOf(Passwords).Any(parts => parts is [var name, _, _, var first, ..] && name == user && first == Text(group))
        || LinesOf(Groups).Any(parts => parts is [_, _, var number, var members, ..] && number == Text(group)
            && members.Split(',').Contains(user, StringComparer.Ordinal));

    private static string Text(uint number) => number.ToString(System.Globalization.CultureInfo.InvariantCulture);

    private static IEnumerable<string[]> LinesOf(string file) => File.Exists(file) ? File.ReadLines(file).Select(line => line.Split(':'))
        : [];

    private const string Passwords = "/etc/passwd", Groups = "/etc/group";

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<string, IReadOnlyDictionary<string, uint>> Known = new();

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<(string, uint), string> KnownNames = new();

    private static string NameOf(string file, uint number) => KnownNames.GetOrAdd((file, number),
        _ => Names(file).FirstOrDefault(entry => entry.Value == number).Key ?? "");

    // passwd(5), group(5): the name first, the number third.
    private static IReadOnlyDictionary<string, uint> Names(string file) => Known.GetOrAdd(file, path =>
    {
        var names = new Dictionary<string, uint>(StringComparer.Ordinal);
        foreach (string[] line in LinesOf(path))
            if (line is [var name, _, var number, ..] && uint.TryParse(number, out uint parsed)) names.TryAdd(name, parsed);
        return names;
    });

    /// <summary>A path as the system's calls want it.</summary>
    internal static byte[] Terminated(byte[] path) => [.. path, 0];

    internal static void Check(int result, string doing, byte[] path)
    {
        if (result != 0) throw Failed(Marshal.GetLastPInvokeError(), doing, path);
    }

    /// <summary>What an error of the system is to us, in its own words.</summary>
    internal static Exception Failed(int error, string doing, byte[] path)
    {
        string words = $"cannot {doing} {Shown(path)}: {Marshal.GetPInvokeErrorMessage(error).ToLowerInvariant()}";
        return error is SystemError.NotPermitted or SystemError.AccessDenied ? new UnauthorizedAccessException(words)
            : error is SystemError.NoEntry ? new FileNotFoundException(words) : new IOException(words, error);
    }
}
