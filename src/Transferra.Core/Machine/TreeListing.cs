// TreeListing.cs: tells whether anything below a folder was added, changed or removed since, without reading the files: a digest of
// names, kinds, sizes and times.
using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>Digests of what a folder holds.</summary>
internal static class TreeListing
{
    /// <summary>64 lower-case hexadecimal digits; a rename of the folder itself does not change them.</summary>
    public static string Of(string folder)
    {
        using var tree = new FolderTree(PosixFiles.Bytes(folder));
        using var all = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        Add(tree, [], all);
        return Convert.ToHexStringLower(all.GetHashAndReset());
    }

    private static void Add(FolderTree tree, byte[] below, IncrementalHash all)
    {
        foreach (byte[] name in tree.Names(below))
        {
            byte[] path = below.Length == 0 ? name : PosixFiles.Join(below, name);
            if (tree.Stat(path) is not { } stat) continue;
            all.AppendData(path);
            all.AppendData(Encoding.ASCII.GetBytes(string.Create(CultureInfo.InvariantCulture,
                $"\0{stat.Kind} {(stat.Kind == FileKind.File ? stat.Bytes : 0)} "
                    + $"{(stat.Kind == FileKind.Folder ? 0 : stat.ModifiedNanoseconds)}\n")));
            if (stat.Kind == FileKind.Folder) Add(tree, path, all);
        }
    }
}
