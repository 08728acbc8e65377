// KitLoader.cs: reads kit.yaml and versions/*.yaml; hops are read by HopLoader.cs. Format: docs/kits.md and docs/schemas.
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>Reads kits.</summary>
public static class KitLoader
{
    /// <summary>Reads a kit's folder.</summary>
    /// <param name="folder">Full path.</param>
    /// <param name="shownAs">The folder as messages name it.</param>
    /// <param name="kinds">What hops can name as their beginning and means.</param>
    /// <param name="errors">Receives all mistakes; the kit must not be used when there are any.</param>
    /// <returns>Null when kit.yaml itself cannot be read.</returns>
    public static Kit? Load(string folder, string shownAs, HopKinds kinds, DescriptionErrors errors)
    {
        DescribedMap? map = DescribedMap.Load(Path.Combine(folder, "kit.yaml"), Path.Combine(shownAs, "kit.yaml"), "a kit", errors);
        if (map is null) return null;
        string id = map.Text("kit").Value;
        string title = map.Text("title").Value;
        List<Evidence> programEvidence = NeedsLoader.Places(map, "program-version", "version", errors);
        List<Component> components = NeedsLoader.Components(map, errors);
        List<RecordedSetting> settings = NeedsLoader.Settings(map, null, errors);
        string[] logs = [.. map.Texts("logs").Select(log => log.Value)];
        List<SaidSign> saying = SignsThatSayIt(map);
        string[] hidden = [.. map.Texts("private").Select(said => said.Value)];
        List<NewSetting> asks = HopLoader.ReadSettings(map, "asks", "what differs from office to office");
        var answers = asks.DistinctBy(ask => ask.Name).ToDictionary(ask => ask.Name, _ => "");
        List<KitVersion> versions = Versions(map, new VersionLoader(folder, components, hidden, answers), saying, shownAs);
        var hops = new List<Hop>();
        foreach ((PlacedText? name, DescribedMap? inline) in map.TextsOrMaps("hops", "a hop"))
        {
            string path = Path.Combine("hops", name?.Value + ".yaml");
            DescribedMap? hop = inline ?? DescribedMap.Load(Path.Combine(folder, path), Path.Combine(shownAs, path), "a hop", errors);
            if (hop is not null && new HopLoader(hop, versions, kinds, asks).Read() is { } loaded) hops.Add(loaded);
        }
        map.Done();
        return new Kit(id, title, folder, versions, hops, programEvidence)
        {
            Components = components,
            Settings = settings,
            Logs = logs,
            Asks = asks
        };
    }

    // Each is a name, with a file when there is more to say of it, or is written out in the list.
    private static List<KitVersion> Versions(DescribedMap map, VersionLoader loader, IReadOnlyList<SaidSign> saying, string shownAs)
    {
        var versions = new List<KitVersion>();
        foreach ((PlacedText? name, DescribedMap? inline) in map.TextsOrMaps("versions", "a version"))
        {
            string called = name?.Value ?? inline!.Optional("version")?.Value ?? "", path = Path.Combine("versions", called + ".yaml");
            if (versions.Any(known => known.Name == called))
                map.Report("versions", $"the version {called} is listed twice; each version is listed once");
            DataEvidence[] said = [.. saying.Select(sign => sign.Of(called))];
            // Of a version that is told by what every version says there may be nothing else to say.
            if (inline is null && said.Length > 0 && !File.Exists(Path.Combine(map.Folder, path)))
                versions.Add(loader.Unsaid(called, said));
            else if ((inline ?? DescribedMap.Load(Path.Combine(map.Folder, path), Path.Combine(shownAs, path), $"version {called}",
                map.Errors)) is { } version) versions.Add(loader.Read(version, called, said));
        }
        if (versions.Count == 0 && !map.Has("versions")) map.Report("\"versions\" is missing; a kit must have it");
        return versions;
    }

    private sealed record SaidSign(string? Sql, string? Header, RecordSign? Record, OutsideSign? Outside)
    {
        public DataEvidence Of(string version) => new(Sql, Header, Record, version) { Outside = Outside };
    }

    // Where every version says itself which it is; what is said there is the version's name.
    private static List<SaidSign> SignsThatSayIt(DescribedMap map)
    {
        var saying = new List<SaidSign>();
        foreach (DescribedMap sign in map.Maps("told-by", "where the version stands"))
        {
            PlacedText? sql = sign.Optional("sql"), header = sign.Optional("header");
            RecordSign? record = null;
            OutsideSign? outside = OutsideSign.Read(sign, out bool isOutside);
            bool isInRecord = sign.Has("table");
            if (isInRecord)
            {
                map.Errors.StoreIsUnknown = true;
                record = VersionLoader.ReadRecord(sign, []);
                map.Errors.StoreIsUnknown = false;
            }
            sign.Done();
            if (new[] { sql is not null, header is not null, isInRecord, isOutside }.Count(way => way) != 1)
                sign.Report("where the version stands is told by one of \"sql\", \"header\", \"table\", \"path\" and \"file\"");
            else if (sql is not null && KitQuestion.WhyNot(sql.Value) is { } why) sql.Report(sign.Errors, why);
            else if ((!isInRecord || record is not null) && (!isOutside || outside is not null))
                saying.Add(new SaidSign(sql?.Value, header?.Value, record, outside));
        }
        return saying;
    }
}
