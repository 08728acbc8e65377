// SetManifest.cs: what a backup set says of itself. Layout of the set: docs/backup-sets.md, the only place where it is written down.
using System.Text.Json;
using Transferra.Core.Matching;

namespace Transferra.Core.Backup;

/// <summary>One file in a set.</summary>
/// <param name="Name">Path in the set without ".zst": store/..., documents/N/...</param>
/// <param name="Bytes">Size of the file.</param>
/// <param name="Sha256">Of the file.</param>
/// <param name="PackedBytes">Size of the zstd member.</param>
/// <param name="PackedSha256">Of the zstd member.</param>
/// <param name="Mode">Permission bits, octal.</param>
/// <param name="Modified">Time of last change, UTC.</param>
public sealed record SetMember(string Name, long Bytes, string Sha256, long PackedBytes, string PackedSha256, string Mode, DateTimeOffset Modified);

/// <summary>The first member of a set.</summary>
/// <param name="Format">transferra-set/1</param>
/// <param name="Office">The office's name.</param>
/// <param name="Company">Its code.</param>
/// <param name="CompanyName">Its name.</param>
/// <param name="Package">The kit's id.</param>
/// <param name="DataVersion">Of the data.</param>
/// <param name="MadeAt">When, UTC.</param>
/// <param name="MadeBy">Who.</param>
/// <param name="Tool">Version of this program.</param>
/// <param name="DocumentFolders">The folders as office.yaml names them, in the order of documents/N.</param>
/// <param name="Members">Every file.</param>
/// <param name="Baseline">Counts and fingerprints of the records.</param>
public sealed record SetManifest(string Format, string Office, string Company, string CompanyName, string Package, string DataVersion, DateTimeOffset MadeAt,
    string MadeBy, string Tool, IReadOnlyList<string> DocumentFolders, IReadOnlyList<SetMember> Members, IReadOnlyList<TableBaseline> Baseline)
{
    /// <summary>The form this program writes and reads.</summary>
    public const string CurrentFormat = "transferra-set/1";

    /// <summary>Name of the store's file or folder.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public string StoreName => Members.Select(member => member.Name.Split('/')).FirstOrDefault(parts => parts is ["store", _, ..])?[1] ?? "";

    /// <summary>Name of the first member.</summary>
    public const string FirstMember = "manifest.json";

    internal static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        RespectRequiredConstructorParameters = true, // a misspelt name is damage, not a missing value
        RespectNullableAnnotations = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };
}

/// <summary>A set in its place.</summary>
/// <param name="Path">Full path of the tar file.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Manifest">What it says of itself.</param>
public sealed record BackupSetInfo(string Path, long Bytes, SetManifest Manifest);

/// <summary>Something wrong with a set.</summary>
/// <param name="Code">manifest, missing, damaged, extra, seal, records</param>
/// <param name="Member">The member concerned; "" for the set as a whole.</param>
/// <param name="What">In words.</param>
public sealed record SetFault(string Code, string Member, string What);
