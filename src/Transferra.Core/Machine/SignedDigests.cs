// SignedDigests.cs: a list of files' digests and its signature, of open forms, so that sha256sum and openssl alone can see to both.
// Form: the list as sha256sum writes it (SHA-256, FIPS 180-4); the signature DER (ECDSA, FIPS 186-5, P-256, SHA-256) of the list; the
// public key PEM (RFC 7468, SubjectPublicKeyInfo).
// Holds: (1) a signature counts only when it is of the list as it is, by the key beside it, which is told by its fingerprint.
using System.Security.Cryptography;
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>Lists of digests, and signatures of them.</summary>
public static class SignedDigests
{
    private const int DigestDigits = 64;

    /// <summary>A list of files, one line each.</summary>
    /// <param name="files">Names and digests, 64 lower-case hexadecimal digits each.</param>
    public static byte[] List(IEnumerable<KeyValuePair<string, string>> files) =>
        Encoding.UTF8.GetBytes(string.Concat(files.Select(file => $"{file.Value}  {file.Key}\n")));

    /// <summary>Names and digests of a list; null when it is not one.</summary>
    public static IReadOnlyDictionary<string, string>? Read(ReadOnlySpan<byte> list)
    {
        Dictionary<string, string> said = new(StringComparer.Ordinal);
        foreach (string line in Encoding.UTF8.GetString(list).Split('\n', StringSplitOptions.RemoveEmptyEntries))
            if (line.Length > DigestDigits + 2 && line[DigestDigits..(DigestDigits + 2)] == "  ")
                said[line[(DigestDigits + 2)..]] = line[..DigestDigits];
            else return null;
        return said;
    }

    /// <summary>The signature of a list.</summary>
    public static byte[] Sign(ReadOnlySpan<byte> list, ECDsa key) => key.SignData(list, HashAlgorithmName.SHA256,
        DSASignatureFormat.Rfc3279DerSequence);

    /// <summary>The public part of a key, as it lies beside what it signed.</summary>
    public static byte[] PublicKey(ECDsa key) => Encoding.ASCII.GetBytes(key.ExportSubjectPublicKeyInfoPem() + "\n");

    /// <summary>Who signed a list.</summary>
    /// <param name="list">The list.</param>
    /// <param name="signature">Its signature.</param>
    /// <param name="publicKey">The key beside it, as PEM.</param>
    /// <returns>The key's fingerprint; null when the signature is not of this list and this key.</returns>
    public static string? SignerOf(ReadOnlySpan<byte> list, ReadOnlySpan<byte> signature, string publicKey)
    {
        try
        {
            using ECDsa key = ECDsa.Create();
            key.ImportFromPem(publicKey);
            return key.VerifyData(list, signature, HashAlgorithmName.SHA256, DSASignatureFormat.Rfc3279DerSequence)
                ? FingerprintOf(key) : null;
        }
        catch (Exception error) when (error is CryptographicException or ArgumentException) { return null; }
    }

    /// <summary>By what a key is known: SHA256: and the digest of its SubjectPublicKeyInfo in base 64.</summary>
    public static string FingerprintOf(ECDsa key) => "SHA256:" + Convert.ToBase64String(SHA256.HashData(key.ExportSubjectPublicKeyInfo()))
        .TrimEnd('=');
}
