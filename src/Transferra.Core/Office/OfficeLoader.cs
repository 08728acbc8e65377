// OfficeLoader.cs: reads office.yaml and the kits it names. Format: docs/office.md and docs/schemas/office.schema.json.
using System.Globalization;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Reads offices.</summary>
public static class OfficeLoader
{
    /// <summary>The file that describes an office.</summary>
    public const string FileName = "office.yaml";

    /// <summary>Reads the office in a folder, with its kits.</summary>
    /// <exception cref="DescriptionException">All the mistakes in office.yaml and the kits.</exception>
    /// <exception cref="TransferraException">There is no office.yaml.</exception>
    public static OfficeDescription Load(string folder)
    {
        folder = Path.GetFullPath(folder);
        string path = Path.Combine(folder, FileName);
        if (!File.Exists(path))
            throw new TransferraException($"there is no {FileName} in {folder}",
                "Go to the office's folder, or name it with --office DIR. To see a complete office: transferra demo");
        var errors = new DescriptionErrors();
        OfficeDescription? office = DescribedMap.Load(path, FileName, "the office", errors) is { } map ? Read(map, folder, errors) : null;
        errors.ThrowIfAny();
        return office!;
    }

    private static OfficeDescription Read(DescribedMap map, string folder, DescriptionErrors errors)
    {
        string name = map.Text("office").Value;
        var packages = new List<Package>();
        var codes = new Dictionary<string, PlacedText>(StringComparer.OrdinalIgnoreCase);
        var clashes = new StoreClashes();
        foreach (DescribedMap package in map.Maps("packages", "a package", required: true))
            if (ReadPackage(package, folder, codes, clashes, errors) is { } read) packages.Add(read);
        clashes.Report(errors);
        BackupPlan backup = BackupPlan.Read(map.Map("backup", "backups"), folder, errors);
        long keepFree = 0;
        if (map.Optional("keep-free") is { } room && !TryBytes(room.Value, out keepFree))
            room.Report(errors, $"\"{room}\" is not a size; write a whole number with MB, GB or TB");
        Dictionary<string, string> contact = map.Map("contact", "whom a vendor answers to")?.Pairs().ToDictionary(pair => pair.Key.Value,
            pair => pair.Value.Value) ?? [];
        ClosingPlan closing = map.Map("closing", "how the office is closed") is { } how ? ClosingLoader.Read(how, folder, errors)
            : ClosingPlan.None;
        map.Done();
        return new OfficeDescription(name, folder, packages, backup, keepFree) { Closing = closing, Contact = contact };
    }

    private static Package? ReadPackage(DescribedMap package, string folder, Dictionary<string, PlacedText> codes, StoreClashes clashes,
        DescriptionErrors errors)
    {
        PlacedText kitFolder = package.Text("kit"), wanted = package.Text("wanted-version");
        string? programFolder = package.Optional("program")?.Value;
        int before = errors.Count;
        Kit? kit = kitFolder.Value.Length == 0 ? null : KitLoader.Load(Path.Combine(folder, kitFolder.Value), kitFolder.Value,
            KnownKinds.All, errors);
        bool kitReadable = kit is not null && errors.Count == before;
        if (kitReadable && kit!.Version(wanted.Value) is null && wanted.Value.Length > 0)
            wanted.Report(errors, $"the kit {kit.Id} has no version {wanted}; it has "
                + $"{string.Join(", ", kit.Versions.Select(version => version.Name))}");
        string? installer = package.Optional("installer")?.Value;
        Dictionary<string, KeyPlace> keys = ReadKeys(package, folder, errors);
        Dictionary<string, string> workstations = package.Map("workstations", "workstations with the program's folder there")?.Pairs()
            .ToDictionary(pair => pair.Key.Value, pair => Path.GetFullPath(Path.Combine(folder, pair.Value.Value))) ?? [];
        var companies = new List<Company>();
        foreach (DescribedMap company in package.Maps("companies", "a company", required: true))
        {
            PlacedText code = company.Text("code");
            if (code.Value.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('-' or '_')))
                code.Report(errors, "a company code has only letters, digits, \"-\" and \"_\"");
            else if (code.Value.Length > 0 && !codes.TryAdd(code.Value, code))
                code.Report(errors, $"the company code {code} is used twice; the other is in line {codes[code.Value].Line}");
            string name = company.Text("name").Value;
            StoreAddress? store = ReadStore(company, "store", folder, errors, required: true), movesTo = ReadStore(company, "new-store",
                folder, errors, required: false);
            StoreAddress? vendorMade = ReadStore(company, "vendor-made", folder, errors, required: false);
            CheckPlaces(company, store, movesTo, vendorMade);
            if (store is not null) clashes.Add(company, "store", code.Value, store);
            if (movesTo is not null) clashes.Add(company, "new-store", code.Value, movesTo);
            IReadOnlyList<PlacedText> named = company.Texts("documents");
            string[] documents = [.. named.Select(text => WithoutLinks(text, Path.GetFullPath(Path.Combine(folder, text.Value)), errors))];
            foreach ((PlacedText text, string path) in named.Zip(documents)) clashes.AddDocuments(text, code.Value, path);
            var answers = new Dictionary<string, string>();
            foreach ((PlacedText setting, PlacedText answer) in company.Map("answers", "new settings")?.Pairs() ?? [])
            {
                if (kitReadable) CheckAnswer(kit!, setting, answer, errors);
                answers[setting.Value] = answer.Value;
            }
            IReadOnlyList<Matching.Answer> answeredFor = AnswerLoader.Read(company, kitReadable ? kit : null, errors);
            IReadOnlyList<FilesCarried> carry = FilesCarried.Read(company, folder, errors);
            company.Done();
            if (kit is not null && store is not null) companies.Add(new Company(code.Value, name, kit, wanted.Value, store, movesTo,
                documents, answers)
            { VendorMade = vendorMade, AnsweredFor = answeredFor, Carry = carry });
        }
        package.Done();
        return kit is null ? null : new Package(kit, Full(programFolder), wanted.Value, companies)
        {
            InstallerFolder = Full(installer),
            Keys = keys,
            Workstations = workstations
        };

        string? Full(string? path) => path is null ? null : Path.GetFullPath(Path.Combine(folder, path));
    }

    private static Dictionary<string, KeyPlace> ReadKeys(DescribedMap package, string folder, DescriptionErrors errors)
    {
        Dictionary<string, KeyPlace> keys = [];
        if (package.Map("keys", "licences and other codes, by name") is not { } map) return keys;
        foreach (string name in map.Keys)
        {
            if (map.Map(name, $"the key {name}") is not { } key) continue;
            PlacedText? file = key.Optional("file"), variable = key.Optional("variable");
            if (file is null == variable is null) key.Report("a key is kept in one place: file or variable");
            if (key.Optional("key") is { } itself) itself.Report(errors,
                "a key does not belong in this file; keep it in a file that only you may read, and name that with file");
            keys[name] = new KeyPlace(file is null ? null : Path.GetFullPath(Path.Combine(folder, file.Value)), variable?.Value,
                Day(key.Optional("valid-until"), errors), Day(key.Optional("maintenance-until"), errors));
            key.Done();
        }
        return keys;
    }

    private static DateOnly? Day(PlacedText? text, DescriptionErrors errors)
    {
        if (text is null) return null;
        if (DateOnly.TryParseExact(text.Value, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None,
            out DateOnly day)) return day;
        text.Report(errors, $"\"{text}\" is not a day; write it as 2027-03-31");
        return null;
    }

    // How delimited text is written.
    private static readonly string[] FormKeys = ["separator", "quote", "encoding", "header", "decimal-mark", "dates", "null"];

    private static void CheckPlaces(DescribedMap company, StoreAddress? store, StoreAddress? movesTo, StoreAddress? vendorMade)
    {
        if (store is not null && movesTo is not null)
        {
            if (store.Shown == movesTo.Shown) company.Report("new-store",
                "the new store has the old one's place; leave new-store out when the engine stays the same");
            else if (!store.IsOnServer && !movesTo.IsOnServer && store.Folder != movesTo.Folder)
                company.Report("new-store", "the new store lies in another folder than the old one; the change-over is a rename and "
                    + "needs them side by side");
        }
        if (vendorMade is not null && (vendorMade.Shown == store?.Shown || vendorMade.Shown == movesTo?.Shown))
            company.Report("vendor-made", "this is one of the company's own stores; name the one that the new program made");
    }

    private static StoreAddress? ReadStore(DescribedMap company, string key, string folder, DescriptionErrors errors, bool required)
    {
        return company.Map(key, "where the records live", required) is { } map ? ReadStoreAddress(map, folder, errors) : null;
    }

    /// <summary>A store that is named as office.yaml writes it, outside of any office: <c>{postgresql: wages, host: ...}</c>.</summary>
    /// <param name="text">The mapping.</param>
    /// <param name="folder">What relative paths in it are below.</param>
    /// <exception cref="TransferraException">It is no mapping.</exception>
    /// <exception cref="DescriptionException">Something in it is not right.</exception>
    public static StoreAddress ReadPlace(string text, string folder)
    {
        var errors = new DescriptionErrors();
        StoreAddress? address = ReadStoreAddress(DescribedMap.OfText(text, folder, "a store", errors), folder, errors);
        errors.ThrowIfAny();
        return address!;
    }

    /// <summary>Reads where a store is: its engine with path or name, and what else the engine needs.</summary>
    internal static StoreAddress? ReadStoreAddress(DescribedMap map, string folder, DescriptionErrors errors)
    {
        StoreAddress? address = null;
        string[] engines = [.. StoreAddress.FileEngines, .. StoreAddress.ServerEngines];
        foreach (string engine in engines)
        {
            if (map.Optional(engine) is not { } path) continue;
            bool onServer = StoreAddress.ServerEngines.Contains(engine);
            if (path.Value.Length == 0) path.Report(errors, onServer ? "the name of the database is empty"
                : "the path of the store is empty");
            else if (address is not null) path.Report(errors, "a store has one engine, and this is the second");
            else
                address = onServer ? new StoreAddress(engine, path.Value, Server: ReadServer(map, engine, folder, errors))
                    : new StoreAddress(engine, WithoutLinks(path, Path.GetFullPath(Path.Combine(folder, path.Value)), errors));
        }
        Dictionary<string, string> form = [];
        foreach (string option in address is null ? [] : OptionsOf(address.Engine))
            if (map.Optional(option) is { } value) form[option] = value.Value;
        if (address is not null && form.Count > 0) address = address with { Form = form };
        map.Done();
        if (address is null && errors.Count == 0) map.Report($"a store has one of {string.Join(", ", engines)}, with its path or name");
        return address;
    }

    // Links are followed once, at the beginning, and what they lead to is meant from then on: a rename would otherwise move the link and
    // not the store.
    private static string WithoutLinks(PlacedText named, string path, DescriptionErrors errors)
    {
        // What root does to what a link leads to, whoever made the link could have done by root's hand.
        if (FileIdentity.ForeignLink(path) is { } link)
            named.Report(errors, $"the path leads through the link {link}, which belongs to somebody else and is not followed; name what "
                + "it should lead to");
        return FileIdentity.Followed(path);
    }

    // What the values may be is known to the store, and judged when it is opened.
    private static string[] OptionsOf(string engine) => engine switch
    {
        "delimited" => FormKeys,
        "postgresql" => ["schema"],
        "mariadb" => ["collation"],
        _ => [],
    };

    private static ServerAddress ReadServer(DescribedMap map, string engine, string folder, DescriptionErrors errors)
    {
        const int highestPort = 65_535;
        PlacedText? host = map.Optional("host"), port = map.Optional("port"), file = map.Optional("password-file"),
            variable = map.Optional("password-variable");
        int number = 0;
        if (port is not null && (!int.TryParse(port.Value, NumberStyles.None, CultureInfo.InvariantCulture, out number)
            || number is < 1 or > highestPort))
            port.Report(errors, $"\"{port}\" is not a port; a port is a whole number from 1 to {highestPort}");
        if (file is not null && variable is not null) variable.Report(errors,
            "the password is kept in one place: password-file or password-variable");
        if (map.Optional("password") is { } password)
            password.Report(errors, "a password does not belong in this file; keep it in a file that only you may read, and name that "
                + "with password-file");
        return new ServerAddress(host?.Value ?? "localhost", number, map.Optional("user")?.Value ?? "", file is null
            ? null : Path.GetFullPath(Path.Combine(folder, file.Value)), variable?.Value, map.Optional("owner")?.Value)
        {
            Connection = ReadConnection(map, engine, host?.Value.StartsWith('/') == true, out string? authority),
            Authority = authority is null ? null : Path.GetFullPath(Path.Combine(folder, authority)),
        };
    }

    private static ConnectionCare ReadConnection(DescribedMap map, string engine, bool isSocket, out string? authority)
    {
        PlacedText? care = map.Optional("connection"), trusted = map.Optional("authority");
        authority = trusted?.Value;
        ConnectionCare connection = care?.Value switch
        {
            null => trusted is null ? ConnectionCare.AsOffered : ConnectionCare.Checked,
            "as-offered" => ConnectionCare.AsOffered,
            "encrypted" => ConnectionCare.Encrypted,
            "checked" => ConnectionCare.Checked,
            _ => (ConnectionCare)(-1)
        };
        if (connection < 0) care!.Report(map.Errors,
            $"\"{care}\" is not a kind of connection; the kinds are as-offered, encrypted and checked");
        if (trusted is not null && connection is ConnectionCare.AsOffered or ConnectionCare.Encrypted) trusted.Report(map.Errors,
            "an authority is asked only where the connection is checked");
        if (connection == ConnectionCare.Checked && engine == "firebird") (care ?? trusted)!.Report(map.Errors,
            "a Firebird server has no certificate to check; with connection: "
                + "encrypted it is encrypted by a key that comes from the password");
        if (connection != ConnectionCare.AsOffered && isSocket) (care ?? trusted)!.Report(map.Errors,
            "over a local socket nothing is encrypted, and nobody stands in between");
        return connection;
    }

    private static void CheckAnswer(Kit kit, PlacedText setting, PlacedText answer, DescriptionErrors errors)
    {
        NewSetting? known = kit.Asks.Concat(kit.Hops.SelectMany(hop => hop.Settings)).FirstOrDefault(known => known.Name == setting.Value);
        if (known is null) setting.Report(errors, $"no version of {kit.Id} asks for a setting {setting}");
        else if (known.Choices.Count > 0 && !known.Choices.Contains(answer.Value))
            answer.Report(errors, $"\"{answer}\" is not an answer to {setting}; the answers are {string.Join(", ", known.Choices)}");
    }

    private static bool TryBytes(string text, out long bytes)
    {
        bytes = 0;
        string[] parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        if (parts.Length != 2 || !long.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out long number)) return false;
        long unit = parts[1].ToUpperInvariant() switch { "MB" => 1L << 20, "GB" => 1L << 30, "TB" => 1L << 40, _ => 0 };
        if (unit == 0 || number > long.MaxValue / unit) return false;
        bytes = number * unit;
        return true;
    }
}
