// DocumentsMatch.cs: a company's documents as they are now, held against those of a backup set by their digests.
// Holds: (1) every file is read whole, whatever its size and times say; (2) what lies in the document folders and what a set holds of them
// is the same by the same rules, as both are looked up in the same way.
using System.Security.Cryptography;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;

namespace Transferra.Core.Backup;

/// <summary>Compares documents.</summary>
internal static class DocumentsMatch
{
    /// <summary>Compares a company's documents with those of a set.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="sets">Full paths of sets that hold the same; the first that can be read is taken.</param>
    /// <returns>Null when the company has no document folders, or no set was made.</returns>
    public static DocumentsMatched? Of(BackupContext context, Company company, IReadOnlyList<string> sets)
    {
        if (company.DocumentFolders.Count == 0 || sets.Count == 0) return null;
        var whyNot = new List<string>();
        foreach (string path in sets)
        {
            if (ManifestOf(context, path, whyNot) is { } manifest) return Compare(context, company, manifest, path);
        }
        return DocumentsMatched.Not(string.Join("; ", whyNot));
    }

    private static SetManifest? ManifestOf(BackupContext context, string path, List<string> whyNot)
    {
        try
        {
            using ISetFile file = context.Sets.Open(path);
            if (SetBeginning.Read(file).Manifest is { } manifest) return manifest;
            whyNot.Add($"{path} cannot be read");
        }
        catch (Exception error) when (error is TransferraException or InvalidDataException or IOException or UnauthorizedAccessException)
        {
            whyNot.Add($"{path}: {error.Message}");
        }
        return null;
    }

    private static DocumentsMatched Compare(BackupContext context, Company company, SetManifest manifest, string path)
    {
        using SourceTree tree = BackupSets.DocumentsOf(context.Office, company);
        Dictionary<UInt128, int> kept = ByName(manifest.Members);
        IEnumerable<SetSource> now = tree.Sources.Where(source => IsDocument(source.Draft));
        List<string> altered = [], added = [], unread = [];
        var seen = new HashSet<int>();
        long same = 0, bytes = 0, done = 0, total = now.Sum(source => source.Draft.IsFile ? source.Stat.Bytes : 0);
        var one = new Lock();
        Parallel.ForEach(now, new ParallelOptions { MaxDegreeOfParallelism = 2, CancellationToken = context.Cancel }, source =>
        {
            SetMember? was = kept.TryGetValue(NameOf(source.Draft), out int at) ? manifest.Members[at] : null;
            bool? isSame = was is null ? null : IsSame(was, source, kept, manifest, context.Cancel);
            lock (one)
            {
                if (was is not null) seen.Add(at);
                if (was is null) added.Add(Shown(company, source.Draft));
                else if (isSame is null) unread.Add(Shown(company, source.Draft));
                else if (isSame == false) altered.Add(Shown(company, source.Draft));
                else (same, bytes) = (same + 1, bytes + was.Bytes);
                done += source.Draft.IsFile ? source.Stat.Bytes : 0;
                context.Observer.Bytes("documents", done, total);
            }
        });
        // What lies in a folder that cannot be read is not gone.
        string[] shut = [.. tree.LeftOut.Where(left => !left.IsHarmless && left.Name.EndsWith("/...", StringComparison.Ordinal))
            .Select(left => left.Name[..^3])];
        ILookup<bool, string> missing = kept.Values.Where(at => !seen.Contains(at)).Select(at => manifest.Members[at]).ToLookup(was =>
            shut.Any(folder => was.Name.StartsWith(folder, StringComparison.Ordinal)), was => Shown(company, was));
        return new DocumentsMatched(path, manifest.Label.MadeAt, same, bytes, NamedFiles.Of(altered), NamedFiles.Of([.. missing[false]]),
            NamedFiles.Of(added))
        { Unread = NamedFiles.Of([.. unread, .. missing[true]]) };
    }

    // Folders hold documents, but are none.
    private static bool IsDocument(SetMember member) => member.Name.StartsWith("documents/", StringComparison.Ordinal)
        && member.Kind != MemberKinds.Folder;

    private static UInt128 NameOf(SetMember member) => NameDigest.Of(member.NameBytes());

    private static Dictionary<UInt128, int> ByName(MemberCollection members)
    {
        var kept = new Dictionary<UInt128, int>();
        foreach ((int i, SetMember member) in members.Index())
            if (IsDocument(member)) kept.Add(NameOf(member), i);
        return kept;
    }

    // Of a file with several names any may have been met first, so its content is what counts. Null when it cannot be read.
    private static bool? IsSame(SetMember was, SetSource source, Dictionary<UInt128, int> kept, SetManifest manifest,
        CancellationToken cancel)
    {
        if (was.Kind == MemberKinds.Link || source.Draft.Kind == MemberKinds.Link)
            return was.Kind == source.Draft.Kind && was.Target == source.Draft.Target && was.RawTarget == source.Draft.RawTarget;
        SetMember? content = was.Kind != MemberKinds.Same ? was : kept.TryGetValue(NameDigest.Of(was.TargetBytes()), out int first)
            ? manifest.Members[first]
            : manifest.Members.FirstOrDefault(member => member.Name == was.Target && member.RawName == was.RawTarget);
        return DigestOf(source, cancel) is { } digest ? digest == content?.Sha256 : null;
    }

    private static string? DigestOf(SetSource source, CancellationToken cancel)
    {
        try
        {
            using var file = new FileStream(source.Open(), FileAccess.Read);
            return Convert.ToHexStringLower(SHA256.HashDataAsync(file, cancel).AsTask().GetAwaiter().GetResult());
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    // Where office.yaml says it is.
    private static string Shown(Company company, SetMember member)
    {
        string[] parts = member.Name.Split('/', 3);
        string folder = int.TryParse(parts[1], out int number) && number < company.DocumentFolders.Count
            ? company.DocumentFolders[number] : parts[1];
        return parts.Length < 3 ? folder : Path.Combine(folder, parts[2]);
    }
}
