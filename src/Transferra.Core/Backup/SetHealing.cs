// SetHealing.cs: makes a damaged set whole again from its copies in other places, member by member: two copies that are both damaged, but not at the same
// member, still give a whole one, with the manifest and the packed members that were once written. (Its tar headers may differ in the number of the writing
// process, which the tar library puts into them.)
// Holds: (1) nothing of a copy is changed; the damaged file is kept under another name; (2) the healed set takes its name only after it was read back whole.
using System.Formats.Tar;
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Runs;

namespace Transferra.Core.Backup;

/// <summary>What healing came to.</summary>
/// <param name="Path">The set.</param>
/// <param name="IsHealed">Whether it is whole now.</param>
/// <param name="From">Copies that members were taken from.</param>
/// <param name="Missing">Members that no copy has whole.</param>
/// <param name="Kept">Where the damaged file is kept; "" when nothing was changed.</param>
public sealed record HealResult(string Path, bool IsHealed, IReadOnlyList<string> From, IReadOnlyList<string> Missing, string Kept);

/// <summary>Heals sets.</summary>
public static class SetHealing
{
    private const string DamagedSuffix = ".damaged", HealingSuffix = ".healing";

    /// <summary>Heals a set.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="path">The damaged set.</param>
    /// <param name="copies">The same set in other places; the damaged one itself is looked into as well.</param>
    public static HealResult Heal(IVolume volume, string path, IReadOnlyList<string> copies)
    {
        string[] all = [path, .. copies.Where(File.Exists)];
        if (ManifestOf(all) is not { } manifest) return new HealResult(path, false, [], [SetManifest.FirstMember], "");
        string folder = path + HealingSuffix, healed = path + HealingSuffix + ".tar";
        volume.Remove(folder);
        volume.Remove(healed);
        volume.CreateFolder(folder);
        using var packed = new PackedSet(volume, folder, manifest);
        var found = new HashSet<int>();
        var from = new List<string>();
        foreach (string copy in all)
        {
            if (found.Count == manifest.Members.Count) break;
            if (TakeMembers(copy, manifest, folder, found) > 0) from.Add(copy);
        }
        string[] missing = [.. manifest.Members.Where((_, i) => !found.Contains(i)).Select(member => member.Name)];
        if (missing.Length > 0) return new HealResult(path, false, from, missing, "");
        try
        {
            BackupSets.Put(volume, packed, healed);
            if (BackupSets.Verify(healed).Count > 0) return new HealResult(path, false, from, [SetManifest.FirstMember], "");
            string kept = path + DamagedSuffix;
            for (int number = 2; Path.Exists(kept); number++) kept = string.Create(CultureInfo.InvariantCulture, $"{path}{DamagedSuffix}-{number}");
            volume.Rename(path, kept);
            volume.Rename(healed, path);
            volume.FlushFolder(Path.GetDirectoryName(path)!);
            return new HealResult(path, true, from, [], kept);
        }
        finally
        {
            volume.Remove(healed);
        }
    }

    // The manifest that a whole copy has; when none is whole, the one that most copies have, or else the first that can be read.
    private static SetManifest? ManifestOf(string[] copies)
    {
        var read = new List<(string Json, SetManifest Manifest)>();
        foreach (string copy in copies)
        {
            try
            {
                SetManifest manifest = BackupSets.ReadInfo(copy).Manifest;
                if (BackupSets.Verify(copy).Count == 0) return manifest;
                read.Add((JsonSerializer.Serialize(manifest, SetManifest.Json), manifest));
            }
            catch (Records.TransferraException) { /* its beginning is damaged */ }
        }
        return read.GroupBy(entry => entry.Json).OrderByDescending(same => same.Count()).FirstOrDefault()?.First().Manifest;
    }

    // Takes from a copy the members that are whole in it and not found yet.
    private static int TakeMembers(string copy, SetManifest manifest, string folder, HashSet<int> found)
    {
        int taken = 0;
        try
        {
            using FileStream file = new(copy, FileMode.Open, FileAccess.Read, FileShare.Read, 1 << 20, FileOptions.SequentialScan);
            using var tar = new TarReader(file);
            while (tar.GetNextEntry() is { } entry)
            {
                int index = -1;
                for (int i = 0; i < manifest.Members.Count && index < 0; i++)
                    if (entry.Name == manifest.Members[i].Name + ".zst") index = i;
                if (index < 0 || found.Contains(index) || entry.DataStream is null) continue;
                string target = Path.Combine(folder, index.ToString(CultureInfo.InvariantCulture));
                using (FileStream member = new(target, FileMode.Create, FileAccess.Write))
                using (var hashing = new HashingStream(member))
                {
                    entry.DataStream.CopyTo(hashing);
                    if (hashing.Digest() != manifest.Members[index].PackedSha256) continue;
                }
                found.Add(index);
                taken++;
            }
        }
        catch (Exception error) when (error is InvalidDataException or EndOfStreamException or FormatException or ArgumentException or OverflowException)
        {
            // What stands behind the damage of this copy is looked for in the others.
        }
        return taken;
    }
}
