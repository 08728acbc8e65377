// SetManifest.cs: what a backup set says of itself. Layout of the set: docs/backup-sets.md, the only place where it is written down.
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>Kinds of members.</summary>
internal static class MemberKinds
{
    /// <summary>A file with content.</summary>
    public const string File = "file";

    /// <summary>A folder.</summary>
    public const string Folder = "folder";

    /// <summary>A symbolic link.</summary>
    public const string Link = "link";

    /// <summary>Another name of a file that is in the set.</summary>
    public const string Same = "same";
}

/// <summary>One entry of a set.</summary>
/// <param name="Name">Path in the set without ".zst": store/..., documents/N/... Bytes that are not UTF-8 are shown as % and two
/// hexadecimal digits.</param>
/// <param name="Kind">One of <see cref="MemberKinds"/>.</param>
/// <param name="Mode">Permission bits, octal.</param>
/// <param name="Owner">user:group by their numbers, then by their names where they have any: 1000:1000 anna:office</param>
/// <param name="Modified">Time of last change, UTC.</param>
public sealed record SetMember(string Name, [property: JsonConverter(typeof(RepeatedText))] string Kind,
    [property: JsonConverter(typeof(RepeatedText))] string Mode, [property: JsonConverter(typeof(RepeatedText))] string Owner,
    DateTimeOffset Modified)
{
    /// <summary>Its digests.</summary>
    internal MemberDigests Digests { get; init; }

    internal bool HasDigest => Digests != default;

    internal void WriteDigests(Machine.EntryWriter writer) => Digests.Write(writer);

    /// <summary>Nanoseconds of the time of last change below a tenth of a microsecond.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public int Nanoseconds { get; init; }

    /// <summary>Size of the file.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public long Bytes { get; init; }

    /// <summary>SHA-256 of the file; "" of what is not a file.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Sha256 { get => Digests.Plain.Text; init => Digests = Digests with { Plain = Machine.HexDigest.Of(value) }; }

    /// <summary>Size of the packed member.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public long PackedBytes { get; init; }

    /// <summary>SHA-256 of the packed member.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? PackedSha256 { get => Digests.Packed.Text; init => Digests = Digests with { Packed = Machine.HexDigest.Of(value) }; }

    /// <summary>XXH128 of the packed member: as good against accidents as SHA-256 and twenty times as fast, but no help against
    /// intent.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? PackedXxh128 { get => Digests.Quick.Text; init => Digests = Digests with { Quick = Machine.HexDigest.Of(value) }; }

    /// <summary>Sizes of the zstd frames the member consists of, where there are several; each but the last holds <see
    /// cref="SetManifest.FrameContentBytes"/>
    /// of the file.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<int>? Frames { get; init; }

    /// <summary>Where a link leads to, or whose other name it is.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Target { get; init; }

    /// <summary>Whether the file has holes, which are made again.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool Sparse { get; init; }

    /// <summary>Whether the file was changed while it was read, so that its content may be half old, half new.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool Changing { get; init; }

    /// <summary>Extended attributes, among them access control lists; values in base64.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyDictionary<string, string>? Attributes { get; init; }

    /// <summary>The bytes of the name in base64, when they are not UTF-8.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? RawName { get; init; }

    /// <summary>The bytes of where the link leads to in base64, when they are not UTF-8.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? RawTarget { get; init; }

    /// <summary>What tells, on the machine the set was made on, that the file is still the same: its number on the volume and when it was
    /// changed last.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Stamp { get; init; }

    /// <summary>The parts of <see cref="Owner"/>.</summary>
    /// <exception cref="FormatException">It is not of that form.</exception>
    internal (uint User, uint Group, string UserName, string GroupName) OwnerParts()
    {
        string[] parts = Owner.Split(' ', 2), numbers = parts[0].Split(':'), names = parts.Length > 1 ? parts[1].Split(':') : ["", ""];
        if (numbers.Length != 2 || names.Length != 2) throw new FormatException($"\"{Owner}\" is not an owner");
        return (uint.Parse(numbers[0], System.Globalization.CultureInfo.InvariantCulture),
            uint.Parse(numbers[1], System.Globalization.CultureInfo.InvariantCulture), names[0], names[1]);
    }

    /// <summary>Whether it has content.</summary>
    [JsonIgnore]
    public bool IsFile => Kind == MemberKinds.File;

    /// <summary>The bytes of its name.</summary>
    internal byte[] NameBytes() => RawName is null ? System.Text.Encoding.UTF8.GetBytes(Name) : Convert.FromBase64String(RawName);

    /// <summary>The bytes of where it leads to.</summary>
    internal byte[] TargetBytes() => RawTarget is null ? System.Text.Encoding.UTF8.GetBytes(Target ?? "")
        : Convert.FromBase64String(RawTarget);
}

/// <summary>The digests of a member.</summary>
/// <param name="Plain">SHA-256 of the file.</param>
/// <param name="Packed">SHA-256 of it packed.</param>
/// <param name="Quick">XXH128 of it packed.</param>
internal readonly record struct MemberDigests(Machine.HexDigest Plain, Machine.HexDigest Packed, Machine.HexDigest Quick)
{
    /// <summary>Writes them.</summary>
    public void Write(Machine.EntryWriter writer)
    {
        Plain.Write(writer);
        Packed.Write(writer);
        Quick.Write(writer);
    }

    /// <summary>Reads them.</summary>
    public static MemberDigests Read(ref Machine.EntryReader reader) => new(Machine.HexDigest.Read(ref reader),
        Machine.HexDigest.Read(ref reader), Machine.HexDigest.Read(ref reader));
}

/// <summary>A text that most entries of a long list have in common, so that it is kept once.</summary>
public sealed class RepeatedText : JsonConverter<string>
{
    /// <inheritdoc/>
    public override string Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        string.Intern(reader.GetString()!);

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, string value, JsonSerializerOptions options) => writer.WriteStringValue(value);
}

/// <summary>Something that should be in a set and is not.</summary>
/// <param name="Name">Where it would be in the set.</param>
/// <param name="Why">Why it is not.</param>
/// <param name="IsHarmless">Whether nothing is lost by it: a socket, a pipe, what office.yaml says to leave out.</param>
public sealed record LeftOut(string Name, string Why, bool IsHarmless);

/// <summary>What is known of a set from its beginning, also of one that is locked.</summary>
/// <param name="Office">The office's name.</param>
/// <param name="Company">Its code.</param>
/// <param name="CompanyName">Its name.</param>
/// <param name="Package">The kit's id.</param>
/// <param name="DataVersion">Of the data.</param>
/// <param name="MadeAt">When, UTC.</param>
/// <param name="MadeBy">Who.</param>
/// <param name="Tool">Version of this program.</param>
/// <param name="Run">The run that made it; "" when none did.</param>
public sealed record SetLabel(string Office, string Company, string CompanyName, string Package, string DataVersion,
    DateTimeOffset MadeAt, string MadeBy, string Tool, string Run)
{
    /// <summary>The office that made it, by <see cref="Office.OfficeIdentity"/>; null of sets that do not say.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? OfficeId { get; init; }
}

/// <summary>The store of a set.</summary>
/// <param name="Name">Of its file or folder below store/.</param>
/// <param name="Engine">As office.yaml names it; one on a server is written out as text.</param>
/// <param name="Form">How a folder of delimited text is written; empty for others.</param>
public sealed record SetStore(string Name, string Engine, IReadOnlyDictionary<string, string> Form)
{
    /// <summary>The code page of its texts, when it does not tell by itself; null otherwise.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? TextEncoding { get; init; }
}

/// <summary>The first member of a set.</summary>
/// <param name="Format">transferra-set/2</param>
/// <param name="Label">Whose, of when.</param>
/// <param name="DocumentFolders">The folders as office.yaml names them, in the order of documents/N.</param>
/// <param name="Store">What the store is.</param>
/// <param name="Members">Every entry.</param>
/// <param name="LeftOut">What should be there and is not.</param>
/// <param name="Baseline">Counts and fingerprints of the records.</param>
public sealed record SetManifest(string Format, SetLabel Label, IReadOnlyList<string> DocumentFolders, SetStore Store,
    MemberCollection Members,
    IReadOnlyList<LeftOut> LeftOut, IReadOnlyList<TableBaseline> Baseline)
{
    /// <summary>The form this program writes.</summary>
    public const string CurrentFormat = "transferra-set/3";

    /// <summary>The forms this program reads.</summary>
    public static readonly IReadOnlyList<string> Readable = ["transferra-set/2", CurrentFormat];

    /// <summary>Name of the first member.</summary>
    public const string FirstMember = "manifest.json";

    /// <summary>How much of a file one frame holds at most.</summary>
    public const int FrameContentBytes = 4 << 20;

    /// <summary>The tables as the baseline read them, so that a set tells by itself what its records are; null in sets of the form
    /// 2.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<WrittenTable>? Tables { get; init; }

    /// <summary>What it tells of its records, to match a store with that without unpacking it; null when it was made by a release that
    /// kept less. Nothing was matched for it, so it is not proved to be anything.</summary>
    public RecordedStore? Recorded() => Tables is not { } tables || Baseline.Any(table => table.Groups is null) ? null
        : new RecordedStore(Label.DataVersion, Label.MadeAt, Verdict.NotProved, [.. Baseline.Join(tables, table => table.Table,
            table => table.Name, (known, table) => new RecordedTable(table, IsKept: false, known.Records, known.Fingerprint, known.Last,
                known.Groups!))]);

    /// <summary>The tables to compare of its store: those that it tells of; of an old set those of the kit, and what the store has beyond
    /// it.</summary>
    /// <exception cref="Machine.TransferraException">A type is not known here.</exception>
    public IReadOnlyList<TableShape> ShapesOf(IStore store, Kits.KitVersion? version) => Tables is { } tables
        ? [.. tables.Select(table => table.Shape())] : version is null ? [] : Conversion.CustomFields.Of(store, version).In(version).Tables;

    /// <summary>How many files are in it.</summary>
    [JsonIgnore]
    public int Files => Members.Count(member => member.IsFile);

    /// <summary>Their size before packing.</summary>
    [JsonIgnore]
    public long ContentBytes => Members.Sum(member => member.Bytes);
}

/// <summary>Readers and writers of the documents in a set, made when this program is built: making them at its start would take longer
/// than a small set.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(SetManifest))]
[JsonSerializable(typeof(ExportedStore))]
[JsonSerializable(typeof(SetLabel))]
internal sealed partial class SetJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly SetJson Form = new(new JsonSerializerOptions(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        RespectRequiredConstructorParameters = true, // a misspelt name is damage, not a missing value
        RespectNullableAnnotations = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    });
}

/// <summary>A set in its place, as a list shows it.</summary>
/// <param name="Path">Full path of its file.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Label">Whose, of when.</param>
/// <param name="IsLocked">Whether a passphrase is needed to read it.</param>
public sealed record ListedSet(string Path, long Bytes, SetLabel Label, bool IsLocked);

/// <summary>A set in its place whose manifest was read; not proved by that.</summary>
/// <param name="Path">Full path of its file.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Manifest">What it says of itself.</param>
public sealed record BackupSetInfo(string Path, long Bytes, SetManifest Manifest);

/// <summary>Something wrong with a set.</summary>
/// <param name="Code">manifest, missing, damaged, length, seal, locked, records, place, left-out, changing</param>
/// <param name="Member">The member concerned; "" for the set as a whole.</param>
/// <param name="What">In words.</param>
public sealed record SetFault(string Code, string Member, string What);
