// OfficeKey.cs: the key by which an office signs what it hands over: transferra/office-key.pem, made at first use, for its owner alone.
// Form: ECDSA P-256, PEM (PKCS #8, RFC 5958 and RFC 7468).
// Holds: (1) a key that is there is never replaced; (2) one that others may read does not sign.
using System.Security.Cryptography;
using System.Text;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>An office's key.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class OfficeKey(string officeFolder, IVolume volume)
{
    private const UnixFileMode OthersMay = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead
        | UnixFileMode.OtherWrite;

    private string FilePath => Path.Combine(officeFolder, "transferra", "office-key.pem");

    /// <summary>By what it is known; null while there is none.</summary>
    public string? Fingerprint
    {
        get
        {
            if (!File.Exists(FilePath)) return null;
            using ECDsa key = Load();
            return SignedDigests.FingerprintOf(key);
        }
    }

    /// <summary>The key, made when there is none.</summary>
    /// <exception cref="TransferraException">It cannot be read, or others may read it.</exception>
    public ECDsa ToSign()
    {
        if (File.Exists(FilePath))
        {
            if ((File.GetUnixFileMode(FilePath) & OthersMay) != 0)
                throw new TransferraException($"others may read the office's key {FilePath}", $"chmod 600 {FilePath}");
            return Load();
        }
        var made = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        volume.CreateFolder(Path.GetDirectoryName(FilePath)!);
        volume.WriteNew(FilePath, Encoding.ASCII.GetBytes(made.ExportPkcs8PrivateKeyPem() + "\n"));
        return made;
    }

    private ECDsa Load()
    {
        var key = ECDsa.Create();
        try
        {
            key.ImportFromPem(PlainFile.ReadText(FilePath));
            return key;
        }
        catch (Exception error) when (error is CryptographicException or ArgumentException)
        {
            key.Dispose();
            throw new TransferraException($"{FilePath} is not a private key", "Put it back from a copy; or move it away, and a new one is "
                + "made, which is not the one that earlier sign-offs were signed with.");
        }
    }
}
