using System.Text.Json;
using Transferra.Core.Records;

namespace Transferra.Cli.Tests;

/// <summary>What real packages need of a kit beyond the plain forms: sums that look up, answers of the office, links of some records, links
/// to one of several tables, and values that mean none.</summary>
public sealed class KitFormsTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private const string Books = """
        CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, VAL VARCHAR(10));
        INSERT INTO VER VALUES ('DATA', '1');
        CREATE TABLE ACC (ACODE VARCHAR(4) PRIMARY KEY, KIND VARCHAR(1));
        INSERT INTO ACC VALUES ('1000', 'B'), ('1010', 'B'), ('4000', 'I');
        CREATE TABLE INV (INO INTEGER PRIMARY KEY);
        INSERT INTO INV VALUES (1), (2);
        CREATE TABLE CRED (CNO INTEGER PRIMARY KEY);
        INSERT INTO CRED VALUES (7);
        CREATE TABLE POST (PNO INTEGER PRIMARY KEY, ACODE VARCHAR(4), CENTS INTEGER, KIND VARCHAR(1), REFNO INTEGER, REFTXT VARCHAR(6),
            SLIP INTEGER);
        INSERT INTO POST VALUES (1, '1000', 500, 'I', 1, '1', 10), (2, '1010', 250, 'I', 2, '', 11), (3, '4000', -750, 'C', 7, '7', 10),
            (4, '1000', 0, 'C', 0, '0', 10), (5, '1000', 0, 'X', 99, NULL, NULL);
        """;

    private const string Version = """
        version: "1"
        told-by: [{table: VER, column: VAL, where: "WHAT = 'DATA'", is: "1"}]
        same-as: the-store
        tables:
          POST:
            no-two: [{columns: [SLIP], where: "KIND = 'I'", because: a slip is posted once}]
            relations:
              - {columns: [REFNO], to: INV, on: [INO], where: "KIND = 'I'"}
              - {columns: [REFNO], to: CRED, on: [CNO], where: "KIND = 'C'", none: ["0"]}
              - {columns: [REFNO], to-one-of: [{to: INV, on: [INO]}, {to: CRED, on: [CNO]}], none: ["0"], where: "KIND <> 'X'"}
        rules:
          - {name: books balance, table: POST, by: [], sum: CENTS, must-be: "0"}
          - {name: income by kind of account, table: POST, by: [account.KIND], lookups: {account: {by: ACODE, table: ACC, on: ACODE}},
             sum: CENTS, where: "account.KIND = 'I'", must-be: "-750"}
          - {name: nothing is booked on the closed account, table: POST, holds: "ACODE <> :closed_account"}
        control-totals:
          - {name: By kind of account, table: POST, by: [account.KIND], lookups: {account: {by: ACODE, table: ACC, on: ACODE}}, sum: CENTS}
          - {name: On the bank, sql: {sqlite: "SELECT SUM(CENTS) FROM POST WHERE ACODE = :bank AND '12:30' <> ''"}}

        """;

    private void Kit(string asks = "")
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n" + asks);
        _office.Write("kit/versions/1.yaml", Version);
        _office.Write("kit/versions/2.yaml", Version.Replace("version: \"1\"", "version: \"2\"", StringComparison.Ordinal)
            .Replace("is: \"1\"", "is: \"2\"", StringComparison.Ordinal));
        _office.Write("kit/hops/1-to-2.yaml", """
            hop: {from: "1", to: "2"}
            tables: [{from: VER, into: {VER: {VAL: "'2'"}}}]

            """);
    }

    private const string Asks = """
        asks:
          - {name: bank, question: Which account is the bank?}
          - {name: closed_account, question: Which account is closed?}

        """;

    private void Office(string change = "", params string[] more)
    {
        Directory.CreateDirectory(_office["data"]);
        DemoFolder.Execute(_office["data/a.db"], Books + change);
        _office.Companies.Add(new OddCompany("A", new StoreAddress("sqlite", _office["data/a.db"]), "{sqlite: data/a.db}") { More = more });
        _office.Ready();
    }

    private IReadOnlyList<(string Kind, string Subject, long Count, string What)> Found() => [.. _office.Run("check", "--json").Json
        .GetProperty("result")[0].GetProperty("check").GetProperty("findings").EnumerateArray().Select(finding =>
            (finding.GetProperty("kind").GetString()!, finding.GetProperty("subject").GetString()!,
            finding.GetProperty("count").GetInt64(), finding.GetProperty("what").GetString()!)).Where(finding => finding.Item1
            != "tables-as-they-are")];

    [Fact]
    public void Sound_books_have_no_finding_and_go_through_with_their_totals()
    {
        Kit(Asks);
        Office(more: "answers: {bank: \"1000\", closed_account: \"9999\"}");
        Assert.Empty(Found());
        Called upgraded = _office.Upgrade().Expect(0);
        JsonElement totals = _office.Run("match", "--json").Expect(0).Json.GetProperty("result")[0].GetProperty("match");
        string text = totals.GetRawText();
        foreach (string line in (string[])["\"750\"", "\"-750\"", "\"500\""]) Assert.Contains(line, text, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("UPDATE POST SET REFNO = 3 WHERE PNO = 1", "orphan", "REFNO to INV", 1)]      // another kind's would do, but not this one
    [InlineData("UPDATE POST SET REFNO = 7 WHERE PNO = 2", "orphan", "REFNO to INV", 1)]
    [InlineData("UPDATE POST SET REFNO = 1 WHERE PNO = 3", "orphan", "REFNO to CRED", 1)]
    [InlineData("UPDATE POST SET SLIP = 10 WHERE PNO = 2", "same-business-key", "SLIP", 2)]
    [InlineData("UPDATE ACC SET KIND = 'B' WHERE ACODE = '4000'; UPDATE ACC SET KIND = 'I' WHERE ACODE = '1010'", "rule-broken",
        "income by kind of account", 1)]
    [InlineData("UPDATE POST SET ACODE = '9999' WHERE PNO = 5", "rule-broken", "nothing is booked on the closed account", 1)]
    public void What_is_wrong_is_found_where_it_is_said(string change, string kind, string subject, int count)
    {
        Kit(Asks);
        Office(change, "answers: {bank: \"1000\", closed_account: \"9999\"}");
        IReadOnlyList<(string Kind, string Subject, long Count, string What)> found = Found();
        Assert.Contains(found, finding => finding.Kind == kind && finding.Subject == subject && finding.Count == count);
        // A link that leads nowhere at all is one to none of several as well.
        Assert.True(found.Count == (change.Contains("= 3 WHERE", StringComparison.Ordinal) ? 2 : 1), string.Join("\n", found));
    }

    [Fact]
    public void What_nobody_has_answered_blocks_the_upgrade_and_is_not_judged()
    {
        Kit(Asks);
        Office();
        Assert.Contains(Found(), finding => finding.Kind == "not-checked" && finding.What.Contains("nobody has answered closed_account",
            StringComparison.Ordinal));
        _office.Run("ready").Expect(2).Says("the kit asks: Which account is the bank?", "answers: {bank: ...}");
    }

    [Fact]
    public void An_answer_is_a_text_to_the_engine_whatever_is_in_it()
    {
        Kit(Asks);
        Office("INSERT INTO ACC VALUES ('O''B', 'B'); UPDATE POST SET ACODE = 'O''B' WHERE ACODE = '1000'",
            "answers: {bank: \"O'B\", closed_account: \"' OR '1'='1\"}");
        _office.Upgrade().Expect(0);
        Assert.Contains("\"500\"", _office.Run("match", "--json").Expect(0).Json.GetRawText(), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("sum: CENTS, must-be: \"0\"}", "sum: account.CENTS, must-be: \"0\"}", "account")]
    [InlineData("to: CRED, on: [CNO], where", "to: CRED, on: [NIX], where", "no column NIX")]
    [InlineData("to-one-of: [{to: INV, on: [INO]}", "to-one-of: [{to: INF, on: [INO]}", "did you mean")]
    [InlineData("where: \"KIND = 'I'\", because", "where: \"KING = 'I'\", because", "KING")]
    [InlineData(":closed_account\"", ":closed_acount\"", "closed_acount")]
    public void A_mistake_in_them_is_told_with_its_place(string right, string wrong, string words)
    {
        Kit(Asks);
        _office.Write("kit/versions/1.yaml", Version.Replace(right, wrong, StringComparison.Ordinal));
        Directory.CreateDirectory(_office["data"]);
        DemoFolder.Execute(_office["data/a.db"], Books);
        Called called = _office.Run("kit", "check", _office["kit"], "--old", _office["data/a.db"]);
        Assert.Equal(2, called.ExitCode);
        called.Says("1.yaml", words);
    }

    [Theory]
    [InlineData("path: '/LEDG(?<version>[0-9])/'")]
    [InlineData("file: level.txt, pattern: 'Level (?<version>[0-9]+)'")]
    [InlineData("file: level.ini, ini: Data/Level")]
    public void A_version_told_by_what_lies_around_the_store_is_told_by_the_store_once_that_tells(string sign)
    {
        Kit();
        _office.Write("kit/versions/1.yaml", $"version: \"1\"\ntold-by: [{{{sign}, is: \"1\"}}]\nsame-as: the-store\n");
        Directory.CreateDirectory(_office["data/LEDG1"]);
        _office.Write("data/LEDG1/level.txt", "Level 1\n");
        _office.Write("data/LEDG1/level.ini", "[Data]\nLevel=1\n");
        DemoFolder.Execute(_office["data/LEDG1/a.db"], "CREATE TABLE VER (WHAT VARCHAR(10) NOT NULL PRIMARY KEY, VAL VARCHAR(10)); "
            + "INSERT INTO VER VALUES ('FIRM', 'x'); CREATE TABLE T (A INTEGER PRIMARY KEY); INSERT INTO T VALUES (1)");
        _office.Write("kit/versions/2.yaml", OddOffice.OfStore(OddOffice.NewVersion).Replace("table: version, column: val, where: \"what",
            "table: VER, column: VAL, where: \"WHAT", StringComparison.Ordinal));
        _office.Write("kit/hops/1-to-2.yaml", "hop: {from: \"1\", to: \"2\"}\nnew-records: [{into: VER, columns: {WHAT: \"'DATA'\", VAL: "
            + "\"'2'\"}, because: the version}]\n");
        _office.Companies.Add(new OddCompany("A", new StoreAddress("sqlite", _office["data/LEDG1/a.db"]), "{sqlite: data/LEDG1/a.db}"));
        _office.Ready();
        _office.Run("survey").Says("version 1 by");
        _office.Upgrade().Expect(0);
        // Around it, all is as it was.
        _office.Run("survey").Expect(0).Says("version 2 by VER.VAL");
        _office.Run("undo", "--yes", "A").Expect(0);
        _office.Run("survey").Says("version 1 by");
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("dbf")]
    public void A_table_in_another_code_page_is_read_in_its_own(string engine)
    {
        string version = OddOffice.OldVersion.Replace("told-by", "text-encoding: windows-1252\ntold-by", StringComparison.Ordinal)
            .Replace("key: [GNO]}", "key: [GNO], text-encoding: ibm850}", StringComparison.Ordinal);
        _office.WriteKit(oldVersion: version);
        string path = engine == "sqlite" ? "data/a.db" : "data/a";
        OddCompany company = _office.Add("A", engine, path, 5);
        // A u with two dots: 0x81 in ibm850, 0xFC in windows-1252. The engine of the test writes neither, so the bytes are put there.
        if (engine == "sqlite")
            DemoFolder.Execute(company.Store.Path, "UPDATE GRP SET TITLE = CAST(X'4D81' AS TEXT) WHERE GNO = 1; UPDATE ITEM SET NAME = "
                + "CAST(X'4DFC' AS TEXT) WHERE INO = 1");
        else
            foreach ((string table, byte letter) in ((string, byte)[])[("GRP", 0x81), ("ITEM", 0xFC)])
            {
                string file = Directory.GetFiles(company.Store.Path, table + ".*").Single(name => !name.EndsWith(".cpg",
                    StringComparison.OrdinalIgnoreCase));
                byte[] bytes = File.ReadAllBytes(file);
                int at = bytes.AsSpan().IndexOf(table == "GRP" ? "brass"u8 : "A item"u8);
                Assert.True(at > 0, $"nothing to change in {file}");
                bytes[at] = letter;
                File.WriteAllBytes(file, bytes);
                foreach (string page in Directory.GetFiles(company.Store.Path, "*.cpg")) File.Delete(page);
            }
        _office.Ready();
        _office.Run("check").SaysNot("not text", "not-text");
        _office.Upgrade().Expect(0);
        string rows = string.Join("\n", OddOffice.Rows(company.Store));
        Assert.Equal(2, rows.Count(letter => letter == '\u00FC'));
        // A set says so, too: looked at without the kit, it reads the same.
        string set = Directory.GetFiles(_office["sets"], "*.tar")[0];
        _office.Run("check", "--store", set).SaysNot("not text", "not-text");
    }
}
