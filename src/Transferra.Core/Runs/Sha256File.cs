// Sha256File.cs: the digest of a whole file.
using System.Security.Cryptography;

namespace Transferra.Core.Runs;

/// <summary>Digests of files.</summary>
public static class Sha256File
{
    /// <summary>SHA-256 of a file's content, 64 hexadecimal digits.</summary>
    public static string Of(string path)
    {
        using FileStream file = new(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1 << 20, FileOptions.SequentialScan);
        return Convert.ToHexStringLower(SHA256.HashData(file));
    }
}
