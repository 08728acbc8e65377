using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Sets on another machine, and sets under a passphrase.</summary>
public sealed class PlacesTests
{
    private static readonly string[] Server = (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_SFTP")
        ?? throw new InvalidOperationException("TRANSFERRA_TEST_SFTP is not set; run ./test.sh")).Split(':', 4);
    private static readonly string HostKey = Environment.GetEnvironmentVariable("TRANSFERRA_TEST_SFTP_HOSTKEY")!, Root =
        Environment.GetEnvironmentVariable("TRANSFERRA_TEST_SFTP_FOLDER")!;

    private static string Place(string folder, string? hostKey = null, string? port = null) =>
        $"{{sftp: {Server[0]}, port: {port ?? Server[1]}, user: {Server[2]}, key-file: {Server[3]}, host-key: \"{hostKey ?? HostKey}\", "
            + $"folder: {Path.Combine(Root, folder)}}}";

    [Fact]
    public void A_set_goes_to_another_machine_is_proved_there_listed_healed_restored_and_tidied()
    {
        using var office = new DemoFolder(small: true);
        string folder = Path.GetFileName(office.Path), there = Path.Combine(Root, folder);
        office.SetBackup($"backup: {{to: [sets, {Place(folder)}]}}");
        JsonElement sets = BuiltProgram.Run(office.Path, "backup", "QIH", "QST", "--json")
            .Expect(0).Json.GetProperty("result")[0].GetProperty("sets");
        Assert.All(sets.EnumerateArray(), set => Assert.True(set.GetProperty("isProved").GetBoolean()));
        string name = Path.GetFileName(Assert.Single(Directory.GetFiles(office["sets"], "QIH*"))), remote = Path.Combine(there, name);
        Assert.Equal(File.ReadAllBytes(office["sets/" + name]), File.ReadAllBytes(remote));
        Assert.All(Directory.GetFileSystemEntries(there).Where(entry => Path.GetFileName(entry) != "transferra-place.json"), entry =>
            Assert.EndsWith(".tar", entry, StringComparison.Ordinal));
        BuiltProgram.Run(office.Path, "sets").Expect(0).Says($"sftp://{Server[2]}@{Server[0]}:{Server[1]}", name);

        // Damaged there, healed from here; damaged here, healed from there.
        byte[] sound = File.ReadAllBytes(remote), torn = [.. sound];
        torn[^5000] ^= 1;
        foreach (string copy in (string[])[remote, office["sets/" + name]])
        {
            File.WriteAllBytes(copy, torn);
            BuiltProgram.Run(office.Path, "sets", "QIH", "--prove").Expect(4).Says("NOT whole");
            BuiltProgram.Run(office.Path, "sets", "QIH", "--heal").Expect(0).Says("Healed from");
            Assert.Equal(sound, File.ReadAllBytes(copy));
        }

        // The machine's own copies are gone: what is there is enough for one table, and for all of it.
        Directory.Delete(office["sets"], recursive: true);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--only", "table:ACCTS", "--to", office["table"]).Expect(0);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--yes", "QIH").Expect(0).Says("transferra undo --run");
        Assert.False(Directory.Exists(office["transferra/scratch"])
            && Directory.GetFileSystemEntries(office["transferra/scratch"]).Length > 0, "what was fetched is gone again");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(4).Says("sets is not there (known since");
        BuiltProgram.Run(office.Path, "sets", "--new-disk", office["sets"]).Expect(0);
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "sets", "QIH", "--tidy", "1", "--yes", "QIH").Expect(0).Says("removed");
        Assert.Single(Directory.GetFiles(there, "QIH*.tar"));
    }

    [Fact]
    public void Another_machine_that_is_not_the_known_one_or_not_there_gets_nothing_and_the_other_places_go_on()
    {
        using var office = new DemoFolder(small: true);
        string folder = Path.GetFileName(office.Path);
        office.SetBackup($"backup: {{to: [{Place(folder, "SHA256:" + new string('A', 43))}, sets, {Place(folder, port: "1")}], wanted: "
            + $"1}}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(1).Says("it is another machine, or has got a new key", "cannot be reached",
            "Proved: " + office["sets/QIH"]);
        Assert.False(Directory.Exists(Path.Combine(Root, folder)));
        BuiltProgram.Run(office.Path, "sets").Expect(0).Says("cannot be reached", "QIH_pellwright");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["out"]).Expect(0)
            .Says("every byte and every record is as backed up");
        // Nor does one that we have nothing to log in with.
        office.SetBackup($"backup: {{to: "
            + $"[{Place(folder).Replace("key-file: " + Server[3], "password-file: nowhere", StringComparison.Ordinal)}, sets], wanted: "
            + $"1}}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(1).Says("NOT proved: sftp://", "the password file",
            "Proved: " + office["sets/QIH"]);
        // Without a key written down, the one to compare is told.
        office.SetBackup($"backup: {{to: [{Place(folder).Replace($", host-key: \"{HostKey}\"", "", StringComparison.Ordinal)}]}}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(4).Says($"shows the key {HostKey}", "host-key in office.yaml");
        office.SetBackup("backup: {to: [{sftp: localhost, folder: /x, host-key: abc, port: 99999, password: p}]}");
        BuiltProgram.Run(office.Path, "sets").Expect(2).Says("\"user\" is missing", "nothing to log in with", "SHA256:", "not a port",
            "a password does not belong in this file");
    }

    [Fact]
    public void Locked_sets_need_the_passphrase_and_never_show_it()
    {
        const string passphrase = "seven green violins wait outside";
        using var office = new DemoFolder(small: true);
        File.WriteAllText(office["passphrase"], passphrase + "\n");
        File.SetUnixFileMode(office["passphrase"], UnixFileMode.UserRead | UnixFileMode.UserWrite);
        office.SetBackup("backup: {to: [sets, elsewhere], locked-with: {file: passphrase}}");
        Called made = BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        Assert.DoesNotContain(passphrase, made.All, StringComparison.Ordinal);
        string set = Assert.Single(Directory.GetFiles(office["sets"], "*.tar*"));
        Assert.EndsWith(".tar.locked", set, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["out"]).Expect(0)
            .Says("every byte and every record is as backed up");
        BuiltProgram.Run(office.Path, "sets", "--prove").Expect(0).Says("2 sets looked at");

        // Another passphrase: nothing is known of the state of the sets by that, so nothing is written down of it.
        File.WriteAllText(office["passphrase"], "eight blue cellos stay at home\n");
        BuiltProgram.Run(office.Path, "sets", "--prove").Expect(4).Says("not the one that the set was locked with");
        Assert.DoesNotContain("not whole", BuiltProgram.Run(office.Path, "sets").Expect(0).All, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["other"]).Expect(2).Says("not the one that the set was locked with");
        Assert.False(Path.Exists(office["other"]));

        // From the environment when office.yaml names none; without it, it is said what is missing.
        office.SetBackup("backup: {to: [sets, elsewhere]}");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["other"]).Expect(2).Says("there is no passphrase for locked sets",
            "TRANSFERRA_PASSPHRASE");
        BuiltProgram.RunWith(new Dictionary<string, string> { ["TRANSFERRA_PASSPHRASE"] = passphrase }, office.Path, "restore", "QIH",
            "--to", office["other"]).Expect(0);
        File.SetUnixFileMode(office["passphrase"], UnixFileMode.UserRead | UnixFileMode.GroupRead);
        office.SetBackup("backup: {to: [sets], locked-with: {file: passphrase}}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(2).Says("can be read by others");
        string[] written = Directory.GetFiles(office.Path, "*", SearchOption.AllDirectories).Where(path => path != office["passphrase"])
            .ToArray();
        Assert.DoesNotContain(written, path => File.ReadAllBytes(path).AsSpan().IndexOf("seven green violins"u8) >= 0);
    }

    [Fact]
    public void On_a_machine_with_nothing_but_this_program_a_set_alone_is_enough()
    {
        using var office = new DemoFolder(small: true);
        using var empty = new TempFolder();
        BuiltProgram.Run(office.Path, "backup", "QIH", "QST").Expect(0);
        foreach (string code in (string[])["QIH", "QST"]) File.Copy(Assert.Single(Directory.GetFiles(office["sets"], code + "*")),
            empty[code + ".tar"]);
        string? ledger = DemoFolder.Ask(office.Store("QIH"), "SELECT count(*) FROM JRNL");
        IReadOnlyDictionary<string, string> documents = TempFolder.Signature(office["data/QIH/documents"]);
        Directory.Delete(office["sets"], recursive: true);
        Directory.Delete(office["kits"], recursive: true);
        BuiltProgram.RunIn(empty.Path, "restore", "--set", "QIH.tar", "--show").Expect(0).Says("Quaverholt", "store/ledger.db", "JRNL");
        BuiltProgram.RunIn(empty.Path, "restore", "--set", "QIH.tar").Expect(2).Says("there is no office.yaml here", "--to DIR");
        BuiltProgram.RunIn(empty.Path, "restore", "--set", "QIH.tar", "--to", "out").Expect(0)
            .Says("every byte and every record is as backed up");
        Assert.Equal(ledger, DemoFolder.Ask(empty["out/store/ledger.db"], "SELECT count(*) FROM JRNL"));
        Assert.Equal(documents, TempFolder.Signature(empty["out/documents/0"]));
        BuiltProgram.RunIn(empty.Path, "restore", "--set", "QST.tar", "--to", "stock").Expect(0)
            .Says("every byte and every record is as backed up");
        // Only what was asked for is there.
        Assert.Equal(["QIH.tar", "QST.tar", "out", "stock"], Directory.GetFileSystemEntries(empty.Path)
            .Select(path => Path.GetFileName(path)!).Order(StringComparer.Ordinal));
        File.WriteAllText(empty["QST.tar"], "this is no set");
        BuiltProgram.RunIn(empty.Path, "restore", "--set", "QST.tar", "--to", "other").Expect(2).Says("is not a backup set");
    }

    [Fact]
    public void The_recovery_sheet_tells_where_sets_are_and_holds_no_secret()
    {
        using var office = new DemoFolder(small: true);
        BuiltProgram.Run(office.Path, "sets", "--recovery-sheet", office["sheet.html"]).Expect(2).Says("no backup sets");
        File.WriteAllText(office["passphrase"], "seven green violins wait outside\n");
        File.SetUnixFileMode(office["passphrase"], UnixFileMode.UserRead | UnixFileMode.UserWrite);
        office.SetBackup("backup: {to: [sets], locked-with: {file: passphrase}}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "sets", "--recovery-sheet", office["sheet.html"]).Expect(0)
            .Says("write the passphrase on it by hand");
        string sheet = File.ReadAllText(office["sheet.html"]);
        Assert.Contains(Path.GetFileName(Assert.Single(Directory.GetFiles(office["sets"], "*.tar*"))), sheet, StringComparison.Ordinal);
        Assert.Contains("transferra lock chunks", sheet, StringComparison.Ordinal);
        Assert.DoesNotContain("violins", sheet, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "sets", "--recovery-sheet", office["sheet.html"]).Expect(2).Says("is there already");
    }

    [Fact]
    public void Ready_tells_by_day_which_place_does_not_answer_and_that_the_passphrase_is_missing()
    {
        using var office = new DemoFolder(small: true);
        office.SetBackup($"backup: {{to: [sets, {Place(Path.GetFileName(office.Path), port: "1")}], locked-with: {{variable: "
            + $"NOWHERE_TO_BE_FOUND}}}}");
        BuiltProgram.Run(office.Path, "ready", "QIH").Says("backup place", "cannot be reached",
            "the environment variable NOWHERE_TO_BE_FOUND holds no passphrase");
        office.SetBackup($"backup: {{to: [sets, {Place(Path.GetFileName(office.Path))}]}}");
        BuiltProgram.Run(office.Path, "ready", "QIH").Says("answers; 0 sets are there", " free, ");
        // A file system that has no room for anybody's files.
        office.SetBackup($"backup: {{to: [sets, {Place("/sys/transferra-sets")}]}}");
        BuiltProgram.Run(office.Path, "ready", "QIH").Expect(2).Says("/sys/transferra-sets answers; 0 sets are there; 0 bytes free, ",
            "Make room there");
    }

    [Fact]
    public void A_document_that_may_not_be_read_and_one_that_is_left_out_are_listed_and_the_place_that_is_full_is_told()
    {
        using var office = new DemoFolder(small: true);
        Directory.CreateDirectory(office["data/QIH/documents/more"]);
        File.WriteAllText(office["data/QIH/documents/more/draft.tmp"], "x");
        office.SetBackup("backup: {to: [sets], without: [\"*.tmp\"]}");
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0).Says("more/draft.tmp: left out, as office.yaml says");
        // The system refuses to read this one, also to root.
        File.Delete(office["data/QIH/documents/more/draft.tmp"]);
        Directory.Delete(office["data/QIH/documents/more"]);
        string text = File.ReadAllText(office["office.yaml"]);
        File.WriteAllText(office["office.yaml"], text.Replace("data/QIH/documents", "data/QIH/documents, /proc/self/mem",
            StringComparison.Ordinal));
        Called unreadable = BuiltProgram.Run(office.Path, "backup", "QIH").Expect(4).Says("NOT proved", "documents/1", "not in it:");
        Assert.DoesNotContain("NOT whole", unreadable.All, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "sets", "QIH", "--prove").Expect(0); // whole it is, though something is not in it
        File.WriteAllText(office["office.yaml"], text);

        // A disk of 64 KB.
        Directory.CreateDirectory(office["tiny"]);
        office.SetBackup("backup: {to: [tiny, sets], wanted: 1}");
        using System.Diagnostics.Process full =
            System.Diagnostics.Process.Start(new System.Diagnostics.ProcessStartInfo("unshare",
            ["-m", "bash", "-c", $"mount -t tmpfs -o size=64k none '{office["tiny"]}' && {BuiltProgram.InShell} backup QIH "
                + $"--office '{office.Path}'; code=$?; ls -A '{office["tiny"]}'; exit $code"])
            { RedirectStandardOutput = true, RedirectStandardError = true })!;
        BuiltProgram.Wait(full).Expect(1).Says("NOT proved: " + office["tiny"], "No space left on device", "Proved: " + office["sets"]);
    }
}
