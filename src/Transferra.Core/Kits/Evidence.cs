// Evidence.cs: where something is written outside of the books: in a file of the program, or in what a command says.
// Forms: a regular expression; a key of an INI file ("Section/Key"); an XPath 1.0 expression (W3C); a JSON Pointer (RFC 6901); a key of a
// properties file ("key=value" lines).
// Holds: (1) a file that is missing, unreadable or of another form says nothing, and why; it never throws; (2) no file is read beyond
// LongestFile.
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using System.Xml;
using System.Xml.XPath;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>How a file is read.</summary>
[JsonConverter(typeof(InWords<EvidenceForm>))]
public enum EvidenceForm
{
    /// <summary>A regular expression with one named group.</summary>
    Pattern,
    /// <summary>Section and key of an INI file.</summary>
    Ini,
    /// <summary>An XPath expression.</summary>
    Xml,
    /// <summary>A JSON Pointer.</summary>
    Json,
    /// <summary>A key of a properties file.</summary>
    Property,
}

/// <summary>What a place says.</summary>
/// <param name="Text">What stands there; null when nothing does.</param>
/// <param name="Problem">Why it says nothing; "" when it does.</param>
public readonly record struct Told(string? Text, string Problem);

/// <summary>A place where something is written.</summary>
/// <param name="File">Relative to a folder; null for a command.</param>
/// <param name="Command">Program and arguments; empty for a file.</param>
/// <param name="Form">How it is read.</param>
/// <param name="Key">What is looked for: the pattern, key, path or pointer.</param>
/// <param name="Pattern">The compiled pattern; null for other forms.</param>
public sealed record Evidence(string? File, IReadOnlyList<string> Command, EvidenceForm Form, string Key, Regex? Pattern)
{
    private const long LongestFile = 16 << 20;
    private static readonly TimeSpan CommandLimit = TimeSpan.FromSeconds(20);

    /// <summary>The place in words.</summary>
    public string Where => File is null ? $"what \"{SystemCommands.Shown(Command)}\" says" : Form == EvidenceForm.Pattern ? File
        : $"{File}, {Key}";

    /// <summary>Reads it.</summary>
    /// <param name="folder">The program's folder; commands with "/" in their name are looked for in it, too.</param>
    /// <param name="commands">Runs commands.</param>
    public Told Read(string folder, ICommands commands)
    {
        try
        {
            string content = File is null ? Say(folder, commands) : ReadFile(Path.Combine(folder, File));
            string? text = Form switch
            {
                EvidenceForm.Pattern => Pattern!.Match(content) is { Success: true } match ? match.Groups[GroupName].Value : null,
                EvidenceForm.Ini => FromIni(content, Key),
                EvidenceForm.Property => FromProperties(content, Key),
                EvidenceForm.Xml => FromXml(content, Key),
                _ => FromJson(content, Key),
            };
            return text is null ? new Told(null, "it is not written there") : new Told(text.Trim(), "");
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            return new Told(null, "the file is not there");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or RegexMatchTimeoutException
            or XmlException or XPathException
            or JsonException or TransferraException)
        {
            return new Told(null, error.Message);
        }
    }

    private string GroupName => Pattern!.GetGroupNames().First(name => !char.IsAsciiDigit(name[0]));

    private string Say(string folder, ICommands commands)
    {
        string[] command = [.. Command];
        if (command[0].Contains('/', StringComparison.Ordinal)) command[0] = Path.Combine(folder, command[0]);
        return commands.Run(command, CommandLimit).Output;
    }

    private static string ReadFile(string path)
    {
        if (new FileInfo(path).Length > LongestFile) throw new IOException("the file is larger than "
            + $"{(LongestFile >> 20).ToString(CultureInfo.InvariantCulture)} MB");
        return PlainFile.ReadText(path);
    }

    private static string? FromIni(string content, string key)
    {
        int slash = key.LastIndexOf('/');
        string wantedSection = slash < 0 ? "" : key[..slash], wantedKey = key[(slash + 1)..], section = "";
        foreach (string line in content.Split('\n').Select(line => line.Trim()))
        {
            if (line.StartsWith('[') && line.EndsWith(']')) section = line[1..^1].Trim();
            else if (line.Length > 0 && line[0] is not (';' or '#') && line.IndexOf('=', StringComparison.Ordinal) is > 0 and int at
                && Same(section, wantedSection) && Same(line[..at].Trim(), wantedKey)) return line[(at + 1)..].Trim().Trim('"');
        }
        return null;
    }

    private static string? FromProperties(string content, string key)
    {
        foreach (string line in content.Split('\n').Select(line => line.Trim()))
        {
            if (line.Length == 0 || line[0] is '#' or '!') continue;
            int at = line.IndexOfAny(['=', ':']);
            if (at > 0 && line[..at].Trim() == key) return line[(at + 1)..].Trim();
        }
        return null;
    }

    private static string? FromXml(string content, string path)
    {
        // No outside entity is ever fetched.
        using var reader = XmlReader.Create(new StringReader(content), new XmlReaderSettings
        {
            DtdProcessing = DtdProcessing.Ignore,
            XmlResolver = null
        });
        return new XPathDocument(reader).CreateNavigator().Evaluate(path) switch
        {
            XPathNodeIterator nodes => nodes.MoveNext() ? nodes.Current!.Value : null,
            { } value => Convert.ToString(value, CultureInfo.InvariantCulture),
            null => null,
        };
    }

    private static string? FromJson(string content, string pointer)
    {
        using JsonDocument document = JsonDocument.Parse(content, new JsonDocumentOptions
        {
            CommentHandling = JsonCommentHandling.Skip,
            AllowTrailingCommas = true
        });
        JsonElement here = document.RootElement;
        foreach (string token in pointer.Split('/').Skip(1).Select(token => token.Replace("~1", "/", StringComparison.Ordinal)
            .Replace("~0", "~", StringComparison.Ordinal)))
        {
            if (here.ValueKind == JsonValueKind.Array && int.TryParse(token, NumberStyles.None, CultureInfo.InvariantCulture, out int index)
                && index < here.GetArrayLength())
                here = here[index];
            else if (here.ValueKind != JsonValueKind.Object || !here.TryGetProperty(token, out here)) return null;
        }
        return here.ValueKind switch { JsonValueKind.Null => null, JsonValueKind.String => here.GetString(), _ => here.GetRawText() };
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);

    /// <summary>Reads a description of a place.</summary>
    /// <param name="map">With file and pattern, ini, xml, json or property; or with command and pattern.</param>
    /// <param name="group">The group that a pattern must have.</param>
    /// <param name="errors">Receives mistakes.</param>
    internal static Evidence? From(DescribedMap map, string group, DescriptionErrors errors)
    {
        PlacedText? file = map.Optional("file"), pattern = map.Optional("pattern");
        string[] command = [.. map.Texts("command").Select(part => part.Value)];
        (EvidenceForm Form, PlacedText? Key)[] keys = [(EvidenceForm.Pattern, pattern), (EvidenceForm.Ini, map.Optional("ini")),
            (EvidenceForm.Xml, map.Optional("xml")), (EvidenceForm.Json, map.Optional("json")),
                (EvidenceForm.Property, map.Optional("property"))];
        (EvidenceForm Form, PlacedText? Key)[] given = [.. keys.Where(key => key.Key is not null)];
        if (file is null == (command.Length == 0) || given.Length != 1 || (command.Length > 0 && pattern is null))
        {
            map.Report("a place is a file with one of pattern, ini, xml, json and property, or a command with a pattern");
            return null;
        }
        (EvidenceForm form, PlacedText? key) = given[0];
        Regex? regex = null;
        string? wrong = null;
        try
        {
            switch (form)
            {
                case EvidenceForm.Pattern:
                    regex = new Regex(key!.Value, RegexOptions.CultureInvariant | RegexOptions.Multiline, TimeSpan.FromSeconds(2));
                    if (!regex.GetGroupNames().Contains(group)) wrong = $"the pattern needs a group (?<{group}>...) for the {group}";
                    break;
                case EvidenceForm.Xml: XPathExpression.Compile(key!.Value); break;
                case EvidenceForm.Json when !key!.Value.StartsWith('/'): wrong = "a JSON pointer begins with \"/\""; break;
                default: break;
            }
        }
        catch (ArgumentException error) { wrong = $"this is not a regular expression: {error.Message}"; }
        catch (XPathException error) { wrong = $"this is not an XPath expression: {error.Message}"; }
        if (wrong is not null) key!.Report(errors, wrong);
        return wrong is null ? new Evidence(file?.Value, command, form, key!.Value, regex) : null;
    }
}

/// <summary>Versions as texts of numbers and points.</summary>
internal static class VersionText
{
    /// <summary>Compares two versions number by number: 2.10 comes after 2.9, and 2.0 equals 2.</summary>
    public static int Compare(string a, string b)
    {
        long[] left = Parts(a), right = Parts(b);
        for (int i = 0; i < Math.Max(left.Length, right.Length); i++)
        {
            long difference = (i < left.Length ? left[i] : 0) - (i < right.Length ? right[i] : 0);
            if (difference != 0) return Math.Sign(difference);
        }
        return 0;
    }

    // What follows the numbers, such as "-ubuntu", says nothing of their order.
    private static long[] Parts(string version)
    {
        var parts = new List<long>();
        var digits = new StringBuilder();
        foreach (char c in version.Append('.'))
        {
            if (char.IsAsciiDigit(c) && digits.Length < 18) digits.Append(c);
            else if (digits.Length > 0)
            {
                parts.Add(long.Parse(digits.ToString(), CultureInfo.InvariantCulture));
                digits.Clear();
                if (c != '.') break;
            }
            else break;
        }
        return [.. parts];
    }
}
