using System.Text.Json;
using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The same upgrade on copies: what would stop it and how long it takes, with the office left as it is.</summary>
public sealed class RehearseTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private StoreAddress Company(string engine, string code = "A")
    {
        StoreAddress store = engine == "sqlite" ? _office.Add(code, engine, $"data {code}/books.db").Store
            : _office.Add(code, _servers.Database(engine, code.ToLowerInvariant())).Store;
        _office.WriteOffice();
        return store;
    }

    private static JsonElement One(Called called, int company = 0) => called.Json.GetProperty("result").GetProperty("rehearsal")
        .GetProperty("companies")[company];

    // All databases of the server that a rehearsal has made, itself or by its run. No other class of tests rehearses on servers.
    private static string[] MadeOn(StoreAddress store) => [.. new StoreOpener().ServerOf(store).Names(store.Path)
        .Where(name => name.Contains("-rehearsal-", StringComparison.Ordinal)
            || name.Split(StoreAddress.RunPrefix).Length > 2)];

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    [InlineData("firebird")]
    public void It_goes_the_whole_way_on_a_copy_and_leaves_the_office_as_it_is(string engine)
    {
        StoreAddress store = Company(engine);
        IReadOnlyList<string> rows = OddOffice.Rows(store);
        // No word was given, nothing is closed: all that a rehearsal can see is fine, and the open gates are told.
        Called called = _office.Run("rehearse", "--json").Expect(1);
        JsonElement company = One(called);
        Assert.Equal(("through", "proved", ""), (company.GetProperty("outcome").GetString(), company.GetProperty("verdict").GetString(),
            company.GetProperty("source").GetString()));
        Assert.True(company.GetProperty("isOriginalAsBefore").GetBoolean());
        Assert.Equal(["check", "backup", "convert", "match", "change-over", "check-again"],
            company.GetProperty("stages").EnumerateArray().Select(stage => stage.GetProperty("stage").GetString()));
        Assert.Equal("2", Assert.Single(company.GetProperty("hops").EnumerateArray()).GetProperty("to").GetString());
        Assert.Contains(company.GetProperty("longest").EnumerateArray(), part => part.GetProperty("what").GetString() == "ITEM");
        Assert.Equal(rows, OddOffice.Rows(store));
        Assert.False(Directory.Exists(_office["transferra/runs"]));
        Assert.Empty(Directory.GetDirectories(_office["transferra/rehearsals"], "transferra-rehearsal-*"));
        Assert.False(Directory.Exists(_office["sets"]));
        if (store.IsOnServer) Assert.Empty(MadeOn(store));
        _office.Run("ready").Says("A", "the rehearsal of ", " took ");
        // And the real one comes out the same.
        _office.Ready();
        if (engine == "firebird") _office.Run("ready", "--confirm", "A/forced-writes");
        _office.Upgrade().Expect(0);
    }

    [Fact]
    public void It_is_made_of_the_newest_proved_set_or_of_what_is_there_now_also_while_people_work()
    {
        StoreAddress store = Company("sqlite");
        _office.Run("backup").Expect(0);
        DemoFolder.Execute(store.Path, "INSERT INTO ITEM (INO, NAME) VALUES (9, 'later')");
        JsonElement company = One(_office.Run("rehearse", "--json").Expect(1));
        Assert.Contains("/sets/A_odd_v1_", company.GetProperty("source").GetString(), StringComparison.Ordinal);
        Assert.Equal(8, company.GetProperty("records").GetInt64());
        string before = Convert.ToHexString(File.ReadAllBytes(store.Path));
        using (var at = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={store.Path};Pooling=False"))
        {
            at.Open();
            using Microsoft.Data.Sqlite.SqliteCommand reading = at.CreateCommand();
            reading.CommandText = "BEGIN; SELECT * FROM ITEM";
            reading.ExecuteScalar();
            company = One(_office.Run("rehearse", "--fresh", "--json").Expect(1));
        }
        Assert.Equal(("through", "", 9), (company.GetProperty("outcome").GetString(), company.GetProperty("source").GetString(),
            company.GetProperty("records").GetInt64()));
        Assert.Equal(before, Convert.ToHexString(File.ReadAllBytes(store.Path)));
        // A set that is damaged since is not what a night is planned with.
        string set = Assert.Single(Directory.GetFiles(_office["sets"], "*.tar"));
        byte[] bytes = File.ReadAllBytes(set);
        const int header = 512, inside = 100;
        bytes[bytes.AsSpan().LastIndexOf("store/books.db"u8) + header + inside] ^= 0x55;
        File.WriteAllBytes(set, bytes);
        _office.Run("rehearse").Expect(1).Says("is damaged", "To rehearse on what is there now: transferra rehearse "
            + "--fresh", "not rehearsed");
    }

    [Fact]
    public void What_would_stop_the_real_run_is_told_company_by_company()
    {
        Company("sqlite");
        StoreAddress bad = Company("sqlite", "B"), gone = Company("sqlite", "C");
        DemoFolder.Execute(bad.Path, "INSERT INTO ITEM (INO, NAME, MADE) VALUES (77, 'x', '31.02.2024')");
        File.WriteAllText(gone.Path, "not a database");
        Called told = _office.Run("rehearse").Expect(1).Says("C cannot be rehearsed", "A through", "B stopped",
            "the check found 1 fault", "B: the original is as it was before, by its digest", "Its results and lists are kept in ");
        told.SaysNot("Closed time to expect");
        Assert.NotEmpty(Directory.GetFiles(_office["transferra/rehearsals"], "exceptions.csv", SearchOption.AllDirectories));
    }

    [Fact]
    public void Kept_it_can_be_looked_at_and_is_let_go_at_a_word()
    {
        Company("sqlite");
        StoreAddress server = Company("postgresql", "B");
        string elsewhere = _office["other disk"];
        Directory.CreateDirectory(elsewhere);
        Called called = _office.Run("rehearse", "--keep", "--in", elsewhere, "--json").Expect(1);
        string kept = One(called).GetProperty("kept").GetString()!;
        Assert.StartsWith(elsewhere, kept, StringComparison.Ordinal);
        Assert.Equal("2", DemoFolder.Ask(kept, "SELECT val FROM version"));
        DemoFolder.Execute(kept, "DELETE FROM item"); // whoever looks at it may try anything
        Assert.NotEmpty(MadeOn(server));
        _office.Run("rehearse", "A").Expect(1); // another one leaves it alone
        Assert.True(File.Exists(kept));
        _office.Run("rehearse", "--let-go").Expect(0).Says("is removed");
        Assert.Empty(Directory.GetFileSystemEntries(elsewhere));
        Assert.Empty(MadeOn(server));
        _office.Run("rehearse", "--let-go").Expect(0).Says("Nothing is left of a rehearsal.");
    }

    [Theory] // killed anywhere, nothing of the office is touched, and the next one clears away what is left
    [InlineData(150)]
    [InlineData(400)]
    public void Killed_it_leaves_the_office_as_it_is(int operation)
    {
        Company("sqlite");
        StoreAddress server = Company("postgresql", "B");
        IReadOnlyDictionary<string, string> before = _office.Signature("data A");
        IReadOnlyList<string> rows = OddOffice.Rows(server);
        BuiltProgram.RunUntil(operation, _office.Path, "rehearse");
        Assert.Equal(before, _office.Signature("data A"));
        Assert.Equal(rows, OddOffice.Rows(server));
        _office.Run("rehearse").Expect(1).Says("A through", "B through");
        Assert.Empty(Directory.GetDirectories(_office["transferra/rehearsals"], "transferra-rehearsal-*"));
        Assert.Empty(MadeOn(server));
        Assert.Equal(before, _office.Signature("data A"));
    }

    [Fact]
    public void A_folder_that_is_not_the_one_it_made_is_left_alone()
    {
        Company("sqlite");
        string kept = One(_office.Run("rehearse", "--keep", "--json").Expect(1)).GetProperty("kept").GetString()!;
        string folder = kept[..kept.IndexOf("/data/", StringComparison.Ordinal)];
        File.WriteAllText(Path.Combine(folder, "transferra-rehearsal.json"), "{}");
        _office.Run("rehearse", "--let-go").Expect(4).Says("is left as it is");
        Assert.True(File.Exists(kept));
    }

    [Fact]
    public void Without_room_or_folder_it_says_so_before_anything_is_made()
    {
        Company("sqlite");
        _office.Run("rehearse", "--in", _office["no such"]).Expect(2).Says("there is no folder");
        _office.More.Insert(0, "keep-free: 4000 TB");
        _office.WriteOffice();
        _office.Run("rehearse").Expect(2).Says("a rehearsal needs up to", "to be kept free", "--in DIR");
        Assert.False(Directory.Exists(_office["transferra/rehearsals"]));
    }

    [Fact]
    public void Scripts_cannot_reach_the_original_from_a_rehearsal_or_from_a_later_hop()
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"1b\", \"2\"]\nhops: [1-to-1b, 1b-to-2]\n");
        foreach (string version in (string[])["1", "1b", "2"])
            _office.Write($"kit/versions/{version}.yaml",
                $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT `VAL` FROM `VER`', is: \"{version}\"}}]\n");
        StoreAddress store = Company("mariadb");
        foreach ((string from, string to) in ((string, string)[])[("1", "1b"), ("1b", "2")])
            _office.Write($"kit/hops/{from}-to-{to}.yaml", $"hop: {{from: \"{from}\", to: \"{to}\"}}\n"
                + $"means: {{scripts: {{files: [to-{to}.sql]}}}}\ntables:\n  - {{from: VER, into: {{VER: {{VAL: \"'{to}'\"}}}}}}\n");
        _office.Write("kit/to-1b.sql", "UPDATE VER SET VAL = '1b';");
        _office.Write("kit/to-2.sql", $"UPDATE VER SET VAL = '2'; DELETE FROM `{store.Path}`.ITEM;");
        _office.Run("rehearse").Expect(1).Says($"it names the database {store.Path} itself");
        _office.Ready();
        _office.Upgrade().Expect(1).Says($"it names the database {store.Path} itself");
        Assert.Equal("5", TestServers.Ask(store, "SELECT COUNT(*) FROM ITEM"));
    }

    [Fact]
    public void A_person_may_do_a_hop_by_hand_on_the_copy_or_leave_it_for_the_night()
    {
        _office.Write("kit/kit.yaml", "kit: odd\ntitle: Odd\nversions: [\"1\", \"2\"]\nhops: [1-to-2]\n");
        foreach (string version in (string[])["1", "2"])
            _office.Write($"kit/versions/{version}.yaml",
                $"version: \"{version}\"\ntold-by: [{{sql: 'SELECT VAL FROM VER', is: \"{version}\"}}]\n");
        _office.Write("kit/hops/1-to-2.yaml", "hop: {from: \"1\", to: \"2\"}\nmeans: {by-hand: {steps: [\"Open {store}.\"]}}\n");
        Company("sqlite");
        _office.Run("rehearse").Expect(1).Says("A waits for you", "A waits 8", "left for the night");
        BuiltProgram.RunTyping("later", _office.Path, "rehearse").Expect(1).Says("or type later to leave it for the night", "A waits 8");
    }
}
