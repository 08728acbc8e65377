using System.Diagnostics;
using System.IO.Compression;
using System.Text.Json;
using Transferra.Core.Checks;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>check with all it can do, and bundle, on the demo office.</summary>
public sealed class CheckCommandTests
{
    [Fact]
    public void Each_kind_of_finding_is_explained_and_an_unknown_one_refused()
    {
        using var office = new DemoFolder(small: true);
        foreach (FindingHelp help in (FindingHelp[])[FindingKinds.All[0], FindingKinds.Help(FindingKinds.Orphan)!, FindingKinds.All[^1]])
            BuiltProgram.Run(office.Path, "check", "--explain", help.Kind).Expect(0).Says(help.Meaning, help.Cause, help.Remedy);
        JsonElement all = BuiltProgram.Run(office.Path, "check", "--explain", "--json").Expect(0).Json.GetProperty("result");
        Assert.Equal(FindingKinds.All.Select(help => help.Kind), all.EnumerateArray().Select(help => help.GetProperty("kind")
            .GetString()!));
        BuiltProgram.Run(office.Path, "check", "--explain", "nonsense").Expect(2).Says("no kind of finding \"nonsense\"",
            "The kinds are damaged, ");
    }

    [Fact]
    public void Findings_are_kept_listed_compared_and_written_as_a_workbook()
    {
        using var office = new DemoFolder();
        BuiltProgram.Run(office.Path, "check", "QWS").Expect(1);
        DemoFolder.Execute(office.Store("QWS"),
            "UPDATE JRNL SET JDATE = '28/02/23' WHERE JNO = 4321; UPDATE CUST SET PHONE = '1' || char(7) "
                + "WHERE CNO = (SELECT min(CNO) FROM CUST)");
        string sheet = office["findings.xlsx"];
        Called called = BuiltProgram.Run(office.Path, "check", "QWS", "--sheet", sheet, "--json").Expect(1);
        JsonElement result = called.Json.GetProperty("result")[0];
        string folder = result.GetProperty("kept").GetString()!;
        JsonElement[] compared = [.. result.GetProperty("check").GetProperty("compared").GetProperty("findings").EnumerateArray()];
        Assert.Equal("not-a-date", Assert.Single(compared, finding => finding.GetProperty("state").GetString() == "gone")
            .GetProperty("kind").GetString());
        Assert.Equal("control-characters", Assert.Single(compared, finding => finding.GetProperty("state").GetString() == "new")
            .GetProperty("kind").GetString());
        Assert.Equal(4, compared.Count(finding => finding.GetProperty("state").GetString() == "stayed"));
        string copies = Assert.Single(Directory.GetFiles(folder, "*exact-copies*"));
        Assert.Equal(5, File.ReadAllLines(copies).Length);
        // Phones are private, in the list and in the workbook.
        Assert.Contains("(private)", File.ReadAllText(Assert.Single(Directory.GetFiles(folder, "*control-characters*"))),
            StringComparison.Ordinal);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(folder));
        using var python = Process.Start(new ProcessStartInfo("/usr/bin/python3",
            ["-c", "import openpyxl, sys; b = openpyxl.load_workbook(sys.argv[1]); print([s.title for s in b]); print([[c.value for c in "
                + "r][:7] for r in b['Findings'].iter_rows(min_row=2)]); print(b.worksheets[1]['A2'].value)", sheet])
        { RedirectStandardOutput = true })!;
        string read = python.StandardOutput.ReadToEnd();
        python.WaitForExit();
        Assert.Contains("'QWS', 'fault', 'orphan', 'JRNL', 'ACODE to ACCTS (ACODE)', 1", read, StringComparison.Ordinal);
        Assert.Contains("QWS not-a-number", read, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "check", "QWS", "--sheet", sheet).Expect(2).Says("is there already");
    }

    [Fact]
    public void What_is_mended_is_taken_back_to_the_last_byte_and_can_be_upgraded()
    {
        using var office = new DemoFolder();
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "check", "--mend").Expect(2).Says("needs the codes");
        BuiltProgram.Run(office.Path, "check", "QST", "--mend", "--yes", "QST").Expect(2).Says("allows no mends in version 3");
        BuiltProgram.Run(office.Path, "check", "QIH", "--mend", "--yes", "QIH").Expect(0)
            .Says("drop-copies", "CUST.CNAME", "differs from the old store by the listed changes and by nothing else", "1 gone");
        // The page to be signed speaks of a mend, not of a conversion.
        string page = File.ReadAllText(Assert.Single(Directory.GetFiles(office["transferra/runs"], "signoff.html",
            SearchOption.AllDirectories)));
        Assert.Contains("proved", page, StringComparison.Ordinal);
        Assert.DoesNotContain("not converted", page, StringComparison.Ordinal);
        Assert.Equal("0", DemoFolder.Ask(office.Store("QIH"), "SELECT count(*) - count(DISTINCT JNO) FROM JRNL"));
        Assert.Equal("0", DemoFolder.Ask(office.Store("QIH"), "SELECT count(*) FROM CUST WHERE CNAME <> trim(CNAME)"));
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(0);
        Assert.Equal(before, office.DataSignature());
        BuiltProgram.Run(office.Path, "check", "QIH", "--mend", "--yes", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH", "--json").Expect(0);
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(0);
        Assert.Equal(before, office.DataSignature());
    }

    [Fact]
    public void A_damaged_company_is_told_salvaged_and_stops_alone()
    {
        using var office = new DemoFolder();
        using (FileStream file = new(office.Store("QWS"), FileMode.Open, FileAccess.Write))
        {
            file.Position = 4096 * 200;
            file.Write(new byte[4096 * 3]);
        }
        BuiltProgram.Run(office.Path, "check", "QWS").Expect(1).Says("the engine's own check complains", "Lost:", "--salvage");
        Called salvaged = BuiltProgram.RunIn(office.Path, "check", "QWS", "--salvage", "rescued.db", "--json").Expect(1);
        long records = salvaged.Json.GetProperty("result").GetProperty("result").GetProperty("tables").GetProperty("JRNL").GetInt64();
        Assert.InRange(records, 17_500, 18_003);
        Assert.Equal(records.ToString(System.Globalization.CultureInfo.InvariantCulture), DemoFolder.Ask(office["rescued.db"],
            "SELECT count(*) FROM JRNL"));
        Assert.Contains("JRNL,record ", File.ReadAllText(office["rescued.db-lost.csv"]), StringComparison.Ordinal);
        BuiltProgram.RunIn(office.Path, "check", "QWS", "--salvage", "rescued.db").Expect(2).Says("is there already");
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "QWS", "--yes", "QIH", "--yes", "QWS").Expect(1).Says("QWS stops here");
        Assert.Equal("60", DemoFolder.Ask(office.Store("QIH"), "PRAGMA user_version"));
    }

    [Fact]
    public void Custom_fields_and_tables_come_through_an_upgrade()
    {
        using var office = new DemoFolder(small: true);
        DemoFolder.Execute(office.Store("QIH"),
            "ALTER TABLE CUST ADD COLUMN NICKNAME VARCHAR(20); UPDATE CUST SET NICKNAME = 'No ' || CNO; CREATE TABLE ADDON (ID INTEGER "
                + "PRIMARY KEY, WHAT TEXT); INSERT INTO ADDON VALUES (7, 'kept')");
        BuiltProgram.Run(office.Path, "check", "QIH").Expect(1)
            .Says("the column CUST.NICKNAME is not known to the kit; it is carried as it is",
            "the table ADDON is not known to the kit; it is carried as it is, with 1 record");
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0);
        Assert.Equal("0", DemoFolder.Ask(office.Store("QIH"), "SELECT count(*) FROM customer WHERE NICKNAME IS NOT 'No ' || customer_no"));
        Assert.Equal("kept", DemoFolder.Ask(office.Store("QIH"), "SELECT WHAT FROM ADDON WHERE ID = 7"));
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
    }

    [Fact]
    public void A_bundle_has_what_the_vendor_needs_and_nothing_private()
    {
        using var office = new DemoFolder();
        BuiltProgram.Run(office.Path, "check", "QWS").Expect(1);
        Called shown = BuiltProgram.Run(office.Path, "bundle", "QWS", "--show").Expect(0).Says("findings.json", "logs/ledger.log",
            "Not in it:");
        Assert.DoesNotContain("Written", shown.Out, StringComparison.Ordinal);
        string path = office["qws.zip"];
        JsonElement result = BuiltProgram.Run(office.Path, "bundle", "QWS", "--to", path, "--json").Expect(0).Json.GetProperty("result")[0];
        var content = new Dictionary<string, string>();
        using (ZipArchive zip = ZipFile.OpenRead(path))
            foreach (ZipArchiveEntry entry in zip.Entries)
            {
                using var reader = new StreamReader(entry.Open());
                content[entry.FullName] = reader.ReadToEnd();
            }
        // Every file is in the listing, with its digest.
        foreach (JsonElement file in result.GetProperty("files").EnumerateArray())
        {
            string name = file.GetProperty("name").GetString()!;
            Assert.Contains($"{name}  {file.GetProperty("bytes").GetInt64()} bytes  sha256 {file.GetProperty("sha256").GetString()}",
                content["contents.txt"],
                StringComparison.Ordinal);
            Assert.Equal(file.GetProperty("sha256").GetString(),
                Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(content[name]))));
        }
        Assert.Contains("office@quaverholt.example", content["office.json"], StringComparison.Ordinal); // whom to answer
        Assert.Contains("99,9A", content["findings.json"], StringComparison.Ordinal); // the form of 12,5O tells what is wrong
        string key = File.ReadAllText(office["keys/ledger-licence"]).Trim();
        foreach (string hidden in (string[])["12,5O", "pryce-strings", "960 844", "PWL5-DEMO", key])
            Assert.DoesNotContain(content, file => file.Value.Contains(hidden, StringComparison.Ordinal));
        Assert.Contains("2026-03-02 09:47:30 statement sent to (mail)", content["logs/ledger.log"], StringComparison.Ordinal);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(path));
        BuiltProgram.Run(office.Path, "bundle", "QWS", "--to", path).Expect(2).Says("is there already");
        BuiltProgram.Run(office.Path, "bundle").Expect(2).Says("needs the code");
    }

    [Fact]
    public void A_mend_that_is_killed_can_be_gone_on_with_or_taken_back()
    {
        string[] mend = ["check", "QIH", "--mend", "--yes", "QIH"];
        bool soak = Seeds.IsSoak;
        string straight;
        using (DemoFolder office = DemoFolder.OfOne())
        {
            BuiltProgram.Run(office.Path, mend).Expect(0);
            straight = Killed.NewStore(office);
        }
        int killed = 0;
        for (int n = 1; ; n += soak ? 1 : 23)
        {
            using DemoFolder office = DemoFolder.OfOne();
            IReadOnlyDictionary<string, string> before = office.DataSignature();
            Called called = BuiltProgram.RunUntil(n, office.Path, mend);
            if (called.ExitCode == 0) break;
            Assert.Equal(137, called.ExitCode);
            bool undo = killed++ % 2 == 0;
            Killed.Recover(office, undo);
            if (undo || Killed.NewStore(office) == before["QIH/ledger.db"]) Assert.Equal(before, office.DataSignature());
            else Assert.Equal(straight, Killed.NewStore(office));
        }
        Assert.InRange(killed, 4, 200);
    }
}
