using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;

namespace Transferra.Cli.Tests;

/// <summary>Closing through what other systems offer: systemd (a stub, as there may be none here), nftables in a network of its
/// own.</summary>
public sealed class ClosingAdapterTests : IDisposable
{
    private readonly DemoFolder _office = new(small: true);
    private readonly List<Action> _afterwards = [];

    public void Dispose()
    {
        foreach (Action action in _afterwards) action();
        _office.Dispose();
    }

    private void Closing(string yaml)
    {
        string text = File.ReadAllText(_office["office.yaml"]);
        int start = text.IndexOf("closing:\n", StringComparison.Ordinal), end = text.IndexOf("backup:\n", StringComparison.Ordinal);
        File.WriteAllText(_office["office.yaml"], text[..start] + yaml + text[end..]);
    }

    // A systemctl that keeps the state of each unit in a file: "active enabled".
    private Dictionary<string, string> StubSystemctl(params (string Unit, string State)[] units)
    {
        Directory.CreateDirectory(_office["bin"]);
        foreach ((string unit, string state) in units) File.WriteAllText(_office["bin/" + unit], state);
        string stub = _office["bin/systemctl"];
        File.WriteAllText(stub, """
            #!/bin/sh
            here=$(dirname "$0")
            echo "$1 $2" >>"$here/calls"
            [ -f "$here/$2" ] || { echo "unknown"; exit 4; }
            read -r active enabled <"$here/$2"
            case $1 in
              is-active) echo "$active"; [ "$active" = active ] || exit 3;;
              is-enabled) echo "$enabled"; [ "$enabled" = enabled ] || exit 1;;
              start) echo "active $enabled" >"$here/$2";;
              stop) echo "inactive $enabled" >"$here/$2";;
              enable) echo "$active enabled" >"$here/$2";;
              disable) echo "$active disabled" >"$here/$2";;
            esac
            """);
        File.SetUnixFileMode(stub, (UnixFileMode)0x1ED);
        return new Dictionary<string, string> { ["PATH"] = $"{_office["bin"]}:{Environment.GetEnvironmentVariable("PATH")}" };
    }

    private string Unit(string name) => File.ReadAllText(_office["bin/" + name]).Trim();

    [Fact]
    public void Units_and_timers_are_stopped_and_disabled_and_each_comes_back_to_its_own_state()
    {
        Closing("""
            closing:
              services:
                - {service: bridge, unit: bridge.service}
                - {service: ledger, unit: ledger.service}
                - {service: off, unit: off.service}
                - {service: sleeper, unit: sleeper.service}
                - {service: database, unit: database.service, stays-up: yes}
              jobs: [{job: nightly, timer: nightly.timer}]

            """);
        Dictionary<string, string> path = StubSystemctl(("bridge.service", "active static"), ("ledger.service", "active enabled"),
            ("off.service", "inactive disabled"), ("sleeper.service", "failed enabled"), ("database.service", "active enabled"),
            ("nightly.timer", "active enabled"));
        BuiltProgram.RunWith(path, _office.Path, "close").Expect(0);
        Assert.Equal(["inactive static", "inactive disabled", "inactive disabled", "failed disabled", "active enabled",
            "inactive disabled"],
            ((string[])["bridge.service", "ledger.service", "off.service", "sleeper.service", "database.service", "nightly.timer"])
                .Select(Unit));
        string[] changes() => [.. File.ReadLines(_office["bin/calls"]).Where(call => !call.StartsWith("is-", StringComparison.Ordinal))];
        Assert.Equal(["disable nightly.timer", "stop nightly.timer", "stop bridge.service", "disable ledger.service",
            "stop ledger.service", "disable sleeper.service"], changes());
        File.Delete(_office["bin/calls"]);
        BuiltProgram.RunWith(path, _office.Path, "reopen").Expect(0);
        Assert.Equal(["active static", "active enabled", "inactive disabled", "failed enabled", "active enabled", "active enabled"],
            ((string[])["bridge.service", "ledger.service", "off.service", "sleeper.service", "database.service", "nightly.timer"])
                .Select(Unit));
        Assert.Equal(["enable sleeper.service", "enable ledger.service", "start ledger.service", "start bridge.service",
            "enable nightly.timer", "start nightly.timer"], changes());
    }

    [Fact]
    public void A_unit_that_systemd_does_not_know_is_refused()
    {
        Closing("closing: {services: [{service: bridge, unit: bridge.service}]}\n");
        BuiltProgram.RunWith(StubSystemctl(), _office.Path, "close").Expect(2)
            .Says("systemd cannot tell whether bridge.service is active", "systemctl list-units");
    }

    [Fact]
    public void A_process_or_port_that_is_left_over_is_no_rest()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        string port = ((IPEndPoint)listener.LocalEndpoint).Port.ToString(CultureInfo.InvariantCulture);
        string sleeper = _office["left-over-process"];
        File.Copy("/bin/sleep", sleeper);
        Process process = Process.Start(sleeper, "100");
        _afterwards.Add(() => { if (!process.HasExited) process.Kill(); });
        Closing($"closing:\n  services:\n    - {{service: ledger, start: ['true'], stop: ['true'], status: [sh, -c, exit 3], ports: "
            + $"[{port}], processes: [left-over-process]}}\n");
        BuiltProgram.Run(_office.Path, "close").Expect(3).Says($"Not at rest: ledger has the process left-over-proce ({process.Id})",
            $"Not at rest: port {port} of ledger listens");
        process.Kill();
        listener.Stop();
        process.WaitForExit();
        BuiltProgram.Run(_office.Path, "close").Expect(0);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
    }

    private static string Sh(string script, bool mayFail = false)
    {
        using Process process = Process.Start(new ProcessStartInfo("sh", ["-c", script])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;
        string said = process.StandardOutput.ReadToEnd() + process.StandardError.ReadToEnd();
        process.WaitForExit();
        Assert.True(mayFail || process.ExitCode == 0, $"{script}: {said}");
        return said;
    }

    [Fact] // in a network of its own, joined by a cable to this one, so that nothing of this machine's firewall is touched
    public void Blocked_ports_take_no_new_connection_from_elsewhere_but_from_the_machine_itself_and_all_again_afterwards()
    {
        string name = FormattableString.Invariant($"tr{Environment.ProcessId % 100_000}"),
            net = FormattableString.Invariant($"10.213.{Environment.ProcessId % 250}");
        Sh($"ip netns add {name} && ip link add {name}a type veth peer name {name}b netns {name} && ip addr add {net}.1/24 dev {name}a "
            + $"&& ip link set {name}a up && ip -n {name} addr add {net}.2/24 dev {name}b && ip -n {name} link set {name}b up && ip -n "
            + $"{name} link set lo up");
        _afterwards.Add(() => Sh($"ip netns del {name}; ip link del {name}a", mayFail: true));
        const string listen = "import socket, time; s = socket.create_server(('0.0.0.0', 4711)); time.sleep(300)";
        Process service = Process.Start(new ProcessStartInfo("ip", ["netns", "exec", name, "/usr/bin/python3", "-c", listen]))!;
        _afterwards.Add(() => { if (!service.HasExited) service.Kill(entireProcessTree: true); });
        const string connect = "/usr/bin/python3 -c \"import socket; socket.create_connection(('{0}', 4711), 1)\"";
        bool fromElsewhere() => Sh(string.Format(CultureInfo.InvariantCulture, connect, net + ".2"), mayFail: true).Length == 0;
        bool fromItself() => Sh($"ip netns exec {name} " + string.Format(CultureInfo.InvariantCulture, connect, "127.0.0.1"),
            mayFail: true).Length == 0;
        for (int i = 0; i < 50 && !fromElsewhere(); i++) Thread.Sleep(100);
        Assert.True(fromElsewhere());
        Closing("closing: {block-ports: [4711, 4712]}\n");
        string inside(string command) => Sh($"ip netns exec {name} {BuiltProgram.InShell} {command} --office {_office.Path}");
        Assert.Contains("other machines cannot connect to port 4711, 4712", inside("close"), StringComparison.Ordinal);
        Assert.False(fromElsewhere());
        Assert.True(fromItself());
        // Lost, as by a reboot, the rule is made again; and once more changes nothing.
        Sh($"ip netns exec {name} nft flush ruleset");
        Assert.True(fromElsewhere());
        inside("close");
        inside("close");
        Assert.False(fromElsewhere());
        inside("reopen");
        Assert.True(fromElsewhere());
        Assert.Equal("", Sh($"ip netns exec {name} nft list ruleset").Trim());
    }
}
