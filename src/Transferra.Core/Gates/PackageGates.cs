// PackageGates.cs: may this package go? Release notes, keys, installer files, components, operating system, and what only people know.
// Asked before the point of no return, because later is too late.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Surveys;

namespace Transferra.Core.Gates;

/// <summary>Asks the gates of a package.</summary>
/// <param name="spoken">Makes a gate that only a person's word opens: package, confirm, name, question.</param>
/// <param name="commands">Runs commands of the kit.</param>
/// <param name="today">The day of the upgrade.</param>
internal sealed class PackageGates(Func<string, string, string, string, Gate> spoken, ICommands commands, DateOnly today)
{
    /// <summary>The gates in the order of the work.</summary>
    /// <param name="package">The package.</param>
    /// <param name="hops">The hops that its companies go.</param>
    /// <param name="services">The services that office.yaml describes.</param>
    public IEnumerable<Gate> Of(Package package, IReadOnlyList<Hop> hops, IReadOnlyList<ServicePlan> services)
    {
        VersionNeeds needs = package.Kit.Version(package.WantedVersion)!.Needs;
        IEnumerable<Gate> all = [.. hops.Where(hop => hop.ReleaseNotes.Count > 0).Select(hop => Notes(package, hop)),
            .. hops.SelectMany(hop => hop.Surroundings.ServicesOff
                .Concat(hop.Surroundings.AroundExport?.ServicesOff ?? []).Concat(hop.Means.Services)).Distinct().Select(name =>
                Gate.If(services.Any(service => string.Equals(service.Name, name, StringComparison.OrdinalIgnoreCase)), "", "service "
                    + name, $"the conversion turns the service {name} on or off", $"{OfficeLoader.FileName} does not say how; describe it "
                    + "under closing: services")),
            .. needs.Keys.Select(key => KeyGate(package, key)), .. Installer(package, needs), .. Components(package, needs),
                .. System_(needs),
            .. Trust(package.Kit), .. needs.Words.Select(word => spoken(package.Kit.Id, $"{package.Kit.Id}/{word.Name}", word.Name,
                word.Question))];
        return all.Select(gate => gate with { Package = package.Kit.Id });
    }

    private IEnumerable<Gate> Trust(Kit kit) => KitTrust.Question(kit) is { } question
        ? [spoken(kit.Id, KitTrust.ConfirmOf(kit), "kit", question)] : [];

    private Gate Notes(Package package, Hop hop)
    {
        string name = $"notes-{hop.From.Name}-to-{hop.To.Name}";
        return spoken(package.Kit.Id, $"{package.Kit.Id}/{name}", $"release notes {hop.From.Name} to {hop.To.Name}",
            string.Join(" ", hop.ReleaseNotes.Select((note, i) => string.Create(CultureInfo.InvariantCulture, $"({i + 1}) {note}"))));
    }

    private Gate KeyGate(Package package, NeededKey key)
    {
        string name = "key " + key.Name;
        string when = key.AskedFor.Length > 0 ? $"; it is asked for {key.AskedFor}" : "";
        if (!package.Keys.TryGetValue(key.Name, out KeyPlace? place))
            return new Gate("", name, GateState.Blocked,
                $"version {package.WantedVersion} needs the {key.Name}{when}, and {OfficeLoader.FileName} does not say where it is",
                $"Keep it in a file that only you may read, and name that under the package: keys: {{{key.Name}: {{file: ...}}}}. If it "
                    + "is not in hand, order it now.");
        string? text;
        try
        {
            text = SecretText.Read("key", place.File, place.Variable)!.Trim();
        }
        catch (TransferraException error)
        {
            return new Gate("", name, GateState.Blocked, $"{error.Message}{when}", error.Next);
        }
        DateOnly? until = place.ValidUntil;
        if (key.Form is not null)
        {
            Match match = key.Form.Match(text);
            if (!match.Success)
                return new Gate("", name, GateState.Blocked,
                    $"{SecretText.Masked(text)} is not what a {key.Name} for version {package.WantedVersion} looks like",
                    "It may be one of another version or product, or mistyped: compare it with the vendor's paper.");
            if (match.Groups["until"] is { Success: true } day
                && DateOnly.TryParseExact(day.Value, ["yyyyMMdd", "yyyy-MM-dd"], CultureInfo.InvariantCulture, DateTimeStyles.None,
                    out DateOnly written))
                until = until is { } said && said < written ? said : written;
        }
        if (until < today)
            return new Gate("", name, GateState.Blocked, $"{SecretText.Masked(text)} was valid until {until:yyyy-MM-dd}",
                "Have it renewed before anything is upgraded.");
        if (key.NeedsMaintenance)
        {
            if (place.MaintenanceUntil is not { } maintenance)
                return new Gate("", name, GateState.Blocked,
                    $"{SecretText.Masked(text)} needs a maintenance contract in date, "
                        + $"and {OfficeLoader.FileName} does not say until when it runs",
                    $"Write it beside the key: maintenance-until: 2027-03-31");
            if (maintenance < today)
                return new Gate("", name, GateState.Blocked, $"the maintenance contract ended {maintenance:yyyy-MM-dd}",
                    "Have it renewed: without it the new version will not be activated.");
        }
        return new Gate("", name, GateState.Passed,
            $"{SecretText.Masked(text)}{(until is { } last ? $", valid until {last:yyyy-MM-dd}" : "")}"
                + $"{(key.NeedsMaintenance ? $", maintenance until {place.MaintenanceUntil:yyyy-MM-dd}" : "")}");
    }

    private static IEnumerable<Gate> Installer(Package package, VersionNeeds needs)
    {
        if (needs.InstallerList is null) yield break;
        if (package.InstallerFolder is not { } folder)
        {
            yield return new Gate("", "installer", GateState.Blocked,
                $"{OfficeLoader.FileName} does not say where the installer of version {package.WantedVersion} lies",
                "Name its folder under the package: installer: ...");
            yield break;
        }
        IReadOnlyList<ShippedFile> files = ShippedFile.ReadList(needs.InstallerList);
        string[] wrong = [.. files.Select(file => !File.Exists(Path.Combine(folder, file.Name))
            ? $"{file.Name} is missing" : PlainFile.DigestOf(Path.Combine(folder, file.Name)) != file.Sha256
                ? $"{file.Name} is not the vendor's" : null)
            .OfType<string>()];
        yield return Gate.If(wrong.Length == 0, "", "installer", wrong.Length == 0
            ? $"{folder}: all {files.Count} files are there and the vendor's"
            : $"{folder}: {string.Join(", ", wrong.Take(3))}{(wrong.Length > 3 ? $" and {wrong.Length - 3} more" : "")}",
            "Fetch the installer again from the vendor.");
    }

    private IEnumerable<Gate> Components(Package package, VersionNeeds needs)
    {
        IReadOnlyList<ComponentSurvey> there = Survey.ComponentsOf(package, commands);
        foreach (NeededComponent needed in needs.Components)
        {
            string? has = there.FirstOrDefault(component => component.Name == needed.Name)?.Version;
            bool fits = has is not null && VersionText.Compare(has, needed.AtLeast) >= 0;
            string found = has is null ? "its version is not told" : $"version {has}";
            yield return fits || needed.ComesWithInstaller
                ? new Gate("", "component " + needed.Name, GateState.Passed,
                    $"{found}, at least {needed.AtLeast} needed{(fits ? "" : "; the installer brings it")}")
                : new Gate("", "component " + needed.Name, GateState.Blocked,
                    $"{found}, at least {needed.AtLeast} needed, and the installer does not update it",
                        "Update it first, from its own vendor.");
        }
    }

    // os-release(5)
    private static IEnumerable<Gate> System_(VersionNeeds needs)
    {
        if (needs.Systems.Count == 0) yield break;
        Dictionary<string, string> said = File.Exists("/etc/os-release") ? File.ReadLines("/etc/os-release")
            .Select(line => line.Split('=', 2))
            .Where(pair => pair.Length == 2).GroupBy(pair => pair[0]).ToDictionary(pair => pair.Key, pair => pair.First()[1].Trim('"'))
                : [];
        string id = said.GetValueOrDefault("ID", "unknown"), version = said.GetValueOrDefault("VERSION_ID", "");
        bool fits = needs.Systems.TryGetValue(id, out string? atLeast)
            && (version.Length == 0 || VersionText.Compare(version, atLeast) >= 0);
        yield return Gate.If(fits, "", "operating system",
            $"{id} {version}; needed is {string.Join(" or ", needs.Systems.Select(system => $"{system.Key} {system.Value} or later"))}",
            "Ask the vendor whether this system will do, or move the program to one that will.");
    }
}
