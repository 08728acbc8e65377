using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>A store, or another set, against what a set tells of its records, without unpacking it.</summary>
public sealed class MatchBaselineTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private string Place { get; set; } = "";

    private string BackedUp()
    {
        HashSet<string> before = [.. Sets()];
        _office.Run("backup").Expect(0);
        return Assert.Single(Sets(), set => !before.Contains(set));
    }

    private string[] Sets() => Directory.Exists(_office["sets"]) ? Directory.GetFiles(_office["sets"], "*.tar") : [];

    private Called Match(string old, string? renewed = null, params string[] more) =>
        _office.Run(["match", "--old", old, "--new", renewed ?? Place, "--baseline", .. more]);

    private void Begin(string engine, int records)
    {
        if (engine == "sqlite") Place = _office.Add("A", engine, "data/a.db", records).Store.Path;
        else
        {
            StoreAddress database = _servers.Database(engine, "baseline");
            _office.Add("A", database, records);
            Place = OddOffice.ServerYaml(database);
        }
        _office.Ready();
    }

    private void Change(string sql)
    {
        if (Place.StartsWith('{')) TestServers.Execute(_office.Companies[0].Store, sql);
        else DemoFolder.Execute(Place, sql);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgresql")]
    public void One_altered_value_is_seen_and_what_was_added_at_the_end_is_told_apart(string engine)
    {
        Begin(engine, records: 5_000);
        string set = BackedUp(), item = engine == "sqlite" ? "ITEM" : "\"ITEM\"",
            no = engine == "sqlite" ? "INO" : "\"INO\"", name = engine == "sqlite" ? "NAME" : "\"NAME\"";
        Match(set).Expect(0).Says("The same: all records that the set tells of are there unaltered, and none was added", "5,000")
            .SaysNot("roved");
        Change($"INSERT INTO {item} ({no}, {name}) VALUES (5001, 'later')");
        Match(set).Expect(1).Says("The same: all records", "1 record was added at the end", "5,001");
        Change($"UPDATE {item} SET {name} = 'other' WHERE {no} = 4321");
        Called altered = Match(set).Expect(1).Says("NOT the same: in 1 table", "NO, in 1 of 128 groups", "match without --baseline");
        Assert.Equal(1, altered.Out.Split("NO, in").Length - 1);
        // Two sets, of which neither is unpacked.
        string later = BackedUp();
        Match(set, later).Expect(1).Says("NOT the same: in 1 table", "5,001");
        Match(later, later).Expect(0).Says("Digests were compared; both are from when the sets were made");
        Called json = _office.Run("match", "--old", set, "--new", later, "--baseline", "--json").Expect(1).SaysNot("roved");
        Assert.False(json.Json.GetProperty("result").GetProperty("same").GetBoolean());
    }

    [Fact]
    public void A_set_whose_beginning_was_changed_is_refused_and_its_records_are_not_looked_at()
    {
        Begin("sqlite", records: 300);
        string set = BackedUp();
        byte[] sound = File.ReadAllBytes(set), damaged = [.. sound];
        // Somewhere in the packed records, which nobody reads here: the ordinary match does.
        damaged[sound.Length - 4_000] ^= 1;
        File.WriteAllBytes(set, damaged);
        Match(set).Expect(0).Says("Whether a set is sound, transferra sets --prove tells");
        _office.Run("sets", "--prove").Expect(4);
        // In the manifest: a digit of a fingerprint.
        damaged = [.. sound];
        string text = System.Text.Encoding.Latin1.GetString(sound);
        int at = text.IndexOf('"', text.IndexOf("\"fingerprint\":", StringComparison.Ordinal) + 14) + 1;
        Assert.Matches("^[0-9a-f]{32}$", text.Substring(at, 32));
        damaged[at] = damaged[at] == (byte)'0' ? (byte)'1' : (byte)'0';
        File.WriteAllBytes(set, damaged);
        Match(set).Expect(2).Says("is damaged", "the seal does not fit the manifest");
    }

    [Fact]
    public void It_is_only_for_sets_and_lists_no_differences()
    {
        Begin("sqlite", records: 3);
        string set = BackedUp();
        Match(Place, Place).Expect(2).Says("--baseline needs a backup set as --old");
        Match(set, more: ["--list", _office["lists"]]).Expect(2).Says("neither a company nor --sample or --list");
        _office.Run("match", "A", "--baseline").Expect(2).Says("--baseline goes with --old SET and --new");
        // A name with a mark that would be a colour to the terminal's library.
        Change("CREATE TABLE ODD (A INTEGER, \"[red]X\" TEXT)");
        string odd = BackedUp();
        Match(odd).Expect(0);
        Change("ALTER TABLE ODD RENAME COLUMN \"[red]X\" TO Y");
        Match(odd).Expect(1).Says("NO: it has no column [red]X any more");
        Change("DROP TABLE ODD");
        // What only one of the two has.
        Change("CREATE TABLE DIARY (D TEXT)");
        Match(set).Expect(1).Says("Only in the new one: DIARY");
        Change("DROP TABLE DIARY; ALTER TABLE GRP DROP COLUMN TITLE");
        Match(set).Expect(1).Says("NO: it has no column TITLE any more");
    }
}
