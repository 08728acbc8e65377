// StoreDigest.cs: the digest by which a run knows a store again: of a file its SHA-256, of a folder that of its files' names and digests.
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>Digests of stores.</summary>
internal static class StoreDigest
{
    /// <summary>64 lower-case hexadecimal digits.</summary>
    /// <param name="path">A file, or a folder of files: of that, each file's relative name, a zero byte, its digest and a line end, in order of names.</param>
    public static string Of(string path)
    {
        if (!Directory.Exists(path)) return OfFile(path);
        using var all = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (string file in Directory.EnumerateFiles(path, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
            all.AppendData(Encoding.UTF8.GetBytes($"{Path.GetRelativePath(path, file)}\0{OfFile(file)}\n"));
        return Convert.ToHexStringLower(all.GetHashAndReset());
    }

    private static string OfFile(string path)
    {
        using FileStream file = PlainFile.Open(path, 1 << 20);
        return Convert.ToHexStringLower(SHA256.HashData(file));
    }
}
