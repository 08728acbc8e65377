using System.Diagnostics;
using System.Formats.Tar;
using System.Security.Cryptography;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A kit may run programs and scripts: it is packed, signed, looked into, and runs nothing before somebody's word.</summary>
public sealed class KitTrustTests : IDisposable
{
    private const string Runs = """
        hop: {from: "1", to: "2"}
        means: {program: {command: [sh, "{kit}/convert.sh", "{store}"]}}

        """;

    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    // Without what OddOffice does for others: nobody's word is given for the kit.
    private Called Run(params string[] arguments) => BuiltProgram.Run(_office.Path, arguments);

    private void Office(string? programVersion = null)
    {
        _office.WriteKit(hop: Runs);
        _office.Write("kit/convert.sh", $"touch {_office["it-ran"]}\nexit 1\n");
        if (programVersion is not null) File.AppendAllText(_office["kit/kit.yaml"], programVersion);
        _office.Add("A", "sqlite", "data/a.db");
        _office.WriteOffice();
        Run("ready", "--confirm", "one-disk");
    }

    private string Key(string name)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        string path = _office.Write(name, key.ExportECPrivateKeyPem() + "\n");
        File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        return path;
    }

    [Fact]
    public void Nothing_of_a_kit_is_run_before_the_word_and_an_altered_one_is_asked_for_anew()
    {
        Office();
        string[] upgrade = ["upgrade", "--yes", "A"];
        foreach (string[] command in (string[][])[upgrade, ["rehearse"], ["convert"]])
            Run(command).Expect(2).Says("ready --confirm odd/kit");
        Assert.False(File.Exists(_office["it-ran"]));
        Run("ready").Expect(1).Says("(1) for 1 to 2 the program sh {kit}/convert.sh {store}", "nobody signed it");
        Run("ready", "--confirm", "odd/kit").Expect(0);
        // What is no file is waited for never.
        TempFolder.Shell(_office["kit"], "mkfifo pipe");
        Run("ready").Says("odd/kit");
        File.Delete(_office["kit/pipe"]);
        Run("ready").SaysNot("odd/kit");
        Run(upgrade);
        Assert.True(File.Exists(_office["it-ran"]));
        Run("undo");
        File.Delete(_office["it-ran"]);
        // What runs nothing may change; what it runs may not, be it a file of the kit.
        File.AppendAllText(_office["kit/kit.yaml"], "# a remark\n");
        Run("ready").SaysNot("odd/kit");
        _office.Write("kit/convert.sh", $"touch {_office["it-ran"]}\necho otherwise\nexit 1\n");
        Run(upgrade).Expect(2).Says("ready --confirm odd/kit");
        _office.Write("kit/convert.sh", $"touch {_office["it-ran"]}\nexit 1\n");
        Run("ready").SaysNot("odd/kit");
        // What a program is told is a part of it, and so is a description that it is given to run.
        _office.WriteKit(hop: Runs.Replace("\"{store}\"]", "\"{store}\"], answers: [{asked: sure, say: \"yes\"}]",
            StringComparison.Ordinal));
        Run("rehearse").Expect(2).Says("was altered");
        _office.WriteKit(hop: Runs.Replace("convert.sh", "versions/1.yaml", StringComparison.Ordinal));
        Run("ready", "--confirm", "odd/kit");
        Run("ready").SaysNot("odd/kit");
        File.AppendAllText(_office["kit/versions/1.yaml"], "# touch x\n");
        Run("rehearse").Expect(2).Says("was altered");
        _office.WriteKit(hop: Runs.Replace("sh, ", "bash, ", StringComparison.Ordinal));
        Run("rehearse").Expect(2).Says("was altered");
        Assert.False(File.Exists(_office["it-ran"]));
    }

    [Fact]
    public void What_tells_a_version_by_a_command_is_not_run_either()
    {
        _office.Write("program/version.sh", $"touch {_office["it-ran"]}\necho version 1.7\n");
        Office("program-version: [{command: [sh, version.sh], pattern: 'version (?<version>[0-9.]+)'}]\n");
        string yaml = File.ReadAllText(_office["office.yaml"]);
        _office.Write("office.yaml", yaml.Replace("    wanted-version", $"    program: {_office["program"]}\n    wanted-version",
            StringComparison.Ordinal));
        Run("survey").Says("not run: nobody has given a word for what the kit odd runs");
        Run("ready").Says("the command sh version.sh");
        Assert.False(File.Exists(_office["it-ran"]));
    }

    [Fact]
    public void A_run_that_stopped_does_not_go_on_with_another_script()
    {
        Office();
        _office.Write("kit/convert.sh", $"touch {_office["begun"]}\nsleep 60\n");
        using (Process process = BuiltProgram.Started(_office.Path, "upgrade", "--yes", "A"))
        {
            process.BeginErrorReadLine();
            process.BeginOutputReadLine();
            var clock = Stopwatch.StartNew();
            while (!File.Exists(_office["begun"]) && clock.Elapsed.TotalSeconds < 60) Thread.Sleep(50);
            process.Kill();
            process.WaitForExit();
        }
        _office.Write("kit/convert.sh", $"touch {_office["it-ran"]}\nexit 1\n");
        Run("upgrade", "--resume").Expect(2).Says("nobody has given a word for what the kit odd runs", "ready --confirm odd/kit");
        Assert.False(File.Exists(_office["it-ran"]));
        // A script that the vendor has corrected is looked at, and the run goes on with it.
        Run("ready", "--confirm", "odd/kit");
        Run("upgrade", "--resume");
        Assert.True(File.Exists(_office["it-ran"]));
    }

    [Fact]
    public void A_packed_kit_is_the_same_byte_for_byte_and_its_maker_is_seen_to_by_other_tools()
    {
        _office.WriteKit(hop: Runs);
        _office.Write("kit/convert.sh", "exit 1\n");
        string key = Key("maker.key");
        string maker = Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"], "--key", key, "--json").Expect(0).Json
            .GetProperty("result").GetProperty("maker").GetString()!;
        Run("kit", "show", _office["odd.kit"]).Expect(0).Says("for 1 to 2: the program sh {kit}/convert.sh {store}",
            $"as {maker} signed it");
        Run("kit", "add", _office["odd.kit"], "--into", _office["taken"], "--maker", maker).Expect(0).Says("Taken in");
        foreach (string name in (string[])["kit.yaml", "convert.sh", "versions/1.yaml"])
            Assert.Equal(File.ReadAllBytes(_office["kit/" + name]), File.ReadAllBytes(_office["taken/" + name]));
        Directory.CreateDirectory(_office["by-hand"]);
        TempFolder.Shell(_office["by-hand"], $"tar -xf '{_office["odd.kit"]}' && sha256sum -c --quiet kit.sha256 && openssl dgst -sha256 "
            + "-verify maker.pem -signature "
            + "kit.sig kit.sha256 && test \"SHA256:$(openssl pkey -pubin -in maker.pem -outform der | openssl dgst -sha256 -binary "
            + $"| base64 | tr -d =)\" = '{maker}'");
        // What is packed again from there is the same but for its signature; without a key, the same to the last byte.
        Run("kit", "pack", _office["taken"], "--to", _office["again.kit"]).Expect(0).Says("Nobody signed it");
        BuiltProgram.RunAlone(_office.Path, "kit", "pack", _office["kit"], "--to", _office["plain.kit"]).Expect(0); // by another process
        Assert.Equal(File.ReadAllBytes(_office["plain.kit"]), File.ReadAllBytes(_office["again.kit"]));
    }

    [Fact]
    public void What_replaces_a_kit_says_what_is_different_and_whether_its_maker_is()
    {
        _office.Write("kit/notes.txt", "one");
        Run("kit", "pack", _office["kit"], "--to", _office["one.kit"], "--key", Key("a.key")).Expect(0);
        _office.Write("kit/notes.txt", "two");
        Run("kit", "pack", _office["kit"], "--to", _office["two.kit"], "--key", Key("b.key")).Expect(0);
        Run("kit", "add", _office["one.kit"]).Expect(0).Says("It runs no program and no script.");
        Run("kit", "add", _office["two.kit"]).Expect(2).Says("is there already", "--replace");
        Run("kit", "add", _office["two.kit"], "--replace").Expect(1).Says("The one before was signed with SHA256:",
            "different: notes.txt");
        Assert.Equal("two", File.ReadAllText(_office["kits/odd/notes.txt"]));
        Assert.Equal("one", File.ReadAllText(Directory.GetFiles(_office["transferra/kits"], "notes.txt", SearchOption.AllDirectories)
            .Single()));
        File.AppendAllText(_office["kits/odd/kit.yaml"], "# x\n");
        Run("kit", "show", _office["kits/odd"]).Says("NOT as it was packed: kit.yaml is altered");
    }

    [Theory]
    [InlineData("altered", "is altered")]
    [InlineData("added", "was added")]
    [InlineData("missing", "is missing")]
    [InlineData("other-key", "its signature is not of this list and this key")]
    [InlineData("outside", "does not lie in it")]
    [InlineData("link", "neither a file nor a folder")]
    [InlineData("twice", "exists")]
    [InlineData("cut", "is not a packed kit, or is damaged")]
    [InlineData("no-list", "kit.sha256 is not in it")]
    public void A_packed_kit_that_was_tampered_with_is_refused_and_leaves_nothing(string how, string words)
    {
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"], "--key", Key("a.key")).Expect(0);
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        string file = _office["bad.kit"];
        using (FileStream target = File.Create(file))
        using (FileStream source = File.OpenRead(_office["odd.kit"]))
        using (var reader = new TarReader(source))
        using (var writer = new TarWriter(target))
            while (reader.GetNextEntry(copyData: true) is { } entry)
            {
                bool isKit = entry.Name == "kit.yaml";
                if ((how == "missing" && isKit) || (how == "no-list" && entry.Name == "kit.sha256")) continue;
                if (how == "altered" && isKit) entry = With(entry.Name, "kit: odd\n# altered\n");
                if (how == "other-key" && entry.Name == "maker.pem") entry = With(entry.Name, other.ExportSubjectPublicKeyInfoPem());
                writer.WriteEntry(entry);
                if (!isKit) continue;
                if (how == "added") writer.WriteEntry(With("more.sh", "exit 1"));
                if (how == "outside") writer.WriteEntry(With("../outside.sh", "exit 1"));
                if (how == "twice") writer.WriteEntry(With("kit.yaml", "kit: odd\n"));
                if (how == "link") writer.WriteEntry(new PaxTarEntry(TarEntryType.SymbolicLink, "link") { LinkName = "/etc/passwd" });
            }
        if (how == "cut") File.WriteAllBytes(file, File.ReadAllBytes(file)[..1300]);
        Run("kit", "add", file).Expect(2).Says(words);
        Run("kit", "show", file).Expect(2);
        Assert.False(Directory.Exists(_office["kits"]));
        Assert.False(File.Exists(_office["outside.sh"]));

        static PaxTarEntry With(string name, string text) => new(TarEntryType.RegularFile, name)
        {
            DataStream = new MemoryStream(System.Text.Encoding.UTF8.GetBytes(text))
        };
    }

    [Fact]
    public void What_cannot_be_packed_or_taken_is_refused()
    {
        string key = Key("a.key");
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"], "--key", _office["nowhere"]).Expect(2).Says("there is no key");
        File.SetUnixFileMode(key, UnixFileMode.UserRead | UnixFileMode.OtherRead);
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"], "--key", key).Expect(2).Says("others may read the key");
        File.SetUnixFileMode(_office.Write("no.key", "no key"), UnixFileMode.UserRead);
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"], "--key", _office["no.key"]).Expect(2).Says("not a private key");
        Run("kit", "pack", _office["kit"], "--to", _office["kit/odd.kit"]).Expect(2).Says("lies in the kit itself");
        File.CreateSymbolicLink(_office["kit/link"], "/etc/passwd");
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"]).Expect(2).Says("is a link");
        File.Delete(_office["kit/link"]);
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"]).Expect(0);
        Run("kit", "pack", _office["kit"], "--to", _office["odd.kit"]).Expect(2).Says("is there already");
        Run("kit", "add", _office["odd.kit"], "--maker", "SHA256:abc").Expect(2).Says("signed with no key, and not with SHA256:abc");
        Assert.Equal([], Directory.GetFiles(_office.Path, "*.part"));
    }
}
