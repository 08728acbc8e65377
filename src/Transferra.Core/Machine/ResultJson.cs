// ResultJson.cs: results as JSON, in files and on the command line (docs/json.md).
// Why each folder has a JsonSerializerContext of its own: how its types are read and written is then settled when this program is built.
// To find it out at each start takes time, and cannot be done in a program that is compiled to native code.
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;

namespace Transferra.Core.Machine;

/// <summary>How results are written as JSON, in files and on the command line; documented in docs/json.md.</summary>
public static class ResultJson
{
    /// <summary>For a context of results: camelCase names, indented.</summary>
    /// <param name="converters">Of types that say it otherwise elsewhere.</param>
    public static JsonSerializerOptions Form(params ReadOnlySpan<JsonConverter> converters)
    {
        var options = new JsonSerializerOptions(JsonSerializerDefaults.Web)
        {
            WriteIndented = true,
            Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        };
        foreach (JsonConverter converter in converters) options.Converters.Add(converter);
        return options;
    }

    /// <summary>How a type is written.</summary>
    /// <typeparam name="T">The type.</typeparam>
    /// <param name="context">The context that knows it.</param>
    /// <exception cref="NotSupportedException">It does not.</exception>
    public static JsonTypeInfo<T> Of<T>(JsonSerializerContext context) => (JsonTypeInfo<T>)context.Options.GetTypeInfo(typeof(T));

    /// <summary>A result from its file; nothing when there is none, or when what is there cannot be read.</summary>
    /// <typeparam name="T">The result's type.</typeparam>
    /// <param name="path">The file.</param>
    /// <param name="form">How it is written.</param>
    public static T? Load<T>(string path, JsonTypeInfo<T> form)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize(File.ReadAllBytes(path), form) : default;
        }
        // A result tells what was; what is goes by the journal and the disk, so one that is torn or of another version counts as missing.
        catch (Exception error) when (error is JsonException or IOException or UnauthorizedAccessException
            or NotSupportedException)
        { return default; }
    }
}
