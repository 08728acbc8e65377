// PlaceBook.cs: knows the places for sets again: file transferra/places.json of the office's folder, and a mark in each place.
// Why: an unplugged disk leaves an empty folder behind, on the disk that the data is on. A set written there is no second copy, and looks
// like one.
// Holds: (1) a place that was used before is used again only when its mark is there and lies on the volume it was on; (2) a place that is
// new is not made
//        where /etc/fstab wants a volume that is not mounted; (3) a mark is never written into a place that had another.
using System.Security.Cryptography;
using System.Text.Json;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>One disk or folder that has been used as a place; a place at which disks take turns has several.</summary>
/// <param name="Place">The place's name.</param>
/// <param name="Mark">What is written in its mark.</param>
/// <param name="Volume">The volume it is on; "" when that has no lasting name.</param>
/// <param name="Since">When it was used first.</param>
public sealed record KnownPlace(string Place, string Mark, string Volume, DateTimeOffset Since);

/// <summary>The places of an office, as they are known.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class PlaceBook(string officeFolder, IVolume volume)
{
    /// <summary>Name of the mark in a place.</summary>
    public const string MarkName = "transferra-place.json";

    private const int LargestMark = 4096;

    internal sealed record Mark(string Place, string What);

    private string FilePath => Path.Combine(officeFolder, "transferra", "places.json");

    /// <summary>What is known.</summary>
    public IReadOnlyList<KnownPlace> Known
    {
        get
        {
            try
            {
                return File.Exists(FilePath)
                    ? JsonSerializer.Deserialize(File.ReadAllBytes(FilePath), BackupJson.Default.ListKnownPlace) ?? [] : [];
            }
            catch (JsonException) { return []; } // then each place is met for the first time, and its mark is found there
        }
    }

    /// <summary>Why a place cannot be used as it is now; null when it can, or when it would be used for the first time. Changes
    /// nothing.</summary>
    /// <param name="place">The place.</param>
    /// <exception cref="IOException">It cannot be reached.</exception>
    public string? Problem(ISetPlace place)
    {
        if (place.LocalFolder is { } folder && VolumeIdentity.NotMounted(folder) is { } point)
            return $"{place.Name} should be on the volume of {point}, which is not mounted. Plug it in, or mount it: mount {point}";
        KnownPlace[] known = [.. Known.Where(known => known.Place == place.Name)];
        if (known.Length == 0) return null;
        string last = FormattableString.Invariant($"known since {known[^1].Since:yyyy-MM-dd}");
        if (!place.IsThere()) return $"{place.Name} is not there ({last}). Plug the disk in, or mount it";
        if (MarkIn(place) is not { } mark)
            return $"{place.Name} is not the place it was ({last}): its mark {MarkName} is not in it. Plug the right disk in; if this is "
                + $"a new one: transferra sets --new-disk {place.Name}";
        KnownPlace? same = known.FirstOrDefault(known => known.Mark == mark);
        if (same is null) return $"{place.Name} has the mark of another disk than those known there ({last}). If it is to be used as "
            + $"well: transferra sets --new-disk {place.Name}";
        string now = place.LocalFolder is null ? "" : VolumeIdentity.Of(place.LocalFolder);
        return same.Volume.Length == 0 || now.Length == 0 || now == same.Volume ? null
            : $"{place.Name} is on another volume than it was ({last}). If that is meant: transferra sets --new-disk {place.Name}";
    }

    /// <summary>Makes a place ready for sets, and knows it again from then on.</summary>
    /// <param name="place">The place.</param>
    /// <returns>Its mark.</returns>
    /// <exception cref="IOException">It cannot be reached, or is not what it was.</exception>
    public string Admit(ISetPlace place)
    {
        if (Problem(place) is { } problem) throw new IOException(problem);
        if (Known.Any(known => known.Place == place.Name)) return MarkIn(place)!;
        place.Prepare();
        return Introduce(place);
    }

    /// <summary>Takes what is at a place now into use, beside what was there before.</summary>
    /// <param name="place">The place.</param>
    /// <returns>Its mark.</returns>
    /// <exception cref="IOException">It cannot be reached or written.</exception>
    public string Introduce(ISetPlace place)
    {
        if (MarkIn(place) is not { } mark)
        {
            mark = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
            place.WriteSmall(MarkName, JsonSerializer.SerializeToUtf8Bytes(new Mark(mark,
                "Transferra recognises this place for backup sets by this number. Please leave it here."), BackupJson.Default.Mark));
        }
        string on = place.LocalFolder is { } folder ? VolumeIdentity.Of(folder) : "";
        volume.CreateFolder(Path.GetDirectoryName(FilePath)!);
        volume.Replace(FilePath, JsonSerializer.SerializeToUtf8Bytes((List<KnownPlace>)[.. Known.Where(known => known.Place != place.Name
            || known.Mark != mark),
            new KnownPlace(place.Name, mark, on, DateTimeOffset.UtcNow)], BackupJson.Default.ListKnownPlace));
        return mark;
    }

    /// <summary>The mark in a place; null when it has none that can be read.</summary>
    /// <param name="place">The place.</param>
    /// <exception cref="IOException">It cannot be reached.</exception>
    public static string? MarkIn(ISetPlace place)
    {
        try
        {
            return place.ReadSmall(MarkName, LargestMark) is { } bytes
                && JsonSerializer.Deserialize(bytes, BackupJson.Default.Mark) is { Place.Length: > 0 } mark ? mark.Place : null;
        }
        catch (JsonException) { return null; }
    }
}
