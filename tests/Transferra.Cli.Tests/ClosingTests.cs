using System.Diagnostics;
using System.Net.Sockets;
using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>An office whose stand-ins run, and end with the test.</summary>
public abstract class WithStandIns : IDisposable
{
    private protected readonly DemoFolder _office;
    private protected readonly List<Process> _started = [];

    private protected WithStandIns(DemoFolder office) => _office = office;

    public void Dispose()
    {
        foreach (string name in (string[])["service", "scheduler"]) StandIn(name, "stop");
        foreach (Process process in _started)
        {
            if (!process.HasExited) process.Kill();
            process.Dispose();
        }
        _office.Dispose();
        GC.SuppressFinalize(this);
    }

    private int StandIn(string name, string what)
    {
        using Process process = Process.Start(new ProcessStartInfo("sh", [_office["programs/ledger/stand-in.sh"], name,
            what])
        { RedirectStandardOutput = true })!;
        process.WaitForExit();
        return process.ExitCode;
    }

    private protected bool Runs(string name) => StandIn(name, "status") == 0;

    private protected bool Answers()
    {
        try
        {
            using var client = new TcpClient("127.0.0.1", int.Parse(_office.Port, System.Globalization.CultureInfo.InvariantCulture));
            return true;
        }
        catch (SocketException) { return false; }
    }

    private protected void OpenOffice(string without = "")
    {
        foreach (string name in (string[])["service", "scheduler"])
            if (name != without) Assert.Equal(0, StandIn(name, "start"));
    }

    private protected Process Workstation()
    {
        Process process = BuiltProgram.StandIn("workstation", _office["programs/ledger"], _office.Store("QIH"));
        _started.Add(process);
        for (int i = 0; i < 100 && !File.Exists(_office["programs/ledger/workstation.pid"]); i++) Thread.Sleep(50);
        return process;
    }

    // Everything that closing could change.
    private protected string State() => string.Join("\n", (IEnumerable<string>)[
        .. _office.Modes().Select(entry => $"{entry.Key} {entry.Value}"), $"service {Runs("service")} {Answers()}",
            $"scheduler {Runs("scheduler")}",
        .. Directory.EnumerateFiles(_office["programs/ledger/jobs"]).Select(Path.GetFileName).Order(StringComparer.Ordinal)!]);
}

/// <summary>Everybody out, and in again: on the demo's stand-ins, which are real processes with a real port and a real open file.</summary>
public sealed class ClosingTests() : WithStandIns(new DemoFolder(small: true))
{
    [Fact]
    public void Closed_everything_rests_and_reopened_everything_is_as_it_was()
    {
        OpenOffice();
        string before = State();
        // People have it open; they are told, and leave by themselves.
        Process person = Workstation();
        BuiltProgram.Run(_office.Path, "close", "--show").Expect(0).Says("QIH", "process " + person.Id, "Ledger service is stopped",
            "Nothing was changed");
        Assert.Equal(before, State());
        BuiltProgram.Run(_office.Path, "close").Expect(0).Says("Closed, and proved");
        Assert.True(person.WaitForExit(1000));
        Assert.False(Runs("service") || Runs("scheduler") || Answers());
        Assert.All(_office.Modes().Where(entry => entry.Key is "data/QIH" or "data/QWS" or "data/QST/stock" or "data/QIH/documents"),
            entry =>
            Assert.Equal((UnixFileMode)0, entry.Value & (UnixFileMode)0x3F));
        Assert.Equal([".nightly.transferra-closed"], Directory.EnumerateFiles(_office["programs/ledger/jobs"]).Select(Path.GetFileName));
        string closed = State();
        BuiltProgram.Run(_office.Path, "close").Expect(0).Says("Closed, and proved");
        Assert.Equal(closed, State());
        // The next command says it, whatever it is.
        Called next = BuiltProgram.Run(_office.Path, "sets", "--json").Expect(0);
        Assert.Contains("The office is closed", next.Err, StringComparison.Ordinal);
        Assert.Contains("transferra reopen", next.Err, StringComparison.Ordinal);
        Assert.Equal("sets", next.Json.GetProperty("command").GetString());
        BuiltProgram.Run(_office.Path, "reopen").Expect(0).Says("Open: everything that was closed is as it was before");
        Assert.Equal(before, State());
        Assert.Equal(2, File.ReadAllLines(_office["programs/ledger/messages.txt"]).Length);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0).Says("nothing to do");
        Assert.DoesNotContain("closed", BuiltProgram.Run(_office.Path, "sets").Err, StringComparison.Ordinal);
    }

    [Fact]
    public void What_was_off_before_stays_off()
    {
        OpenOffice(without: "scheduler");
        File.Delete(_office["programs/ledger/jobs/nightly"]);
        File.SetUnixFileMode(_office["data/QWS"],
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | UnixFileMode.GroupRead | UnixFileMode.SetGroup);
        string before = State();
        BuiltProgram.Run(_office.Path, "close").Expect(0);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
        Assert.False(Runs("scheduler"));
    }

    [Fact]
    public void Somebody_who_stays_is_named_and_put_out_only_when_that_is_said()
    {
        OpenOffice();
        string before = State();
        _office.Edit("office.yaml", "grace: 10 s", "grace: 1 s");
        Process holder = Process.Start(new ProcessStartInfo("tail", ["-f", _office.Store("QIH")]) { RedirectStandardOutput = true })!;
        _started.Add(holder);
        Thread.Sleep(300);
        BuiltProgram.Run(_office.Path, "close").Expect(3).Says("Not closed: 1 session still in", "tail", $"process {holder.Id}",
            "--end-sessions");
        Assert.Contains("was being closed", BuiltProgram.Run(_office.Path, "sets").Err, StringComparison.Ordinal);
        // New ones are kept out already; services go on until nobody needs them.
        Assert.True(Runs("service"));
        Assert.Equal((UnixFileMode)0, File.GetUnixFileMode(_office["data/QIH"]) & (UnixFileMode)0x3F);
        BuiltProgram.Run(_office.Path, "close", "--end-sessions").Expect(0).Says("ended: QIH tail", "Closed, and proved");
        Assert.True(holder.WaitForExit(1000));
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
    }

    [Fact]
    public void A_session_that_is_just_ending_is_nobody_who_stays()
    {
        OpenOffice();
        _office.Edit("office.yaml", "grace: 10 s", "grace: 0 s");
        _started.Add(Process.Start(new ProcessStartInfo("timeout", ["1.5", "tail", "-f", _office.Store("QIH")])
        { RedirectStandardOutput = true })!);
        Thread.Sleep(300);
        BuiltProgram.Run(_office.Path, "close").Expect(0).Says("Closed, and proved");
    }

    [Fact]
    public void An_upgrade_that_somebody_stays_in_for_is_refused_and_the_office_is_as_it_was()
    {
        OpenOffice();
        string before = State();
        IReadOnlyDictionary<string, string> data = _office.DataSignature();
        _office.Edit("office.yaml", "grace: 10 s", "grace: 1 s");
        Process holder = Process.Start(new ProcessStartInfo("tail", ["-f", _office.Store("QIH")]) { RedirectStandardOutput = true })!;
        _started.Add(holder);
        Thread.Sleep(300);
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(2)
            .Says("1 session still in", "tail", $"process {holder.Id}", "nothing was upgraded", "Close the program there");
        Assert.Equal(before, State());
        Assert.Equal(data, _office.DataSignature());
        Assert.False(Directory.Exists(_office["transferra/runs"]));
    }

    [Fact]
    public void A_status_that_tells_nothing_is_refused_before_anything_is_changed()
    {
        OpenOffice();
        string before = State();
        _office.Edit("office.yaml", "status: [sh, programs/ledger/stand-in.sh, service, status]",
            "status: [sh, -c, 'echo cannot tell today; exit 4']");
        BuiltProgram.Run(_office.Path, "close").Expect(2).Says("tells neither on nor off", "ended with 4", "cannot tell today");
        Assert.Equal(before, State());
        Assert.False(Directory.Exists(_office["transferra/closings"]));
        _office.Edit("office.yaml", "[sh, -c, 'echo cannot tell today; exit 4']", "[sh, programs/ledger/no-such.sh]");
        BuiltProgram.Run(_office.Path, "close").Expect(2);
        Assert.Equal(before, State());
    }

    [Fact]
    public void A_service_that_does_not_stop_stops_the_closing_and_one_that_does_not_start_is_said_plainly()
    {
        OpenOffice();
        string before = State();
        _office.Edit("office.yaml", "stop: [sh, programs/ledger/stand-in.sh, service, stop]", "stop: ['true']\n      wait: 1 s");
        BuiltProgram.Run(_office.Path, "close").Expect(3).Says("Ledger service still runs", "transferra reopen");
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
        _office.Edit("office.yaml", "stop: ['true']\n      wait: 1 s",
            "stop: [sh, programs/ledger/stand-in.sh, service, stop]\n      wait: 3 s");
        BuiltProgram.Run(_office.Path, "close").Expect(0);
        // What the service needs is gone: the rest is opened, the users are not told, and it can be tried again.
        string script = File.ReadAllText(_office["programs/ledger/ledger.ini"]);
        File.WriteAllText(_office["programs/ledger/ledger.ini"], "");
        int told = File.ReadAllLines(_office["programs/ledger/messages.txt"]).Length;
        Called failed = BuiltProgram.Run(_office.Path, "reopen", "--json").Expect(4);
        JsonElement thing = Assert.Single(failed.Json.GetProperty("result").GetProperty("notReopened").EnumerateArray());
        Assert.Equal("command Ledger service", thing.GetProperty("step").GetString());
        Assert.True(Runs("scheduler"));
        Assert.Equal(told, File.ReadAllLines(_office["programs/ledger/messages.txt"]).Length);
        Assert.Contains("transferra reopen", BuiltProgram.Run(_office.Path, "sets").Err, StringComparison.Ordinal);
        BuiltProgram.Run(_office.Path, "close").Expect(2).Says("being opened again");
        File.WriteAllText(_office["programs/ledger/ledger.ini"], script);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
    }

    [Fact]
    public void It_can_be_reopened_when_office_yaml_is_broken_and_after_a_reboot_closed_again()
    {
        OpenOffice();
        string before = State();
        BuiltProgram.Run(_office.Path, "close").Expect(0);
        string closed = State();
        // As after a reboot that started everything.
        OpenOffice();
        File.SetUnixFileMode(_office["data/QIH"], (UnixFileMode)0x1ED);
        BuiltProgram.Run(_office.Path, "close").Expect(0).Says("Ledger service is stopped");
        Assert.Equal(closed, State());
        File.WriteAllText(_office["office.yaml"], "office: [");
        Assert.Contains("transferra reopen", BuiltProgram.Run(_office.Path, "sets").Expect(2).Err, StringComparison.Ordinal);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
    }

    [Fact]
    public void A_disk_that_fails_while_closing_is_said_and_what_was_done_can_be_taken_back()
    {
        OpenOffice();
        string before = State();
        _office.Edit("office.yaml", "    - cron-file: programs/ledger/jobs/nightly",
            "    - cron-file: programs/ledger/jobs/nightly\n    - cron-file: /proc/1/comm");
        // A file in /proc cannot be renamed by anybody.
        Called failed = BuiltProgram.Run(_office.Path, "close").Expect(3);
        Assert.Contains("/proc/1/comm", failed.Err, StringComparison.Ordinal);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
    }

    [Fact]
    public void An_upgrade_closes_and_opens_and_stays_closed_while_the_program_does_not_fit()
    {
        OpenOffice();
        string before = State();
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0)
            .Says("Closed, and proved", "The office stays closed", "Pellwright Ledger is installed as version 5.4", "transferra reopen");
        Assert.False(Runs("service"));
        // The vendor's installer has been there.
        _office.Edit("programs/ledger/ledger.ini", "Version=5.4", "Version=6.0");
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.True(Runs("service") && Answers());
        string run = Path.GetFileName(Directory.GetDirectories(_office["transferra/runs"]).Single());
        BuiltProgram.Run(_office.Path, "undo", "--run", run, "--yes", "QIH").Expect(0);
        Assert.Equal(before, State());
        // The program fits this time, so that it opens by itself; unless it was told not to.
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0)
            .Says("Open: everything that was closed is as it was before");
        Assert.True(Runs("service"));
        BuiltProgram.Run(_office.Path, "undo", "--yes", "QIH").Expect(0);
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH", "--stay-closed").Expect(0).Says("The office stays closed",
            "transferra reopen");
        Assert.False(Runs("service"));
        // An undo of what closed it opens it as well.
        BuiltProgram.Run(_office.Path, "undo", "--yes", "QIH").Expect(0).Says("Open: everything");
        Assert.Equal(before, State());
    }

    [Fact]
    public void Ctrl_C_while_people_are_waited_for_leaves_what_can_be_gone_on_with()
    {
        OpenOffice();
        string before = State();
        _office.Edit("office.yaml", "grace: 10 s", "grace: 60 s");
        Process holder = Process.Start(new ProcessStartInfo("tail", ["-f", _office.Store("QIH")]) { RedirectStandardOutput = true })!;
        _started.Add(holder);
        Thread.Sleep(300);
        using Process closing = BuiltProgram.Started(_office.Path, "close");
        for (int i = 0; i < 100 && File.Exists(_office["programs/ledger/jobs/nightly"]); i++) Thread.Sleep(100);
        Thread.Sleep(500);
        Process.Start("kill", ["-INT", closing.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)])!.WaitForExit();
        BuiltProgram.Wait(closing).Expect(3).Says("stopped by hand", "was being closed, and that is not finished", "transferra reopen");
        Assert.True(Runs("service"));
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.Equal(before, State());
    }

    [Fact]
    public void The_new_store_belongs_to_whom_the_old_one_did_and_lets_the_same_people_in()
    {
        Process.Start("chown", ["nobody:nogroup", _office.Store("QIH")])!.WaitForExit();
        File.SetUnixFileMode(_office.Store("QIH"), (UnixFileMode)0x1B4); // rw-rw-r--
        Process.Start("chmod", ["-R", "g+w", _office["data/QST/stock"]])!.WaitForExit();
        Process.Start("chgrp", ["-R", "nogroup", _office["data/QST/stock"]])!.WaitForExit();
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "QST", "--yes", "QIH", "--yes", "QST").Expect(0);
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        string owners(string file)
        {
            using Process process = Process.Start(new ProcessStartInfo("stat",
                ["-c", "%U:%G %a", file])
            { RedirectStandardOutput = true })!;
            return process.StandardOutput.ReadToEnd().Trim();
        }
        Assert.Equal("nobody:nogroup 664", owners(_office.Store("QIH")));
        Assert.Equal("root:nogroup 664", owners(_office["data/QST/stock.db"]));
    }

    [Fact]
    public void A_closing_by_hand_is_used_by_an_upgrade_and_left_to_the_hand()
    {
        OpenOffice();
        BuiltProgram.Run(_office.Path, "close").Expect(0);
        BuiltProgram.Run(_office.Path, "upgrade", "QST", "--yes", "QST").Expect(0);
        Assert.False(Runs("service"));
        // The folder that was shut has been set aside meanwhile, and has its permissions back all the same.
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        Assert.True(Runs("service"));
        Assert.All(_office.Modes().Where(entry => entry.Key.EndsWith("/stock", StringComparison.Ordinal)), entry =>
            Assert.Equal((UnixFileMode)0x1ED, entry.Value));
        Assert.Contains(_office.Modes().Keys, folder => folder.EndsWith("old-v3/stock", StringComparison.Ordinal));
    }
}

public sealed class KilledWhileClosingTests() : WithStandIns(DemoFolder.OfOne())
{
    [Theory]
    [InlineData("close")]
    [InlineData("reopen")]
    public void Killed_at_any_operation_it_can_be_reopened_and_the_next_command_says_so(string killed)
    {
        // Daily every fifth or sixth operation.
        OpenOffice();
        string before = State();
        int kills = 0, step = Seeds.IsSoak ? 1 : killed == "close" ? 6 : 5;
        for (int n = killed == "close" ? 1 : 2; ; n += step)
        {
            if (killed == "reopen") BuiltProgram.Run(_office.Path, "close").Expect(0);
            Called called = BuiltProgram.RunUntil(n, _office.Path, killed);
            if (called.ExitCode == 0)
            {
                BuiltProgram.Run(_office.Path, "reopen").Expect(0);
                break;
            }
            called.Expect(137);
            kills++;
            bool isOpen = State() == before;
            Called next = BuiltProgram.Run(_office.Path, "sets").Expect(0);
            // Silence would leave the office locked; a word too many, when nothing is changed yet or any more, does no harm.
            if (!isOpen) Assert.Contains("transferra reopen", next.Err, StringComparison.Ordinal);
            // Closed to the end after the kill, every other time: that, too, must come to the same.
            if (killed == "close" && kills % 2 == 0) BuiltProgram.Run(_office.Path, "close").Expect(0).Says("Closed, and proved");
            BuiltProgram.Run(_office.Path, "reopen").Expect(0);
            Assert.Equal(before, State());
        }
        Assert.InRange(kills, 5, 200);
    }
}
