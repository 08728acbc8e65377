// NeedsLoader.cs: reads components and settings of kit.yaml, and settings, shipped-files and needs of versions/*.yaml. Format:
// docs/kits.md.
using System.Text.RegularExpressions;

namespace Transferra.Core.Kits;

internal static class NeedsLoader
{
    private static readonly string[] Engines = [.. Records.StoreAddress.FileEngines, .. Records.StoreAddress.ServerEngines];

    public static List<Evidence> Places(DescribedMap map, string key, string group, DescriptionErrors errors)
    {
        var places = new List<Evidence>();
        foreach (DescribedMap place in map.Maps(key, "a place where it is written"))
        {
            if (Evidence.From(place, group, errors) is { } evidence) places.Add(evidence);
            place.Done();
        }
        return places;
    }

    public static List<Component> Components(DescribedMap kit, DescriptionErrors errors)
    {
        var components = new List<Component>();
        foreach (DescribedMap component in kit.Maps("components", "a component"))
        {
            components.Add(new Component(component.Text("component").Value, Places(component, "version-in", "version", errors)));
            component.Done();
        }
        return components;
    }

    /// <summary>Settings; those of a version may stand in records, too.</summary>
    /// <param name="map">The kit's or the version's.</param>
    /// <param name="record">Reads the rest of a setting that stands in a record; null when none may.</param>
    /// <param name="errors">Receives mistakes.</param>
    public static List<RecordedSetting> Settings(DescribedMap map, Func<DescribedMap, RecordSign?>? record, DescriptionErrors errors)
    {
        var settings = new List<RecordedSetting>();
        foreach (DescribedMap setting in map.Maps("settings", "a setting that is recorded"))
        {
            string name = setting.Text("setting").Value;
            bool isPrivate = setting.IsYes("private");
            if (record is not null && setting.Has("table"))
            {
                if (record(setting) is { } sign) settings.Add(new RecordedSetting(name, null, sign, isPrivate));
            }
            else if (Evidence.From(setting, "value", errors) is { } place) settings.Add(new RecordedSetting(name, place, null, isPrivate));
            setting.Done();
        }
        return settings;
    }

    /// <summary>A list of files in the kit's folder that must be there and readable.</summary>
    public static string? ListOfFiles(PlacedText? name, string kitFolder, DescriptionErrors errors)
    {
        if (name is null) return null;
        string path = Path.Combine(kitFolder, name.Value);
        try
        {
            ShippedFile.ReadList(path);
            return path;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or Machine.TransferraException)
        {
            name.Report(errors, error.Message);
            return null;
        }
    }

    public static VersionNeeds Needs(DescribedMap version, string kitFolder, IReadOnlyList<Component> components, DescriptionErrors errors)
    {
        if (version.Map("needs", "what the version needs") is not { } map) return VersionNeeds.None;
        var keys = new List<NeededKey>();
        foreach (DescribedMap key in map.Maps("keys", "a licence, serial or other code"))
        {
            PlacedText? form = key.Optional("form");
            Regex? regex = null;
            try
            {
                if (form is not null) regex = new Regex($"\\A(?:{form.Value})\\z", RegexOptions.CultureInvariant, TimeSpan.FromSeconds(2));
            }
            catch (ArgumentException error) { form!.Report(errors, $"this is not a regular expression: {error.Message}"); }
            keys.Add(new NeededKey(key.Text("key").Value, regex, key.IsYes("maintenance"), key.Optional("asked-for")?.Value ?? ""));
            key.Done();
        }
        var needed = new List<NeededComponent>();
        foreach (DescribedMap component in map.Maps("components", "a component it needs"))
        {
            PlacedText name = component.Text("component");
            if (name.Value.Length > 0 && !components.Any(known => known.Name == name.Value)) name.Report(errors,
                $"kit.yaml describes no component {name}");
            needed.Add(new NeededComponent(name.Value, component.Text("at-least").Value, component.IsYes("comes-with-installer")));
            component.Done();
        }
        Dictionary<string, string> engines = [];
        foreach ((PlacedText engine, PlacedText atLeast) in map.Map("engine", "lowest versions by engine")?.Pairs() ?? [])
        {
            if (!Engines.Contains(engine.Value)) engine.Report(errors,
                $"there is no engine {engine}; the engines are {string.Join(", ", Engines)}");
            engines[engine.Value] = atLeast.Value;
        }
        Dictionary<string, string> systems = map.Map("system", "lowest versions by operating system")?.Pairs()
            .ToDictionary(pair => pair.Key.Value, pair => pair.Value.Value) ?? [];
        var words = new List<NeededWord>();
        foreach (DescribedMap word in map.Maps("confirm", "something that only people know"))
        {
            PlacedText name = word.Text("confirm");
            if (name.Value.Any(c => !char.IsAsciiLetterOrDigit(c) && c != '-')) name.Report(errors,
                "a name to confirm has only letters, digits and \"-\"");
            words.Add(new NeededWord(name.Value, word.Text("question").Value));
            word.Done();
        }
        string? installer = ListOfFiles(map.Optional("installer"), kitFolder, errors);
        map.Done();
        return new VersionNeeds(keys, installer, needed, engines, systems, words);
    }
}
