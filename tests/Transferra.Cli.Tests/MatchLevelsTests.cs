using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What a match says beside the records: versions, settings, documents by their digests; and samples, which are no
/// proof.</summary>
public sealed class MatchLevelsTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    [Fact]
    public void Documents_that_are_altered_gone_or_added_are_named_by_their_digests()
    {
        OddCompany company = _office.Add("A", "sqlite", "a b/a.db");
        _office.Companies[0] = company with { More = ["documents: [papers, 'more papers']"] };
        string first = _office.Write("papers/in/letter 1.txt", "Dear all"), second = _office.Write("papers/scan.pdf", "%PDF");
        _office.Write("more papers/ünïcode.txt", "x");
        _office.Write("more papers/empty.txt", "");
        File.CreateSymbolicLink(_office["papers/link"], "scan.pdf");
        TempFolder.Shell(_office.Path, "ln 'papers/scan.pdf' 'papers/again.pdf'");
        _office.Ready().Upgrade().Expect(0);
        _office.Run("match").Expect(0).Says("Data version: 1 in the old store, 2 in the new one.",
            "Documents: 6 files are unchanged since the set of", "compared by SHA-256.");
        // The same size and the same time: only the content is another.
        DateTime at = File.GetLastWriteTimeUtc(first);
        File.WriteAllText(first, "Dear ell");
        File.SetLastWriteTimeUtc(first, at);
        File.Delete(_office["more papers/empty.txt"]);
        File.Delete(_office["papers/link"]);
        File.CreateSymbolicLink(_office["papers/link"], "again.pdf");
        _office.Write("papers/new.txt", "new");
        Called match = _office.Run("match").Expect(1).Says("Documents: 3 files are unchanged", "2 altered; 1 gone; 1 added since",
            "altered: " + _office["papers/in/letter 1.txt"], "altered: " + _office["papers/link"],
            "gone: " + _office["more papers/empty.txt"], "added since: " + _office["papers/new.txt"], "Proved: the new store of A",
                "Not every document is proved to be unchanged");
        JsonElement documents = _office.Run("match", "--json").Expect(1).Json.GetProperty("result")[0].GetProperty("match")
            .GetProperty("levels").GetProperty("documents");
        Assert.Equal((2, 1, 1), (documents.GetProperty("altered").GetProperty("count").GetInt32(),
            documents.GetProperty("gone").GetProperty("count").GetInt32(), documents.GetProperty("added").GetProperty("count").GetInt32()));
        // Without the set there is nothing to hold them against, and that is said.
        foreach (string set in Directory.GetFiles(_office["sets"])) File.Delete(set);
        _office.Run("match").Expect(1).Says("Documents: not compared");
        string page = File.ReadAllText(Directory.GetFiles(_office["transferra/runs"], "signoff.html",
            SearchOption.AllDirectories).Single());
        Assert.Contains("Documents: 6 unchanged since the set", page, StringComparison.Ordinal);
        Assert.Contains("Room on the disks", page, StringComparison.Ordinal);
        Assert.Matches("[0-9.]+ [kKMGT]?B free before, [0-9.]+ [kKMGT]?B after, of ", page);
        Assert.Equal("%PDF", File.ReadAllText(second));
    }

    [Fact]
    public void A_sample_finds_what_is_in_it_says_how_sure_it_is_and_is_never_called_a_proof()
    {
        string old = _office.Add("A", "sqlite", "a.db", 20_000).Store.Path, renewed = _office["b.db"];
        File.Copy(old, renewed);
        Called sample(params string[] more) => _office.Run(["match", "--old", old, "--new", renewed, "--sample", "1000", .. more]);
        sample().Expect(1).Says("ITEM: 1,000 of 20,000 records compared: the first, the last, and 48 blocks drawn at random.",
            "If one record in 320 differed",
            "as far as they were compared: 3 tables",
            "No difference in the sample. That is no proof").SaysNot("Proved", "Values compared: 100 %");
        // The first and the last records are always in it, and so are those that came before and after.
        DemoFolder.Execute(renewed, "UPDATE ITEM SET NAME = 'another' WHERE INO IN (1, 20000)");
        Assert.Equal(2, Differences(sample("--json")));
        File.Copy(old, renewed, overwrite: true);
        DemoFolder.Execute(renewed, "DELETE FROM ITEM WHERE INO = 20000; INSERT INTO ITEM SELECT 20500, NAME, PRICE, MADE, GNO "
            + "FROM ITEM WHERE INO = 5");
        Assert.Equal(2, Differences(sample("--json")));
        // As many as should be found are: 1,000 of 20,000 drawn, every 20th record altered.
        File.Copy(old, renewed, overwrite: true);
        DemoFolder.Execute(renewed, "UPDATE ITEM SET NAME = 'another' WHERE INO % 20 = 3");
        Assert.Equal(50, Differences(sample("--json")));
        // One record less between the blocks is not located, but told.
        File.Copy(old, renewed, overwrite: true);
        DemoFolder.Execute(renewed, "DELETE FROM ITEM WHERE INO BETWEEN 100 AND 400");
        sample().Expect(1).Says("NOT the same").SaysNot("No difference");
        _office.Run("match", "--old", old, "--new", renewed, "--sample", "0").Expect(2).Says("at least 1");
        _office.Run("match", "A", "--sample", "5").Expect(2).Says("never a sample");

        static long Differences(Called called) => called.Expect(1).Json.GetProperty("result").GetProperty("match").GetProperty("hops")[0]
            .GetProperty("differenceCount").GetInt64();
    }

    [Theory]
    [InlineData("postgresql", "postgresql")]
    [InlineData("mariadb", "firebird")]
    [InlineData("firebird", "postgresql")]
    public void A_sample_takes_the_same_records_on_any_two_engines(string one, string another)
    {
        string place(string engine, string name)
        {
            var database = _servers.Database(engine, name);
            OddOffice.Fill(database, "A", 3000);
            return OddOffice.ServerYaml(database);
        }
        string old = place(one, "one"), renewed = place(another, "another");
        _office.Run("match", "--old", old, "--new", renewed, "--sample", "500").Expect(1).Says(" 500 of 3,000 records compared",
            "No difference in the sample").SaysNot("Missing");
    }
}
