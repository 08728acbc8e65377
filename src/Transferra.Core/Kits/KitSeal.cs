// KitSeal.cs: by what a kit is known to be as its maker packed it: a list of its files' digests, signed with the maker's key. All three
// files are of open form, so that the maker is seen to by sha256sum and openssl alone; docs/kits.md tells how.
// Holds: (1) a file that was altered, added or taken away is named; (2) a signature counts only when it is of the list as it is, by the key
// that lies beside it, which is told by its fingerprint.
// Form: kit.sha256 is the list, kit.sig its signature, maker.pem the public key (SignedDigests.cs).
using System.Security.Cryptography;
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
        byte[] list = SignedDigests.List(Digests(folder));
        return key is null ? [(ListName, list)] : [(ListName, list), (SignatureName, SignedDigests.Sign(list, key)),
            (MakerName, SignedDigests.PublicKey(key))];
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
        byte[] content = PlainFile.ReadBytes(list);
        if (SignedDigests.Read(content) is not { } said)
            return new KitSeal(true, null, [$"{ListName} is not a list of digests"]);
        IReadOnlyDictionary<string, string> there = Digests(folder);
        wrong.AddRange(there.Where(file => said.TryGetValue(file.Key, out string? digest) && digest != file.Value).Select(file =>
            $"{file.Key} is altered"));
        wrong.AddRange(there.Keys.Except(said.Keys).Select(name => $"{name} was added"));
        wrong.AddRange(said.Keys.Except(there.Keys).Select(name => $"{name} is missing"));
        return new KitSeal(true, MakerOf(folder, content, wrong), wrong);
    }

    private static string? MakerOf(string folder, byte[] list, List<string> wrong)
    {
        string signature = Path.Combine(folder, SignatureName), maker = Path.Combine(folder, MakerName);
        if (!File.Exists(signature) && !File.Exists(maker)) return null;
        try
        {
            if (SignedDigests.SignerOf(list, PlainFile.ReadBytes(signature), PlainFile.ReadText(maker)) is { } signer) return signer;
        }
        catch (IOException) { /* told below */ }
        wrong.Add("its signature is not of this list and this key");
        return null;
    }
}
