// SetHealing.cs: makes a damaged set whole again from its copies in other places, member by member and, of large members, frame by frame:
// two copies that are both damaged, but not at the same part, still give the set that was written, byte for byte.
// Holds: (1) nothing of a copy is changed; the damaged file is kept under another name; (2) the healed set takes its name only after it
// was read back whole.
using System.Globalization;
using System.Security.Cryptography;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Backup;

/// <summary>What healing came to.</summary>
/// <param name="Path">The set.</param>
/// <param name="IsHealed">Whether it is whole now.</param>
/// <param name="From">Copies that parts were taken from.</param>
/// <param name="Missing">Members that no copy has whole.</param>
/// <param name="Kept">Where the damaged file is kept; "" when nothing was changed.</param>
public sealed record HealResult(string Path, bool IsHealed, IReadOnlyList<string> From, IReadOnlyList<string> Missing, string Kept);

/// <summary>Heals sets.</summary>
public static class SetHealing
{
    private const string DamagedSuffix = ".damaged";

    private const int CopyBytes = 1 << 20;

    /// <summary>Heals a set.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="sets">The places.</param>
    /// <param name="path">The damaged set.</param>
    /// <param name="copies">The same set in other places; the damaged one itself is looked into as well.</param>
    /// <param name="scratch">Folder on this machine for a set whose place is elsewhere.</param>
    /// <param name="office">The office that heals it.</param>
    public static HealResult Heal(IVolume volume, SetPlaces sets, string path, IReadOnlyList<string> copies, string scratch,
        OfficeIdentity office)
    {
        (ISetPlace place, string name) = sets.Find(path);
        string folder = place.LocalFolder ?? scratch,
            healing = Path.Combine(folder, BackupSets.ForAWhile(office, name, BackupSets.Healing));
        volume.CreateFolder(folder);
        volume.Remove(healing);
        List<Copy> all = [];
        try
        {
            foreach (string copy in (string[])[path, .. copies])
                if (TryOpen(sets, copy) is { } file) all.Add(new Copy(copy, file));
            IReadOnlyList<string> missing, from;
            bool isAssembled = all.Any(copy => LockedHeader.IsAt(copy.File))
                ? LockedHealing.Assemble(all, sets.Secret, healing, out missing, out from) : Assemble(all, healing, out missing, out from);
            if (!isAssembled) return new HealResult(path, false, from, missing, "");
            volume.FlushFile(healing);
            using (ISetFile healed = sets.Unlock(new LocalSetFile(healing), healing))
                if (BackupSets.Verify(healed) is [var fault, ..]) return new HealResult(path, false, from, [fault.Member], "");
            string kept = name + DamagedSuffix;
            for (int number = 2; place.Has(kept); number++) kept = string.Create(CultureInfo.InvariantCulture,
                $"{name}{DamagedSuffix}-{number}");
            place.Rename(name, kept);
            if (place is LocalPlace local) local.Adopt(healing, name);
            else place.Put(healing, name, BackupSets.ForAWhile(office, name, BackupSets.Writing), (_, _) => { }, CancellationToken.None);
            return new HealResult(path, true, from, [], SetPlaces.PathIn(place, kept));
        }
        finally
        {
            foreach (Copy copy in all) copy.File.Dispose();
            volume.Remove(healing);
        }
    }

    internal sealed record Copy(string Path, ISetFile File);

    private static ISetFile? TryOpen(SetPlaces sets, string path)
    {
        try { return sets.OpenStored(path); }
        catch (Exception error) when (error is TransferraException or IOException or UnauthorizedAccessException) { return null; }
    }

    private static bool Assemble(IReadOnlyList<Copy> copies, string target, out IReadOnlyList<string> missing,
        out IReadOnlyList<string> from)
    {
        var notFound = new List<string>();
        var used = new HashSet<string>();
        (missing, from) = (notFound, []);
        if (BeginningOf(copies) is not ({ } beginning, { } whole))
        {
            notFound.Add(SetManifest.FirstMember);
            return false;
        }
        SetLayout layout = beginning.Layout();
        using var sink = new PlainSink(target);
        Sinks.Copy(whole, 0, beginning.Bytes, CopyBytes, sink.Append);
        for (int i = 0; i < beginning.Manifest!.Members.Count; i++)
        {
            SetMember member = beginning.Manifest.Members[i];
            sink.Append(SetLayout.HeaderOf(member));
            if (!member.IsFile) continue;
            if (!AppendContent(sink, copies, member, layout.ContentAt(i), used)) notFound.Add(member.Name);
            sink.Append(new byte[SetLayout.Padded(member.PackedBytes) - member.PackedBytes]);
        }
        sink.Append(SetLayout.Seal(beginning.Digest, beginning.Manifest.Label.MadeAt));
        sink.Finish();
        from = [.. copies.Select(copy => copy.Path).Where(used.Contains)];
        return notFound.Count == 0;
    }

    // The beginning that some seal belongs to, be it of the same copy or of another.
    private static (SetBeginning? Beginning, ISetFile? In) BeginningOf(IReadOnlyList<Copy> copies)
    {
        foreach (Copy copy in copies)
        {
            if (SetBeginning.Read(copy.File) is not { Manifest: not null } beginning) continue;
            SetLayout layout = beginning.Layout();
            byte[] wanted = SetLayout.Seal(beginning.Digest, beginning.Manifest.Label.MadeAt), found = new byte[wanted.Length];
            foreach (Copy other in copies)
                if (other.File.ReadAt(layout.SealAt, found) == found.Length && found.AsSpan().SequenceEqual(wanted))
                    return (beginning, copy.File);
        }
        return (null, null);
    }

    private static bool AppendContent(PlainSink sink, IReadOnlyList<Copy> copies, SetMember member, long at, HashSet<string> used)
    {
        if (copies.FirstOrDefault(copy => DigestOf(copy.File, at, member.PackedBytes) == member.PackedSha256) is { } whole)
        {
            used.Add(whole.Path);
            Sinks.Copy(whole.File, at, member.PackedBytes, CopyBytes, sink.Append);
            return true;
        }
        if (member.Frames is not { } sizes) return false;
        // Each frame has a checksum of its own; that all of them together are what was written is then seen by the digest of the healed
        // set.
        using ZstdFrames frames = ZstdFrames.Create();
        byte[] content = new byte[SetManifest.FrameContentBytes];
        foreach (int size in sizes)
        {
            byte[] packed = new byte[size];
            Copy? sound = copies.FirstOrDefault(copy => copy.File.ReadAt(at, packed) == size && frames.Unpack(packed, content) >= 0);
            if (sound is null) return false;
            used.Add(sound.Path);
            sink.Append(packed);
            at += size;
        }
        return true;
    }

    private static string DigestOf(ISetFile file, long at, long bytes)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        byte[] buffer = new byte[(int)Math.Min(CopyBytes, Math.Max(1, bytes))];
        while (bytes > 0)
        {
            int read = file.ReadAt(at, buffer.AsSpan(0, (int)Math.Min(buffer.Length, bytes)));
            if (read == 0) return "";
            hash.AppendData(buffer, 0, read);
            at += read;
            bytes -= read;
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }
}
