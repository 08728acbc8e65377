using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>May we go: each gate, found blocked for its own reason and passed once that is put right; nothing is changed by
/// asking.</summary>
public sealed class ReadyTests : IDisposable
{
    private readonly DemoFolder _office = new(small: true);

    public void Dispose() => _office.Dispose();

    private JsonElement[] Gates(int exitCode, params string[] more) =>
        [.. BuiltProgram.Run(_office.Path, ["ready", "--json", .. more]).Expect(exitCode).Json.GetProperty("result").GetProperty("gates")
            .EnumerateArray()];

    private static JsonElement One(JsonElement[] gates, string name, string company = "") =>
        Assert.Single(gates, gate => gate.GetProperty("name").GetString() == name && (company.Length == 0 || gate.GetProperty("company")
            .GetString() == company));

    private void Blocked(string name, string what, string next)
    {
        JsonElement gate = One([.. Gates(2).Where(gate => gate.GetProperty("state").GetString() == "blocked")], name);
        Assert.Contains(what, gate.GetProperty("what").GetString(), StringComparison.Ordinal);
        Assert.Contains(next, gate.GetProperty("next").GetString(), StringComparison.Ordinal);
        // The upgrade asks the same gates, so that nothing begins.
        BuiltProgram.Run(_office.Path, "upgrade", "--yes", "QIH", "--yes", "QWS", "--yes", "QST").Expect(2).Says(what);
        Assert.False(Directory.Exists(_office["transferra/runs"]));
        Assert.False(Directory.Exists(_office["transferra/closings"]));
    }

    [Fact]
    public void All_gates_are_passed_and_the_time_is_told()
    {
        Called called = BuiltProgram.Run(_office.Path, "ready").Expect(0)
            .Says("Ready: all gates are passed", "by 5 to 6", "all 3 files are there and the vendor's", "version 2.1, at least 2.0 needed",
            "How long the office will be closed");
        Assert.DoesNotContain(called.Out.Split('\n'), line => line.Length > 100);
        JsonElement[] times = [.. BuiltProgram.Run(_office.Path, "ready", "--json").Json.GetProperty("result").GetProperty("times")
            .EnumerateArray()];
        Assert.Equal(["QIH", "QWS", "QST"], times.Select(time => time.GetProperty("company").GetString()));
        Assert.All(times, time => Assert.True(TimeSpan.Parse(time.GetProperty("shortest").GetString()!,
            null) < TimeSpan.Parse(time.GetProperty("longest").GetString()!, null)));
    }

    [Fact]
    public void A_key_is_asked_for_before_it_is_too_late_and_never_shown()
    {
        string file = _office["keys/ledger-licence"], key = File.ReadAllText(file).Trim();
        Called called = BuiltProgram.Run(_office.Path, "ready").Expect(0).Says("valid until 2035-12-31, maintenance until 2035-03-31");
        foreach (string part in key.Split('-')[..^1]) Assert.DoesNotContain(part, called.All, StringComparison.Ordinal);
        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.OtherRead);
        Blocked("key licence", "can be read by others; it is asked for at the first start of version 6", "chmod 600");
        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.WriteAllText(file, "PWL5-QH7A-0042-HIRE-20351231");
        Blocked("key licence", "is not what a licence for version 6 looks like", "mistyped");
        File.WriteAllText(file, "PWL6-QH7A-0042-HIRE-20240131");
        Blocked("key licence", "was valid until 2024-01-31", "renewed");
        File.WriteAllText(file, key);
        _office.Edit("office.yaml", "maintenance-until: 2035-03-31", "maintenance-until: 2025-03-31");
        Blocked("key licence", "the maintenance contract ended 2025-03-31", "renewed");
        _office.Edit("office.yaml", "licence: {file: keys/ledger-licence, maintenance-until: 2025-03-31}",
            "licence: {file: keys/ledger-licence}");
        Blocked("key licence", "does not say until when it runs", "maintenance-until");
        _office.Edit("office.yaml", "licence: {file: keys/ledger-licence}",
            "licence: {variable: TR_NO_SUCH_KEY, maintenance-until: 2035-01-01}");
        Blocked("key licence", "TR_NO_SUCH_KEY holds no key", "Set it");
        _office.Edit("office.yaml", "    keys:\n      licence: {variable: TR_NO_SUCH_KEY, maintenance-until: 2035-01-01}\n", "");
        Blocked("key licence", "does not say where it is", "order it now");
        _office.Edit("office.yaml", "    installer: installers/ledger-6\n",
            "    installer: installers/ledger-6\n    keys: {licence: {key: PWL6-QH7A-0042-HIRE-20351231, file: x}}\n");
        BuiltProgram.Run(_office.Path, "ready").Expect(2).Says("office.yaml:", "a key does not belong in this file");
    }

    [Fact]
    public void The_installer_must_be_complete_and_the_vendors()
    {
        File.AppendAllText(_office["installers/ledger-6/install.sh"], "# one line more\n");
        File.Delete(_office["installers/ledger-6/about.json"]);
        Blocked("installer", "about.json is missing, install.sh is not the vendor's", "Fetch the installer again");
        _office.Edit("office.yaml", "    installer: installers/ledger-6\n", "");
        Blocked("installer", "does not say where the installer of version 6 lies", "installer: ...");
    }

    [Fact]
    public void A_component_that_the_installer_does_not_update_must_be_new_enough_before()
    {
        _office.Edit("programs/ledger/bridge.properties", "2.1", "1.10");
        Blocked("component Mail bridge", "version 1.10, at least 2.0 needed, and the installer does not update it", "Update it first");
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", "comes-with-installer: no", "comes-with-installer: yes");
        Assert.Contains("the installer brings it", One(Gates(0), "component Mail bridge").GetProperty("what").GetString(),
            StringComparison.Ordinal);
        File.Delete(_office["programs/ledger/bridge.properties"]);
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", "comes-with-installer: yes", "comes-with-installer: no");
        Blocked("component Mail bridge", "its version is not told", "Update it first");
    }

    [Fact]
    public void Engine_and_operating_system_must_be_new_enough()
    {
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", "sqlite: \"3.35\"", "sqlite: \"4.1\"");
        JsonElement gate = One(Gates(2), "database engine", "QIH");
        Assert.Contains("at least 4.1 needed", gate.GetProperty("what").GetString(), StringComparison.Ordinal);
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", "sqlite: \"4.1\"", "sqlite: \"3.4\"");
        Dictionary<string, string> system = File.ReadLines("/etc/os-release").Select(line => line.Split('=', 2))
            .Where(pair => pair.Length == 2)
            .ToDictionary(pair => pair[0], pair => pair[1].Trim('"'));
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", "  confirm:\n",
            $"  system: {{{system["ID"]}: \"{system.GetValueOrDefault("VERSION_ID", "1")}\"}}\n  confirm:\n");
        Assert.Equal("passed", One(Gates(0), "operating system").GetProperty("state").GetString());
        _office.Edit("kits/pellwright-ledger/versions/6.yaml", $"  system: {{{system["ID"]}: ", "  system: {somethingelse: ");
        Blocked("operating system", "needed is somethingelse", "Ask the vendor");
    }

    [Fact]
    public void What_only_people_know_is_asked_once_recorded_with_who_and_when_and_asked_anew_when_the_question_changes()
    {
        File.Delete(_office["transferra/words.jsonl"]);
        JsonElement[] open = [.. Gates(1).Where(gate => gate.GetProperty("state").GetString() == "needs-word")];
        Assert.Equal(["office/one-disk", "pellwright-ledger/notes-5-to-6", "pellwright-ledger/users-told", "pellwright-ledger/vendors-told",
            "pellwright-stockroom/laptops-in"], open.Select(gate => gate.GetProperty("confirm").GetString()).Order(StringComparer.Ordinal));
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(2)
            .Says("users-told", "Have the users been told", "transferra ready --confirm pellwright-ledger/users-told");
        BuiltProgram.Run(_office.Path, "ready", "--confirm", "users-told", "--confirm", "no-such").Expect(2)
            .Says("nothing named no-such waits for your word", "pellwright-ledger/users-told");
        Assert.False(File.Exists(_office["transferra/words.jsonl"])); // nothing of a call that is wrong is written down
        BuiltProgram.Run(_office.Path, "ready", "--confirm", "users-told", "--confirm", "pellwright-ledger/vendors-told", "--confirm",
            "laptops-in",
            "--confirm", "one-disk", "--by", "A. Clerk").Expect(1).Says("your word is needed 1 time");
        BuiltProgram.Run(_office.Path, "ready", "--confirm", "notes-5-to-6").Expect(0)
            .Says("Have the users been told when the books are closed? Confirmed by A. Clerk,");
        // Said once more beside one that is open, it holds already and the call goes through.
        BuiltProgram.Run(_office.Path, "ready", "--confirm", "notes-5-to-6", "--confirm", "pellwright-ledger/users-told").Expect(0)
            .Says("Confirmed by A. Clerk,");
        _office.Edit("kits/pellwright-ledger/hops/5-to-6.yaml", "The fax flag of customers is gone.",
            "The fax flag of customers is gone, and so is the telex.");
        JsonElement again = Assert.Single(Gates(1), gate => gate.GetProperty("state").GetString() == "needs-word");
        Assert.Contains("telex", again.GetProperty("what").GetString(), StringComparison.Ordinal);
        // A word put in by hand breaks the chain and counts for nothing.
        File.WriteAllText(_office["transferra/words.jsonl"], File.ReadAllText(_office["transferra/words.jsonl"]).Replace("A. Clerk",
            "B. Clerk", StringComparison.Ordinal));
        BuiltProgram.Run(_office.Path, "ready").Expect(2).Says("was altered at line");
    }

    [Fact]
    public void A_place_on_another_disk_needs_nobodys_word()
    {
        File.Delete(_office["transferra/words.jsonl"]);
        string elsewhere = Path.Combine("/dev/shm", "transferra-test-" + Guid.NewGuid().ToString("N"));
        _office.Edit("office.yaml", "  to: [sets]", $"  to: [sets, {elsewhere}]");
        Assert.Equal("passed", One(Gates(1), "backup places").GetProperty("state").GetString());
        _office.Edit("office.yaml", elsewhere, "more-sets");
        Assert.Equal("needs-word", One(Gates(1), "backup places").GetProperty("state").GetString());
    }

    [Fact]
    public void It_asks_in_a_terminal_and_only_there()
    {
        File.Delete(_office["transferra/words.jsonl"]);
        BuiltProgram.Run(_office.Path, "ready", "--ask").Expect(2).Says("nobody is there to be asked");
        BuiltProgram.RunTyping("yes\nyes", _office.Path, "ready", "QST", "--ask").Expect(0).Says("Is it so?", "Confirmed by");
    }

    [Theory]
    [InlineData("versions: [\"5\", \"6\"]", "versions: [\"5\", \"6\", \"7\"]", "hops: [5-to-6]", "wanted-version: \"7\"",
        "the kit knows no way from version 5 to 7; it is too old: a way leads from 6", "Bring it to version 6")]
    [InlineData("versions: [\"5\", \"6\"]", "versions: [\"4\", \"5\", \"6\"]", "hops: [5-to-6]", "wanted-version: \"4\"",
        "the data is version 5, which is newer than the wanted 4", "restore the version before")]
    public void A_version_that_no_way_leads_from_is_told_to_be_too_old_or_too_new(string versions, string more, string hops,
        string wanted, string what, string next)
    {
        string extra = wanted.Split('"')[1];
        File.WriteAllText(_office[$"kits/pellwright-ledger/versions/{extra}.yaml"],
            $"version: \"{extra}\"\nprograms: [\"{extra}.\"]\ntold-by:\n  - {{header: user_version, is: \"{extra}0\"}}\ntables:\n  "
                + $"t:\n    columns: {{a: INTEGER NOT NULL}}\n    key: [a]\n");
        if (extra == "7") File.WriteAllText(_office["kits/pellwright-ledger/hops/6-to-7.yaml"], Dropping("6", "7"));
        _office.Edit("kits/pellwright-ledger/kit.yaml", versions, more);
        if (extra == "7")
        {
            _office.Edit("kits/pellwright-ledger/kit.yaml", hops, "hops: [6-to-7]");
            _office.Edit("office.yaml", "        answers: {tax_scheme: standard}\n", ""); // nobody asks for it any more
        }
        _office.Edit("office.yaml", "wanted-version: \"6\"", wanted);
        JsonElement gate = One(Gates(2), "way", "QIH");
        Assert.Contains(what, gate.GetProperty("what").GetString(), StringComparison.Ordinal);
        Assert.Contains(next, gate.GetProperty("next").GetString(), StringComparison.Ordinal);
    }

    // A hop that leaves every table of the old version out.
    private string Dropping(string from, string to)
    {
        string[] lines = File.ReadAllLines(_office[$"kits/pellwright-ledger/versions/{from}.yaml"]);
        int start = Array.IndexOf(lines, "tables:");
        IEnumerable<string> tables = lines.Skip(start + 1).TakeWhile(line => line.StartsWith(' '))
            .Where(line => line.StartsWith("  ", StringComparison.Ordinal) && line[2] != ' ').Select(line => line.Trim(' ', ':'));
        return $"hop: {{from: \"{from}\", to: \"{to}\"}}\ntables: []\ntables-left-out:\n"
            + string.Concat(tables.Select(table => $"  {table}: a trial\n"));
    }

    [Fact]
    public void Room_is_added_up_by_volume_over_all_companies()
    {
        JsonElement gate = One(Gates(0), "room");
        string what = gate.GetProperty("what").GetString()!;
        foreach (string part in (string[])["QIH backup set and its proof", "QIH converted copy", "QWS backup set and its proof",
            "QST converted copy"])
            Assert.Contains(part, what, StringComparison.Ordinal);
    }

    [Fact]
    public void The_time_an_earlier_run_took_is_what_the_next_one_is_expected_to_take()
    {
        BuiltProgram.Run(_office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0);
        string run = Path.GetFileName(Directory.GetDirectories(_office["transferra/runs"]).Single());
        BuiltProgram.Run(_office.Path, "undo", "--yes", "QIH").Expect(0);
        BuiltProgram.Run(_office.Path, "ready", "QIH").Expect(0).Says($"the run {run} took");
        BuiltProgram.Run(_office.Path, "ready", "QST").Expect(0).Says("read 2", "records at");
    }

    [Fact]
    public void Asking_changes_nothing()
    {
        IReadOnlyDictionary<string, string> before = _office.DataSignature();
        IReadOnlyDictionary<string, UnixFileMode> modes = _office.Modes();
        Gates(0);
        Assert.Equal(before, _office.DataSignature());
        Assert.Equal(modes, _office.Modes());
    }
}
