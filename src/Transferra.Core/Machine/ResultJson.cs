// ResultJson.cs: results as JSON, in files and on the command line (docs/json.md).
using System.Text.Json;

namespace Transferra.Core.Machine;

/// <summary>How results are written as JSON, in files and on the command line; documented in docs/json.md.</summary>
public static class ResultJson
{
    /// <summary>camelCase names, words for enumerations, indented.</summary>
    public static readonly JsonSerializerOptions Options = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        Converters = { new System.Text.Json.Serialization.JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower) },
    };

    /// <summary>A result from its file; nothing when there is none, or when what is there cannot be read.</summary>
    /// <typeparam name="T">The result's type.</typeparam>
    /// <param name="path">The file.</param>
    public static T? Load<T>(string path)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize<T>(File.ReadAllBytes(path), Options) : default;
        }
        // A result tells what was; what is goes by the journal and the disk, so one that is torn or of another version counts as missing.
        catch (Exception error) when (error is JsonException or IOException or UnauthorizedAccessException
            or NotSupportedException)
        { return default; }
    }
}
