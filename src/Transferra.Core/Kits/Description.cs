// Description.cs: reading of the YAML files that people write, with every mistake collected and located.
// Holds: (1) all mistakes of all files are reported in one go; (2) each with file, line and column; (3) an unknown key is a mistake,
//        never ignored, as a misspelt rule that is silently dropped would change what a conversion does.
using System.Globalization;
using Transferra.Core.Machine;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;
using YamlDotNet.RepresentationModel;

namespace Transferra.Core.Kits;

/// <summary>One mistake in a description.</summary>
/// <param name="File">The file, as the administrator would name it.</param>
/// <param name="Line">From 1.</param>
/// <param name="Column">From 1.</param>
/// <param name="What">What is wrong and what would be right; one line.</param>
public sealed record DescriptionError(string File, int Line, int Column, string What)
{
    /// <summary>file:line:column: what</summary>
    public override string ToString() => FormattableString.Invariant($"{File}:{Line}:{Column}: {What}");
}

/// <summary>Raised with all the mistakes found in office.yaml and the kits.</summary>
public sealed class DescriptionException(IReadOnlyList<DescriptionError> errors)
    : Exception(string.Join(Environment.NewLine, errors.Select(error => error.ToString())))
{
    /// <summary>In the order of files, lines and columns.</summary>
    public IReadOnlyList<DescriptionError> Errors { get; } = errors;
}

/// <summary>Collects mistakes.</summary>
public sealed class DescriptionErrors
{
    private readonly List<DescriptionError> _errors = [];

    /// <summary>Mistakes so far.</summary>
    public int Count => _errors.Count;

    /// <summary>Those that were found since there were so many.</summary>
    public IReadOnlyList<DescriptionError> Since(int count) => [.. _errors.Skip(count)];

    /// <summary>Adds a mistake.</summary>
    public void Add(string file, int line, int column, string what) => _errors.Add(new DescriptionError(file, line, column, what));

    /// <summary>Whether nobody knows yet what tables and columns there are, as only the store tells: what is written of them is then read
    /// for its form, and read again when the store is there.</summary>
    internal bool StoreIsUnknown { get; set; }

    /// <summary>Adds that a table or column is not there, where it is known what is.</summary>
    internal void NotThere(PlacedText named, string what)
    {
        if (!StoreIsUnknown) named.Report(this, what);
    }

    /// <summary>Ends the loading when there is any mistake.</summary>
    /// <exception cref="DescriptionException">With all of them.</exception>
    public void ThrowIfAny()
    {
        if (_errors.Count > 0)
            throw new DescriptionException([.. _errors.Distinct().OrderBy(e => e.File, StringComparer.Ordinal).ThenBy(e => e.Line)
                .ThenBy(e => e.Column)]);
    }
}

/// <summary>A text of a description with the place it stands at.</summary>
/// <param name="Value">The text.</param>
/// <param name="File">The file.</param>
/// <param name="Line">Of its first character, from 1.</param>
/// <param name="Column">Of its first character, from 1; behind an opening quotation mark.</param>
/// <param name="OneLine">Whether offsets in the text are offsets in the line.</param>
internal sealed record PlacedText(string Value, string File, int Line, int Column, bool OneLine)
{
    /// <summary>Adds a mistake at an offset of this text.</summary>
    public void Report(DescriptionErrors errors, string what, int offset = 0) =>
        errors.Add(File, Line, Column + (OneLine ? offset : 0), what);

    /// <summary>The text.</summary>
    public override string ToString() => Value;
}

/// <summary>One YAML mapping being read; every key must be asked for, or it is reported as unknown by <see cref="Done"/>.</summary>
internal sealed class DescribedMap
{
    private readonly YamlMappingNode _node;
    private readonly Mark _start;
    private readonly string _file;
    private readonly DescriptionErrors _errors;
    private readonly HashSet<string> _asked = new(StringComparer.Ordinal);
    private readonly string _what;

    private DescribedMap(YamlMappingNode node, string file, string folder, DescriptionErrors errors, string what)
    {
        (_file, Folder, _errors, _what, _start) = (file, folder, errors, what, node.Start);
        _node = node.Style == MappingStyle.Flow ? Joined(node) : node;
    }

    // Within braces, YAML ends a value at a comma, also at one within brackets: {A: DECIMAL(6,2)} is A and an entry "2)" without a value.
    // The mistake is told once, and what was meant is read on.
    private YamlMappingNode Joined(YamlMappingNode node)
    {
        KeyValuePair<YamlNode, YamlNode>[] entries = [.. node.Children];
        var joined = new YamlMappingNode();
        bool isCut = false;
        for (int i = 0; i < entries.Length; i++)
        {
            YamlNode value = entries[i].Value;
            if (value is YamlScalarNode { Style: ScalarStyle.Plain, Value: { } text } && IsOpen(text))
            {
                string whole = text;
                while (IsOpen(whole) && i + 1 < entries.Length && entries[i + 1] is
                    {
                        Key: YamlScalarNode next,
                        Value: YamlScalarNode { Value: null or "" }
                    }) (whole, i) = ($"{whole},{next.Value}", i + 1);
                if (whole != text)
                {
                    _errors.Add(_file, (int)value.Start.Line, (int)value.Start.Column, $"within {{ }} a value with a comma stands in "
                        + $"quotation marks; write \"{whole}\"");
                    (isCut, value) = (true, new YamlScalarNode(whole));
                }
            }
            joined.Children[entries[i].Key] = value;
        }
        return isCut ? joined : node;
    }

    private static bool IsOpen(string text) => text.Count(c => c == '(') > text.Count(c => c == ')');

    /// <summary>The same, to be read again with other mistakes.</summary>
    public DescribedMap Again(DescriptionErrors errors) => new(_node, _file, Folder, errors, _what) { IsWhole = IsWhole };

    private DescribedMap Inner(YamlMappingNode node, string what) => new(node, _file, Folder, _errors, what);

    /// <summary>Full path of the folder in which the file lies.</summary>
    public string Folder { get; }

    /// <summary>Reads a file; null when it is missing or no mapping, which is then reported.</summary>
    public static DescribedMap? Load(string path, string shownAs, string what, DescriptionErrors errors)
    {
        var stream = new YamlStream();
        try
        {
            if (TooDeep(path) is { } deep)
            {
                errors.Add(shownAs, (int)deep.Line, (int)deep.Column, string.Create(CultureInfo.InvariantCulture,
                    $"more than {DeepestNesting} values are nested in each other here; no description needs that"));
                return null;
            }
            using var text = new StreamReader(PlainFile.Open(path));
            stream.Load(text);
        }
        catch (YamlException error)
        {
            errors.Add(shownAs, (int)error.Start.Line, (int)error.Start.Column, $"this is not YAML: {error.Message}");
            return null;
        }
        catch (InvalidOperationException)
        {
            // The library gives up on some unclosed brackets without saying where; the last thing it understood is told instead.
            Mark last = LastUnderstood(path);
            errors.Add(shownAs, (int)last.Line, (int)last.Column, "this is not YAML: something that was opened near here is not closed");
            return null;
        }
        catch (IOException) when (!File.Exists(path))
        {
            errors.Add(shownAs, 1, 1, $"the file is not there; {what} is described in it");
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            errors.Add(shownAs, 1, 1, $"the file cannot be read: {error.Message}");
            return null;
        }
        if (stream.Documents.Count != 1 || stream.Documents[0].RootNode is not YamlMappingNode root)
        {
            errors.Add(shownAs, 1, 1, $"the file should hold one mapping (key: value lines) that describes {what}");
            return null;
        }
        return new DescribedMap(root, shownAs, Path.GetDirectoryName(Path.GetFullPath(path))!, errors, what) { IsWhole = true };
    }

    /// <summary>Reads one mapping that stands in a text, as on the command line.</summary>
    /// <exception cref="Machine.TransferraException">It is none.</exception>
    public static DescribedMap OfText(string text, string folder, string what, DescriptionErrors errors)
    {
        var stream = new YamlStream();
        try { stream.Load(new StringReader(text)); }
        catch (Exception error) when (error is YamlException or InvalidOperationException)
        {
            throw new Machine.TransferraException($"this is not YAML: {text}", "Write it as office.yaml does, in quotes for the shell.",
                error);
        }
        return stream.Documents is [{ RootNode: YamlMappingNode root }] ? new DescribedMap(root, "command line", folder, errors, what)
            : throw new Machine.TransferraException($"{text} is not a mapping", "Write it as office.yaml does: {engine: NAME, ...}");
    }

    /// <summary>A mapping that says nothing.</summary>
    /// <param name="shownAs">What messages call it.</param>
    public static DescribedMap Nothing(string shownAs) => new(new YamlMappingNode(), shownAs, "", new DescriptionErrors(), "");

    private const int DeepestNesting = 100;

    // The library reads what is nested by calling itself; a hundred thousand brackets would end the program. It is counted first, without.
    // A part that stands for itself (an alias of what it is in) would never end, either.
    private static Mark? TooDeep(string path)
    {
        using var text = new StreamReader(PlainFile.Open(path));
        var parser = new Parser(text);
        int depth = 0;
        try
        {
            while (parser.MoveNext())
            {
                if (parser.Current is MappingStart or SequenceStart) depth++;
                else if (parser.Current is MappingEnd or SequenceEnd) depth--;
                else if (parser.Current is AnchorAlias alias) throw new YamlException(alias.Start, alias.End,
                    "anchors and aliases (& and *) are not used in these files; write it out");
                if (depth > DeepestNesting) return parser.Current!.Start;
            }
        }
        catch (InvalidOperationException) { /* told when it is loaded */ }
        return null;
    }

    private static Mark LastUnderstood(string path)
    {
        using var text = new StreamReader(PlainFile.Open(path));
        var parser = new Parser(text);
        Mark last = Mark.Empty;
        try
        {
            while (parser.MoveNext()) last = parser.Current!.Start;
        }
        catch (Exception error) when (error is YamlException or InvalidOperationException) { /* as before; now it is known where */ }
        return last;
    }

    public string FileName => _file;

    /// <summary>Whether it is all that stands in its file.</summary>
    public bool IsWhole { get; private init; }

    public DescriptionErrors Errors => _errors;

    public IReadOnlyList<string> Keys => [.. _node.Children.Keys.OfType<YamlScalarNode>().Select(key => key.Value ?? "")];

    public bool Has(string key) => Find(key) is not null;

    public void Report(string what) => _errors.Add(_file, (int)_start.Line, (int)_start.Column, what);

    public void Report(string key, string what)
    {
        // Of a single value the value is to blame; of a list or mapping its key, as its first item may be quite right.
        YamlNode? value = Find(key);
        Mark at = value is null ? _start : value is YamlScalarNode ? value.Start : _node.Children.Keys.First(node =>
            node is YamlScalarNode name && name.Value == key).Start;
        _errors.Add(_file, (int)at.Line, (int)at.Column, what);
    }

    /// <summary>A text that must be there.</summary>
    public PlacedText Text(string key) => Optional(key) ?? Missing(key);

    public PlacedText? Optional(string key)
    {
        YamlNode? node = Find(key);
        if (node is null) return null;
        if (node is YamlScalarNode scalar) return Placed(scalar);
        Report(key, $"\"{key}\" should be a single value");
        return null;
    }

    /// <summary>A "yes" or "no"; left out is no.</summary>
    public bool IsYes(string key)
    {
        PlacedText? text = Optional(key);
        if (text is not null && text.Value is not ("yes" or "no" or "true" or "false")) text.Report(_errors,
            $"\"{text}\" should be yes or no");
        return text?.Value is "yes" or "true";
    }

    public DescribedMap? Map(string key, string what, bool required = false)
    {
        YamlNode? node = Find(key);
        if (node is YamlMappingNode map) return Inner(map, what);
        if (node is not null) Report(key, $"\"{key}\" should be a mapping of {what}");
        else if (required) Missing(key);
        return null;
    }

    public IReadOnlyList<DescribedMap> Maps(string key, string what, bool required = false)
    {
        YamlNode? node = Find(key);
        if (node is null)
        {
            if (required) Missing(key);
            return [];
        }
        if (node is not YamlSequenceNode list)
        {
            Report(key, $"\"{key}\" should be a list: lines that begin with \"- \"");
            return [];
        }
        var maps = new List<DescribedMap>();
        foreach (YamlNode item in list)
        {
            if (item is YamlMappingNode map) maps.Add(Inner(map, what));
            else _errors.Add(_file, (int)item.Start.Line, (int)item.Start.Column,
                $"each item of \"{key}\" should be a mapping that describes {what}");
        }
        return maps;
    }

    /// <summary>A list whose items are single texts or mappings; a single one counts as a list of one.</summary>
    public IReadOnlyList<(PlacedText? Text, DescribedMap? Map)> TextsOrMaps(string key, string what)
    {
        var items = new List<(PlacedText?, DescribedMap?)>();
        foreach (YamlNode item in Find(key) switch { null => [], YamlSequenceNode list => list.Children, var single => [single] })
        {
            if (item is YamlScalarNode scalar) items.Add((Placed(scalar), null));
            else if (item is YamlMappingNode map) items.Add((null, Inner(map, what)));
            else _errors.Add(_file, (int)item.Start.Line, (int)item.Start.Column,
                $"each item of \"{key}\" should be a single value or a mapping that describes {what}");
        }
        return items;
    }

    /// <summary>A list of texts; a single text counts as a list of one.</summary>
    public IReadOnlyList<PlacedText> Texts(string key)
    {
        switch (Find(key))
        {
            case null: return [];
            case YamlScalarNode one: return [Placed(one)];
            case YamlSequenceNode list when list.All(item => item is YamlScalarNode):
                return [.. list.Cast<YamlScalarNode>().Select(Placed)];
            default:
                Report(key, $"\"{key}\" should be a list of single values");
                return [];
        }
    }

    /// <summary>All keys of this mapping with their single values, as in lists of columns.</summary>
    public IReadOnlyList<(PlacedText Key, PlacedText Value)> Pairs()
    {
        var pairs = new List<(PlacedText, PlacedText)>();
        foreach ((YamlNode key, YamlNode value) in _node.Children)
        {
            if (key is not YamlScalarNode name) continue;
            _asked.Add(name.Value ?? "");
            if (value is YamlScalarNode scalar) pairs.Add((Placed(name), Placed(scalar)));
            else _errors.Add(_file, (int)value.Start.Line, (int)value.Start.Column, $"\"{name.Value}\" should be a single value");
        }
        return pairs;
    }

    /// <summary>The place of a key, for mistakes about it.</summary>
    public PlacedText KeyText(string key) =>
        _node.Children.Keys.OfType<YamlScalarNode>().FirstOrDefault(node => node.Value == key) is { } node ? Placed(node) : Missing(key);

    /// <summary>Reports the keys nobody asked for.</summary>
    public void Done()
    {
        foreach (YamlScalarNode key in _node.Children.Keys.OfType<YamlScalarNode>().Where(key => !_asked.Contains(key.Value ?? "")))
        {
            string meant = Names.Meant(key.Value ?? "", _asked);
            _errors.Add(_file, (int)key.Start.Line, (int)key.Start.Column, $"\"{key.Value}\" is not known here{meant}"
                + $"{(meant.Length > 0 ? " " : "; ")}{_what} can have {string.Join(", ", _asked.Order(StringComparer.Ordinal))}");
        }
    }

    public bool IsMap(string key) => Find(key) is YamlMappingNode;

    private YamlNode? Find(string key)
    {
        _asked.Add(key);
        return _node.Children.TryGetValue(new YamlScalarNode(key), out YamlNode? node) ? node : null;
    }

    private PlacedText Missing(string key)
    {
        Report($"\"{key}\" is missing; {_what} must have it");
        return new PlacedText("", _file, (int)_start.Line, (int)_start.Column, false);
    }

    private PlacedText Placed(YamlScalarNode scalar)
    {
        bool quoted = scalar.Style is ScalarStyle.SingleQuoted or ScalarStyle.DoubleQuoted;
        bool oneLine = scalar.Start.Line == scalar.End.Line;
        return new PlacedText(scalar.Value ?? "", _file, (int)scalar.Start.Line, (int)scalar.Start.Column + (quoted ? 1 : 0), oneLine);
    }
}
