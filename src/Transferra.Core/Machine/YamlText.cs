// YamlText.cs: a text as it stands in a line of YAML that people copy.
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Transferra.Core.Machine;

/// <summary>Writes single values of YAML.</summary>
internal static class YamlText
{
    private static readonly string[] WordsOfYaml = ["yes", "no", "true", "false", "null", "on", "off", "y", "n"];

    /// <summary>As YAML takes any text: plain where that is safe, quoted otherwise.</summary>
    public static string Of(string text) => text.Length > 0 && text.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')
        && !char.IsDigit(text[0]) && !WordsOfYaml.Contains(text, StringComparer.OrdinalIgnoreCase)
        ? text : Quoted(text);

    /// <summary>Always quoted.</summary>
    public static string Quoted(string text) => $"\"{JsonEncodedText.Encode(text, JavaScriptEncoder.UnsafeRelaxedJsonEscaping)}\"";
}
