// BackupJson.cs: how what lies beside the sets is read and written as JSON.
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Transferra.Core.Backup;

/// <summary>What lies beside the sets; the sets' own documents are those of <see cref="SetJson"/>.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(SetLabel))]
[JsonSerializable(typeof(List<KnownPlace>))]
[JsonSerializable(typeof(PlaceBook.Mark))]
[JsonSerializable(typeof(SetProof))]
internal sealed partial class BackupJson : JsonSerializerContext;
