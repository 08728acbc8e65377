using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Two stores, sets or folders against each other, with no kit, and with no office where there is none.</summary>
public sealed class BareMatchTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private Called Match(string old, string renewed) => _office.Run("match", "--old", old, "--new", renewed);

    private string Store(string engine, string name)
    {
        if (!StoreAddress.ServerEngines.Contains(engine)) return _office.Add(name.ToUpperInvariant(), engine, $"stores/{name}"
            + (engine == "sqlite" ? ".db" : "")).Store.Path;
        StoreAddress database = _servers.Database(engine, name);
        OddOffice.Fill(database, name.ToUpperInvariant(), 5);
        return OddOffice.ServerYaml(database);
    }

    [Theory]
    [InlineData("sqlite", "sqlite")]
    [InlineData("sqlite", "dbf")]
    [InlineData("json-lines", "firebird")]
    [InlineData("postgresql", "mariadb")]
    [InlineData("postgresql", "postgresql")]
    public void The_same_records_are_the_same_on_any_two_engines(string one, string another)
    {
        // The same code, so that the items are the same.
        string old = Store(one, "a"), renewed = one == another && one == "sqlite" ? _office["copy of a.db"] : Store(another, one == another
            ? "A" : "a");
        if (one == another && one == "sqlite") File.Copy(old, renewed);
        Called called = Match(old, renewed).Expect(0).Says("The same in both: 3 tables, 8 records.",
            "Proved: both hold the same 8 records");
        called.SaysNot("kit");
        if (one != another) called.Says("Not looked at: what each declares", "what was not looked at is named above");
        Assert.True(_office.Run("match", "--old", old, "--new", renewed, "--json").Expect(0).Json.GetProperty("result")
            .GetProperty("same").GetBoolean());
    }

    [Fact]
    public void What_only_one_has_or_has_otherwise_is_named_and_both_are_only_read()
    {
        string old = Store("sqlite", "a"), renewed = _office["b.db"];
        File.Copy(old, renewed);
        DemoFolder.Execute(old, "CREATE TABLE DIARY (D TEXT); INSERT INTO DIARY VALUES ('x')");
        DemoFolder.Execute(renewed, "UPDATE ITEM SET NAME = 'renamed' WHERE INO IN (2, 3); DELETE FROM ITEM WHERE INO = 4; "
            + "INSERT INTO GRP VALUES (7, 'new'); ALTER TABLE GRP ADD COLUMN NOTE TEXT; CREATE VIEW V AS SELECT 1");
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_office.Path);
        Match(old, renewed).Expect(1).Says("Not the same: 2 tables", "NAME (2)", "A item 2", "renamed", "(missing)", "(no such record)",
            "Only in the old place: - the table DIARY", "Only in the new place: - the column NOTE of GRP", "NOT the same.");
        // Seen from the other side it is the same story.
        Match(renewed, old).Expect(1).Says("Only in the old place: - the column NOTE of GRP", "Only in the new place: - the table DIARY");
        Assert.Equal(before, TempFolder.Signature(_office.Path));
        // More than the old one has is not the same either.
        File.Copy(old, renewed, overwrite: true);
        DemoFolder.Execute(renewed, "CREATE TABLE MORE (M TEXT)");
        Match(old, renewed).Expect(1).Says("Every record of the old place is in the new one", "the table MORE");
        DemoFolder.Execute(renewed, "DROP TABLE MORE; CREATE INDEX BY_NAME ON ITEM (NAME)");
        Match(old, renewed).Expect(1).Says("of which one is not the same", "BY_NAME", "Every record of the old place is in the new one");
        // Another name for a column is seen by its values.
        DemoFolder.Execute(renewed, "ALTER TABLE ITEM RENAME COLUMN NAME TO TITLE");
        Match(old, renewed).Expect(1).Says("in the columns that both have",
            "Perhaps renamed or recoded: {from: ITEM, into: {ITEM: {TITLE: NAME}}}");
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    public void A_set_is_held_against_the_live_store_also_where_there_is_no_office(string engine)
    {
        StoreAddress store = engine == "sqlite" ? _office.Add("A", engine, "data/a.db").Store : _office.Add("A", _servers.Database(engine,
            "a")).Store;
        _office.Ready();
        _office.Run("backup").Expect(0);
        string set = Assert.Single(Directory.GetFiles(_office["sets"], "*.tar")), live = store.IsOnServer ? OddOffice.ServerYaml(store)
            : store.Path;
        Match(set, live).Expect(0).Says("Proved: both hold the same 8 records", "(A of ");
        string item = engine == "sqlite" ? "ITEM" : "\"ITEM\"";
        string change = engine == "sqlite" ? $"UPDATE {item} SET NAME = 'since then' WHERE INO = 1"
            : $"UPDATE {item} SET \"NAME\" = 'since then' WHERE \"INO\" = 1";
        if (store.IsOnServer) TestServers.Execute(store, change);
        else DemoFolder.Execute(store.Path, change);
        File.Delete(_office["office.yaml"]);
        Match(set, live).Expect(1).Says("A item 1", "since then", "NOT the same.");
        Assert.DoesNotContain(Directory.GetFileSystemEntries(_office.Path, "*", SearchOption.AllDirectories), path =>
            path.Contains("transferra-match", StringComparison.Ordinal));
    }

    [Fact]
    public void What_a_kit_of_the_office_keeps_private_is_not_shown()
    {
        string old = Store("sqlite", "a"), renewed = _office["b.db"];
        File.Copy(old, renewed);
        DemoFolder.Execute(renewed, "UPDATE ITEM SET NAME = 'a secret' WHERE INO = 2");
        File.AppendAllText(_office["kit/kit.yaml"], "private: [ITEM.NAME]\n");
        _office.WriteOffice();
        Match(old, renewed).Expect(1).Says("NAME (1)").SaysNot("a secret", "A item 2");
    }

    [Fact]
    public void What_cannot_be_matched_is_refused_with_what_to_do()
    {
        string old = Store("sqlite", "a");
        _office.Write("text.txt", "no store");
        Match(old, _office["nowhere.db"]).Expect(2).Says("nowhere.db is not there");
        Match(old, _office["text.txt"]).Expect(2).Says("text.txt does not tell what it is", "Say it as office.yaml does");
        Match(old, "{postgres: x}").Expect(2).Says("postgres");
        Match(old, "{sqlite: ").Expect(2).Says("this is not YAML");
        _office.Run("match", "--old", old).Expect(2).Says("--old and --new belong together");
        _office.Run("match", "A", "--old", old, "--new", old).Expect(2).Says("no company is named with them");
    }
}
