using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>The sceptical administrator: whatever is changed in the new store behind the program's back, match names it.</summary>
public sealed class MatchTests
{
    private static string Converted(DemoFolder office)
    {
        BuiltProgram.Run(office.Path, "convert", "QIH").Expect(0);
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(0).Says("Proved: the new store of QIH");
        return Path.Combine(office.WorkFolder("QIH"), "v6/ledger.db");
    }

    [Fact]
    public void Tampering_is_named_with_company_table_record_and_column()
    {
        using var office = new DemoFolder();
        string store = Converted(office), kept = store + ".kept";
        File.Copy(store, kept);

        Tried("UPDATE ledger_entry SET amount = amount + 1 WHERE entry_no = 4711", "value ledger_entry 4711 amount", totals: true);
        Tried("DELETE FROM ledger_entry WHERE entry_no = 4712", "missing ledger_entry 4712 ", totals: true);
        string early = DemoFolder.Ask(store, "SELECT posted_on FROM ledger_entry WHERE entry_no = 10")!, late =
            DemoFolder.Ask(store, "SELECT posted_on FROM ledger_entry WHERE entry_no = 70000")!;
        Tried($"UPDATE ledger_entry SET posted_on = CASE entry_no WHEN 10 THEN '{late}' ELSE '{early}' END WHERE entry_no IN (10, 70000)",
            "value ledger_entry 10 posted_on; value ledger_entry 70000 posted_on", totals: false);
        Tried("INSERT INTO note VALUES ('Z1', 'never written')", "extra note Z1 ", totals: false);
        Tried("UPDATE customer SET name = name || ' ' WHERE customer_no = 1001", "value customer 1001 name", totals: false);
        Tried("UPDATE supplier SET phone = NULL WHERE supplier_no = 5001", "value supplier 5001 phone", totals: false);
        // Two wrongs that cancel each other in every total are two wrongs all the same.
        Tried("UPDATE ledger_entry SET amount = amount + CASE entry_no WHEN 1 THEN 5 ELSE -5 END WHERE entry_no IN (1, 4)",
            "value ledger_entry 1 amount; value ledger_entry 4 amount", totals: true);
        // An amount written as a floating-point number, as a careless script would.
        Tried("UPDATE ledger_entry SET amount = 12.5 WHERE entry_no = 3", "value ledger_entry 3 amount", totals: null);

        void Tried(string sql, string expected, bool? totals)
        {
            File.Copy(kept, store, overwrite: true);
            Assert.True(DemoFolder.Execute(store, sql) > 0, sql);
            JsonElement company = BuiltProgram.Run(office.Path, "match", "QIH", "--json").Expect(1).Json.GetProperty("result")[0];
            Assert.Equal("QIH", company.GetProperty("company").GetString());
            JsonElement match = company.GetProperty("match"), hop = match.GetProperty("hops")[0];
            Assert.Equal(expected, string.Join("; ", hop.GetProperty("differences").EnumerateArray().Select(difference =>
                $"{difference.GetProperty("kind").GetString()} {difference.GetProperty("table").GetString()} "
                    + $"{difference.GetProperty("key").GetString()} "
                    + $"{difference.GetProperty("column").GetString()}").Order(StringComparer.Ordinal)));
            Assert.Equal("not-proved", match.GetProperty("verdict").GetString());
            bool disagree = hop.GetProperty("totals").EnumerateArray().Any(total => !total.GetProperty("isSame").GetBoolean());
            if (totals == true) Assert.True(disagree || sql.Contains("IN (1, 4)", StringComparison.Ordinal), sql);
            if (totals == false) Assert.False(disagree, sql);
        }
    }

    [Fact]
    public void An_entry_that_went_to_another_account_or_got_lost_is_told_of_the_accounts()
    {
        using var office = new DemoFolder();
        string store = Converted(office);
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(0).Says("children per parent: 4 links between tables; each record pointed to "
            + "has as many pointing to it as it should, leaving aside the 15 old records not carried");
        string account = DemoFolder.Ask(store, "SELECT account_id FROM ledger_entry WHERE entry_no = 1")!, other = DemoFolder.Ask(store,
            $"SELECT min(account_id) FROM account WHERE account_id <> {account}")!;
        DemoFolder.Execute(store, $"UPDATE ledger_entry SET account_id = {other} WHERE entry_no = 1; DELETE FROM ledger_entry WHERE "
            + $"entry_no = (SELECT max(entry_no) FROM ledger_entry WHERE account_id = {account})");
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(1).Says("children per parent: not the same in 2 of 4 links",
            $"ledger_entry.account_id -> account: {account} has 2 fewer; {other} has 1 more");
        JsonElement match = BuiltProgram.Run(office.Path, "match", "QIH", "--json").Expect(1).Json.GetProperty("result")[0]
            .GetProperty("match");
        JsonElement link = match.GetProperty("hops")[0].GetProperty("children").EnumerateArray().First(one =>
            one.GetProperty("parent").GetString() == "account");
        Assert.Equal((2, 2, 1, false), (link.GetProperty("differing").GetInt32(), link.GetProperty("fewer").GetInt32(),
            link.GetProperty("more").GetInt32(), link.GetProperty("isSame").GetBoolean()));
    }

    [Fact]
    public void A_difference_is_shown_with_what_was_expected_and_what_was_found()
    {
        using var office = new DemoFolder();
        string store = Converted(office);
        string amount = DemoFolder.Ask(store, "SELECT printf('%.2f', amount / 100.0) FROM ledger_entry WHERE entry_no = 4711")!;
        DemoFolder.Execute(store, "UPDATE ledger_entry SET amount = 7 WHERE entry_no = 4711");
        Called match = BuiltProgram.Run(office.Path, "match", "QIH").Expect(1).Says("NOT proved for QIH", "ledger_entry", "4711",
            "amount", amount, "0.07");
        Assert.Contains(match.Out.Split('\n'), line => line.Contains("4711", StringComparison.Ordinal)
            && line.Contains(amount, StringComparison.Ordinal)
            && line.Contains("0.07", StringComparison.Ordinal));
    }

    [Fact]
    public void A_private_value_is_never_shown_neither_in_words_nor_in_files()
    {
        using var office = new DemoFolder();
        string phone = DemoFolder.Ask(office.Store("QIH"), "SELECT PHONE FROM CUST WHERE CNO = 1007")!, address =
            DemoFolder.Ask(office.Store("QIH"), "SELECT ADDR1 FROM CUST WHERE CNO = 1008")!;
        // A phone number too long for its column, which makes the record an exception, and a private value that was tampered with.
        DemoFolder.Execute(office.Store("QIH"), "UPDATE CUST SET PHONE = '0999 555 0123 and at night 0999 555 0124' WHERE CNO = 1007");
        // While others point to it, the new store cannot be completed, and it is said which record is to blame.
        BuiltProgram.Run(office.Path, "convert", "QIH").Expect(1).Says("does not hold in the new store",
            "the first of them CUST \"1007\"", "(private)", "exceptions.csv");
        DemoFolder.Execute(office.Store("QIH"), "UPDATE INV SET CNO = 1008 WHERE CNO = 1007");
        Called check = BuiltProgram.Run(office.Path, "check", "QIH").Expect(1).Says("PHONE", "1007: \"(private)\""), converted =
            BuiltProgram.Run(office.Path, "convert", "QIH").Expect(1).Says("(private)");
        DemoFolder.Execute(Path.Combine(office.WorkFolder("QIH"), "v6/ledger.db"),
            "UPDATE customer_address SET line1 = 'Elsewhere 1' WHERE customer_no = 1008; DELETE FROM customer_address "
                + "WHERE customer_no = 1009");
        Called match = BuiltProgram.Run(office.Path, "match", "QIH").Expect(1).Says("customer_address", "1008", "line1", "(private)");
        string json = BuiltProgram.Run(office.Path, "match", "QIH", "--json").Expect(1).Out;
        string files = string.Concat(Directory.GetFiles(office["transferra"], "*", SearchOption.AllDirectories)
            .Where(path => Path.GetFileName(path) != "lock")
            .Select(File.ReadAllText));
        foreach (string secret in (string[])["555 0123", "Elsewhere", phone, address])
            foreach (string shown in (string[])[check.All, converted.All, match.All, json, files]) Assert.DoesNotContain(secret, shown,
                StringComparison.Ordinal);
    }

    [Fact]
    public void A_changed_old_store_does_not_match_either()
    {
        using var office = new DemoFolder();
        Converted(office);
        DemoFolder.Execute(office.Store("QIH"), "UPDATE JRNL SET CR = '0.01' WHERE JNO = 1");
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(1).Says("NOT proved", "Debits by period: all", "Balance by account: 1 of");
    }

    [Fact]
    public void Without_a_converted_store_it_says_what_to_do()
    {
        using var office = new DemoFolder(small: true);
        BuiltProgram.Run(office.Path, "match", "QIH").Expect(2).Says("no converted store", "transferra convert QIH");
    }
}
