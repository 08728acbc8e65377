using System.Text.Json;
using System.Text.RegularExpressions;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A match weeks later: with the old store gone, then with its backup set gone as well, and people who have gone on.</summary>
public sealed class MatchSinceTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private string RunFolder => Directory.GetDirectories(_office["transferra/runs"]).Single();

    [Fact]
    public void Without_the_old_store_its_backup_set_is_matched_record_by_record()
    {
        OddCompany company = _office.Add("A", "sqlite", "it's/a b.db", 300);
        _office.Ready().Upgrade().Expect(0);
        File.Delete(Aside("A"));
        _office.Run("match").Expect(0).Says("is not there any more; its backup set is:", "Proved: the new store of A").SaysNot("Convert");
        DemoFolder.Execute(company.Store.Path, "UPDATE item SET name = 'another' WHERE item_no = 7");
        _office.Run("match").Expect(1).Says("item", "another");
        // Another set under its name is not used, nor one that is damaged, and that is said.
        string set = Directory.GetFiles(_office["sets"], "A_*").Single(), kept = _office["kept.tar"];
        File.Copy(set, kept);
        _office.Run("backup", "A").Expect(0);
        File.Copy(Directory.GetFiles(_office["sets"], "A_*").Single(path => path != set), set, overwrite: true);
        _office.Run("match").Expect(1).Says("is not the set that the run made", "NOT unaltered for A").SaysNot("another");
        File.Copy(kept, set, overwrite: true);
        using (FileStream file = File.OpenWrite(set)) file.SetLength(file.Length / 2);
        _office.Run("match").Expect(1).Says("The backup set of the run cannot be used", "is not there any more", "NOT unaltered for A")
            .SaysNot("another");
        Assert.DoesNotContain(Directory.GetFileSystemEntries(_office.Path, "*unpacked*", SearchOption.AllDirectories), _ => true);
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void Without_the_old_database_its_set_is_made_a_database_again_for_the_while(string engine)
    {
        OddCompany company = _office.Add("A", _servers.Database(engine, "again"), 300);
        _office.Ready().Upgrade().Expect(0);
        RemoveAside(company);
        IStoreServer server = new StoreOpener().ServerOf(company.Store);
        // Those of this office, by whose number they are called; other tests make and remove databases on this server meanwhile.
        string[] made() => [.. server.Names(company.Store.Path).Where(name => name.Contains(OfficeIdentity.Find(_office.Path)!.Short,
            StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal)];
        string[] before = made();
        _office.Run("match").Expect(0).Says("made a database again for the while", "Proved: the new store of A", " kinds");
        TestServers.Execute(company.Store, engine == "firebird" ? "UPDATE \"item\" SET \"name\" = 'another' WHERE \"item_no\" = 7"
            : "UPDATE item SET name = 'another' WHERE item_no = 7");
        _office.Run("match").Expect(1).Says("item", "another");
        Assert.Equal(before, made());
        // Two commands of one office would take the database from each other.
        using (OfficeRuns.Lock(_office.Path, new DiskVolume()))
            _office.Run("match").Expect(2).Says("another transferra is at work on this office");
        string set = Directory.GetFiles(_office["sets"], "A_*").Single();
        using (FileStream file = File.OpenWrite(set)) file.SetLength(file.Length / 2);
        _office.Run("match").Expect(1).Says("The backup set of the run cannot be used", "NOT unaltered for A").SaysNot("another");
        Assert.Equal(before, made());
        Assert.DoesNotContain(Directory.GetFileSystemEntries(_office.Path, "*unpacked*", SearchOption.AllDirectories), _ => true);
    }

    private string Aside(string code) => Directory.GetFiles(_office.Path, "*.db", SearchOption.AllDirectories)
        .Single(path => path.Contains($"-{code}/old-v1/", StringComparison.Ordinal));

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void With_nothing_left_the_records_of_then_are_told_from_those_added_since(string engine)
    {
        OddCompany company = engine == "sqlite" ? _office.Add("A", engine, "a.db", 1000)
            : _office.Add("A", _servers.Database(engine, "a"), 1000);
        _office.Ready().Upgrade().Expect(0);
        LetGo(company);
        void change(string sql)
        {
            if (engine == "firebird") sql = Regex.Replace(sql, @"\b(item|item_no|name)\b", "\"$1\"");
            if (engine == "sqlite") DemoFolder.Execute(company.Store.Path, sql);
            else TestServers.Execute(company.Store, sql);
        }
        _office.Run("match").Expect(0).Says("is not there any more", "digests of its records, not the records themselves",
            "Unaltered for A: all records from then are still there, and none was added.", "proved to be those of the old store");
        change("INSERT INTO item (item_no, name) VALUES (5000, 'new')");
        _office.Run("match").Expect(1).Says("1 record was added at the end").SaysNot("NOT");
        JsonElement item() => _office.Run("match", "--json").Expect(1).Json.GetProperty("result")[0].GetProperty("since")
            .GetProperty("tables").EnumerateArray().Single(table => table.GetProperty("table").GetString() == "item");
        Assert.Equal((1000, 1001, 1, 0), Told(item()));
        // One value of one record; it is put back; one record less; one that takes its place.
        change("UPDATE item SET name = 'altered' WHERE item_no = 5");
        _office.Run("match").Expect(1).Says("NOT unaltered for A: in 1 table", "NO, in 1 of 16 groups");
        Assert.Equal((1000, 1001, 1, 1), Told(item()));
        change("DELETE FROM item WHERE item_no = 5");
        Assert.Equal((1000, 1000, 1, 1), Told(item()));
        change("INSERT INTO item (item_no, name) VALUES (-1, 'among')");
        (int then, int now, int later, int differing) = Told(item());
        Assert.Equal((1000, 1001, 1), (then, now, later));
        Assert.InRange(differing, 1, 2);
        change("DROP TABLE item");
        _office.Run("match").Expect(1).Says("NO: it is gone");
    }

    private static (int Then, int Now, int Later, int Differing) Told(JsonElement table) => (table.GetProperty("then").GetInt32(),
        table.GetProperty("now").GetInt32(), table.GetProperty("later").GetInt32(), table.GetProperty("differing").GetInt32());

    private void LetGo(OddCompany company)
    {
        if (!company.Store.IsOnServer) File.Delete(Aside(company.Code));
        else RemoveAside(company);
        foreach (string set in Directory.GetFiles(_office["sets"])) File.Delete(set);
    }

    private void RemoveAside(OddCompany company)
    {
        StoreAddress aside = company.Store.Beside("", Path.GetFileName(RunFolder), "old-v1");
        new StoreOpener().ServerOf(aside).Remove(aside.Path);
    }

    [Fact]
    public void What_was_recorded_counts_only_as_the_journal_says_it_was()
    {
        OddCompany company = _office.Add("A", "sqlite", "a.db", 50);
        _office.Ready().Upgrade().Expect(0);
        LetGo(company);
        string recorded = Path.Combine(RunFolder, "A", "match-found.json"), was = File.ReadAllText(recorded);
        File.WriteAllText(recorded, was.Replace("\"records\": 50", "\"records\": 51", StringComparison.Ordinal));
        Assert.NotEqual(was, File.ReadAllText(recorded));
        _office.Run("match").Expect(2).Says("match-found.json is gone or was altered", "transferra match --old SET").SaysNot("Unaltered");
        _office.Run("signoff", "--verify").SaysNot("everything still belongs together");
        File.WriteAllText(recorded, was);
        _office.Run("match").Expect(0).Says("Unaltered for A");
        // The texts of records are not in it.
        Assert.DoesNotContain("A item", was, StringComparison.OrdinalIgnoreCase);
    }
}
