using System.Diagnostics;
using Transferra.Core.Machine;

namespace Transferra.Cli.Tests;

/// <summary>Who may read what we write, and whom we let write what we read.</summary>
public sealed class WhoMayTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private const UnixFileMode Others = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.GroupExecute
        | UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute;

    private static void Tool(string program, params string[] arguments)
    {
        using Process process = Process.Start(new ProcessStartInfo(program, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;
        process.WaitForExit();
        Assert.Equal(0, process.ExitCode);
    }

    // Whatever the umask of whoever calls us, as cron or a careless profile may have it.
    private Called Careless(params string[] arguments)
    {
        string command = $"umask 0; exec {BuiltProgram.InShell} "
            + $"{string.Join(' ', arguments.Select(argument => $"'{argument}'"))} --office '{_office.Path}'";
        return BuiltProgram.Wait(Process.Start(new ProcessStartInfo("sh", ["-c", command])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!);
    }

    [Fact] // D27
    public void Everything_that_is_written_is_for_its_owner_alone_whatever_the_umask()
    {
        _office.Write("docs/letter", "letter");
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        _office.Add("B", "dbf", "data/b");
        _office.Ready();
        HashSet<string> before = [.. Directory.GetFileSystemEntries(_office.Path, "*", SearchOption.AllDirectories)];
        foreach (string[] command in (string[][])[["survey", "--html", _office["survey.html"]], ["check"],
            ["check", "--sheet", _office["sheet.xlsx"]], ["backup"], ["convert"], ["match"],
            ["upgrade", "--yes", "A", "--yes", "B"], ["signoff", "--html", _office["page.html"]],
                ["restore", "A", "--to", _office["out"]], ["bundle", "A", "--to", _office["bundle.zip"]],
            ["sets", "--recovery-sheet", _office["sheet.html"]]])
            Careless(command).Expect(0);
        string[] open = [.. Directory.GetFileSystemEntries(_office.Path, "*", SearchOption.AllDirectories)
            .Where(path => !before.Contains(path))
            // What came to the place of a store has the permissions of the store, and a restored document those it had.
            .Where(path => !path.StartsWith(_office["data/a.db"], StringComparison.Ordinal) && !path.StartsWith(_office["data/b"],
                StringComparison.Ordinal)
                && !path.StartsWith(_office["out/"], StringComparison.Ordinal))
            // An original that was set aside keeps its permissions, in a folder that nobody else may enter.
            .Where(path => !path.Contains("/old-v1/", StringComparison.Ordinal))
            .Where(path => (File.GetUnixFileMode(path) & Others) != 0)];
        Assert.Empty(open);
    }

    [Fact] // D27: the staged store of a trial holds every private value
    public void A_trial_is_for_its_owner_alone_also_while_it_is_written()
    {
        _office.Add("A", "sqlite", "data/a.db", records: 60_000);
        _office.Ready();
        using Process trial = BuiltProgram.Started(_office.Path, "convert", "A");
        var seen = new List<string>();
        while (!trial.HasExited)
        {
            foreach (string path in Directory.EnumerateDirectories(_office["data"], "transferra-*"))
                try { if ((File.GetUnixFileMode(path) & Others) != 0) seen.Add(path); }
                catch (IOException) { /* gone */ }
            Thread.Sleep(2);
        }
        Assert.Empty(seen);
    }

    [Fact] // D27
    public void A_planted_link_leads_to_no_file_of_the_machine()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        string precious = _office.Write("precious", "mine");
        foreach (string name in (string[])[".transferra-rate", ".transferra-probe"])
            foreach (string folder in (string[])["data", ".", "sets"])
            {
                Directory.CreateDirectory(_office[folder]);
                File.CreateSymbolicLink(Path.Combine(_office[folder], name), precious);
            }
        foreach (string command in (string[])["ready", "check", "survey"]) _office.Run(command);
        Assert.Equal("mine", File.ReadAllText(precious));
    }

    [Fact] // D29
    public void A_link_that_somebody_else_made_is_not_followed()
    {
        _office.Write("elsewhere/secret", "root's own");
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        Directory.CreateDirectory(_office["docs"]);
        _office.Ready();
        Directory.Delete(_office["docs"]);
        Directory.CreateSymbolicLink(_office["docs"], _office["elsewhere"]);
        Tool("chown", "-h", "1234", _office["docs"]);
        UnixFileMode was = File.GetUnixFileMode(_office["elsewhere"]);
        foreach (string[] command in (string[][])[["close"], ["backup"], ["survey"]]) _office.Run(command).Expect(2)
            .Says("which belongs to somebody else and is not followed", "docs");
        Assert.Equal(was, File.GetUnixFileMode(_office["elsewhere"]));
        // One of one's own is followed once, to what it leads to.
        Tool("chown", "-h", "0", _office["docs"]);
        _office.Run("backup").Expect(0);
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0);
        Assert.Equal("root's own", File.ReadAllText(_office["out/documents/0/secret"]));
    }

    [Fact] // D29: in a folder that staff may write, whatever stands there is kept as what it is
    public void A_link_among_the_documents_is_kept_as_a_link_and_its_target_is_not_packed()
    {
        _office.Write("secret", "root's own");
        _office.Write("docs/letter", "letter");
        File.CreateSymbolicLink(_office["docs/way"], _office["secret"]);
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        _office.Ready();
        _office.Run("backup").Expect(0);
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0);
        Assert.Equal(_office["secret"], new FileInfo(_office["out/documents/0/way"]).LinkTarget);
    }

    [Fact] // D30
    public void No_command_that_is_started_sees_a_passphrase_or_a_password_or_fills_the_disk()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Write("tell.sh", $"env > '{_office["seen"]}'\necho \"umask $(umask)\" >> '{_office["seen"]}'\n");
        _office.More[0] = "backup: {to: [sets], locked-with: {variable: BOOKS_SECRET}}";
        _office.More.Add("closing: {tell: [sh, tell.sh, \"{message}\"]}");
        _office.Ready();
        var environment = new Dictionary<string, string>
        {
            ["BOOKS_SECRET"] = "open-sesame-and-more",
            ["TRANSFERRA_PASSPHRASE"] = "another-open-sesame",
            ["HARMLESS"] = "yes"
        };
        BuiltProgram.RunWith(environment, _office.Path, "close").Expect(0);
        string seen = File.ReadAllText(_office["seen"]);
        Assert.Contains("HARMLESS=yes", seen, StringComparison.Ordinal);
        Assert.DoesNotContain("sesame", seen, StringComparison.Ordinal);
        Assert.Contains("umask 0", seen, StringComparison.Ordinal);
        Assert.DoesNotContain("umask 0077", seen, StringComparison.Ordinal); // what it makes is masked as the caller has it
        BuiltProgram.Run(_office.Path, "reopen").Expect(0);
        _office.Write("tell.sh", "yes\n");
        var clock = Stopwatch.StartNew();
        _office.Run("close").Expect(3).Says("does not stop printing");
        Assert.True(clock.Elapsed < TimeSpan.FromSeconds(40));
        _office.Write("tell.sh", "exit 0\n");
        _office.Run("reopen").Expect(0);
    }

    [Fact] // A8
    public void What_one_office_has_shut_another_does_not_take_for_the_usual_and_both_end_as_it_was()
    {
        using var other = new OddOffice();
        OddCompany a = _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        other.Companies.Add(a with { Yaml = $"{{sqlite: {a.Store.Path}}}" });
        other.Ready();
        UnixFileMode open = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
            | UnixFileMode.GroupRead | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute;
        File.SetUnixFileMode(_office["data"], open);
        _office.Run("close").Expect(0);
        other.Run("close").Expect(2).Says($"was shut by another office, that of {_office.Path}", "transferra reopen --office");
        other.Run("ready").Expect(2).Says("was shut by another office");
        _office.Run("reopen").Expect(0);
        Assert.Equal(open, File.GetUnixFileMode(_office["data"]));
        Assert.Empty(Directory.GetFiles(_office.Path, ".transferra-shut-*"));
        other.Run("close").Expect(0);
        other.Run("reopen").Expect(0);
        Assert.Equal(open, File.GetUnixFileMode(_office["data"]));
    }

    [Fact] // D33
    public void Access_lists_come_back_or_are_said_not_to()
    {
        _office.Write("docs/letter", "letter");
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        // system.posix_acl_access, version 2: user::rw-, user:1234:r--, group::r--, mask::r--, other::---
        byte[] list = [2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 0xD2, 4, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 0x10, 0, 4,
            0, 255, 255, 255, 255, 0x20, 0, 0, 0, 255, 255, 255, 255];
        byte[] letter = PosixFiles.Bytes(_office["docs/letter"]);
        Assert.True(PosixFiles.SetAttribute(letter, "system.posix_acl_access", list));
        _office.Ready();
        _office.Run("backup").Expect(0);
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0);
        Assert.Equal(list, PosixFiles.Attributes(PosixFiles.Bytes(_office["out/documents/0/letter"]))["system.posix_acl_access"]);
        // A volume that keeps no such lists.
        Directory.CreateDirectory(_office["plain"]);
        Tool("mount", "-t", "ramfs", "transferra-test", _office["plain"]);
        try
        {
            _office.Run("restore", "A", "--to", _office["plain/out"]).Expect(0)
            .Says("not brought back: documents/0/letter: its access control list");
        }
        finally { Tool("umount", _office["plain"]); }
    }
}
