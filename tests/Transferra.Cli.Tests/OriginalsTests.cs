using System.Text.Json;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>No original is ever lost: companies that lie close together, offices that meet in one store, journals that were tampered
/// with.</summary>
public sealed class OriginalsTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private static string Aside(string folder, string code, string name) =>
        Assert.Single(Directory.GetDirectories(folder, $"transferra-*-{code}").Select(work => Path.Combine(work, "old-v1", name)),
            Path.Exists);

    [Fact]
    public void Other_schemas_of_a_database_go_along_and_back_with_it()
    {
        using var servers = new TestServers();
        Core.Records.StoreAddress store = WithArchive(servers);
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.Equal("1000", TestServers.Ask(store, "SELECT COUNT(*) FROM archive.old_items"));
        // What nobody speaks of is compared all the same.
        TestServers.Execute(store, "UPDATE archive.old_items SET id = 0 WHERE id = 1");
        _office.Run("match").Expect(1).Says("NOT proved", "archive.old_items");
        TestServers.Execute(store, "UPDATE archive.old_items SET id = 1 WHERE id = 0");
        _office.Run("match").Expect(0).Says("Proved");
        _office.Run("backup", "A").Expect(0).Says("Proved:");
        TestServers.Execute(store, "DROP SCHEMA archive CASCADE");
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal("1000", TestServers.Ask(store, "SELECT COUNT(*) FROM archive.old_items"));
        foreach (string left in new Stores.StoreOpener().ServerOf(store).Names(store.Path)
            .Where(name => name.Contains("transferra-", StringComparison.Ordinal) && name.EndsWith(store.Path, StringComparison.Ordinal)))
            servers.Known(store with { Path = left });
    }

    private Core.Records.StoreAddress WithArchive(TestServers servers)
    {
        Core.Records.StoreAddress store = servers.Database("postgresql", "books");
        _office.Add("A", store);
        TestServers.Execute(store, "CREATE SCHEMA archive");
        TestServers.Execute(store, "CREATE TABLE archive.old_items AS SELECT generate_series(1, 1000) AS id");
        _office.Ready();
        return store;
    }

    [Fact]
    public void Where_a_new_store_begins_empty_the_tables_of_other_schemas_come_along()
    {
        using var servers = new TestServers();
        _office.WriteKit(hop: "beginning: empty\n" + OddOffice.Hop);
        Core.Records.StoreAddress store = WithArchive(servers);
        _office.Upgrade().Expect(0).Says("A through 2");
        Assert.Equal("1000", TestServers.Ask(store, "SELECT COUNT(*) FROM archive.old_items"));
        Assert.Equal("5", TestServers.Ask(store, "SELECT COUNT(*) FROM item"));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("1000", TestServers.Ask(store, "SELECT COUNT(*) FROM archive.old_items"));
        Assert.Equal("5", TestServers.Ask(store, "SELECT COUNT(*) FROM \"ITEM\""));
    }

    private string OnlyRun() => Assert.Single(Directory.GetDirectories(_office["transferra/runs"]));

    private static void Execute(string store, string sql) => DemoFolder.Execute(store, sql);

    [Theory]
    [InlineData("sqlite", "data/a.db", "data/b.db")]
    [InlineData("dbf", "data/a", "data/b")]
    [InlineData("delimited", "data/a", "data/b")]
    [InlineData("json-lines", "data/a", "data/b")]
    public void Companies_in_one_folder_are_upgraded_and_taken_back_without_touching_each_others_originals(string engine, string a,
        string b)
    {
        _office.Add("A", engine, a);
        _office.Add("B", engine, b);
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("data");
        _office.Upgrade().Expect(0);
        // Both originals stand where the sign-off says.
        JsonElement companies = _office.Run("signoff", "--json").Expect(0).Json.GetProperty("result").GetProperty("companies");
        foreach ((JsonElement company, string path) in companies.EnumerateArray().Zip([a, b]))
        {
            string aside = company.GetProperty("setAside").GetString()!;
            Assert.Equal(Aside(_office["data"], company.GetProperty("code").GetString()!, Path.GetFileName(path)), aside);
            Assert.Equal(before[Path.GetFileName(path)], TempFolder.Signature(Path.GetDirectoryName(aside)!)[Path.GetFileName(path)]);
        }
        _office.Run("undo", "--yes", "A", "--yes", "B").Expect(0).Says("Undone: the office is where it was before");
        Assert.Equal(before, _office.Signature("data"));
    }

    [Fact]
    public void A_company_that_stops_leaves_the_original_that_another_in_its_folder_set_aside()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Add("B", "sqlite", "data/b.db");
        Execute(_office["data/b.db"], "DROP TABLE GRP"); // B stops at its check
        _office.Ready();
        _office.Upgrade().Expect(1);
        Assert.True(File.Exists(Aside(_office["data"], "A", "a.db")));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
    }

    [Fact]
    public void Two_companies_in_one_folder_are_mended_and_restored_without_touching_each_other()
    {
        _office.WriteKit(oldVersion: OddOffice.OldVersion + "mends:\n  - {trim: ITEM, columns: [NAME], because: blanks mean nothing}\n");
        foreach (string code in (string[])["A", "B"])
        {
            _office.Add(code, "sqlite", $"data/{code}.db");
            Execute(_office[$"data/{code}.db"], "UPDATE ITEM SET NAME = NAME || '  '");
        }
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("data");
        _office.Run("check", "A", "B", "--mend", "--yes", "A", "--yes", "B").Expect(0);
        foreach (string code in (string[])["A", "B"])
        {
            Assert.Equal(before[code + ".db"],
                TempFolder.Signature(Path.GetDirectoryName(Aside(_office["data"], code, code + ".db"))!)[code + ".db"]);
            Assert.Equal("0", DemoFolder.Ask(_office[$"data/{code}.db"], "SELECT COUNT(*) FROM ITEM WHERE NAME LIKE '% '"));
        }
        _office.Run("undo", "--yes", "A", "--yes", "B").Expect(0);
        Assert.Equal(before, _office.Signature("data"));
        // Restored one after the other, each set aside on its own, and taken back in turn.
        _office.Run("backup").Expect(0);
        foreach (string code in (string[])["A", "B"]) _office.Run("restore", code, "--yes", code).Expect(0);
        foreach (string code in (string[])["B", "A"]) _office.Run("undo", "--yes", code).Expect(0);
        Assert.Equal(before, _office.Signature("data"));
    }

    [Fact]
    public void Work_done_in_a_restored_company_is_kept_when_the_restore_is_taken_back()
    {
        _office.Write("docs/letter.txt", "letter");
        OddCompany a = _office.Add("A", "sqlite", "data/a.db");
        _office.Companies[0] = a with { More = ["documents: [docs]"] };
        _office.Ready();
        _office.Run("backup").Expect(0);
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        _office.Write("docs/new.txt", "written after the restore");
        _office.Run("undo", "--yes", "A").Expect(1).Says("has been used since, and is kept");
        Assert.False(File.Exists(_office["docs/new.txt"]));
        Assert.Equal("written after the restore",
            File.ReadAllText(Assert.Single(Directory.GetFiles(_office["data"], "new.txt", SearchOption.AllDirectories))));
    }

    [Theory]
    [InlineData("{sqlite: data/a.db}", "{sqlite: data/a.db}", null, "the store")]
    [InlineData("{sqlite: data/a.db}", "{sqlite: linked/a.db}", null, "the store")]
    [InlineData("{sqlite: data/a.db}", "{sqlite: data/second-name.db}", null, "the store")]
    [InlineData("{sqlite: data/a.db}", "{sqlite: data/link.db}", null, "the store")]
    [InlineData("{sqlite: data/a.db}", "{sqlite: data/b.db}", "new-store: {dbf: data/new}", "the store")]
    [InlineData("{dbf: data}", "{sqlite: data/b.db}", null, "overlap")]
    [InlineData("{postgresql: books, schema: a}", "{postgresql: books, schema: b, host: 127.0.0.1}", null, "the database books")]
    [InlineData("{mariadb: books}", "{mariadb: books, host: localhost, port: 3306}", null, "the database books")]
    [InlineData("{sqlite: data/a.db}", "{sqlite: data/b.db}", "documents: [data]", "the document folder")]
    public void Companies_that_meet_in_one_store_are_refused_by_every_command_with_both_places(string a, string b, string? more,
        string says)
    {
        OddOffice.Fill(new Core.Records.StoreAddress("sqlite", Directory.CreateDirectory(_office["data"]).FullName + "/a.db"), "A", 2);
        Directory.CreateSymbolicLink(_office["linked"], _office["data"]);
        File.CreateSymbolicLink(_office["data/link.db"], _office["data/a.db"]);
        using (System.Diagnostics.Process link = System.Diagnostics.Process.Start("ln",
            [_office["data/a.db"], _office["data/second-name.db"]])) link.WaitForExit();
        string[] both = more is null || more.StartsWith("documents", StringComparison.Ordinal) ? [] : [more];
        _office.Companies.Add(new OddCompany("A", new("sqlite", ""), a) { More = both });
        _office.Companies.Add(new OddCompany("B", new("sqlite", ""), b) { More = more is null ? [] : [more] });
        _office.Ready();
        string aside = Path.Combine(_office.Path, "office.yaml");
        foreach (string[] command in (string[][])[["survey"], ["ready"], ["check"], ["backup"], ["upgrade"], ["convert"], ["match"],
            ["sets"], ["close"], ["undo"]])
            _office.Run(command).Expect(2).Says(says, "in line", "office.yaml:");
        Assert.True(File.Exists(aside));
        Assert.Empty(Directory.GetDirectories(_office["data"]));
    }

    [Theory]
    [InlineData("emptied", 0)]
    [InlineData("cut to its first line", 1)]
    [InlineData("cut before the change-over", 8)]
    public void A_journal_that_was_cut_short_is_not_believed(string what, int lines)
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Upgrade().Expect(0);
        IReadOnlyDictionary<string, string> after = _office.Signature("data");
        string journal = Path.Combine(OnlyRun(), "journal.jsonl"), whole = File.ReadAllText(journal);
        File.WriteAllText(journal, string.Concat(File.ReadAllLines(journal).Take(lines).Select(line => line + "\n")));
        foreach (string[] command in (string[][])[["undo", "--yes", "A"], ["upgrade", "--resume"], ["signoff"]]) _office.Run(command);
        _office.Run("undo", "--yes", "A").Expect(2).Says("was cut short", "--give-up");
        Assert.Equal(after, _office.Signature("data"));
        Assert.NotEmpty(what);
        // Put back, it can be gone by.
        File.WriteAllText(journal, whole);
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
    }

    [Theory] // who cuts the head as well is found out by what stands on the disk
    [InlineData("undo")]
    [InlineData("resume")]
    public void A_journal_cut_with_its_head_is_found_out_by_what_stands_on_the_disk(string how)
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Upgrade().Expect(0);
        IReadOnlyDictionary<string, string> after = _office.Signature("data");
        CutBefore("change-over");
        Called called = how == "undo" ? _office.Run("undo", "--yes", "A") : _office.Run("upgrade", "--resume");
        called.Expect(how == "undo" ? 2 : 3).Says("the journal records no change-over, but an original stands aside", "--give-up");
        Assert.Equal(after, _office.Signature("data"));
        // From there, one command goes on, and it is the one that was named; then the company comes back from its set.
        _office.Run("undo", "--give-up", "--yes", "A").Expect(1).Says("the original, set aside",
            "To bring a company back from a backup set: transferra restore A");
        Assert.Equal(after, _office.Signature("data"));
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal("1", DemoFolder.Ask(_office["data/a.db"], "SELECT VAL FROM VER"));
    }

    private void CutBefore(string stage)
    {
        string journal = Path.Combine(OnlyRun(), "journal.jsonl");
        string[] lines = [.. File.ReadAllLines(journal).TakeWhile(line => !line.Contains($"\"stage\":\"{stage}\"",
            StringComparison.Ordinal))];
        File.WriteAllText(journal, string.Concat(lines.Select(line => line + "\n")));
        string digest = Convert.ToHexStringLower(
            System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(lines[^1])));
        File.WriteAllText(Assert.Single(Directory.GetFiles(_office["transferra/heads"], "run-*")),
            $"{{\"lines\":{lines.Length},\"sha256\":\"{digest}\"}}");
    }

    [Fact]
    public void One_altered_old_journal_keeps_nobody_from_the_others()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Add("B", "sqlite", "data/b.db");
        _office.Ready();
        _office.Run("upgrade", "A", "--yes", "A").Expect(0);
        string old = OnlyRun(), journal = Path.Combine(old, "journal.jsonl");
        Thread.Sleep(1100); // the next run has a later name
        _office.Run("convert", "B").Expect(0);
        File.WriteAllText(journal, File.ReadAllText(journal).Replace("\"through\"", "\"throuhg\"", StringComparison.Ordinal));
        _office.Run("match", "B").Expect(0);
        _office.Run("ready", "B");
        _office.Run("upgrade", "B", "--yes", "B").Expect(0);
        _office.Run("signoff").Expect(0);
        _office.Run("undo", "--run", Path.GetFileName(old), "--yes", "A").Expect(2).Says("was altered");
        // When it cannot be put back, the run is given up: its folder goes, and nothing else.
        IReadOnlyDictionary<string, string> data = _office.Signature("data");
        _office.Run("undo", "--run", Path.GetFileName(old), "--give-up", "--yes", Path.GetFileName(old)).Expect(1).Says("Given up");
        Assert.Equal(data, _office.Signature("data"));
        Assert.True(File.Exists(Path.Combine(_office["transferra/given-up"], Path.GetFileName(old), "journal.jsonl")));
    }

    [Fact]
    public void Two_offices_over_one_store_do_not_work_at_the_same_time_nor_take_each_others_folder()
    {
        using var other = new OddOffice();
        OddCompany a = _office.Add("A", "sqlite", "data/a.db", records: 2);
        _office.Ready();
        other.Companies.Add(a with { Yaml = $"{{sqlite: {a.Store.Path}}}" });
        other.Ready();
        // While one works in the folder, the other is refused, whatever it wants to change.
        using (System.Diagnostics.Process holder = System.Diagnostics.Process.Start("flock", ["-o", _office["data"], "sleep", "30"]))
        {
            Thread.Sleep(300);
            foreach (string[] command in (string[][])[["upgrade", "A", "--yes", "A"], ["convert", "A"], ["backup"], ["close"]])
                other.Run(command).Expect(2).Says("another transferra is at work in the folder");
            holder.Kill(entireProcessTree: true);
            holder.WaitForExit();
        }
        _office.Run("convert", "A").Expect(0);
        // A folder of the same name that somebody else made is not taken, and not emptied.
        string work = Assert.Single(Directory.GetDirectories(_office["data"], "transferra-*"));
        string mark = Path.Combine(work, "transferra-run.json"), was = File.ReadAllText(mark);
        File.WriteAllText(mark, Regex.Replace(was, "[0-9a-f]{32}", new string('0', 32)));
        _office.Run("undo").Expect(4).Says("was not made by this run");
        Assert.True(File.Exists(Path.Combine(work, "v2/a.db")));
        File.WriteAllText(mark, was);
        _office.Run("undo").Expect(0);
        Assert.False(Directory.Exists(work));
    }

    [Fact]
    public void A_store_behind_a_link_is_put_back_although_the_link_led_nowhere_when_the_undo_was_interrupted()
    {
        _office.Add("A", "sqlite", "really/a.db");
        Directory.CreateDirectory(_office["data"]);
        File.CreateSymbolicLink(_office["data/a.db"], "../really/a.db");
        _office.Companies[0] = _office.Companies[0] with { Yaml = "{sqlite: data/a.db}" };
        _office.Ready();
        IReadOnlyDictionary<string, string> before = _office.Signature("really");
        using var program = new ServedProgram();
        string[] watched = [_office["data"], _office["really"]], undo = ["undo", "--yes", "A"];
        int ledNowhere = 0;
        for (int at = 1, exit = Served.Killed; exit == Served.Killed && ledNowhere < (Seeds.IsSoak ? 2 : 1); at++)
        {
            Assert.Equal(0, program.Run(DiskFault.None, _office.Path, watched, "upgrade", "A", "--yes", "A").Exit);
            exit = program.Run(new DiskFault("kill", at), _office.Path, watched, undo).Exit;
            if (!File.Exists(_office["really/a.db"])) ledNowhere++;
            if (exit == Served.Killed)
            {
                Served again = program.Run(DiskFault.None, _office.Path, watched, undo);
                Assert.True(again.Exit == 0 || again.All.Contains("there is no run to undo", StringComparison.Ordinal), again.All);
            }
            Assert.Equal(before, _office.Signature("really"));
        }
        Assert.True(ledNowhere > 0, "the undo was never interrupted while the link led nowhere");
    }

    [Fact]
    public void A_restore_is_taken_back_to_the_last_file_when_documents_have_names_that_are_not_text()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Companies[0] = _office.Companies[0] with { More = ["documents: [documents/A]"] };
        _office.Write("documents/A/deep/letter.txt", "letter");
        using (System.Diagnostics.Process odd = System.Diagnostics.Process.Start("sh", ["-c", "printf x > \"$0/$(printf 'caf\\351')\"",
            _office["documents/A/deep"]])) odd.WaitForExit();
        _office.Ready();
        _office.Run("backup", "A").Expect(0);
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        _office.Run("undo", "--yes", "A").Expect(0).Says("Undone: the office is where it was before");
        Assert.Equal(2, Directory.GetFiles(_office["documents/A/deep"]).Length);
        Assert.Empty(Directory.GetDirectories(_office["data"], "transferra-*"));
    }

    [Fact]
    public void A_conversion_that_had_removed_an_earlier_one_before_it_failed_does_not_say_that_nothing_was_done()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        using var program = new ServedProgram();
        string[] watched = [_office["data"]];
        bool wasRemoved = false;
        for (int at = 12; at < 60 && !wasRemoved; at++)
        {
            Assert.Equal(0, program.Run(DiskFault.None, _office.Path, watched, "convert", "A").Exit);
            IReadOnlyDictionary<string, string> before = _office.Signature("data");
            Served failed = program.Run(new DiskFault("fail-for-good", at), _office.Path, watched, "convert", "A");
            if (failed.Exit == 2) Assert.Equal(before, _office.Signature("data"));
            wasRemoved = failed.Exit == 3 && failed.All.Contains("was being removed to make way for a new one", StringComparison.Ordinal);
            program.Run(DiskFault.None, _office.Path, watched, "undo");
        }
        Assert.True(wasRemoved, "it never failed between the two");
    }

    [Fact]
    public void A_trial_of_one_company_leaves_the_trials_of_others_and_what_people_did_in_one_is_kept()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Add("B", "sqlite", "data/b.db");
        _office.Ready();
        _office.Run("convert").Expect(0);
        Thread.Sleep(1100);
        _office.Run("convert", "A").Expect(0);
        _office.Run("match", "A", "B").Expect(0);
        string trial = Path.Combine(Assert.Single(Directory.GetDirectories(_office["data"], "transferra-*-B")), "v2/b.db");
        Execute(trial, "INSERT INTO grp VALUES (9, 'tried')");
        SqliteConnection.ClearAllPools();
        _office.Run("undo").Expect(0); // that of A
        _office.Run("undo").Expect(1).Says("has been used since it was made, and is kept");
        Assert.Equal("tried", DemoFolder.Ask(trial, "SELECT title FROM grp WHERE group_no = 9"));
    }
}
