using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What have we got: a true picture of an office that nobody has seen before.</summary>
public sealed class SurveyTests : IDisposable
{
    private readonly DemoFolder _office = new(small: true);
    private readonly TempFolder _elsewhere = new();

    public void Dispose()
    {
        _office.Dispose();
        _elsewhere.Dispose();
    }

    [Fact]
    public void The_picture_has_versions_settings_components_files_services_and_workstations()
    {
        Called called = BuiltProgram.Run(_office.Path, "survey").Expect(0)
            .Says("by " + _office["programs/ledger/ledger.ini"] + ", Program/Version: 5.4", "about.json, /program/version: 5.4",
                "Mail bridge: 2.1",
            "workstation Front desk: 5.4", "setting year end: 31/03", "setting printer: front desk",
            "not as the vendor ships it (changed): data/QIH/documents/reports/aged-debtors.rpt",
                "Ledger service service off - is stopped", "programs/ledger/jobs/nightly job on");
        Assert.DoesNotContain(called.Out.Split('\n'), line => line.Length > 100);
        // Not of the program: what the vendor ships as it is, is not mentioned.
        Assert.DoesNotContain("tell.sh", called.Out, StringComparison.Ordinal);
        File.AppendAllText(_office["programs/ledger/tell.sh"], "# ours\n");
        File.Delete(_office["data/QIH/documents/reports/aged-debtors.rpt"]);
        BuiltProgram.Run(_office.Path, "survey").Expect(0).Says("(changed): programs/ledger/tell.sh",
            "(missing): data/QIH/documents/reports/aged-debtors.rpt");
    }

    [Fact]
    public void Places_that_tell_different_versions_are_shown_with_what_it_means()
    {
        _office.Edit("programs/ledger/about.json", "5.4", "6.0");
        BuiltProgram.Run(_office.Path, "survey").Expect(1)
            .Says("program version not told", "The places that tell the program's version disagree", "ledger.ini, Program/Version says 5.4",
            "about.json, /program/version says 6.0", "find out which is right");
        _office.Edit("programs/ledger/ledger.ini", "Version=5.4", "Version=6.0");
        BuiltProgram.Run(_office.Path, "survey").Expect(1)
            .Says("The program is version 6.0, but the data of QIH is version 5",
            "The workstation Front desk has program version 5.4, and the program here is version 6.0");
    }

    [Theory]
    [InlineData("{file: v.txt, pattern: 'build (?<version>[0-9.]+)'}", "v.txt", "this is build 5.4.1\n", "5.4.1")]
    [InlineData("{file: v.ini, ini: Main/Version}", "v.ini", "; Version=9\n[Other]\nVersion=8\n[main]\nversion = \"5.4\"\n", "5.4")]
    [InlineData("{file: v.ini, ini: Version}", "v.ini", "Version=5.1\n[Main]\nVersion=6\n", "5.1")]
    [InlineData("{file: v.xml, xml: '/app/info/@version'}", "v.xml", "<?xml version=\"1.0\"?><app><info version=\"5.4\"/></app>", "5.4")]
    [InlineData("{file: v.xml, xml: 'string(//version)'}", "v.xml", "<a><version> 5.5 </version></a>", "5.5")]
    [InlineData("{file: v.json, json: /a~1b/1/version}", "v.json", "{\"a/b\": [0, {\"version\": 5.25}]}", "5.25")]
    [InlineData("{file: v.properties, property: app.version}", "v.properties", "# app.version=1\n! x\napp.version : 5.6\n", "5.6")]
    [InlineData("{command: [sh, v.sh], pattern: 'version (?<version>[0-9.]+)'}", "../../v.sh", "echo program version 5.7\n", "5.7")]
    [InlineData("{file: v.json, json: /version}", "v.json", "{", null)]
    [InlineData("{file: v.xml, xml: /a}", "v.xml", "<a><b></a>", null)]
    [InlineData("{file: v.xml, xml: /a}", "v.xml", "<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/hostname'>]><a>&x;</a>", null)]
    [InlineData("{file: missing.ini, ini: a/b}", "v.ini", "", null)]
    public void A_version_is_read_wherever_the_kit_says_it_stands(string place, string file, string content, string? version)
    {
        File.WriteAllText(_office[Path.Combine("programs/ledger", file)], content);
        string kit = File.ReadAllText(_office["kits/pellwright-ledger/kit.yaml"]);
        int start = kit.IndexOf("program-version:", StringComparison.Ordinal), end = kit.IndexOf("components:", StringComparison.Ordinal);
        File.WriteAllText(_office["kits/pellwright-ledger/kit.yaml"], kit[..start] + $"program-version:\n  - {place}\n" + kit[end..]);
        if (place.StartsWith("{command", StringComparison.Ordinal)) BuiltProgram.Run(_office.Path, "ready", "--confirm", "kit");
        Called called = BuiltProgram.Run(_office.Path, "survey", "--json");
        JsonElement package = called.Json.GetProperty("result").GetProperty("packages")[0];
        Assert.Equal(version, package.GetProperty("programVersion").GetString());
        // Nothing is said without the reason.
        if (version is null) Assert.NotEqual("", package.GetProperty("programSigns")[0].GetProperty("says").GetString());
    }

    [Theory]
    [InlineData("{file: a, pattern: 'x'}", "the pattern needs a group (?<version>...)")]
    [InlineData("{file: a, pattern: '('}", "this is not a regular expression")]
    [InlineData("{file: a, xml: '//['}", "this is not an XPath expression")]
    [InlineData("{file: a, json: version}", "a JSON pointer begins with")]
    [InlineData("{file: a}", "a place is a file with one of pattern, ini, xml, json and property, or a command with a pattern")]
    [InlineData("{file: a, command: [b], pattern: '(?<version>x)'}", "a place is a file with one of")]
    [InlineData("{command: [b], ini: c}", "a place is a file with one of")]
    public void A_place_that_is_described_wrongly_is_a_mistake_with_its_line(string place, string what)
    {
        _office.Edit("kits/pellwright-ledger/kit.yaml", "{file: ledger.ini, ini: Program/Version}", place);
        BuiltProgram.Run(_office.Path, "survey").Expect(2).Says("kit.yaml:5:", what);
    }

    [Fact]
    public void A_company_nobody_wrote_down_is_found_and_added_and_every_other_line_stays()
    {
        Directory.CreateDirectory(_office["data/QNX"]);
        File.Copy(_office.Store("QWS"), _office["data/QNX/ledger.db"]);
        Directory.CreateDirectory(_office["data/Old Stores"]);
        foreach (string file in Directory.EnumerateFiles(_office["data/QST/stock"])) File.Copy(file,
            Path.Combine(_office["data/Old Stores"], Path.GetFileName(file)));
        File.WriteAllText(_office["data/other.db"], "no database"); // what is none is not offered
        string before = File.ReadAllText(_office["office.yaml"]);
        BuiltProgram.Run(_office.Path, "survey").Expect(1).Says("Found, but not in office.yaml", _office["data/QNX/ledger.db"], "QNX",
            "transferra survey --write");
        Assert.Equal(before, File.ReadAllText(_office["office.yaml"]));
        BuiltProgram.Run(_office.Path, "survey", "--write").Expect(0).Says("Added to", "QNX");
        string[] old = before.Split('\n'), now = File.ReadAllLines(_office["office.yaml"]);
        Assert.Empty(old.Where(line => line.Length > 0).Except(now));
        Assert.Equal(["      - code: QNX", "        name: QNX", "        store: {sqlite: data/QNX/ledger.db}"],
            now.SkipWhile(line => !line.Contains("QNX", StringComparison.Ordinal)).Take(3));
        Called again = BuiltProgram.Run(_office.Path, "survey").Expect(0).Says("QNX", "Old Stores");
        Assert.DoesNotContain("Found, but not", again.Out, StringComparison.Ordinal);
        BuiltProgram.Run(_office.Path, "survey", "--write").Expect(0).Says("There is nothing to add");
        BuiltProgram.Run(_office.Path, "check", "QNX").Expect(1);
    }

    [Fact]
    public void An_office_is_drafted_from_a_folder()
    {
        string folder = _elsewhere["new office"];
        Directory.CreateDirectory(folder);
        TempFolder.Copy(_office["kits"], Path.Combine(folder, "kits"));
        BuiltProgram.Run(folder, "survey", "--new", _office["data"]).Expect(0).Says("Drafted:", "QIH", "QWS", "QST");
        BuiltProgram.Run(folder, "survey").Expect(0).Says("QIH", "Pellwright Stockroom", "version 3 by");
        BuiltProgram.Run(folder, "survey", "--new", _office["data"]).Expect(2).Says("there is an office.yaml", "survey --write");
        File.Delete(Path.Combine(folder, "office.yaml"));
        BuiltProgram.Run(folder, "survey", "--new", _elsewhere["nowhere"]).Expect(2).Says("there is no folder");
        BuiltProgram.Run(folder, "survey", "--new", _office["kits"]).Expect(2).Says("none of 0 stores", "Pellwright Ledger");
        BuiltProgram.Run(folder, "survey", "--new", _office["data"], "--kits", _elsewhere["nokits"]).Expect(2).Says("there is no folder",
            "--kits DIR");
        Assert.False(File.Exists(Path.Combine(folder, "office.yaml")));
    }

    [Fact]
    public void A_saved_survey_shows_later_what_an_installer_forgot()
    {
        string saved = _elsewhere["before.json"], page = _elsewhere["survey.html"];
        BuiltProgram.Run(_office.Path, "survey", "--save", saved, "--html", page).Expect(0).Says("Written: " + saved, "Written: " + page);
        BuiltProgram.Run(_office.Path, "survey", "--compare", saved).Expect(0).Says("Nothing is different");
        _office.Edit("programs/ledger/ledger.ini", "Printer=front desk", "Printer=default");
        _office.Edit("programs/ledger/ledger.ini", "Paper=A4\n", "");
        DemoFolder.Execute(_office.Store("QIH"), "UPDATE SYSINFO SET VAL = '31/12' WHERE KEYNAME = 'YEAREND'");
        Called compared = BuiltProgram.Run(_office.Path, "survey", "--compare", saved, "--json").Expect(1);
        Assert.Equal(["Pellwright Ledger, setting paper|A4|(not set)", "Pellwright Ledger, setting printer|front desk|default",
            "QIH, setting year end|31/03|31/12"],
            compared.Json.GetProperty("result").GetProperty("differences").EnumerateArray()
                .Select(entry => $"{entry.GetProperty("what").GetString()}|{entry.GetProperty("before").GetString()}|"
                    + $"{entry.GetProperty("now").GetString()}")
                .Order(StringComparer.Ordinal));
        BuiltProgram.Run(_office.Path, "survey", "--compare", page).Expect(2).Says("is not a saved survey");
        BuiltProgram.Run(_office.Path, "survey", "--compare", _elsewhere["nothing"]).Expect(2).Says("cannot be read");
        string html = File.ReadAllText(page);
        foreach (string part in (string[])["Quaverholt Instrument Hire", "Pellwright Ledger", "JRNL", "front desk", "Ledger service",
            "aged-debtors.rpt"])
            Assert.Contains(part, html, StringComparison.Ordinal);
        System.Xml.Linq.XElement.Parse(html["<!DOCTYPE html>\n".Length..]);
        Assert.DoesNotContain("<script", html, StringComparison.Ordinal);
    }

    [Fact]
    public void A_private_setting_is_never_told_but_a_change_of_it_is_seen()
    {
        _office.Edit("kits/pellwright-ledger/kit.yaml", "{setting: printer,", "{setting: printer, private: yes,");
        Called first = BuiltProgram.Run(_office.Path, "survey", "--save", _elsewhere["s.json"]).Expect(0)
            .Says("setting printer: private, digest");
        Assert.DoesNotContain("front desk", first.Out + File.ReadAllText(_elsewhere["s.json"]), StringComparison.Ordinal);
        _office.Edit("programs/ledger/ledger.ini", "Printer=front desk", "Printer=back office");
        Called second = BuiltProgram.Run(_office.Path, "survey", "--compare", _elsewhere["s.json"]).Expect(1).Says("setting printer");
        Assert.DoesNotContain("back office", second.Out, StringComparison.Ordinal);
    }
}
