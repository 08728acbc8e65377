// SourceTree.cs: what goes into a set, found before anything is packed: every file, folder and link below some folders, with all that is
// known of it but its digest.
// Holds: (1) a link in documents is kept as a link and never followed, also not when it took the place of a folder meanwhile
// (FolderTree.cs); (2) what cannot be kept is listed with the reason;
//        (3) names are bytes: one that is not UTF-8 is kept as it is.
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Collects what goes into a set.</summary>
internal sealed class SourceTree(Func<string, bool>? without = null) : IDisposable
{
    private const int RunsAsOwner = 0xC00; // set-user-ID, set-group-ID
    private readonly Dictionary<(long Device, long Inode), SetMember> _named = [];
    private readonly SourceList _sources = new();
    private readonly List<LeftOut> _leftOut = [];
    private readonly List<FolderTree> _trees = [];

    /// <summary>What was found, folders before what is in them.</summary>
    public IReadOnlyList<SetSource> Sources => _sources;

    /// <summary>What cannot be kept.</summary>
    public IReadOnlyList<LeftOut> LeftOut => _leftOut;

    /// <summary>Adds a file, or a folder with everything below it. Links that lead to it are followed, as they are what office.yaml
    /// names.</summary>
    /// <param name="path">Where it is.</param>
    /// <param name="member">Its name in the set.</param>
    public void Add(string path, string member)
    {
        byte[] real = PosixFiles.Bytes(FileIdentity.RealPath(path) ?? path), name = PosixFiles.Bytes(member);
        if (PosixFiles.Stat(real) is not { } stat)
        {
            _leftOut.Add(new LeftOut(member, $"{path} is not there", false));
            return;
        }
        FolderTree? tree = null;
        if (stat.Kind == FileKind.Folder) _trees.Add(tree = new FolderTree(real));
        Add(tree, real, [], name, stat);
    }

    private void Add(FolderTree? tree, byte[] path, byte[] below, byte[] name, FileStat stat)
    {
        string shown = PosixFiles.Shown(name);
        bool isDocument = shown.StartsWith("documents/", StringComparison.Ordinal);
        if (isDocument && without?.Invoke(PosixFiles.Shown(path)) == true)
        {
            _leftOut.Add(new LeftOut(shown, "left out, as office.yaml says", true));
            return;
        }
        if (stat.Kind == FileKind.Other)
        {
            _leftOut.Add(new LeftOut(shown, "it is a socket, a pipe or a device, not a file", true));
            return;
        }
        if (stat.Kind == FileKind.Link && !isDocument)
        {
            AddLinked(path, name, shown);
            return;
        }
        if (stat.Kind == FileKind.File && (stat.Mode & RunsAsOwner) != 0) _leftOut.Add(new LeftOut(shown,
            "its right to run as its owner is not kept", true));
        SetMember draft = DraftOf(path, name, shown, stat);
        if (stat.Kind == FileKind.File && stat.Links > 1)
        {
            if (_named.TryGetValue((stat.Device, stat.Inode), out SetMember? first))
                draft = draft with
                {
                    Kind = MemberKinds.Same,
                    Target = first.Name,
                    RawTarget = first.RawName,
                    Attributes = null,
                    Stamp = null
                };
            else _named[(stat.Device, stat.Inode)] = draft;
        }
        _sources.Add(new SetSource(draft, tree, tree is null ? path : below, stat));
        if (stat.Kind == FileKind.Folder) AddBelow(tree!, path, below, name, shown);
    }

    // A table that lies elsewhere and is linked into the store's folder is part of the store: its content is kept. Of kits and settings
    // links are not.
    private void AddLinked(byte[] path, byte[] name, string shown)
    {
        if (shown.StartsWith("store/", StringComparison.Ordinal) && FileIdentity.RealPath(PosixFiles.Shown(path)) is { } real
            && PosixFiles.Stat(PosixFiles.Bytes(real)) is { Kind: FileKind.File } stat)
            Add(null, PosixFiles.Bytes(real), [], name, stat);
        else _leftOut.Add(new LeftOut(shown, "it is a link, which belongs to documents only",
            !shown.StartsWith("store/", StringComparison.Ordinal)));
    }

    private void AddBelow(FolderTree tree, byte[] folder, byte[] below, byte[] name, string shown)
    {
        List<byte[]> names;
        try
        {
            names = tree.Names(below);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            _leftOut.Add(new LeftOut(shown + "/...", ShortWhy(error.Message), false));
            return;
        }
        foreach (byte[] entry in names)
        {
            byte[] inside = below.Length == 0 ? entry : PosixFiles.Join(below, entry);
            // Gone since the folder was listed: it is not part of what is kept.
            if (tree.Stat(inside) is { } stat) Add(tree, PosixFiles.Join(folder, entry), inside, PosixFiles.Join(name, entry), stat);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (FolderTree tree in _trees) tree.Dispose();
    }

    private static SetMember DraftOf(byte[] path, byte[] name, string shown, FileStat stat)
    {
        string user = PosixFiles.UserName(stat.Owner), group = PosixFiles.GroupName(stat.Group);
        (long hundreds, int rest) = (Math.DivRem(stat.ModifiedNanoseconds, 100, out long below), 0);
        if (below < 0) (hundreds, below) = (hundreds - 1, below + 100);
        rest = (int)below;
        byte[] target = stat.Kind == FileKind.Link ? PosixFiles.ReadLink(path) : [];
        IReadOnlyDictionary<string, byte[]> attributes = PosixFiles.Attributes(path);
        return new SetMember(shown, stat.Kind switch
        {
            FileKind.Folder => MemberKinds.Folder,
            FileKind.Link => MemberKinds.Link,
            _ => MemberKinds.File
        },
            string.Intern(Convert.ToString(stat.Kind == FileKind.File ? stat.Mode & ~RunsAsOwner : stat.Mode, 8)),
                string.Intern(string.Create(CultureInfo.InvariantCulture,
                $"{stat.Owner}:{stat.Group}{(user.Length + group.Length > 0 ? $" {user}:{group}" : "")}")),
                    DateTimeOffset.UnixEpoch.AddTicks(hundreds))
        {
            Nanoseconds = rest,
            RawName = Raw(name),
            Target = stat.Kind == FileKind.Link ? PosixFiles.Shown(target) : null,
            RawTarget = Raw(target),
            Sparse = stat.IsSparse,
            Attributes = attributes.Count == 0 ? null : attributes.ToDictionary(attribute => attribute.Key, attribute =>
                Convert.ToBase64String(attribute.Value)),
            Stamp = stat.Kind == FileKind.File ? StampOf(stat, DateTimeOffset.UtcNow) : null,
        };
    }

    /// <summary>The time of last change that a member tells, in nanoseconds since 1970.</summary>
    public static long ModifiedNanoseconds(SetMember member) => ((member.Modified - DateTimeOffset.UnixEpoch).Ticks * 100)
        + member.Nanoseconds;

    // A file that was changed just now may be changed again without its times telling, so it gets no stamp.
    private static string? StampOf(FileStat stat, DateTimeOffset now)
    {
        const long justNow = 1_000_000_000;
        return ((now - DateTimeOffset.UnixEpoch).Ticks * 100) - stat.ChangedNanoseconds > justNow
            ? string.Create(CultureInfo.InvariantCulture, $"{stat.Device}:{stat.Inode}:{stat.ChangedNanoseconds}") : null;
    }

    private const int MostOfWhy = 120;

    /// <summary>As long as a reason can become, in bytes as well.</summary>
    public static readonly string LongestWhy = new('\u6F22', MostOfWhy + 1);

    /// <summary>A reason in one line that is not longer than the entry of a member, whose place in the manifest it may take.</summary>
    public static string ShortWhy(string why)
    {
        var text = new StringBuilder();
        foreach (Rune rune in why.EnumerateRunes().TakeWhile(_ => text.Length < MostOfWhy)) text.Append(Rune.IsControl(rune)
            || rune.Value is '"' or '\\' ? "?" : rune.ToString());
        return text.ToString();
    }

    private static string? Raw(byte[] name) => System.Text.Unicode.Utf8.IsValid(name) ? null : Convert.ToBase64String(name);
}
