// SwitchStep.cs: turns a service or job off, and on again when it was on. That it is off is told by its status, by its processes and by its
// ports; that it is on, by its status and by a connection to each port that it listened on before.
// Holds: (1) what was off when the office was closed has no step, and so is never turned on; (2) a status that is neither on nor off stops
//        the closing: nothing is guessed.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>A service or job that is turned off.</summary>
internal abstract class SwitchStep(IReadOnlyDictionary<string, string> facts) : ClosingStep
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(100);

    /// <inheritdoc/>
    public override string Name => facts["name"];
    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Facts => facts;
    /// <inheritdoc/>
    public override string WhenClosed => IsService ? $"{Name} is stopped" : $"{Name} does not start by itself";
    /// <inheritdoc/>
    public override string WhenOpen => IsService ? $"{Name} runs{(Ports.Count > 0 ? $", port {string.Join(", ", Ports)} answers" : "")}"
        : $"{Name} starts by itself again";

    /// <summary>Whether it is a service; otherwise it is a job.</summary>
    public bool IsService => facts["role"] == "service";

    /// <summary>Whether it ran when the office was closed.</summary>
    protected bool WasOn => facts["was-on"] == "yes";

    /// <summary>How long turning it on or off may take.</summary>
    protected TimeSpan Wait => TimeSpan.FromSeconds(double.Parse(facts["wait-seconds"], CultureInfo.InvariantCulture));

    private IReadOnlyList<int> Ports => Numbers(facts, "ports");

    /// <summary>The step for a service; null when it is off, or does not start by itself either.</summary>
    public static SwitchStep? Of(ServicePlan service, ClosingTools tools)
    {
        IReadOnlySet<int> listening = Network.ListeningPorts();
        // A port nobody listened on before is nothing that could be had back.
        var more = new Dictionary<string, string>
        {
            ["role"] = "service",
            ["name"] = service.Name,
            ["ports"] = List(service.Ports.Where(listening.Contains).Select(port => port.ToString(CultureInfo.InvariantCulture))),
            ["processes"] = List(service.Processes),
            ["wait-seconds"] = service.Wait.TotalSeconds.ToString(CultureInfo.InvariantCulture),
        };
        return Of(service.Switch, more, tools);
    }

    /// <summary>The step for a job that is not a cron file; null when it is off.</summary>
    public static SwitchStep? Of(JobPlan job, ClosingTools tools) =>
        Of(job.Switch!, new Dictionary<string, string>
        {
            ["role"] = "job",
            ["name"] = job.Name,
            ["ports"] = List([]),
            ["processes"] = List([]),
            ["wait-seconds"] = "60"
        }, tools);

    private static SwitchStep? Of(SwitchPlan plan, Dictionary<string, string> more, ClosingTools tools) =>
        plan.Unit is not null ? UnitStep.Of(plan.Unit, more, tools) : CommandStep.Of(plan, more, tools);

    /// <summary>Turns a service on or off for a while; fine when it is so already.</summary>
    /// <exception cref="TransferraException">It cannot be turned, or is not what it was turned to.</exception>
    public static void Turn(ServicePlan service, bool on, ClosingTools tools)
    {
        var facts = new Dictionary<string, string>
        {
            ["role"] = "service",
            ["name"] = service.Name,
            ["ports"] = List(on ? [] : service.Ports.Select(port => port.ToString(CultureInfo.InvariantCulture))),
            ["processes"] = List(service.Processes),
            ["wait-seconds"] = service.Wait.TotalSeconds.ToString(CultureInfo.InvariantCulture),
            ["was-on"] = "yes",
            ["was-enabled"] = "no",
            ["unit"] = service.Switch.Unit ?? "",
            ["on"] = List(service.Switch.On),
            ["off"] = List(service.Switch.Off),
            ["status"] = List(service.Switch.Status)
        };
        SwitchStep step = service.Switch.Unit is not null ? new UnitStep(facts) : new CommandStep(facts);
        if (on) step.Reopen(tools);
        else step.Close(tools);
        if ((on ? step.NotOpen(tools) : step.NotClosed(tools)) is { } not) throw new TransferraException(not,
            $"Turn {service.Name} {(on ? "on" : "off")} by hand to see why.");
    }

    /// <summary>Whether a service or job is on now.</summary>
    /// <exception cref="TransferraException">It cannot be told.</exception>
    public static bool IsOn(SwitchPlan plan, ClosingTools tools) => plan.Unit is not null ? UnitStep.IsActive(plan.Unit, tools)
        : CommandStep.IsOn(plan.Status, tools);

    /// <summary>Whether it is on now.</summary>
    /// <exception cref="TransferraException">It cannot be told.</exception>
    protected abstract bool IsOn(ClosingTools tools);

    /// <summary>Turns it off.</summary>
    protected abstract void TurnOff(ClosingTools tools);

    /// <summary>Turns it on.</summary>
    protected abstract void TurnOn(ClosingTools tools);

    /// <inheritdoc/>
    public override void Close(ClosingTools tools)
    {
        TurnOff(tools);
        Await(tools, NotClosed);
    }

    /// <inheritdoc/>
    public override void Reopen(ClosingTools tools)
    {
        TurnOn(tools);
        Await(tools, NotOpen);
    }

    // A service takes its time; what it has not come to by then, the proof says.
    private void Await(ClosingTools tools, Func<ClosingTools, string?> wanted)
    {
        for (long end = Environment.TickCount64 + (long)Wait.TotalMilliseconds; wanted(tools) is not null && Environment.TickCount64 < end;)
        {
            tools.Cancel.ThrowIfCancellationRequested();
            Thread.Sleep(Beat);
        }
    }

    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools)
    {
        if (IsOn(tools)) return $"{Name} still runs";
        if (Processes.Named(List(facts, "processes")) is [var process, ..])
            return $"{Name} still has the process {process.Name} ({process.Id.ToString(CultureInfo.InvariantCulture)})";
        IReadOnlySet<int> listening = Network.ListeningPorts();
        return Ports.FirstOrDefault(listening.Contains) is > 0 and int port
            ? $"port {port.ToString(CultureInfo.InvariantCulture)} of {Name} still listens" : null;
    }

    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools)
    {
        if (!WasOn) return null;
        if (!IsOn(tools)) return $"{Name} does not run";
        return Ports.FirstOrDefault(port => !Network.Answers(port)) is > 0 and int port
            ? $"port {port.ToString(CultureInfo.InvariantCulture)} of {Name} does not answer" : null;
    }
}

/// <summary>A systemd unit, through systemctl(1). It is disabled as well, so that a reboot does not start it.</summary>
internal sealed class UnitStep(IReadOnlyDictionary<string, string> facts) : SwitchStep(facts)
{
    internal const string KindName = "unit";
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(1);

    internal static UnitStep? Of(string unit, Dictionary<string, string> more, ClosingTools tools)
    {
        bool isOn = IsActive(unit, tools), isEnabled = IsEnabled(unit, tools);
        if (!isOn && !isEnabled) return null;
        more["unit"] = unit;
        more["was-on"] = isOn ? "yes" : "no";
        more["was-enabled"] = isEnabled ? "yes" : "no";
        return new UnitStep(more);
    }

    internal static bool IsActive(string unit, ClosingTools tools)
    {
        CommandResult said = tools.Commands.Run(["systemctl", "is-active", unit], Limit);
        return said.Output.Trim() switch
        {
            "active" or "reloading" or "activating" or "deactivating" => true,
            "inactive" or "failed" => false,
            _ => throw new TransferraException($"systemd cannot tell whether {unit} is active: {said.FirstLine}",
                "Correct the unit's name in office.yaml: systemctl list-units --all"),
        };
    }

    private static bool IsEnabled(string unit, ClosingTools tools) => tools.Commands.Run(["systemctl", "is-enabled", unit],
        Limit).Output.Trim() == "enabled";

    /// <inheritdoc/>
    public override string Kind => KindName;

    /// <inheritdoc/>
    protected override bool IsOn(ClosingTools tools) => IsActive(Facts["unit"], tools);

    /// <inheritdoc/>
    protected override void TurnOff(ClosingTools tools)
    {
        if (Facts["was-enabled"] == "yes" && IsEnabled(Facts["unit"], tools)) Do(tools, "disable");
        if (IsOn(tools)) Do(tools, "stop");
    }

    /// <inheritdoc/>
    protected override void TurnOn(ClosingTools tools)
    {
        if (Facts["was-enabled"] == "yes" && !IsEnabled(Facts["unit"], tools)) Do(tools, "enable");
        if (WasOn && !IsOn(tools)) Do(tools, "start");
    }

    private void Do(ClosingTools tools, string what)
    {
        CommandResult said = tools.Commands.Run(["systemctl", what, Facts["unit"]], Wait);
        if (said.ExitCode != 0)
            throw new TransferraException($"systemctl {what} {Facts["unit"]} ended with "
                + $"{said.ExitCode.ToString(CultureInfo.InvariantCulture)}: "
                + $"{said.FirstLine}", $"Look into its log: journalctl -u {Facts["unit"]}");
    }

    /// <inheritdoc/>
    public override string? NotClosed(ClosingTools tools) =>
        base.NotClosed(tools) ?? (Facts["was-enabled"] == "yes" && IsEnabled(Facts["unit"], tools)
            ? $"{Name} would be started by a reboot" : null);

    /// <inheritdoc/>
    public override string? NotOpen(ClosingTools tools) =>
        base.NotOpen(tools) ?? (Facts["was-enabled"] == "yes" && !IsEnabled(Facts["unit"], tools)
            ? $"{Name} would not be started by a reboot, as it was before" : null);
}

/// <summary>Something that three commands turn on and off and tell of. Exit codes of the status command: Linux Standard Base 5.0, "Init
/// Script Actions", of which 1 and 2 are not taken for off, as shells end with these when a script is missing or wrong.</summary>
internal sealed class CommandStep(IReadOnlyDictionary<string, string> facts) : SwitchStep(facts)
{
    internal const string KindName = "command";
    private const int On = 0, Off = 3;
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(1);

    internal static CommandStep? Of(SwitchPlan plan, Dictionary<string, string> more, ClosingTools tools)
    {
        if (!IsOn(plan.Status, tools)) return null;
        more["was-on"] = "yes";
        more["on"] = List(plan.On);
        more["off"] = List(plan.Off);
        more["status"] = List(plan.Status);
        return new CommandStep(more);
    }

    internal static bool IsOn(IReadOnlyList<string> status, ClosingTools tools)
    {
        CommandResult said = tools.Commands.Run(status, Limit);
        return said.ExitCode switch
        {
            On => true,
            Off => false,
            _ => throw new TransferraException($"{SystemCommands.Shown(status)} tells neither on nor off: it ended with "
                + $"{said.ExitCode.ToString(CultureInfo.InvariantCulture)}"
                    + $"{(said.Output.Length > 0 ? $" and said {ValueText.Quote(said.FirstLine)}" : "")}",
                "A status command ends with 0 for on, and with 3 for off. Correct it in office.yaml."),
        };
    }

    /// <inheritdoc/>
    public override string Kind => KindName;

    /// <inheritdoc/>
    protected override bool IsOn(ClosingTools tools) => IsOn(List(Facts, "status"), tools);

    /// <inheritdoc/>
    protected override void TurnOff(ClosingTools tools)
    {
        if (IsOn(tools)) Do(tools, "off");
    }

    /// <inheritdoc/>
    protected override void TurnOn(ClosingTools tools)
    {
        if (!IsOn(tools)) Do(tools, "on");
    }

    private void Do(ClosingTools tools, string what)
    {
        IReadOnlyList<string> command = List(Facts, what);
        CommandResult said = tools.Commands.Run(command, Wait);
        if (said.ExitCode != 0)
            throw new TransferraException($"{SystemCommands.Shown(command)} ended with "
                + $"{said.ExitCode.ToString(CultureInfo.InvariantCulture)}{(said.Output.Length > 0 ? ": " + said.FirstLine : "")}",
                    $"Turn {Name} {what} by hand to see why.");
    }
}
