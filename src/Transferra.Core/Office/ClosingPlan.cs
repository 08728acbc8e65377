// ClosingPlan.cs: how this office is closed, as "closing" in office.yaml says: who is told, who is waited for, what is stopped in which
// order.
// Reading: ClosingLoader.cs; doing: OfficeClosing.cs; format: docs/closing.md.
namespace Transferra.Core.Office;

/// <summary>How an office is closed.</summary>
/// <param name="Tell">Program and arguments that tell users; "{message}" stands for the words. Empty when nobody is told.</param>
/// <param name="Grace">How long people are waited for.</param>
/// <param name="EndsSessions">Whether those who are still in after that are put out; otherwise the closing stops and says who they
/// are.</param>
/// <param name="Services">What is stopped, in order; started again in reverse order.</param>
/// <param name="Jobs">What starts by itself at times, and must not meanwhile.</param>
/// <param name="BlockedPorts">TCP ports of this machine that take no new connection from elsewhere; 1 to 65535.</param>
public sealed record ClosingPlan(IReadOnlyList<string> Tell, TimeSpan Grace, bool EndsSessions, IReadOnlyList<ServicePlan> Services,
    IReadOnlyList<JobPlan> Jobs, IReadOnlyList<int> BlockedPorts)
{
    /// <summary>Stands in a command that tells users where the words go.</summary>
    internal const string WordsGoHere = "{message}";

    /// <summary>An office whose office.yaml says nothing of it: doors are shut, nobody is told, nothing is stopped.</summary>
    public static ClosingPlan None { get; } = new([], TimeSpan.Zero, false, [], [], []);
}

/// <summary>How a service or job is turned on and off: a systemd unit, or three commands.</summary>
/// <param name="Unit">Name of the unit; null when commands do it.</param>
/// <param name="On">Program and arguments that turn it on.</param>
/// <param name="Off">Program and arguments that turn it off.</param>
/// <param name="Status">Program and arguments that tell, by exit codes of the LSB (docs/closing.md): 0 on; 3 off; anything else not
/// known.</param>
public sealed record SwitchPlan(string? Unit, IReadOnlyList<string> On, IReadOnlyList<string> Off, IReadOnlyList<string> Status);

/// <summary>A service.</summary>
/// <param name="Name">As people say it.</param>
/// <param name="Switch">How it is turned on and off.</param>
/// <param name="Ports">TCP ports it listens on.</param>
/// <param name="Processes">Names of its processes; 15 characters at most count, as the system keeps no more.</param>
/// <param name="ConnectsAs">Its names at database servers: sessions of these are the service's and not somebody's.</param>
/// <param name="StaysUp">Whether it is left running, such as the database server.</param>
/// <param name="Wait">How long stopping or starting may take.</param>
public sealed record ServicePlan(string Name, SwitchPlan Switch, IReadOnlyList<int> Ports, IReadOnlyList<string> Processes,
    IReadOnlyList<string> ConnectsAs,
    bool StaysUp, TimeSpan Wait);

/// <summary>A scheduled job.</summary>
/// <param name="Name">As people say it; of a cron file, its path.</param>
/// <param name="CronFile">Full path of a file in a folder that cron reads; null when <paramref name="Switch"/> says it.</param>
/// <param name="Switch">A timer unit, or commands; null for a cron file.</param>
public sealed record JobPlan(string Name, string? CronFile, SwitchPlan? Switch);
