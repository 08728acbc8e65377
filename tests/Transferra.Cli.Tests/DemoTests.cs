using System.Text.Json;
using Transferra.Demo;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

public sealed class DemoTests
{
    [Fact]
    public void The_demo_office_is_byte_for_byte_the_same_each_time()
    {
        using TempFolder one = new(), two = new();
        DemoOffice.Write(one.Path);
        DemoOffice.Write(two.Path);
        IReadOnlyDictionary<string, string> signature = TempFolder.Signature(one.Path);
        Assert.Equal(signature, TempFolder.Signature(two.Path));
        Assert.Contains("data/QIH/ledger.db", signature.Keys);
        Assert.True(long.Parse(DemoFolder.Ask(one["data/QIH/ledger.db"], "SELECT count(*) FROM JRNL")!,
            System.Globalization.CultureInfo.InvariantCulture) >= 60_000);
        Assert.True(long.Parse(DemoFolder.Ask(one["data/QWS/ledger.db"], "SELECT count(*) FROM JRNL")!,
            System.Globalization.CultureInfo.InvariantCulture) >= 15_000);
    }

    [Fact]
    public void The_demo_does_the_whole_job_and_says_so()
    {
        using TempFolder folder = new();
        string office = folder["office"];
        Called demo = BuiltProgram.RunIn(folder.Path, "demo", "--in", office).Expect(0);
        demo.Says("Pellwright Ledger: program version 5.4", "check: is the old data sound?", "backup: a copy that is proved",
            "convert: a new store beside the old one", "match: are the records the same?",
            "change-over: the new store takes the old one's place", "check again: is the new data sound?", "How it came out",
                "QIH      through",
                "QWS      stopped", "QST      through", "QPW      waiting", "QPW      through", "31/02/23", "12,5O", "4999", "V001777");
        Assert.Equal("6", DemoFolder.Ask(Path.Combine(office, "data/QIH/ledger.db"), "SELECT value FROM setting WHERE name = 'DATAVER'"));
        Assert.Equal("5", DemoFolder.Ask(Path.Combine(office, "data/QWS/ledger.db"), "SELECT VAL FROM SYSINFO WHERE KEYNAME = 'DATAVER'"));
        Assert.DoesNotContain(demo.Out.Split('\n'), line => line.Length > 100);
        Assert.DoesNotContain('\x1b', demo.All);
        Assert.NotEmpty(Directory.GetFiles(office, "signoff.html", SearchOption.AllDirectories));
        BuiltProgram.RunIn(folder.Path, "demo", "--in", office).Expect(2).Says("not empty", "--in");
        // What it says one could type works just as it stands.
        string[] hints = [.. demo.Out.Split('\n').SkipWhile(line => !line.Contains("Look around in it", StringComparison.Ordinal)).Skip(1)
            .Where(line => line.StartsWith("  transferra ", StringComparison.Ordinal))];
        Assert.Equal(4, hints.Length);
        // The survey has something to look at: the company that waits does not go with the new program.
        Called[] tried = [.. hints.Zip([1, 0, 0, 0]).Select(one => BuiltProgram.RunIn(folder.Path, one.First.Trim().Split(' ')[1..])
            .Expect(one.Second))];
        // The new program was installed behind the conversion.
        tried[1].Says("Program version: 5.4 when the run began, 6.0 now, which opens data of version 6");
        tried[2].Says("Program version: 5.4 when the run began, 5.4 now, which does not open data of version 6; it needs program "
            + "version 6.x");
        string page = File.ReadAllText(Directory.GetFiles(office, "signoff.html", SearchOption.AllDirectories).Single());
        Assert.Contains("<td>5.4, now 6.0</td>", page, StringComparison.Ordinal);
        Assert.DoesNotContain("does not open the data of", page, StringComparison.Ordinal);
    }

    [Fact]
    public void A_folder_of_dBASE_tables_arrives_in_a_database_with_every_value()
    {
        using var office = new DemoFolder();
        BuiltProgram.Run(office.Path, "survey").Expect(0).Says("DBF level 03, 8b", "18 records marked as deleted");
        BuiltProgram.Run(office.Path, "upgrade", "QST", "--yes", "QST").Expect(0)
            .Says("Quantity moved by part: all 240 lines agree, added up apart from the conversion", "Install program version 4.x; keep");
        BuiltProgram.Run(office.Path, "signoff").Expect(0);
        Assert.Contains("Pellwright Stockroom, version 3.2, does not open the data of QST: install program version 4.x.",
            File.ReadAllText(Directory.GetFiles(office.Path, "signoff.html", SearchOption.AllDirectories).Single()),
            StringComparison.Ordinal);
        string store = office["data/QST/stock.db"], old = Path.Combine(office.WorkFolder("QST"), "old-v3/stock");
        Assert.False(Directory.Exists(office["data/QST/stock"]));
        // The old files are read here by hand: record 8 of INSTR (11 bytes of cost from byte 59 on), and its memo.
        byte[] instr = File.ReadAllBytes(Path.Combine(old, "INSTR.DBF"));
        int header = BitConverter.ToUInt16(instr, 8), length = BitConverter.ToUInt16(instr, 10);
        string record = System.Text.CodePagesEncodingProvider.Instance.GetEncoding(850)!.GetString(instr, header + 7 * length, length);
        Assert.Equal(decimal.Parse(record.AsSpan(59, 11), System.Globalization.CultureInfo.InvariantCulture) * 100m,
            decimal.Parse(DemoFolder.Ask(store, "SELECT cost FROM instrument WHERE instrument_no = 8")!,
                System.Globalization.CultureInfo.InvariantCulture));
        Assert.Equal(record.Substring(21, 30).TrimEnd(), DemoFolder.Ask(store, "SELECT maker FROM instrument WHERE instrument_no = 8"));
        int block = int.Parse(record.AsSpan(80, 10), System.Globalization.CultureInfo.InvariantCulture);
        byte[] memo = File.ReadAllBytes(Path.Combine(old, "INSTR.DBT"));
        Assert.Equal(System.Text.Encoding.ASCII.GetString(memo, block * 512 + 8, BitConverter.ToInt32(memo, block * 512 + 4) - 8),
            DemoFolder.Ask(store, "SELECT remark FROM instrument WHERE instrument_no = 8"));
        Assert.Equal("8982", DemoFolder.Ask(store, "SELECT count(*) FROM part_movement"));
        Assert.Equal("0", DemoFolder.Ask(store, "SELECT count(*) FROM part_movement WHERE movement_no % 500 = 0"));
    }

    [Fact]
    public void Every_planted_fault_is_found_and_nothing_else()
    {
        using var office = new DemoFolder();
        JsonElement answer = BuiltProgram.Run(office.Path, "check", "--json").Expect(1).Json;
        var found = answer.GetProperty("result").EnumerateArray().SelectMany(company => company.GetProperty("check")
            .GetProperty("findings").EnumerateArray().Select(finding =>
            $"{company.GetProperty("company").GetString()} {finding.GetProperty("grade").GetString()} "
                + $"{finding.GetProperty("kind").GetString()} {finding.GetProperty("table").GetString()} "
                + $"{finding.GetProperty("count").GetInt64()} {finding.GetProperty("examples")[0].GetString()}"));
        Assert.Equal(
        [
            "QIH warning exact-copies JRNL 15 17", "QWS fault not-a-date JRNL 1 4321: \"31/02/23\"",
                "QWS fault not-a-number JRNL 1 9877: \"12,5O\"",
                "QWS fault orphan JRNL 1 7034: \"4999\"",
            "QWS fault rule-broken JRNL 1 V001777: 0.01", "QWS warning exact-copies JRNL 4 17",
        ], found.Order(StringComparer.Ordinal));
    }

    [Fact]
    public void Old_text_dates_and_amounts_arrive_as_what_they_mean()
    {
        using var office = new DemoFolder();
        BuiltProgram.Run(office.Path, "convert", "QIH").Expect(0);
        string store = Path.Combine(office.WorkFolder("QIH"), "v6/ledger.db");
        // What the old store says is decoded here by hand, apart from everything the program has.
        string oldName = DemoFolder.Ask(office.Store("QIH"), "SELECT hex(CNAME) FROM CUST WHERE CNO = 1003")!;
        string name = System.Text.CodePagesEncodingProvider.Instance.GetEncoding(850)!.GetString(Convert.FromHexString(oldName))
            .TrimEnd(' ');
        Assert.Equal(name, DemoFolder.Ask(store, "SELECT name FROM customer WHERE customer_no = 1003"));
        string debit = DemoFolder.Ask(office.Store("QIH"), "SELECT DR FROM JRNL WHERE JNO = 100")!, credit =
            DemoFolder.Ask(office.Store("QIH"), "SELECT CR FROM JRNL WHERE JNO = 100")!;
        Assert.Equal((decimal.Parse(debit, System.Globalization.CultureInfo.InvariantCulture) - decimal.Parse(credit,
            System.Globalization.CultureInfo.InvariantCulture)) * 100m,
            decimal.Parse(DemoFolder.Ask(store, "SELECT amount FROM ledger_entry WHERE entry_no = 100")!,
                System.Globalization.CultureInfo.InvariantCulture));
        string[] day = DemoFolder.Ask(office.Store("QIH"), "SELECT JDATE FROM JRNL WHERE JNO = 100")!.Split('/');
        Assert.Equal($"20{day[2]}-{day[1]}-{day[0]}", DemoFolder.Ask(store, "SELECT posted_on FROM ledger_entry WHERE entry_no = 100"));
        Assert.Equal("72000", DemoFolder.Ask(store, "SELECT count(*) FROM ledger_entry"));
        Assert.Equal("standard", DemoFolder.Ask(store, "SELECT value FROM setting WHERE name = 'TAXSCHEME'"));
        Assert.Equal("0", DemoFolder.Ask(store, "SELECT count(*) FROM pragma_foreign_key_check"));
    }

    [Fact]
    public void Exceptions_are_listed_with_table_key_column_value_and_reason()
    {
        using var office = new DemoFolder();
        Called converted = BuiltProgram.Run(office.Path, "convert", "QWS").Expect(1).Says("3 records could not be converted");
        string[] lines = File.ReadAllLines(Assert.Single(Directory.GetFiles(office["transferra/runs"], "exceptions.csv",
            SearchOption.AllDirectories)));
        Assert.Equal("table,key,column,for,value,reason", lines[0]);
        Assert.Equal("JRNL,4321,JDATE,ledger_entry.posted_on,31/02/23,\"this is not a date of the form DD/MM/RR, or no such day exists\"",
            lines[1]);
        Assert.StartsWith("JRNL,7034,ACODE,ledger_entry.account_id,4999,", lines[2], StringComparison.Ordinal);
        Assert.Equal("JRNL,9877,DR,ledger_entry.amount,\"12,5O\",this is not a number", lines[3]);
        Assert.Equal(4, lines.Length);
        Assert.DoesNotContain("NO ", converted.Out.Split('\n').First(line => line.Contains("all  ", StringComparison.Ordinal)),
            StringComparison.Ordinal);
    }
}
