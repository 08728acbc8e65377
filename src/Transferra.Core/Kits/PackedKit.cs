// PackedKit.cs: a kit in one file, to be sent: a tar archive of its files, the seal first; see KitSeal.cs. In the form of GNU tar, not
// in that of POSIX.1-2001: in the names of its extended headers the library puts the number of the process.
// Holds: (1) only plain files and folders go in and come out, nothing outside of the folder, no links; (2) a broken archive, or one that is
// not as its seal says, leaves nothing behind.
using System.Formats.Tar;
using System.Security.Cryptography;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>Packs kits and takes them in.</summary>
public static class PackedKit
{
    private const long LargestKit = 256L << 20;

    private const int MostFiles = 10_000;

    /// <summary>Packs a kit.</summary>
    /// <param name="folder">Its folder.</param>
    /// <param name="key">The maker's key; null when it is not signed.</param>
    /// <param name="into">Gets the archive.</param>
    /// <exception cref="TransferraException">Something in the folder is no plain file.</exception>
    public static void Write(string folder, ECDsa? key, Stream into)
    {
        string[] files = [.. KitRuns.Files(folder)];
        if (files.FirstOrDefault(path => new FileInfo(path) is { LinkTarget: not null }) is { } link)
            throw new TransferraException($"{link} is a link, and a packed kit holds files only", "Put the file itself there.");
        using var tar = new TarWriter(into, TarEntryFormat.Gnu, leaveOpen: true);
        foreach ((string name, byte[] content) in KitSeal.Make(folder, key)) Entry(name, new MemoryStream(content));
        foreach (string path in files.Where(path => !KitSeal.IsOfSeal(Path.GetRelativePath(folder, path))))
        {
            using FileStream file = PlainFile.Open(path);
            Entry(Path.GetRelativePath(folder, path), file);
        }

        // Without times and owners: the same kit makes the same file.
        void Entry(string name, Stream content) => tar.WriteEntry(new GnuTarEntry(TarEntryType.RegularFile, name)
        {
            DataStream = content,
            ModificationTime = DateTimeOffset.UnixEpoch,
            Mode = UnixFileMode.UserRead | UnixFileMode.UserWrite
        });
    }

    /// <summary>Unpacks a kit into a folder that is there and empty.</summary>
    /// <param name="packed">The archive.</param>
    /// <param name="folder">The folder.</param>
    /// <returns>Its seal.</returns>
    /// <exception cref="TransferraException">It is not a packed kit, or not as its seal says.</exception>
    public static KitSeal Unpack(string packed, string folder)
    {
        try
        {
            using FileStream file = PlainFile.Open(packed);
            using var tar = new TarReader(file);
            long bytes = 0;
            int files = 0;
            while (tar.GetNextEntry() is { } entry)
            {
                if (entry.EntryType is TarEntryType.Directory) continue;
                if (entry.EntryType is not (TarEntryType.RegularFile or TarEntryType.V7RegularFile))
                    throw Refused(packed, $"{entry.Name} is neither a file nor a folder");
                string path = Path.GetFullPath(Path.Combine(folder, entry.Name));
                if (!path.StartsWith(folder + "/", StringComparison.Ordinal)) throw Refused(packed, $"{entry.Name} does not lie in it");
                if ((bytes += entry.Length) > LargestKit || ++files > MostFiles) throw Refused(packed, "it is too large for a kit");
                Directory.CreateDirectory(Path.GetDirectoryName(path)!);
                using FileStream target = new(path, new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite
                });
                entry.DataStream?.CopyTo(target);
            }
        }
        catch (Exception error) when (error is InvalidDataException or EndOfStreamException or FormatException or IOException
            or UnauthorizedAccessException)
        { throw Refused(packed, error.Message); }
        KitSeal seal = KitSeal.Of(folder);
        return !seal.IsSealed ? throw Refused(packed, $"{KitSeal.ListName} is not in it") : seal.Wrong.Count == 0 ? seal
            : throw Refused(packed, string.Join(", ", seal.Wrong));
    }

    private static TransferraException Refused(string packed, string why) => new($"{packed} is not a packed kit, or is damaged: {why}",
        "Have it sent again, by whoever made it: transferra kit pack");
}
