// FilesGuest.cs: lets one user of this machine come to a copy in files that lies where the closing, or a run's folder, keeps all others
// out.
// Why by owner: a folder that belongs to that user, with the owner's rights alone, lets exactly that user in, and root.
// Holds: (1) only folders that the closing shut or the run made are changed, and the copy itself; (2) PutOut brings back owner, group and
// permissions as they were found, folders first; what has another file's place by now is left alone.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

internal static class FilesGuest
{
    private const UnixFileMode Rights = (UnixFileMode)0x1FF, Enter = UnixFileMode.UserExecute,
        Work = UnixFileMode.UserRead | UnixFileMode.UserWrite, WorkInside = Work | Enter;

    /// <summary>What has to be changed for a user, as it is found now.</summary>
    /// <param name="store">The copy, a file or a folder.</param>
    /// <param name="files">Its files.</param>
    /// <param name="user">Name of the user.</param>
    /// <param name="mayChange">Whether a folder is one that the closing shut, or the run made.</param>
    /// <exception cref="TransferraException">There is no such user, or a folder above lets that user in at no time.</exception>
    public static StoreGuest Found(string store, IReadOnlyList<string> files, string user, Func<string, bool> mayChange)
    {
        uint number = PosixFiles.UserNumber(user) ?? throw new TransferraException($"this machine has no user {user}",
            "Correct \"account\" in the kit's hop.");
        var found = new Dictionary<string, string>();
        if (number == FileIdentity.EffectiveUser || number == 0) return new StoreGuest(store, user, found);
        if (FileIdentity.EffectiveUser != 0)
            throw new TransferraException($"only root can let {user} come to {store} while the office is closed",
                $"Run this as root, or as {user}.");
        foreach (string file in files) Add(found, file, number, Work);
        string folder = Path.GetDirectoryName(store)!;
        if (Directory.Exists(store)) Add(found, store, number, WorkInside);
        for (string? above = folder; above is not null && above.Length > 1; above = Path.GetDirectoryName(above))
        {
            if (IsOpenTo(above, user, number, above == folder && !Directory.Exists(store))) continue;
            if (!mayChange(above))
                throw new TransferraException($"{user} cannot come to {store}: {above} lets that user in at no time",
                    $"Give {user} the right to enter it, then try again.");
            Add(found, above, number, above == folder ? WorkInside : Enter);
        }
        return new StoreGuest(store, user, found);
    }

    // Whether a user may enter a folder, and make files there.
    private static bool IsOpenTo(string folder, string user, uint number, bool toWork)
    {
        FileIdentity identity = FileIdentity.Of(folder) ?? throw new TransferraException($"{folder} is not there",
            "Look what became of it.");
        UnixFileMode mode = File.GetUnixFileMode(folder);
        int needed = toWork ? 3 : 1, bits = (int)mode;
        int has = identity.Owner == number ? bits >> 6 : PosixFiles.IsInGroup(user, identity.Group) ? bits >> 3 : bits;
        return (has & needed) == needed;
    }

    private static void Add(Dictionary<string, string> found, string path, uint owner, UnixFileMode wanted)
    {
        if (FileIdentity.Of(path) is not { } is_) return;
        string at = (found.Count / 6).ToString("00000", CultureInfo.InvariantCulture);
        found[at + ".path"] = path;
        found[at + ".identity"] = Identity(is_);
        found[at + ".owner"] = string.Create(CultureInfo.InvariantCulture, $"{is_.Owner}:{is_.Group}");
        found[at + ".mode"] = Convert.ToString((int)File.GetUnixFileMode(path), 8);
        found[at + ".guest"] = owner.ToString(CultureInfo.InvariantCulture);
        found[at + ".wanted"] = Convert.ToString((int)wanted, 8);
    }

    private static string Identity(FileIdentity of) => string.Create(CultureInfo.InvariantCulture, $"{of.Device}:{of.Inode}");

    /// <summary>Lets the user in; fine when that is so.</summary>
    public static void LetIn(IVolume volume, StoreGuest guest)
    {
        foreach (Changed one in All(guest))
        {
            volume.SetOwner(one.Path, one.Guest, one.Group);
            volume.SetMode(one.Path, one.Mode & ~Rights | one.Wanted);
        }
    }

    /// <summary>Brings back what was found; fine when that is so.</summary>
    public static void PutOut(IVolume volume, StoreGuest guest)
    {
        foreach (Changed one in All(guest).Reverse())
        {
            volume.SetMode(one.Path, one.Mode);
            volume.SetOwner(one.Path, one.Owner, one.Group);
        }
    }

    private sealed record Changed(string Path, uint Owner, uint Group, uint Guest, UnixFileMode Mode, UnixFileMode Wanted);

    private static IReadOnlyList<Changed> All(StoreGuest guest) => [.. guest.Found.Keys
        .Where(key => key.EndsWith(".path", StringComparison.Ordinal)).Order(StringComparer.Ordinal).Select(key => key[..^5])
        .Where(at => FileIdentity.Of(guest.Found[at + ".path"]) is { } there && Identity(there) == guest.Found[at + ".identity"])
        .Select(at =>
        {
            uint[] owner = [.. guest.Found[at + ".owner"].Split(':').Select(one => uint.Parse(one, CultureInfo.InvariantCulture))];
            return new Changed(guest.Found[at + ".path"], owner[0], owner[1], uint.Parse(guest.Found[at + ".guest"],
                CultureInfo.InvariantCulture), (UnixFileMode)Convert.ToInt32(guest.Found[at + ".mode"], 8),
                (UnixFileMode)Convert.ToInt32(guest.Found[at + ".wanted"], 8));
        })];
}
