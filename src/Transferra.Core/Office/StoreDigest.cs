// StoreDigest.cs: the digest by which a run knows a store again: of a file its SHA-256, of a folder that of its files' names and digests.
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Digests of stores.</summary>
internal static class StoreDigest
{
    /// <summary>64 lower-case hexadecimal digits. Of a SQLite file beside which changes lie that are not yet in it: those of both digests,
    /// one after the other, digested.</summary>
    public static string Of(StoreAddress store)
    {
        string own = Of(store.Path);
        string[] beside = [.. store.EndingsKept.Where(ending => ending != StoreAddress.SharedMemoryEnding)
            .Select(ending => store.Path + ending).Where(file => new FileInfo(file) is { Exists: true, Length: > 0 })];
        return beside.Length == 0 ? own : Convert.ToHexStringLower(SHA256.HashData(Encoding.ASCII.GetBytes(own
            + string.Concat(beside.Select(OfFile)))));
    }

    /// <summary>64 lower-case hexadecimal digits.</summary>
    /// <param name="path">A file, or a folder of files: of that, each file's relative name, a zero byte, its digest (of a link, that of
    /// where it leads) and a line end, in order of the names' bytes.</param>
    public static string Of(string path)
    {
        if (!Directory.Exists(path)) return OfFile(path);
        using var all = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        using var below = new FolderFiles(path);
        foreach (FoundFile file in below.All().OrderBy(file => file.Name, ByBytes))
        {
            using Stream content = file.IsLink ? new MemoryStream(below.LinkOf(file)) : below.Open(file);
            all.AppendData([.. file.Name, .. Encoding.ASCII.GetBytes($"\0{Convert.ToHexStringLower(SHA256.HashData(content))}\n")]);
        }
        return Convert.ToHexStringLower(all.GetHashAndReset());
    }

    /// <summary>That of one file.</summary>
    public static string OfPath(string path) => OfFile(path);

    private static readonly Comparer<byte[]> ByBytes = Comparer<byte[]>.Create((a, b) => a.AsSpan().SequenceCompareTo(b));

    private static string OfFile(string path)
    {
        using FileStream file = PlainFile.Open(path, 1 << 20);
        return Convert.ToHexStringLower(SHA256.HashData(file));
    }
}
