// JournalJson.cs: how a journal's lines are read and written as JSON.
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Transferra.Core.Machine;

/// <summary>A journal's lines and its head.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(JournalEntry))]
[JsonSerializable(typeof(Journal.Head))]
internal sealed partial class JournalJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly JournalJson Form = new(new JsonSerializerOptions(JsonSerializerDefaults.Web)
    {
        RespectRequiredConstructorParameters = true,
        RespectNullableAnnotations = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    });
}
