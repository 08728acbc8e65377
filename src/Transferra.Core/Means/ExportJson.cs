// ExportJson.cs: how a kept export is read and written as JSON.
using System.Text.Json.Serialization;
using Transferra.Core.Conversion;
using Transferra.Core.Machine;

namespace Transferra.Core.Means;

/// <summary>A kept export.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(ExportRun))]
internal sealed partial class ExportJson : JsonSerializerContext
{
    /// <summary>As it is written.</summary>
    public static readonly ExportJson Form = new(ResultJson.Form());
}
