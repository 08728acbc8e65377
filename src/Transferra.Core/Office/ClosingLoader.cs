// ClosingLoader.cs: reads "closing" of office.yaml. Format: docs/closing.md and docs/schemas/office.schema.json.
using System.Globalization;
using Transferra.Core.Kits;

namespace Transferra.Core.Office;

/// <summary>Reads how an office is closed.</summary>
internal static class ClosingLoader
{
    private const int HighestPort = 65_535;
    private static readonly TimeSpan UsualWait = TimeSpan.FromMinutes(1);

    /// <summary>Reads the mapping.</summary>
    /// <param name="map">What stands under "closing".</param>
    /// <param name="folder">Folder of office.yaml.</param>
    /// <param name="errors">Receives all mistakes.</param>
    public static ClosingPlan Read(DescribedMap map, string folder, DescriptionErrors errors)
    {
        IReadOnlyList<PlacedText> tell = map.Texts("tell");
        if (tell.Count > 0 && !tell.Any(part => part.Value.Contains(ClosingPlan.WordsGoHere, StringComparison.Ordinal)))
            tell[0].Report(errors, $"the command has no {ClosingPlan.WordsGoHere}, where the words for the users go");
        PlacedText? afterGrace = map.Optional("after-grace");
        if (afterGrace is not null && afterGrace.Value is not ("refuse" or "end-sessions"))
            afterGrace.Report(errors, $"\"{afterGrace}\" is not known; after-grace is refuse or end-sessions");
        var names = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var services = new List<ServicePlan>();
        foreach (DescribedMap service in map.Maps("services", "a service"))
        {
            PlacedText name = service.Text("service");
            if (name.Value.Length > 0 && !names.Add(name.Value)) name.Report(errors, $"there are two services or jobs named {name}");
            if (Switch(service, "unit", "start", "stop", errors) is { } how)
            {
                services.Add(new ServicePlan(name.Value, how, Ports(service, "ports", errors), Texts(service, "processes"),
                    Texts(service, "connects-as"),
                    service.IsYes("stays-up"), Time(service.Optional("wait"), errors) ?? UsualWait));
            }
            service.Done();
        }
        var jobs = new List<JobPlan>();
        foreach (DescribedMap job in map.Maps("jobs", "a scheduled job"))
        {
            if (job.Optional("cron-file") is { } file) jobs.Add(new JobPlan(file.Value,
                Path.GetFullPath(Path.Combine(folder, file.Value)), null));
            else
            {
                PlacedText name = job.Text("job");
                if (name.Value.Length > 0 && !names.Add(name.Value)) name.Report(errors, $"there are two services or jobs named {name}");
                if (Switch(job, "timer", "resume", "pause", errors) is { } how) jobs.Add(new JobPlan(name.Value, null, how));
            }
            job.Done();
        }
        var plan = new ClosingPlan([.. tell.Select(part => part.Value)], Time(map.Optional("grace"), errors) ?? TimeSpan.Zero,
            afterGrace?.Value == "end-sessions", services, jobs, Ports(map, "block-ports", errors));
        map.Done();
        return plan;
    }

    private static SwitchPlan? Switch(DescribedMap map, string unitKey, string onKey, string offKey, DescriptionErrors errors)
    {
        PlacedText? unit = map.Optional(unitKey);
        IReadOnlyList<string> on = Texts(map, onKey), off = Texts(map, offKey), status = Texts(map, "status");
        bool hasCommands = on.Count + off.Count + status.Count > 0;
        if (unit is null ? on.Count == 0 || off.Count == 0 || status.Count == 0 : hasCommands)
        {
            map.Report($"{unitKey} says how it is turned on and off, or else three commands do: {onKey}, {offKey} and status");
            return null;
        }
        return new SwitchPlan(unit?.Value, on, off, status);
    }

    private static IReadOnlyList<string> Texts(DescribedMap map, string key) => [.. map.Texts(key).Select(text => text.Value)];

    private static IReadOnlyList<int> Ports(DescribedMap map, string key, DescriptionErrors errors)
    {
        var ports = new List<int>();
        foreach (PlacedText text in map.Texts(key))
        {
            if (int.TryParse(text.Value, NumberStyles.None, CultureInfo.InvariantCulture, out int port)
                && port is >= 1 and <= HighestPort) ports.Add(port);
            else text.Report(errors, string.Create(CultureInfo.InvariantCulture,
                $"\"{text}\" is not a port; a port is a whole number from 1 to {HighestPort}"));
        }
        return ports;
    }

    /// <summary>A time such as "90 s", "2 min" or "1 h"; null when it is left out.</summary>
    private static TimeSpan? Time(PlacedText? text, DescriptionErrors errors)
    {
        if (text is null) return null;
        string[] parts = text.Value.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        if (parts.Length == 2 && int.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out int number))
        {
            switch (parts[1])
            {
                case "s": return TimeSpan.FromSeconds(number);
                case "min": return TimeSpan.FromMinutes(number);
                case "h": return TimeSpan.FromHours(number);
                default: break;
            }
        }
        text.Report(errors, $"\"{text}\" is not a time; write a whole number with s, min or h");
        return null;
    }
}
