// VolumeIdentity.cs: which volume a folder is on, by what stays the same when the disk is plugged in again: the number its file system
// gives itself, statfs(2); and whether a folder lies where a volume should be that is not mounted, fstab(5).
using System.Buffers.Binary;
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>Volumes.</summary>
public static class VolumeIdentity
{
    private const int RawBytes = 256, KindOffset = 0, NumberOffset = 56;

    // File systems of other machines, whose number may be another at each mount: NFS, CIFS, SMB2, FUSE, 9P, Ceph (magic.h).
    private static readonly HashSet<uint> Remote = [0x6969, 0xFF534D42, 0xFE534D42, 0x517B, 0x65735546, 0x01021997, 0x00C36400];

    /// <summary>A name of the volume of a folder that is there; "" when it has none that lasts.</summary>
    public static string Of(string folder)
    {
        byte[] raw = new byte[RawBytes];
        if (SystemCalls.StatVolume(PosixFiles.Terminated(PosixFiles.Bytes(folder)), raw) != 0) return "";
        uint kind = BinaryPrimitives.ReadUInt32LittleEndian(raw.AsSpan(KindOffset));
        ulong number = BinaryPrimitives.ReadUInt64LittleEndian(raw.AsSpan(NumberOffset));
        return Remote.Contains(kind) || number == 0 ? "" : string.Create(CultureInfo.InvariantCulture, $"{kind:x}:{number:x16}");
    }

    /// <summary>Whether a file lies on another machine, or may: others then write to it without this one's noticing at once.</summary>
    public static bool IsRemote(string path)
    {
        byte[] raw = new byte[RawBytes];
        return SystemCalls.StatVolume(PosixFiles.Terminated(PosixFiles.Bytes(path)), raw) != 0
            || Remote.Contains(BinaryPrimitives.ReadUInt32LittleEndian(raw.AsSpan(KindOffset)));
    }

    /// <summary>The folder above a path, or itself, on which /etc/fstab wants a volume mounted that is not; null when there is
    /// none.</summary>
    public static string? NotMounted(string path)
    {
        const string table = "/etc/fstab";
        if (!File.Exists(table)) return null;
        HashSet<string> mounted = File.Exists("/proc/self/mountinfo") ? [.. File.ReadLines("/proc/self/mountinfo")
            .Select(line => Unescaped(line.Split(' ')[4]))] : [];
        return File.ReadLines(table).Select(line => line.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))
            .Where(cells => cells.Length > 1 && cells[0][0] != '#')
            .Select(cells => Unescaped(cells[1]).TrimEnd('/')).Where(point => point.Length > 1
                && (path == point || path.StartsWith(point + "/", StringComparison.Ordinal)))
            .OrderByDescending(point => point.Length).FirstOrDefault(point => !mounted.Contains(point));
    }

    // Blanks in names are written as \040, tabs as \011.
    private static string Unescaped(string text) => text.Replace("\\040", " ", StringComparison.Ordinal).Replace("\\011", "\t",
        StringComparison.Ordinal);
}
