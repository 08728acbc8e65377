using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Sets over the years: places that come and go, offices that share one, damage, forgery, kits that do not know every
/// table.</summary>
public sealed class SetCareTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string[] Sets(string place = "sets") => Directory.Exists(_office[place]) ? [.. Directory.GetFiles(_office[place], "*.tar")
        .Order(StringComparer.Ordinal)] : [];

    [Theory] // the office has given the store another name since, or goes on elsewhere
    [InlineData("sqlite", "data/a.db", "moved/b.db")]
    [InlineData("dbf", "data/a", "moved/b")]
    public void A_set_is_restored_to_where_the_company_s_store_is_now(string engine, string then, string now)
    {
        OddCompany company = _office.Add("A", engine, then);
        _office.Ready();
        IReadOnlyList<string> rows = OddOffice.Rows(company.Store);
        _office.Run("backup").Expect(0);
        Directory.CreateDirectory(_office["moved"]);
        _office.Companies[0] = new OddCompany("A", new StoreAddress(engine, _office[now]), $"{{{engine}: {now}}}");
        _office.Ready();
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal(rows, OddOffice.Rows(_office.Companies[0].Store));
        Assert.Equal(rows, OddOffice.Rows(company.Store));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.False(Path.Exists(_office[now]));
    }

    [Fact] // A7
    public void A_place_whose_disk_is_not_plugged_in_is_not_made_on_the_disk_below_it()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.More[0] = "backup: {to: [sets, usb/transferra]}";
        _office.Ready();
        _office.Run("backup").Expect(0);
        string name = Path.GetFileName(Assert.Single(Sets("usb/transferra")));
        // Unplugged: only the empty folder that it is mounted on is left.
        Directory.Move(_office["usb"], _office["drawer"]);
        Directory.CreateDirectory(_office["usb"]);
        _office.Run("backup").Expect(4).Says("usb/transferra is not there (known since", "Plug the disk in");
        Assert.False(Directory.Exists(_office["usb/transferra"]));
        _office.Run("ready").Expect(2).Says("usb/transferra is not there");
        Assert.Equal(_office["usb/transferra"] + "/" + name,
            Assert.Single(_office.Run("sets", "--json").Expect(0).Json.GetProperty("result").GetProperty("outOfReach")
            .EnumerateArray()).GetProperty("path").GetString());
        _office.Run("sets").Expect(0).Says("Out of reach");
        // Another disk in its place is not taken for it, until somebody says so; then both take turns.
        Directory.CreateDirectory(_office["usb/transferra"]);
        _office.Run("backup").Expect(4).Says("its mark transferra-place.json is not in it", "sets --new-disk");
        _office.Run("sets", "--new-disk", _office["usb/transferra"]).Expect(0);
        _office.Run("backup").Expect(0);
        Assert.Equal("it is on another disk that takes its turn there", _office.Run("sets", "--json").Expect(0).Json.GetProperty("result")
            .GetProperty("outOfReach")[0]
            .GetProperty("why").GetString());
        Directory.Delete(_office["usb"], recursive: true);
        Directory.Move(_office["drawer"], _office["usb"]);
        _office.Run("backup").Expect(0);
        Assert.Equal(2, Sets("usb/transferra").Length);
    }

    [Fact] // A7: the same mark on another volume
    public void A_place_on_another_volume_than_it_was_is_not_taken_for_it()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.More[0] = "backup: {to: [sets, usb]}";
        Directory.CreateDirectory(_office["usb"]);
        using (new MountedVolume(_office["usb"]))
        {
            _office.Ready();
            _office.Run("backup").Expect(0);
            File.Copy(_office["usb/transferra-place.json"], _office["mark"]);
        }
        File.Copy(_office["mark"], _office["usb/transferra-place.json"]);
        _office.Run("backup").Expect(4).Says("is on another volume than it was");
        Assert.Empty(Sets("usb"));
    }

    // A file system in memory, which the tests' user, root, may mount.
    private sealed class MountedVolume : IDisposable
    {
        private readonly string _at;

        public MountedVolume(string at)
        {
            _at = at;
            Tool("mount", "-t", "tmpfs", "-o", "size=64m", "transferra-test", at);
        }

        private static void Tool(string program, params string[] arguments)
        {
            using System.Diagnostics.Process process = System.Diagnostics.Process.Start(program, arguments);
            process.WaitForExit();
            Assert.Equal(0, process.ExitCode);
        }

        public void Dispose() => Tool("umount", _at);
    }

    [Fact] // A7: a word holds for what it was given for
    public void The_word_for_one_disk_holds_for_the_places_it_was_given_for()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Run("ready").Expect(0);
        _office.More[0] = "backup: {to: [other-sets]}";
        File.WriteAllText(_office["office.yaml"], File.ReadAllText(_office["office.yaml"]).Replace("[sets]", "[other-sets]",
            StringComparison.Ordinal));
        _office.Run("ready").Expect(1).Says("one-disk");
    }

    [Fact] // A5
    public void Two_offices_with_one_company_code_share_a_place_without_taking_each_others_sets()
    {
        using var other = new OddOffice();
        _office.Add("A", "sqlite", "data/a.db", records: 3);
        other.Add("A", "sqlite", "data/a.db", records: 9);
        _office.More[0] = other.More[0] = $"backup: {{to: [{OddOffice.Quoted(_office["shared"])}]}}";
        _office.Ready();
        other.Ready();
        _office.Run("backup").Expect(0);
        Thread.Sleep(1100);
        other.Run("backup").Expect(0);
        Thread.Sleep(1100);
        other.Run("backup").Expect(0);
        // The newest there is the other's; restored is one's own.
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0);
        Assert.Equal("3", DemoFolder.Ask(Assert.Single(Directory.GetFiles(_office["out/store"])), "SELECT COUNT(*) FROM ITEM"));
        _office.Run("sets").Expect(0).Says("(of another office)");
        _office.Run("sets", "--tidy", "1", "--yes", "A").Expect(0).Says("of another office");
        Assert.Equal(3, Sets("shared").Length);
        other.Run("sets", "--tidy", "1", "--yes", "A").Expect(0);
        Assert.Equal(2, Sets("shared").Length);
        // On a new machine nobody knows whose they are, but a person.
        File.Delete(other["transferra/office.json"]);
        other.Run("restore", "A", "--to", other["out"]).Expect(2).Says("that this office made", "--set");
    }

    [Fact] // A5
    public void The_only_set_of_the_old_version_outlives_the_backups_of_the_new_one()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.More[0] = "backup: {to: [sets], keep-each-version: 1 day}";
        _office.Ready();
        _office.Upgrade().Expect(0);
        Thread.Sleep(1100);
        _office.Run("backup").Expect(0);
        _office.Run("sets", "--tidy", "1", "--yes", "A").Expect(0).Says("can still be undone", "There is nothing to remove");
        Assert.Equal(2, Sets().Length);
    }

    [Fact] // A9
    public void A_flipped_bit_in_the_newest_set_stops_no_later_backup_and_the_set_is_healed()
    {
        byte[] noise = new byte[200_000];
        new Random(1).NextBytes(noise);
        Directory.CreateDirectory(_office["docs"]);
        File.WriteAllBytes(_office["docs/scan"], noise);
        File.SetLastWriteTimeUtc(_office["docs/scan"], DateTime.UtcNow.AddDays(-1));
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        _office.More[0] = "backup: {to: [sets, second]}";
        _office.Ready();
        Thread.Sleep(1100); // what was changed just now gets no stamp to be known by
        _office.Run("backup").Expect(0);
        string set = Assert.Single(Sets());
        byte[] bytes = File.ReadAllBytes(set);
        bytes[bytes.Length / 2] ^= 4;
        File.WriteAllBytes(set, bytes);
        Thread.Sleep(1100);
        _office.Run("backup").Expect(0).Says("is damaged (documents/0/scan", "nothing was taken from it; it was healed from its copy");
        _office.Run("sets", "--prove").Expect(0);
        Assert.Equal(3, Directory.GetFiles(_office["sets"], "*.tar*").Length); // with the damaged file, kept
    }

    [Fact] // A9
    public void A_set_forged_in_the_place_of_one_that_was_proved_is_neither_reused_nor_called_whole()
    {
        _office.Write("docs/letter", "letter");
        _office.Companies.Add(_office.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        _office.Companies.RemoveAt(0);
        _office.Ready();
        Thread.Sleep(1100);
        _office.Run("backup").Expect(0);
        string set = Assert.Single(Sets()), was = Path.GetFileName(set);
        // Another office with the same company makes a set of the same size, with stamps that look right.
        using var forger = new OddOffice();
        forger.Write("docs/letter", "LETTER");
        forger.Companies.Add(forger.Add("A", "sqlite", "data/a.db") with { More = ["documents: [docs]"] });
        forger.Companies.RemoveAt(0);
        forger.Ready();
        Thread.Sleep(1100);
        forger.Run("backup").Expect(0);
        File.Copy(Assert.Single(Directory.GetFiles(forger["sets"], "*.tar")), set, overwrite: true);
        _office.Run("sets", "--prove").Expect(4).Says($"NOT whole: {_office["sets"]}/{was}", "another has taken its place");
        JsonElement backup = _office.Run("backup", "--json").Expect(0).Json.GetProperty("result")[0].GetProperty("sets")[0];
        Assert.Equal(0, backup.GetProperty("reused").GetInt32());
    }

    [Theory] // B15
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void A_set_is_proved_and_restored_also_when_the_kit_does_not_know_every_table(string engine)
    {
        using var servers = new TestServers();
        StoreAddress store;
        if (engine == "sqlite")
        {
            store = _office.Add("A", "sqlite", "data/a.db").Store;
            DemoFolder.Execute(store.Path,
                "CREATE TABLE EXTRA (ID INTEGER PRIMARY KEY, WHEN_AT TIMESTAMP, AMOUNT DECIMAL(9,3), RATE REAL)");
            DemoFolder.Execute(store.Path, "INSERT INTO EXTRA VALUES (1, '2024-02-29 12:30:00', 1.125, 0.1), (2, NULL, -7, NULL)");
        }
        else
        {
            store = servers.Database(engine, "books");
            _office.Add("A", store);
            TestServers.Execute(store, engine == "postgresql"
                ? "CREATE TABLE \"EXTRA\" (id INTEGER PRIMARY KEY, when_at TIMESTAMP, amount NUMERIC(9,3), rate DOUBLE PRECISION)"
                : $"CREATE TABLE EXTRA (ID INTEGER NOT NULL PRIMARY KEY, WHEN_AT TIMESTAMP{(engine == "mariadb" ? " NULL" : "")}, AMOUNT "
                    + "NUMERIC(9,3), RATE DOUBLE PRECISION)");
            string extra = engine == "postgresql" ? "\"EXTRA\"" : "EXTRA";
            TestServers.Execute(store, $"INSERT INTO {extra} VALUES (1, '2024-02-29 12:30:00', 1.125, 0.1)");
            TestServers.Execute(store, $"INSERT INTO {extra} VALUES (2, NULL, -7, NULL)");
        }
        _office.Ready();
        Called backup = _office.Run("backup").Expect(0).Says("Proved:", "restored into scratch");
        Assert.DoesNotContain("read back, not restored", backup.All, StringComparison.Ordinal);
        _office.Run("sets", "--prove").Expect(0).Says("Whole:");
        _office.Run("restore", "A", "--to", _office["out"]).Expect(0).Says("EXTRA", "every byte and every record is as backed up");
        string set = Assert.Single(Sets());
        // On an empty machine, without the kit's help.
        using var empty = new TempFolder();
        BuiltProgram.RunIn(empty.Path, "restore", "--set", set, "--to", empty["out"]).Expect(0).Says("EXTRA");
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
        if (store.IsOnServer)
            foreach (string database in new Stores.StoreOpener().ServerOf(store).Names(store.Path)
                .Where(name => name.Contains("transferra-", StringComparison.Ordinal)
                && name.Contains(Path.GetFileName(store.Path), StringComparison.Ordinal))) servers.Known(store with { Path = database });
    }

    [Fact] // A6
    public void A_restore_removes_nothing_that_it_did_not_make_and_takes_a_name_with_a_slash()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Ready();
        _office.Run("backup").Expect(0);
        _office.Write("out.part/precious", "mine");
        _office.Run("restore", "A", "--to", _office["out"] + "/").Expect(0);
        Assert.True(Directory.Exists(_office["out/store"]));
        Assert.Equal("mine", File.ReadAllText(_office["out.part/precious"]));
        _office.Run("restore", "A", "--to", _office["out2"] + "/", "--only", "store").Expect(0);
        Assert.True(Directory.Exists(_office["out2/store"]));
        Assert.Equal(["data", "kit", "out", "out.part", "out2", "sets", "transferra"], Directory.GetDirectories(_office.Path)
            .Select(Path.GetFileName).Order(StringComparer.Ordinal));
    }

    [Fact] // C25
    public void Leftovers_of_a_backup_that_was_killed_go_with_the_undo_and_those_of_a_longer_code_stay()
    {
        _office.Add("A", "sqlite", "data/a.db");
        _office.Add("A_B", "sqlite", "data/b.db");
        _office.Ready();
        _office.Run("backup").Expect(0);
        string id = JsonDocument.Parse(File.ReadAllText(_office["transferra/office.json"])).RootElement.GetProperty("id").GetString()![..8];
        Directory.CreateDirectory(_office[$"sets/A.{id}.packing"]);
        _office.Write($"sets/A_odd_v1_20260101-000000.tar.{id}.part", "half");
        _office.Write("sets/A_odd_v1_20260101-000000.tar.ffffffff.part", "of another office");
        _office.Run("backup", "A_B").Expect(0);
        Assert.False(Directory.Exists(_office[$"sets/A.{id}.packing"]));
        Assert.Single(Directory.GetFiles(_office["sets"], "*.part"));
        Assert.Equal(3, Sets().Length);
    }
}
