// ClosingJson.cs: how marks and facts of a closing are read and written as JSON.
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Transferra.Core.Closing;

/// <summary>Marks and facts of a closing.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(ShutMark))]
[JsonSerializable(typeof(IEnumerable<string>))]
[JsonSerializable(typeof(string[]))]
internal sealed partial class ClosingJson : JsonSerializerContext;
