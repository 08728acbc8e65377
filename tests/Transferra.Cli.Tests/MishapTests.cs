using System.Diagnostics;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Whatever goes wrong ends in words, with a true exit code, and never leaves an office shut without a word.</summary>
public sealed class MishapTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private static void Tool(string program, params string[] arguments)
    {
        using Process process = Process.Start(new ProcessStartInfo(program, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;
        process.WaitForExit();
        Assert.True(process.ExitCode == 0, process.StandardError.ReadToEnd());
    }

    private Called Shell(string script) => BuiltProgram.Wait(Process.Start(new ProcessStartInfo("bash", ["-c",
        script.Replace("TRANSFERRA", BuiltProgram.InShell, StringComparison.Ordinal)
            .Replace("OFFICE", $"--office '{_office.Path}'", StringComparison.Ordinal)])
    { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true })!);

    private static void NoTrace(Called called) => Assert.DoesNotMatch(@"   at \w+\.", called.All);

    [Theory] // C24
    [InlineData("store")]
    [InlineData("office.yaml")]
    [InlineData("kit file")]
    [InlineData("set")]
    [InlineData("table of a folder")]
    [InlineData("beside the store")]
    [InlineData("document")]
    [InlineData("device as a store")]
    public void A_pipe_where_a_file_is_expected_is_refused_at_once_and_waited_for_never(string where)
    {
        _office.Write("docs/letter", "letter");
        _office.Companies.Add(_office.Add("A", where == "table of a folder" ? "dbf" : "sqlite", where == "table of a folder" ? "data/a"
            : "data/a.db") with
        { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        _office.Ready();
        string pipe = where switch
        {
            "store" => "data/a.db",
            "office.yaml" => "office.yaml",
            "kit file" => "kit/versions/1.yaml",
            "table of a folder" => "data/a/item.dbf",
            "beside the store" => "data/b.db",
            "document" => "docs/pipe",
            "set" => "pipe.tar",
            _ => "data/a.db",
        };
        if (where == "table of a folder") pipe = Path.GetRelativePath(_office.Path, Directory.GetFiles(_office["data/a"])
            .First(file => file.EndsWith("item.dbf", StringComparison.OrdinalIgnoreCase)));
        File.Delete(_office[pipe]);
        if (where == "device as a store") File.CreateSymbolicLink(_office[pipe], "/dev/zero");
        else Tool("mkfifo", _office[pipe]);
        string[][] commands = where == "set" ? [["restore", "A", "--set", _office[pipe], "--yes", "A"],
            ["restore", "A", "--set", _office[pipe], "--to", _office["out"]]]
            : [["survey"], ["ready"], ["check"], ["backup"], ["upgrade", "--yes", "A"]];
        var clock = Stopwatch.StartNew();
        foreach (string[] command in commands)
        {
            Called called = _office.Run(command);
            NoTrace(called);
            // Among documents, or beside the store, it is nobody's business; elsewhere it is refused, and nothing was done.
            if (where is "document" or "beside the store") Assert.InRange(called.ExitCode, 0, 1);
            else if (command[0] != "survey" || where != "store") Assert.True(called.ExitCode is 2 or 4 or 0 or 1, called.All);
            if (where is "set" or "office.yaml" or "kit file") called.Expect(2).Says("a pipe, a socket or a device");
        }
        Assert.True(clock.Elapsed < TimeSpan.FromSeconds(60));
        if (where is not ("document" or "beside the store" or "set" or "office.yaml" or "kit file")) _office.Run("check")
            .Says("not a file");
    }

    [Theory] // C23
    [InlineData("office.yaml", "[")]
    [InlineData("office.yaml", "{a: ")]
    [InlineData("kit/versions/1.yaml", "[")]
    [InlineData("kit/hops/1-to-2.yaml", "- ")]
    public void A_hundred_thousand_brackets_are_a_mistake_with_a_place(string file, string bracket)
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        File.WriteAllText(_office[file], "office: " + string.Concat(Enumerable.Repeat(bracket, 100_000)));
        Called called = _office.Run("survey").Expect(2).Says(file);
        NoTrace(called);
    }

    [Fact] // C23
    public void Anchors_that_hold_themselves_are_a_mistake_with_a_place()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        File.AppendAllText(_office["office.yaml"], "contact: &a {person: *a}\n");
        _office.Run("survey").Expect(2).Says("office.yaml:", "anchors and aliases");
    }

    [Theory] // C23: what no engine takes stops the company in words, and the others go on; the office is open again
    [InlineData("a table name that two tables have in the new engine",
        "CREATE TABLE \"Extra\" (a INTEGER); CREATE TABLE \"extra \" (a INTEGER)")]
    [InlineData("more columns than the new engine has", "")]
    public void What_the_new_engine_cannot_make_stops_that_company_and_the_others_go_on(string what, string sql)
    {
        using var servers = new TestServers();
        OddCompany a = _office.Add("A", "sqlite", "data/a.db");
        _office.Add("B", "sqlite", "data/b.db");
        if (sql.Length == 0) sql = $"CREATE TABLE WIDE ({string.Join(", ", Enumerable.Range(0, 1800).Select(i => $"C{i} TEXT"))})";
        DemoFolder.Execute(_office["data/a.db"], sql);
        Core.Records.StoreAddress to = servers.Database(what.Contains("name", StringComparison.Ordinal) ? "mariadb" : "postgresql", "new");
        _office.Companies[0] = a with { More = [$"new-store: {OddOffice.ServerYaml(to)}"] };
        _office.Ready();
        Called called = _office.Upgrade();
        NoTrace(called);
        called.Expect(1).Says("A stops here", "Open: everything that was closed is as it was before");
        Assert.Equal("2", DemoFolder.Ask(_office["data/b.db"], "SELECT val FROM version"));
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
        Assert.False(new Stores.StoreOpener().ServerOf(to).Exists(to.Path));
    }

    [Fact] // C23
    public void A_control_character_in_the_books_keeps_no_page_from_being_written_and_no_office_shut()
    {
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"],
            "INSERT INTO ITEM (INO, NAME, PRICE) VALUES (98, 'a' || char(1) || 'b' || char(27) || '[2J', 'x'), (99, char(55296), 'y' || "
                + "char(8238) || 'z')");
        _office.Ready();
        Called called = _office.Upgrade().Expect(1).Says("To be signed:", "Open: everything that was closed is as it was before");
        Assert.DoesNotContain('\u001b', called.All);
        Assert.DoesNotContain('\u202e', called.All);
        Assert.All(Directory.GetFiles(_office["transferra/closings"], "*.jsonl", SearchOption.AllDirectories), journal =>
            Assert.Contains("\"reopened\"", File.ReadAllText(journal), StringComparison.Ordinal));
    }

    [Fact] // D32
    public void A_value_that_a_spreadsheet_would_run_is_text_in_every_list()
    {
        _office.Add("A", "sqlite", "data/a.db");
        DemoFolder.Execute(_office["data/a.db"],
            "UPDATE ITEM SET PRICE = '=cmd|'' /C calc''!A0' WHERE INO = 1; UPDATE ITEM SET PRICE = '-2+3' WHERE INO = 2");
        _office.Ready();
        _office.Run("convert", "A").Expect(1);
        string list = File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra/runs"], "exceptions.csv",
            SearchOption.AllDirectories)));
        Assert.Contains("'=cmd|", list, StringComparison.Ordinal);
        Assert.Contains("'-2+3", list, StringComparison.Ordinal);
        Assert.DoesNotContain(",=cmd", list, StringComparison.Ordinal);
    }

    [Fact] // C23
    public void Nothing_is_taken_back_because_nobody_can_hear_that_it_is_done()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        Called called = Shell("TRANSFERRA upgrade --yes A OFFICE > /dev/full").Expect(0).Says("not all of the output could be written");
        NoTrace(called);
        Assert.Equal("2", DemoFolder.Ask(_office["data/a.db"], "SELECT val FROM version"));
        Shell("TRANSFERRA sets --json OFFICE > /dev/full").Expect(1);
    }

    [Theory] // C23: a disk that fills up at any point of an upgrade
    [InlineData(6)]
    [InlineData(9)]
    [InlineData(12)]
    [InlineData(16)]
    [InlineData(20)]
    [InlineData(26)]
    public void On_a_disk_that_fills_up_the_originals_stay_and_the_office_ends_open_or_says_how(int megabytes)
    {
        Directory.CreateDirectory(_office["disk"]);
        Tool("mount", "-t", "tmpfs", "-o", FormattableString.Invariant($"size={megabytes}m"), "transferra-test", _office["disk"]);
        try
        {
            using var office = new FullOffice(_office["disk"]);
            string before = office.Digest();
            Called called = office.Run("upgrade", "--yes", "A");
            NoTrace(called);
            if (called.ExitCode == 0) return;
            Assert.InRange(called.ExitCode, 1, 4);
            // Room is made, and one of the commands that were named brings the office back.
            office.MakeRoom();
            if (called.All.Contains("transferra undo", StringComparison.Ordinal)) office.Run("undo", "--yes", "A");
            office.Run("reopen").Expect(0);
            Assert.Equal(before, office.Digest());
        }
        finally { Tool("umount", "-l", _office["disk"]); }
    }

    // An office on a volume of its own, whose sets lie elsewhere.
    private sealed class FullOffice : IDisposable
    {
        private readonly string _folder;
        private readonly TempFolder _sets = new();

        public FullOffice(string folder)
        {
            _folder = folder;
            using var made = new OddOffice();
            made.Add("A", "sqlite", "data/a.db", records: 40_000);
            made.More[0] = $"backup: {{to: [{OddOffice.Quoted(_sets.Path)}]}}";
            made.Ready();
            TempFolder.Copy(made.Path, folder);
            File.WriteAllBytes(Path.Combine(folder, "ballast"), new byte[1 << 20]);
            Run("ready", "--confirm", "one-disk");
        }

        public Called Run(params string[] arguments) => BuiltProgram.Run(_folder, arguments);

        public void MakeRoom() => File.Delete(Path.Combine(_folder, "ballast"));

        public string Digest() => TempFolder.Signature(Path.Combine(_folder, "data"))["a.db"];

        public void Dispose() => _sets.Dispose();
    }

    [Fact] // C23
    public void With_64_open_files_it_works_or_says_so()
    {
        _office.Add("A", "dbf", "data/a");
        _office.Add("B", "sqlite", "data/b.db");
        _office.Ready();
        Shell("ulimit -n 64; TRANSFERRA upgrade --yes A --yes B OFFICE").Expect(2).Says("64 files may be open at once", "ulimit -n 1024");
        Assert.False(Directory.Exists(_office["transferra/runs"]));
        Shell("ulimit -n 256; TRANSFERRA upgrade --yes A --yes B OFFICE").Expect(0);
    }

    [Fact] // C23: ready and check on a disk that takes nothing more
    public void On_a_full_disk_ready_and_check_still_tell()
    {
        Directory.CreateDirectory(_office["disk"]);
        Tool("mount", "-t", "tmpfs", "-o", "size=2m", "transferra-test", _office["disk"]);
        try
        {
            using (var made = new OddOffice())
            {
                made.Add("A", "sqlite", "data/a.db");
                made.Ready();
                TempFolder.Copy(made.Path, _office["disk"]);
            }
            using (FileStream ballast = File.Create(_office["disk/ballast"]))
                try { while (true) ballast.Write(new byte[4096]); }
                catch (IOException) { /* full */ }
            BuiltProgram.Run(_office["disk"], "check").Expect(0).Says("could not be kept");
            Called ready = BuiltProgram.Run(_office["disk"], "ready");
            NoTrace(ready);
            ready.Expect(2).Says("room");
        }
        finally { Tool("umount", "-l", _office["disk"]); }
    }

    [Fact] // C25
    public void A_set_that_is_none_begins_nothing()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Write("none.tar", "this is no set");
        foreach (string set in (string[])["none.tar", "data", "gone.tar"])
            NoTrace(_office.Run("restore", "A", "--set", _office[set], "--yes", "A").Expect(2));
        Assert.False(Directory.Exists(_office["transferra/runs"]));
    }

    [Fact] // C26
    public async Task A_store_that_somebody_writes_to_is_backed_up_as_of_one_moment()
    {
        _office.Add("A", "sqlite", "data/a.db", records: 2000);
        _office.Ready();
        using var stop = new CancellationTokenSource();
        int written = 0;
        Task writing = Task.Run(() =>
        {
            using var connection = new SqliteConnection($"Data Source={_office["data/a.db"]};Pooling=False;Default Timeout=30");
            connection.Open();
            // Two records that belong together, in one transaction, again and again.
            for (int i = 10_000; !stop.IsCancellationRequested; i += 2)
            {
                using SqliteTransaction transaction = connection.BeginTransaction();
                using SqliteCommand command = connection.CreateCommand();
                command.Transaction = transaction;
                command.CommandText = string.Create(CultureInfo.InvariantCulture,
                    $"INSERT INTO ITEM (INO, NAME) VALUES ({i}, 'a'); INSERT INTO ITEM (INO, NAME) VALUES ({i + 1}, 'b')");
                command.ExecuteNonQuery();
                transaction.Commit();
                written++;
            }
        }, TestContext.Current.CancellationToken);
        for (int i = 0; i < 4; i++)
        {
            Called backup = _office.Run("backup").Expect(0);
            Assert.Contains("Proved:", backup.Out, StringComparison.Ordinal);
            Thread.Sleep(700);
        }
        await stop.CancelAsync();
        await writing;
        Assert.True(written > 20);
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0);
        string restored = Directory.GetFiles(_office["out/store"])[0];
        Assert.Equal("0", DemoFolder.Ask(restored, "SELECT COUNT(*) % 2 FROM ITEM WHERE INO >= 10000"));
    }

    [Theory] // C24
    [InlineData("TERM", 1)]
    [InlineData("HUP", 1)]
    [InlineData("TERM", 2)]
    public async Task A_signal_ends_it_with_the_word_how_to_go_on(string signal, int times)
    {
        _office.Add("A", "sqlite", "data/a.db", records: 30_000);
        _office.Ready();
        string before = _office.Signature("data")["a.db"];
        using Process upgrade = BuiltProgram.Started(_office.Path, "upgrade", "--yes", "A");
        Task<string> said = upgrade.StandardError.ReadToEndAsync(TestContext.Current.CancellationToken);
        Task<string> shown = upgrade.StandardOutput.ReadToEndAsync(TestContext.Current.CancellationToken);
        while (!upgrade.HasExited && !Directory.Exists(_office["transferra/runs"])) Thread.Sleep(10);
        for (int i = 0; i < times; i++)
        {
            if (upgrade.HasExited) break;
            using Process kill = Process.Start(new ProcessStartInfo("kill",
                ["-" + signal, upgrade.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)])
            { RedirectStandardError = true })!;
            await kill.WaitForExitAsync(TestContext.Current.CancellationToken);
            await Task.Delay(20, TestContext.Current.CancellationToken);
        }
        Assert.True(upgrade.WaitForExit(TimeSpan.FromSeconds(60)));
        await shown;
        if (upgrade.ExitCode == 0) return; // it was faster
        Assert.Equal(3, upgrade.ExitCode);
        Assert.Contains("transferra undo", await said, StringComparison.Ordinal);
        _office.Run("undo", "--yes", "A").Expect(0);
        _office.Run("reopen").Expect(0);
        Assert.Equal(before, _office.Signature("data")["a.db"]);
    }

    [Fact] // C23
    public void A_closing_whose_journal_was_altered_is_given_up_with_a_list_of_what_it_changed()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Run("close").Expect(0);
        string journal = Assert.Single(Directory.GetFiles(_office["transferra/closings"], "journal.jsonl", SearchOption.AllDirectories));
        File.WriteAllLines(journal, File.ReadAllLines(journal)[..^1]);
        _office.Run("reopen").Expect(2).Says("was cut short", "transferra reopen --give-up");
        string closing = Path.GetFileName(Path.GetDirectoryName(journal))!;
        _office.Run("reopen", "--give-up", "--yes", closing).Expect(1).Says("folder " + _office["data"], "mode 7");
        _office.Run("reopen").Expect(0).Says("The office is open");
    }
}
