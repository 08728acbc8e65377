// SetMemberRules.cs: what the members of a set may be. A set is a file from somewhere: it may have been forged, by somebody who hopes
// that root unpacks it.
// Holds: a set of which any member breaks a rule is refused as a whole, before anything is written or unpacked, and that member is named.
using System.Globalization;
using System.Runtime.InteropServices;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Judges members before they are obeyed.</summary>
internal static class SetMemberRules
{
    private const int LargestMode = 0xFFF, RunsAsOwner = 0xC00; // set-user-ID, set-group-ID
    private static readonly string[] Tops = ["store", "documents", "kit", "settings"];
    private static readonly string[] Kinds = [MemberKinds.File, MemberKinds.Folder, MemberKinds.Link, MemberKinds.Same];

    /// <summary>The first rule that a member breaks; null when none does.</summary>
    public static SetFault? Judge(SetManifest manifest)
    {
        // By bytes, as names need not be UTF-8.
        var met = new Dictionary<UInt128, Met>(manifest.Members.Count);
        foreach (SetMember member in manifest.Members)
        {
            byte[] bytes = member.NameBytes();
            if (JudgeOne(member, Latin(bytes)) is { } what) return Fault(member, what);
            bool isFolder = member.Kind == MemberKinds.Folder;
            ref Met name = ref CollectionsMarshal.GetValueRefOrAddDefault(met, NameDigest.Of(bytes), out _);
            if (name.HasFlag(Met.Told) || (!isFolder && name.HasFlag(Met.Folder)))
                return Fault(member, "it is in the set twice, or stands where a folder is");
            name |= Met.Told | (isFolder ? Met.Folder : Met.Leaf) | (member.IsFile ? Met.File : 0);
            for (int slash = bytes.AsSpan().LastIndexOf((byte)'/'); slash > 0; slash = bytes.AsSpan(0, slash).LastIndexOf((byte)'/'))
            {
                ref Met above = ref CollectionsMarshal.GetValueRefOrAddDefault(met, NameDigest.Of(bytes.AsSpan(0, slash)), out _);
                if (above.HasFlag(Met.Leaf)) return Fault(member,
                    $"it would lie below {PosixFiles.Shown(bytes.AsSpan(0, slash))}, which is not a folder");
                if (above.HasFlag(Met.Folder)) break;
                above |= Met.Folder;
            }
            if (member.Kind == MemberKinds.Same && !met.GetValueOrDefault(NameDigest.Of(member.TargetBytes())).HasFlag(Met.File))
                return Fault(member, "it is another name of a file that does not stand before it");
        }
        return null;
    }

    // What a name was met as.
    [Flags]
    private enum Met : byte { Nothing = 0, Told = 1, Folder = 2, Leaf = 4, File = 8 }

    private static SetFault Fault(SetMember member, string what) => new("refused", member.Name, $"the set is refused as a whole: {what}");

    private static string Latin(byte[] bytes) => System.Text.Encoding.Latin1.GetString(bytes);

    private static string? JudgeOne(SetMember member, string name)
    {
        string[] parts = name.Split('/');
        if (parts.Any(part => part is "" or "." or ".."
            || part.Contains('\0', StringComparison.Ordinal))) return "its name leads out of the folder";
        if (!Tops.Contains(parts[0])) return $"nothing in a set has such a name; names begin with {string.Join(", ", Tops)}";
        if (!Kinds.Contains(member.Kind)) return $"\"{member.Kind}\" is not a kind of member";
        int mode;
        try
        {
            mode = Convert.ToInt32(member.Mode, 8);
            _ = member.OwnerParts();
        }
        catch (Exception error) when (error is FormatException or OverflowException or ArgumentException)
        {
            return "its permissions or its owner are invalid";
        }
        if (mode is < 0 or > LargestMode) return "its permissions are invalid";
        if (member.Kind != MemberKinds.Folder && (mode & RunsAsOwner) != 0) return "it would run with the rights of its owner";
        if (member.Kind == MemberKinds.Link && parts[0] != "documents") return "links belong to documents only";
        return member.IsFile ? JudgeFile(member) : member.Bytes != 0 || member.PackedBytes != 0 ? "it is not a file and has content" : null;
    }

    private static string? JudgeFile(SetMember member)
    {
        if (member.Bytes < 0 || member.PackedBytes <= 0 || member.Sha256 is null || member.PackedSha256 is null
            || member.PackedXxh128 is null)
            return "it has no frame, or no digest of it";
        long frames = Math.Max(1, (member.Bytes / SetManifest.FrameContentBytes) + (member.Bytes % SetManifest.FrameContentBytes > 0 ? 1
            : 0));
        if (member.Frames is not { } sizes) return frames == 1 ? null : "it is larger than one frame, and its frames are not listed";
        if (sizes.Count != frames || sizes.Any(size => size <= 0) || sizes.Sum(size => (long)size) != member.PackedBytes)
            return string.Create(CultureInfo.InvariantCulture, $"its {sizes.Count} frames are not those of {member.Bytes} bytes");
        // A frame is never larger than what it was packed from, but for a few bytes.
        return sizes.Any(size => size > ZstdFrames.Bound(SetManifest.FrameContentBytes))
            ? "one of its frames is larger than a frame can be" : null;
    }
}
