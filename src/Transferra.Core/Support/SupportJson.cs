// SupportJson.cs: how the documents of a bundle are written as JSON (docs/bundle.md).
using System.Text.Json.Serialization;
using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Support;

/// <summary>Documents of a bundle: facts, and what their values are.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(JsonFacts[]))]
[JsonSerializable(typeof(IEnumerable<JsonFacts>))]
[JsonSerializable(typeof(bool))]
[JsonSerializable(typeof(DateTimeOffset))]
[JsonSerializable(typeof(Dictionary<string, int>))]
[JsonSerializable(typeof(Dictionary<string, string>))]
[JsonSerializable(typeof(IReadOnlyDictionary<string, string>))]
[JsonSerializable(typeof(PackageSurvey))]
[JsonSerializable(typeof(IEnumerable<CustomFile>))]
[JsonSerializable(typeof(CheckResult))]
[JsonSerializable(typeof(IEnumerable<Finding>))]
[JsonSerializable(typeof(IReadOnlyList<RelationShape>))]
[JsonSerializable(typeof(IReadOnlyList<IndexShape>))]
internal sealed partial class SupportJson : JsonSerializerContext
{
    /// <summary>As they are written.</summary>
    public static readonly SupportJson Form = new(ResultJson.Form());
}
