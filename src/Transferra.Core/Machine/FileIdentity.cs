// FileIdentity.cs: what a file is, whatever it is called: its volume, its number there, its owner; statx(2), which .NET does not offer.
using System.Runtime.InteropServices;

namespace Transferra.Core.Machine;

/// <summary>Identity of a file or folder.</summary>
/// <param name="Device">Number of the volume.</param>
/// <param name="Inode">Number on the volume.</param>
/// <param name="Owner">Number of the user.</param>
/// <param name="Group">Number of the group.</param>
public readonly partial record struct FileIdentity(long Device, long Inode, uint Owner, uint Group)
{
    /// <summary>The user this program runs as.</summary>
    public static uint EffectiveUser => GetEffectiveUser();

    /// <summary>The identity of what is at a path; null when nothing is.</summary>
    public static FileIdentity? Of(string path)
    {
        // Offsets are those of struct statx.
        const int atCurrentFolder = -100, basic = 0x7FF, size = 256, owner = 20, group = 24, inode = 32, deviceMajor = 136, deviceMinor = 140;
        byte[] buffer = new byte[size];
        if (StatX(atCurrentFolder, path, 0, basic, buffer) != 0) return null;
        return new FileIdentity(((long)BitConverter.ToUInt32(buffer, deviceMajor) << 32) | BitConverter.ToUInt32(buffer, deviceMinor),
            BitConverter.ToInt64(buffer, inode), BitConverter.ToUInt32(buffer, owner), BitConverter.ToUInt32(buffer, group));
    }

    /// <summary>A path freed of all links, also of folders above it: realpath(3); null when nothing is there.</summary>
    public static string? RealPath(string path)
    {
        nint resolved = ResolvePath(path, 0);
        if (resolved == 0) return null;
        try { return Marshal.PtrToStringUTF8(resolved); }
        finally { Free(resolved); }
    }

    [LibraryImport("libc", EntryPoint = "realpath", StringMarshalling = StringMarshalling.Utf8)]
    private static partial nint ResolvePath(string path, nint buffer);

    [LibraryImport("libc", EntryPoint = "free")]
    private static partial void Free(nint memory);

    [LibraryImport("libc", EntryPoint = "statx", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int StatX(int folder, string path, int flags, uint mask, byte[] buffer);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    private static partial uint GetEffectiveUser();
}
