// KitSeal.cs: by what a kit is known to be as its maker packed it: a list of its files' digests, signed with the maker's key. All three
// files are of open form, so that the maker is seen to by sha256sum and openssl alone; docs/kits.md tells how.
// Holds: (1) a file that was altered, added or taken away is named; (2) a signature counts only when it is of the list as it is, by the key
// that lies beside it, which is told by its fingerprint.
// Form: kit.sha256 as sha256sum writes it (FIPS 180-4); kit.sig a DER signature (ECDSA, FIPS 186-5, P-256, SHA-256) of kit.sha256;
// maker.pem the public key (RFC 7468, SubjectPublicKeyInfo).
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>How a kit's folder stands to its seal.</summary>
/// <param name="IsSealed">Whether there is a list of its files.</param>
/// <param name="Maker">Fingerprint of the key it is signed with, as SHA256:...; null when it is not signed.</param>
/// <param name="Wrong">What is not as it was packed, in words; empty when all is.</param>
public sealed record KitSeal(bool IsSealed, string? Maker, IReadOnlyList<string> Wrong)
{
    /// <summary>Name of the list.</summary>
    public const string ListName = "kit.sha256";

    /// <summary>Name of the signature.</summary>
    public const string SignatureName = "kit.sig";

    /// <summary>Name of the public key.</summary>
    public const string MakerName = "maker.pem";

    private const int DigestDigits = 64;

    /// <summary>Whether a file of this name is of the seal, and so not of the kit.</summary>
    public static bool IsOfSeal(string name) => name is ListName or SignatureName or MakerName;

    /// <summary>In words.</summary>
    public string Words => !IsSealed ? "nobody signed it" : Wrong.Count > 0 ? $"it is NOT as it was packed: {string.Join(", ", Wrong)}"
        : Maker is null ? "it is as it was packed, and nobody signed it" : $"it is as {Maker} signed it";

    /// <summary>The seal of a kit's files.</summary>
    /// <param name="folder">The kit's folder.</param>
    /// <param name="key">The maker's key; null when it is not signed.</param>
    /// <returns>Names and contents of the seal's files.</returns>
    public static IReadOnlyList<(string Name, byte[] Content)> Make(string folder, ECDsa? key)
    {
        byte[] list = Encoding.UTF8.GetBytes(string.Concat(Digests(folder).Select(file => $"{file.Value}  {file.Key}\n")));
        return key is null ? [(ListName, list)] : [(ListName, list),
            (SignatureName, key.SignData(list, HashAlgorithmName.SHA256, DSASignatureFormat.Rfc3279DerSequence)),
            (MakerName, Encoding.ASCII.GetBytes(key.ExportSubjectPublicKeyInfoPem() + "\n"))];
    }

    /// <summary>The SHA-256 of each file of a kit, by its name below the folder and in the order of the names; "" of one that cannot be
    /// read.</summary>
    public static IReadOnlyDictionary<string, string> Digests(string folder) => new SortedDictionary<string, string>(KitRuns.Files(folder)
        .Select(path => (Path: path, Name: Path.GetRelativePath(folder, path))).Where(file => !IsOfSeal(file.Name)).ToDictionary(file =>
            file.Name, file => PlainFile.DigestOf(file.Path)), StringComparer.Ordinal);

    /// <summary>How a folder stands to the seal that lies in it.</summary>
    public static KitSeal Of(string folder)
    {
        string list = Path.Combine(folder, ListName);
        if (!File.Exists(list)) return new KitSeal(false, null, []);
        var wrong = new List<string>();
        byte[] content = BytesOf(list);
        Dictionary<string, string> said = [];
        foreach (string line in Encoding.UTF8.GetString(content).Split('\n', StringSplitOptions.RemoveEmptyEntries))
            if (line.Length > DigestDigits + 2 && line[DigestDigits..(DigestDigits + 2)] == "  ")
                said[line[(DigestDigits + 2)..]] = line[..DigestDigits];
            else wrong.Add($"{ListName} is not a list of digests");
        IReadOnlyDictionary<string, string> there = Digests(folder);
        wrong.AddRange(there.Where(file => said.TryGetValue(file.Key, out string? digest) && digest != file.Value).Select(file =>
            $"{file.Key} is altered"));
        wrong.AddRange(there.Keys.Except(said.Keys).Select(name => $"{name} was added"));
        wrong.AddRange(said.Keys.Except(there.Keys).Select(name => $"{name} is missing"));
        return new KitSeal(true, MakerOf(folder, content, wrong), wrong);
    }

    private static byte[] BytesOf(string path)
    {
        using FileStream file = PlainFile.Open(path);
        using var bytes = new MemoryStream();
        file.CopyTo(bytes);
        return bytes.ToArray();
    }

    private static string? MakerOf(string folder, byte[] list, List<string> wrong)
    {
        string signature = Path.Combine(folder, SignatureName), maker = Path.Combine(folder, MakerName);
        if (!File.Exists(signature) && !File.Exists(maker)) return null;
        try
        {
            using ECDsa key = ECDsa.Create();
            key.ImportFromPem(PlainFile.ReadText(maker));
            if (key.VerifyData(list, BytesOf(signature), HashAlgorithmName.SHA256, DSASignatureFormat.Rfc3279DerSequence))
                return FingerprintOf(key);
        }
        catch (Exception error) when (error is CryptographicException or ArgumentException or IOException) { /* told below */ }
        wrong.Add("its signature is not of this list and this key");
        return null;
    }

    /// <summary>By what a key is known: SHA256: and the digest of its SubjectPublicKeyInfo in base 64.</summary>
    public static string FingerprintOf(ECDsa key) => "SHA256:" + Convert.ToBase64String(SHA256.HashData(key.ExportSubjectPublicKeyInfo()))
        .TrimEnd('=');
}
