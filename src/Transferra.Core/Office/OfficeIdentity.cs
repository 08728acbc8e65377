// OfficeIdentity.cs: by what an office is told apart from every other, in places that several offices keep their sets in: a number drawn
// once, in transferra/office.json of the office's folder. Its name will not do: two offices can have one name, and one company code.
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Office;

/// <summary>The identity of an office.</summary>
/// <param name="Id">32 hexadecimal digits.</param>
public sealed record OfficeIdentity(string Id)
{
    private const int ShortDigits = 8;

    /// <summary>Enough of it to tell names in one folder apart.</summary>
    public string Short => Id[..ShortDigits];

    private static string PathIn(string officeFolder) => Path.Combine(officeFolder, "transferra", "office.json");

    /// <summary>The identity of an office; null when it has none yet.</summary>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    /// <exception cref="TransferraException">Its file is there and cannot be read.</exception>
    public static OfficeIdentity? Find(string officeFolder)
    {
        string path = PathIn(officeFolder);
        if (!File.Exists(path)) return null;
        try
        {
            OfficeIdentity? found = JsonSerializer.Deserialize(File.ReadAllBytes(path), OfficeJson.Default.OfficeIdentity);
            if (found is { Id.Length: > ShortDigits }) return found;
        }
        catch (JsonException) { /* told below */ }
        throw new TransferraException($"{path} cannot be read: it should hold the number by which this office knows its backup sets",
            "Put it back from a copy; the number also stands in the manifest of each set, as officeId. If there is none, remove the "
                + "file: a new number is then made.");
    }

    /// <summary>The identity of an office, drawn when it has none yet.</summary>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    /// <param name="volume">The disk.</param>
    public static OfficeIdentity Of(string officeFolder, IVolume volume)
    {
        if (Find(officeFolder) is { } known) return known;
        var drawn = new OfficeIdentity(Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16)));
        volume.CreateFolder(Path.GetDirectoryName(PathIn(officeFolder))!);
        volume.Replace(PathIn(officeFolder), JsonSerializer.SerializeToUtf8Bytes(drawn, OfficeJson.Default.OfficeIdentity));
        return drawn;
    }
}

/// <summary>The identity in its file.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(OfficeIdentity))]
internal sealed partial class OfficeJson : JsonSerializerContext;
