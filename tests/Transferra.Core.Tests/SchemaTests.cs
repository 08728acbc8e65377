using System.Text.Json;
using YamlDotNet.RepresentationModel;

namespace Transferra.Core.Tests;

/// <summary>The JSON Schemas in docs/ know every key that the demo's descriptions use, and none that the loader does not.</summary>
public sealed class SchemaTests
{
    private static string Root()
    {
        string folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "Transferra.slnx"))) folder = Path.GetDirectoryName(folder)!;
        return folder;
    }

    [Theory]
    [InlineData("office", "office.yaml")]
    [InlineData("kit", "kits/pellwright-ledger/kit.yaml")]
    [InlineData("version", "kits/pellwright-ledger/versions/5.yaml")]
    [InlineData("version", "kits/pellwright-ledger/versions/6.yaml")]
    [InlineData("hop", "kits/pellwright-ledger/hops/5-to-6.yaml")]
    [InlineData("kit", "kits/pellwright-stockroom/kit.yaml")]
    [InlineData("version", "kits/pellwright-stockroom/versions/3.yaml")]
    [InlineData("version", "kits/pellwright-stockroom/versions/4.yaml")]
    [InlineData("hop", "kits/pellwright-stockroom/hops/3-to-4.yaml")]
    public void The_demo_fits_its_schema(string schema, string file)
    {
        JsonElement root = JsonDocument.Parse(File.ReadAllText(Path.Combine(Root(), "docs", "schemas",
            schema + ".schema.json"))).RootElement;
        var yaml = new YamlStream();
        using (var text = new StreamReader(Path.Combine(Root(), "demo/Transferra.Demo/Office", file))) yaml.Load(text);
        Assert.Empty(Misfits(root, yaml.Documents[0].RootNode, file));
        // A check that accepts anything would prove nothing.
        ((YamlMappingNode)yaml.Documents[0].RootNode).Add("frobnicate", "yes");
        Assert.Equal([$"{file}: frobnicate is not known"], Misfits(root, yaml.Documents[0].RootNode, file));
    }

    // As much of JSON Schema as ours use: type, properties, required, additionalProperties, items, enum, oneOf.
    private static List<string> Misfits(JsonElement schema, YamlNode node, string at)
    {
        if (schema.TryGetProperty("oneOf", out JsonElement choices) && !schema.TryGetProperty("properties", out _))
            return choices.EnumerateArray().Select(choice => Misfits(choice, node, at)).MinBy(misfits => misfits.Count)!;
        switch (schema.GetProperty("type").GetString(), node)
        {
            case ("string" or "integer", YamlScalarNode scalar):
                bool listed = !schema.TryGetProperty("enum", out JsonElement list) || list.EnumerateArray()
                    .Any(one => one.GetString() == scalar.Value);
                return listed ? [] : [$"{at}: {scalar.Value} is not listed"];
            case ("array", YamlSequenceNode sequence):
                return [.. sequence.SelectMany((item, i) => Misfits(schema.GetProperty("items"), item, $"{at}[{i}]"))];
            case ("object", YamlMappingNode mapping):
                return OfObject(schema, mapping, at);
            default:
                return [$"{at}: not of type {schema.GetProperty("type").GetString()}"];
        }
    }

    private static List<string> OfObject(JsonElement schema, YamlMappingNode mapping, string at)
    {
        var misfits = new List<string>();
        bool hasProperties = schema.TryGetProperty("properties", out JsonElement properties);
        JsonElement others = schema.GetProperty("additionalProperties");
        foreach ((YamlNode key, YamlNode value) in mapping.Children)
        {
            string name = ((YamlScalarNode)key).Value!;
            if (hasProperties && properties.TryGetProperty(name, out JsonElement property)) misfits.AddRange(Misfits(property, value,
                $"{at}.{name}"));
            else if (others.ValueKind == JsonValueKind.Object) misfits.AddRange(Misfits(others, value, $"{at}.{name}"));
            else misfits.Add($"{at}: {name} is not known");
        }
        if (schema.TryGetProperty("required", out JsonElement required))
            misfits.AddRange(required.EnumerateArray().Select(name => name.GetString()!)
                .Where(name => !mapping.Children.ContainsKey(new YamlScalarNode(name)))
                .Select(name => $"{at}: {name} is missing"));
        return misfits;
    }
}
