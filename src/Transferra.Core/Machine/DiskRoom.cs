// DiskRoom.cs: how much room is left on the disks that a run works on, when it begins and when it ends.
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>A disk, as a run found and left it.</summary>
/// <param name="At">A folder on it.</param>
/// <param name="Total">Its size in bytes.</param>
/// <param name="FreeBefore">Bytes free when the run began.</param>
/// <param name="FreeAfter">Bytes free when it ended; null until then.</param>
public sealed record DiskRoom(string At, long Total, long FreeBefore, long? FreeAfter)
{
    private const string Fact = "disk.";

    /// <summary>The room on the disks of some folders, as facts of a journal.</summary>
    /// <param name="folders">Full paths; of those that are not there, the folder above them is asked.</param>
    public static IEnumerable<KeyValuePair<string, string>> Facts(IEnumerable<string> folders)
    {
        var disks = new Dictionary<long, string>();
        foreach (string folder in folders)
        {
            string? existing = folder;
            while (existing is not null && !Directory.Exists(existing)) existing = Path.GetDirectoryName(existing);
            if (existing is not null && FileIdentity.Of(existing) is { } identity) disks.TryAdd(identity.Device, existing);
        }
        foreach ((string at, int number) in disks.Values.Select((at, number) => (at, number)))
        {
            if (Asked(at) is not { } disk) continue;
            yield return new KeyValuePair<string, string>(Fact + number.ToString(CultureInfo.InvariantCulture),
                string.Create(CultureInfo.InvariantCulture, $"{disk.AvailableFreeSpace} of {disk.TotalSize} at {at}"));
        }
    }

    private static DriveInfo? Asked(string folder)
    {
        try
        {
            var disk = new DriveInfo(folder);
            return disk.TotalSize > 0 ? disk : null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or ArgumentException)
        {
            return null; // a disk that does not tell stops no run
        }
    }

    /// <summary>The disks of a run, from the facts of its first line and of its last.</summary>
    public static IReadOnlyList<DiskRoom> Of(IReadOnlyDictionary<string, string> begun, IReadOnlyDictionary<string, string>? ended)
    {
        var after = (ended is null ? [] : Read(ended)).ToLookup(disk => disk.At);
        return [.. Read(begun).Select(disk => disk with { FreeAfter = after[disk.At].FirstOrDefault()?.FreeBefore })];
    }

    private static IEnumerable<DiskRoom> Read(IReadOnlyDictionary<string, string> facts) => facts
        .Where(fact => fact.Key.StartsWith(Fact, StringComparison.Ordinal)).OrderBy(fact => fact.Key, StringComparer.Ordinal)
        .Select(fact => fact.Value.Split(' ', 5)).Where(parts => parts.Length == 5)
        .Select(parts => long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out long free)
            && long.TryParse(parts[2], NumberStyles.None, CultureInfo.InvariantCulture, out long total)
            ? new DiskRoom(parts[4], total, free, null) : null).OfType<DiskRoom>();
}
