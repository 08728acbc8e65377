// ChecksJson.cs: how kept checks are read and written as JSON.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Checks;

/// <summary>Kept checks.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(CheckResult))]
internal sealed partial class ChecksJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly ChecksJson Form = new(ResultJson.Form());
}
