// FileIdentity.cs: what a file is, whatever it is called: its volume, its number there, its owner; statx(2), which .NET does not offer.
using System.Runtime.InteropServices;

namespace Transferra.Core.Machine;

/// <summary>Identity of a file or folder.</summary>
/// <param name="Device">Number of the volume.</param>
/// <param name="Inode">Number on the volume.</param>
/// <param name="Owner">Number of the user.</param>
/// <param name="Group">Number of the group.</param>
internal readonly record struct FileIdentity(long Device, long Inode, uint Owner, uint Group)
{
    // As many as the system follows: MAXSYMLINKS.
    private const int MostLinks = 40;

    /// <summary>The user this program runs as.</summary>
    public static uint EffectiveUser => SystemCalls.EffectiveUser();

    /// <summary>The identity of what is at a path; null when nothing is.</summary>
    public static FileIdentity? Of(string path)
    {
        // Offsets are those of struct statx.
        const int basic = 0x7FF, size = 256, owner = 20, group = 24, inode = 32, deviceMajor = 136, deviceMinor = 140;
        byte[] buffer = new byte[size];
        if (SystemCalls.StatX(SystemCalls.AtCurrentFolder, [.. PosixFiles.Bytes(path), 0], 0, basic, buffer) != 0) return null;
        return new FileIdentity(((long)BitConverter.ToUInt32(buffer, deviceMajor) << 32) | BitConverter.ToUInt32(buffer, deviceMinor),
            BitConverter.ToInt64(buffer, inode), BitConverter.ToUInt32(buffer, owner), BitConverter.ToUInt32(buffer, group));
    }

    /// <summary>The first part of a path that is a link which neither this user nor root made: whoever did may lead it anywhere at any
    /// time; null when there is none.</summary>
    public static string? ForeignLink(string path)
    {
        for (int slash = path.IndexOf('/', 1); slash >= 0; slash = slash < path.Length ? path.IndexOf('/', slash + 1) is var next and >= 0
            ? next : path.Length : -1)
        {
            string part = path[..slash];
            if (PosixFiles.Stat(PosixFiles.Bytes(part)) is not { } stat) return null;
            if (stat.Kind == FileKind.Link && stat.Owner != 0 && stat.Owner != EffectiveUser) return part;
        }
        return null;
    }

    /// <summary>A path freed of all links, also of folders above it, whether or not anything is where they lead: a store that a run has
    /// set aside is missing there for a while, and must keep its name.</summary>
    /// <param name="path">A full path.</param>
    public static string Followed(string path) => Followed(path, MostLinks);

    // Of a loop of links, the path as far as it got.
    private static string Followed(string path, int left)
    {
        path = Path.TrimEndingDirectorySeparator(path);
        if (RealPath(path) is { } real) return real;
        if (Path.GetDirectoryName(path) is not { } above) return path;
        string folder = Followed(above, left);
        return left > 0 && new FileInfo(path).LinkTarget is { Length: > 0 } target ? Followed(Path.Combine(folder, target), left - 1)
            : Path.Combine(folder, Path.GetFileName(path));
    }

    /// <summary>A path freed of all links, also of folders above it: realpath(3); null when nothing is there.</summary>
    public static string? RealPath(string path)
    {
        nint resolved = SystemCalls.RealPath(path, 0);
        if (resolved == 0) return null;
        try { return Marshal.PtrToStringUTF8(resolved); }
        finally { SystemCalls.Free(resolved); }
    }
}
