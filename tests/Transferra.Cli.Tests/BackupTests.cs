using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Backup sets in more than one place.</summary>
public sealed class BackupTests
{
    // What stands in a place, beside the mark by which it is known again.
    private static string[] Entries(string place) =>
        [.. Directory.GetFileSystemEntries(place).Where(entry => Path.GetFileName(entry) != "transferra-place.json")];

    [Fact]
    public void A_place_that_fails_does_not_stop_the_others_but_the_wanted_number_must_be_proved()
    {
        using var office = new DemoFolder(small: true);
        File.WriteAllText(office["in-the-way"], "a file where a folder should be");
        office.SetBackup("backup: {to: [in-the-way, sets, elsewhere/sets]}");
        JsonElement sets = BuiltProgram.Run(office.Path, "backup", "QIH", "--json")
            .Expect(4).Json.GetProperty("result")[0].GetProperty("sets");
        Assert.Equal([false, true, true], sets.EnumerateArray().Select(set => set.GetProperty("isProved").GetBoolean()));
        Assert.Equal("place", sets[0].GetProperty("faults")[0].GetProperty("code").GetString());
        // The same set in both places, byte for byte, and nothing left of the packing.
        string[] written = [Assert.Single(Entries(office["sets"])), Assert.Single(Entries(office["elsewhere/sets"]))];
        Assert.Equal(File.ReadAllBytes(written[0]), File.ReadAllBytes(written[1]));
        office.SetBackup("backup: {to: [in-the-way, sets, elsewhere/sets], wanted: 2}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(1).Says("NOT proved", "in-the-way");
        office.SetBackup("backup: {to: [sets], wanted: 3}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(2).Says("\"3\" should be a number of sets, 1 to 1");
    }

    [Fact]
    public void Sets_are_proved_again_oldest_proof_first_healed_from_another_place_and_tidied()
    {
        using var office = new DemoFolder(small: true);
        office.SetBackup("backup: {to: [sets, elsewhere]}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "backup", "QIH", "QST").Expect(0);
        string[] names = [.. Directory.GetFiles(office["sets"], "QIH*").Select(path => Path.GetFileName(path)!)
            .Order(StringComparer.Ordinal)];
        byte[] sound = File.ReadAllBytes(office["sets/" + names[0]]), torn = [.. sound];
        torn[torn.Length / 2] ^= 1;
        File.WriteAllBytes(office["sets/" + names[0]], torn);
        BuiltProgram.Run(office.Path, "sets", "QIH", "--prove", "--minutes", "0").Expect(0).Says("4 sets not looked at");
        JsonElement proofs = BuiltProgram.Run(office.Path, "sets", "QIH", "--prove", "--json").Expect(4).Json.GetProperty("result")
            .GetProperty("proofs");
        // The oldest proof is that of the first backup.
        Assert.Equal([names[0], names[0], names[1], names[1]], proofs.EnumerateArray()
            .Select(proof => Path.GetFileName(proof.GetProperty("path").GetString())));
        Assert.Equal(3, proofs.EnumerateArray().Count(proof => proof.GetProperty("isGood").GetBoolean()));
        BuiltProgram.Run(office.Path, "sets").Says("not whole");
        BuiltProgram.Run(office.Path, "sets", "QIH", "--heal").Expect(0).Says("Healed from", "the damaged file is kept as");
        BuiltProgram.Run(office.Path, "sets", "QIH", "--prove").Expect(0).Says("4 sets looked at");
        Assert.Equal(sound.Length, new FileInfo(office["sets/" + names[0]]).Length);
        BuiltProgram.Run(office.Path, "sets", "--tidy", "0").Expect(2);
        BuiltProgram.Run(office.Path, "sets", "--tidy", "1").Expect(2).Says("removed", "has to be confirmed", "--yes QIH");
        BuiltProgram.Run(office.Path, "sets", "--tidy", "1", "--yes", "QIH").Expect(0).Says("2 sets removed");
        Assert.Equal([names[1]], Directory.GetFiles(office["sets"], "QIH*.tar").Select(path => Path.GetFileName(path)!));
        Assert.Single(Directory.GetFiles(office["elsewhere"], "QST*"));
        BuiltProgram.Run(office.Path, "sets", "--tidy", "1").Expect(0).Says("nothing to remove");
    }

    /// <summary>By day, with somebody at work in write-ahead mode: the set is of one moment, with what was not yet written into the file
    /// itself.</summary>
    [Fact]
    public void A_store_in_use_is_backed_up_as_of_one_moment()
    {
        using var office = new DemoFolder(small: true);
        using var atWork = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={office.Store("QIH")};Pooling=false");
        atWork.Open();
        using Microsoft.Data.Sqlite.SqliteCommand command = atWork.CreateCommand();
        command.CommandText = "PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 0; INSERT INTO ACCTS (AID, ACODE, ANAME, ATYPE) "
            + "VALUES (99999, '9999', 'of today', 'A')";
        command.ExecuteNonQuery();
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0).Says("is in use; the set is of one moment of it", "Proved");
        Assert.False(Directory.Exists(office["transferra/scratch"])
            && Directory.GetFileSystemEntries(office["transferra/scratch"]).Length > 0);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["out"]).Expect(0);
        Assert.Equal("of today", DemoFolder.Ask(office["out/store/" + Path.GetFileName(office.Store("QIH"))],
            "SELECT ANAME FROM ACCTS WHERE AID = 99999"));
        command.CommandText = "SELECT count(*) FROM ACCTS WHERE AID = 99999";
        Assert.Equal(1L, command.ExecuteScalar());
    }

    [Fact]
    public void A_set_has_kit_and_settings_and_gives_out_one_document_or_one_table()
    {
        using var office = new DemoFolder(small: true);
        BuiltProgram.Run(office.Path, "backup", "QIH", "QST").Expect(0);
        string[] members = [.. BuiltProgram.Run(office.Path, "restore", "QIH", "--show", "--json").Expect(0).Json.GetProperty("result")
            .GetProperty("members")
            .EnumerateArray().Where(member => member.GetProperty("kind").GetString() == "file")
                .Select(member => member.GetProperty("name").GetString()!)];
        Assert.Contains("kit/versions/5.yaml", members);
        Assert.Contains("settings/ledger.ini", members);
        string document = members.First(member => member.StartsWith("documents/0/", StringComparison.Ordinal));
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", document, "--to", office["one"]).Expect(0).Says("1 file, as backed up");
        Assert.Equal(File.ReadAllBytes(office["data/QIH/documents/" + document["documents/0/".Length..]]),
            File.ReadAllBytes(office["one/" + document]));
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", "table:ACCTS", "--to", office["table"]).Expect(0);
        string[] lines = File.ReadAllLines(office["table/ACCTS.csv"]);
        Assert.Equal(DemoFolder.Ask(office.Store("QIH"), "SELECT count(*) + 1 FROM ACCTS"),
            lines.Length.ToString(System.Globalization.CultureInfo.InvariantCulture));
        Assert.Equal("AID,ACODE,ANAME,ATYPE", lines[0].TrimStart('\uFEFF'));
        BuiltProgram.Run(office.Path, "restore", "QST", "--only", "table:PARTS", "--to", office["parts"]).Expect(0);
        Assert.True(File.ReadAllLines(office["parts/PARTS.csv"]).Length > 1);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", "table:NOWHERE", "--to", office["none"]).Expect(2)
            .Says("no table NOWHERE", "ACCTS");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", "nonsense", "--to", office["none"]).Expect(2)
            .Says("nothing in the set begins with nonsense");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", "store").Expect(2).Says("--to DIR");
        Assert.False(Path.Exists(office["none"]) || Path.Exists(office["none.part"]));
    }

    [Fact]
    public void Killed_at_any_operation_no_file_looks_like_a_set_and_is_none_and_the_next_backup_cleans_up()
    {
        bool soak = Seeds.IsSoak;
        using DemoFolder office = DemoFolder.OfOne();
        office.SetBackup("backup: {to: [sets, elsewhere]}");
        int killed = 0;
        for (int n = 1; ; n += soak ? 1 : 7)
        {
            Called called = BuiltProgram.RunUntil(n, office.Path, "backup", "QIH");
            if (called.ExitCode == 0) break;
            Assert.Equal(137, called.ExitCode);
            killed++;
            foreach (string set in ((string[])["sets", "elsewhere"]).Where(place => Directory.Exists(office[place]))
                .SelectMany(place => Directory.GetFiles(office[place], "*.tar")))
                Assert.Empty(Transferra.Core.Backup.BackupSets.Verify(set));
        }
        Assert.InRange(killed, 3, 100);
        foreach (string place in (string[])["sets", "elsewhere"])
            Assert.All(Entries(office[place]), entry => Assert.EndsWith(".tar", entry, StringComparison.Ordinal));
        BuiltProgram.Run(office.Path, "sets", "--prove").Expect(0);
    }
}
