using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

public sealed class UpgradeTests
{
    [Fact]
    public void Upgrade_then_undo_leaves_every_file_as_it_was()
    {
        using var office = new DemoFolder();
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "upgrade", "--yes", "QIH", "--yes", "QWS", "--yes", "QST").Expect(1).Says("QIH      through",
            "QWS      stopped", "QST      through");
        Assert.NotEqual(before["QIH/ledger.db"], office.DataSignature()["QIH/ledger.db"]);
        Assert.Equal(before["QWS/ledger.db"], office.DataSignature()["QWS/ledger.db"]);
        BuiltProgram.Run(office.Path, "survey").Expect(1).Says("The program is version 5.4, but the data of QIH is version 6");
        BuiltProgram.Run(office.Path, "undo").Expect(2).Says("has to be confirmed", "--yes QIH");
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH", "--yes", "QST").Expect(0).Says("the office is where it was before");
        Assert.Equal(before, office.DataSignature());
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(2).Says("there is no run to undo");
    }

    [Fact]
    public void The_code_has_to_be_typed_and_a_wrong_one_does_nothing()
    {
        using var office = new DemoFolder(small: true);
        Dictionary<string, string> before = Seen();
        BuiltProgram.Run(office.Path, "upgrade", "QIH").Expect(2).Says("nobody is there to type", "--yes QIH");
        BuiltProgram.RunTyping("qih?", office.Path, "upgrade", "QIH").Expect(2).Says("That is not the code. Nothing was done.");
        Assert.Equal(before, Seen());
        BuiltProgram.RunTyping("QIH", office.Path, "upgrade", "QIH").Expect(0).Says("How it came out");

        // The program's own folder holds only the lock then, and no run.
        Dictionary<string, string> Seen() => TempFolder.Signature(office.Path)
            .Where(entry => entry.Key is not ("transferra" or "transferra/lock")).ToDictionary();
    }

    [Fact]
    public void A_company_that_is_there_already_is_left_alone()
    {
        using var office = new DemoFolder(small: true);
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0);
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0)
            .Says("QIH is at version 6 already; there is nothing to do.");
        Assert.Equal(before, office.DataSignature());
    }

    [Fact]
    public void A_new_store_the_office_has_worked_with_survives_the_undo()
    {
        using var office = new DemoFolder(small: true);
        string before = office.DataSignature()["QIH/ledger.db"];
        BuiltProgram.Run(office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(0);
        DemoFolder.Execute(office.Store("QIH"), "INSERT INTO note VALUES ('NEW', 'written after the upgrade')");
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(1).Says("has been used since it was made, and is kept");
        Assert.Equal(before, office.DataSignature()["QIH/ledger.db"]);
        Assert.Equal("written after the upgrade", DemoFolder.Ask(Path.Combine(office.WorkFolder("QIH"), "v6/ledger.db"),
            "SELECT body FROM note WHERE reference = 'NEW'"));
    }

    [Fact]
    public void An_old_store_changed_meanwhile_stops_the_change_over()
    {
        using DemoFolder office = DemoFolder.OfOne();
        // Killed after the backup, changed, resumed: what was checked and backed up is not what is there now.
        BuiltProgram.RunUntilReplaced("convert-progress.json", 2, office.Path, "upgrade", "QIH", "--yes", "QIH").Expect(137);
        Assert.NotEmpty(Directory.GetDirectories(office["data/QIH"], "transferra-*"));
        DemoFolder.Execute(office.Store("QIH"), "UPDATE SUPP SET PHONE = '0' WHERE SNO = 5001");
        BuiltProgram.Run(office.Path, "upgrade", "--resume").Expect(1).Says("the old store was changed since the run began");
        Assert.Equal("0", DemoFolder.Ask(office.Store("QIH"), "SELECT PHONE FROM SUPP WHERE SNO = 5001"));
    }

    [Fact]
    public void Backup_restore_and_undo_of_the_restore()
    {
        using var office = new DemoFolder(small: true);
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0).Says("Proved: ");
        BuiltProgram.Run(office.Path, "sets").Expect(0).Says("QIH", "ledger");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["elsewhere"]).Expect(0)
            .Says("every byte and every record is as backed up");
        Assert.Equal(before["QIH/ledger.db"], TempFolder.Signature(office["elsewhere"])["store/ledger.db"]);
        Assert.Equal(before["QIH/documents/letterhead.bmp"], TempFolder.Signature(office["elsewhere"])["documents/0/letterhead.bmp"]);

        DemoFolder.Execute(office.Store("QIH"), "DELETE FROM CUST");
        File.Delete(office["data/QIH/documents/letterhead.bmp"]);
        IReadOnlyDictionary<string, string> spoilt = office.DataSignature();
        BuiltProgram.Run(office.Path, "restore", "QIH").Expect(2).Says("--yes QIH");
        BuiltProgram.Run(office.Path, "restore", "QIH", "--yes", "QIH").Expect(0).Says("The company is as in the set");
        Assert.Equal(before["QIH/ledger.db"], office.DataSignature()["QIH/ledger.db"]);
        Assert.Equal(before["QIH/documents/letterhead.bmp"], office.DataSignature()["QIH/documents/letterhead.bmp"]);
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH").Expect(0);
        Assert.Equal(spoilt, office.DataSignature());
    }

    [Fact]
    public void A_company_that_changed_its_engine_is_restored_to_the_old_one_and_back()
    {
        using var office = new DemoFolder(small: true);
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "upgrade", "QST", "--yes", "QST").Expect(0);
        IReadOnlyDictionary<string, string> upgraded = office.DataSignature();
        Assert.Equal(upgraded.ContainsKey("QST/stock.db"), !upgraded.ContainsKey("QST/stock"));
        BuiltProgram.Run(office.Path, "survey").Says("Quaverholt Stores  4", "SQLite");
        BuiltProgram.Run(office.Path, "match", "QST").Expect(0);
        BuiltProgram.Run(office.Path, "restore", "QST", "--to", office["elsewhere"]).Expect(0);
        Assert.Equal(before["QST/stock/INSTR.DBT"], TempFolder.Signature(office["elsewhere"])["store/stock/INSTR.DBT"]);
        BuiltProgram.Run(office.Path, "restore", "QST", "--yes", "QST").Expect(0);
        Assert.Equal(before.Where(entry => entry.Key.StartsWith("QST/stock", StringComparison.Ordinal)), office.DataSignature()
            .Where(entry => entry.Key.StartsWith("QST/stock", StringComparison.Ordinal)));
        BuiltProgram.Run(office.Path, "survey").Says("Quaverholt Stores  3", "DBF");
        BuiltProgram.Run(office.Path, "undo", "--yes", "QST").Expect(0);
        Assert.Equal(upgraded, office.DataSignature());
        BuiltProgram.Run(office.Path, "undo", "--yes", "QST").Expect(0);
        Assert.Equal(before, office.DataSignature());
    }

    [Fact]
    public void Delimited_text_is_converted_once_somebody_has_said_how_it_is_written()
    {
        using var office = new DemoFolder(small: true);
        Directory.CreateDirectory(office["data/QST/export"]);
        foreach ((string name, string text) in ((string, string)[])[("VERSION", "KEYNAME;VAL\nDATAVER;3\n"),
            ("PARTS", "PARTNO;DESCR;UNIT;ONHAND;PRICE\nP1;Rosin, dark;pc;12;3,50\nP2;\"Bow \"\"hair\"\"\";set;;\n"),
            ("INSTR", "INSTRNO;SERIAL;KIND;MAKER;BOUGHT;COST;DAYRATE;ONHIRE;REMARK\n1;ST1;ST;Grünspan;31.12.2019;1200,00;3,00;yes;\n"
                + "2;WW2;WW;;;850,50;2,10;no;\"two\nlines\"\n"), ("MOVES", "MOVENO;PARTNO;MDATE;QTY;REF\n1;P1;01.02.2024;12;W1\n")])
            File.WriteAllText(office[$"data/QST/export/{name}.csv"], text);
        office.Edit("office.yaml", "store: {dbf: data/QST/stock}", "store: {delimited: data/QST/export}");
        BuiltProgram.Run(office.Path, "survey")
            .Says("its text seems to be written so: separator ;, utf-8, with header, decimal mark ,, dates DD.MM.YYYY");
        BuiltProgram.Run(office.Path, "upgrade", "QST", "--yes", "QST").Expect(2).Says("nothing says how the files are written",
            "decimal-mark");
        office.Edit("office.yaml", "{delimited: data/QST/export}",
            "{delimited: data/QST/export, separator: ;, decimal-mark: ',', dates: DD.MM.YYYY}");
        BuiltProgram.Run(office.Path, "upgrade", "QST", "--yes", "QST").Expect(0).Says("QST      through");
        string store = office["data/QST/stock.db"];
        Assert.Equal("120000|2019-12-31|Grünspan|1", DemoFolder.Ask(store,
            "SELECT cost || '|' || bought_on || '|' || maker || '|' || is_on_hire FROM instrument WHERE instrument_no = 1"));
        Assert.Equal("two\nlines", DemoFolder.Ask(store, "SELECT remark FROM instrument WHERE instrument_no = 2"));
        Assert.Equal("Bow \"hair\"", DemoFolder.Ask(store, "SELECT description FROM part WHERE on_hand IS NULL"));
    }

    [Fact]
    public void A_damaged_set_is_not_restored()
    {
        using var office = new DemoFolder(small: true);
        BuiltProgram.Run(office.Path, "backup", "QIH").Expect(0);
        string set = Assert.Single(Directory.GetFiles(office["sets"], "*.tar*"));
        byte[] bytes = File.ReadAllBytes(set);
        bytes[bytes.Length / 2] ^= 1;
        File.WriteAllBytes(set, bytes);
        IReadOnlyDictionary<string, string> before = office.DataSignature();
        BuiltProgram.Run(office.Path, "restore", "QIH", "--to", office["elsewhere"]).Expect(4).Says("damaged");
        Assert.False(Directory.Exists(office["elsewhere"]));
        BuiltProgram.Run(office.Path, "restore", "QIH", "--yes", "QIH").Expect(4).Says("the set is damaged");
        Assert.Equal(before, office.DataSignature());
    }

    [Fact]
    public void The_sign_off_tells_the_run_as_text_page_and_json()
    {
        using var office = new DemoFolder();
        BuiltProgram.Run(office.Path, "upgrade", "--yes", "QIH", "--yes", "QWS", "--yes", "QST").Expect(1);
        BuiltProgram.Run(office.Path, "signoff", "--html", office["out.html"]).Expect(0).Says("record of the upgrade run",
            "QIH  Quaverholt Hire", "Carried out by", "72,015");
        string page = File.ReadAllText(office["out.html"]);
        Assert.Contains("31/02/23", page, StringComparison.Ordinal);
        Assert.DoesNotContain("<script", page, StringComparison.Ordinal);
        Assert.Equal(["through", "stopped", "through"], Outcomes(office));
        // What the proofs were about is gone after an undo.
        Assert.DoesNotContain("taken back</td>", page, StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "undo", "--yes", "QIH", "--yes", "QST").Expect(0);
        Assert.Equal(["undone", "undone", "undone"], Outcomes(office));
        BuiltProgram.Run(office.Path, "signoff", "--html", office["out.html"]).Expect(0);
        Assert.Contains("taken back</td>", File.ReadAllText(office["out.html"]), StringComparison.Ordinal);
        Assert.Contains("What follows was recorded before that", File.ReadAllText(office["out.html"]), StringComparison.Ordinal);
        BuiltProgram.Run(office.Path, "signoff").Expect(0).Says("What follows was recorded before that");
    }

    private static string[] Outcomes(DemoFolder office) =>
        [.. BuiltProgram.Run(office.Path, "signoff", "--json").Expect(0).Json.GetProperty("result").GetProperty("companies")
            .EnumerateArray().Select(company => company.GetProperty("outcome").GetString()!)];

    [Theory]
    [InlineData("survey", 0)]
    [InlineData("check", 1)]
    [InlineData("backup", 0)]
    [InlineData("sets", 0)]
    [InlineData("convert", 0)]
    [InlineData("upgrade --yes QIH --yes QWS --yes QST", 0)]
    [InlineData("undo", 2)]
    [InlineData("signoff", 2)]
    [InlineData("match", 2)]
    public void Every_command_gives_one_json_document_with_its_exit_code(string command, int exitCode)
    {
        using var office = new DemoFolder(small: true);
        JsonElement answer = BuiltProgram.Run(office.Path, [.. command.Split(' '), "--json"]).Expect(exitCode).Json;
        Assert.Equal(command.Split(' ')[0], answer.GetProperty("command").GetString());
        Assert.Equal(exitCode, answer.GetProperty("exitCode").GetInt32());
        Assert.Equal(JsonValueKind.Object, answer.GetProperty("result").ValueKind is JsonValueKind.Array ? JsonValueKind.Object
            : answer.GetProperty("result").ValueKind);
    }
}
