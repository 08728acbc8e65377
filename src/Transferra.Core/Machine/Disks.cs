// Disks.cs: which physical disk a folder is on. Two volumes of one disk fail together, and so does everything that is kept on both.
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>Physical disks.</summary>
public static class Disks
{
    /// <summary>A name that two folders share when they are on one disk: that of the disk where the system tells it, otherwise that of
    /// the volume.</summary>
    /// <param name="path">A file or folder; one that is not there yet stands for the folder it would be made in.</param>
    public static string Of(string path)
    {
        string? existing = path;
        while (existing is not null && !Path.Exists(existing)) existing = Path.GetDirectoryName(existing);
        if (existing is null || FileIdentity.Of(existing) is not { } identity) return "";
        string number = string.Create(CultureInfo.InvariantCulture, $"{identity.Device >> 32}:{identity.Device & 0xFFFFFFFF}");
        // A partition lies, in the system's tree of devices, below its disk.
        if (FileIdentity.RealPath("/sys/dev/block/" + number) is not { } device) return "volume " + number;
        return Path.GetFileName(File.Exists(Path.Combine(device, "partition")) ? Path.GetDirectoryName(device)! : device);
    }
}
