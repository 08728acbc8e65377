using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Many versions, one after the other, each by a vendor's script of some hundred statements: thirty in a soak run, else twenty.
/// </summary>
public sealed class ScriptChainTests : IDisposable
{
    private const int Inserts = 100;

    private static readonly int Hops = Seeds.IsSoak ? 30 : 20;

    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private static string Version(int number) => FormattableString.Invariant($"{number + 1}.0");

    // As vendors write them: comments with semicolons, bodies of functions, defaults, indexes, records they ship, now and then a new name.
    private static string Script(string engine, int hop, bool isBroken)
    {
        string n = hop.ToString(CultureInfo.InvariantCulture);
        var sql = new StringBuilder($"-- version {Version(hop)}; see release note {n}\n/* old; names */\n");
        sql.Append($"CREATE TABLE of_{n} (id integer PRIMARY KEY, words varchar(80) DEFAULT 'it''s; new', at_ date);\n");
        sql.Append($"ALTER TABLE person ADD COLUMN more_{n} varchar(20) DEFAULT 'x;{n}';\n");
        sql.Append($"CREATE INDEX of_{n}_words ON of_{n} (words);\n");
        sql.Append(engine == "postgresql"
            ? $"CREATE FUNCTION noted_{n}() RETURNS trigger LANGUAGE plpgsql AS $body$ BEGIN -- not the end;\n  NEW.words := 'a;b'; "
                + $"RETURN NEW; END $body$;\nCREATE TRIGGER noted_{n} BEFORE UPDATE ON of_{n} FOR EACH ROW EXECUTE FUNCTION noted_{n}();\n"
            : $"DELIMITER $$\nCREATE TRIGGER noted_{n} BEFORE UPDATE ON of_{n} FOR EACH ROW BEGIN SET NEW.words = 'a;b'; END$$\n"
                + "DELIMITER ;\n");
        for (int i = 1; i <= Inserts; i++)
            sql.Append(CultureInfo.InvariantCulture, $"INSERT INTO of_{n} (id, words, at_) VALUES ({i}, 'shipped; {i}', "
                + $"'2026-01-{1 + (i % 28):00}');\n");
        if (isBroken) sql.Append("INSERT INTO nowhere VALUES (1);\n");
        if (hop % 5 == 0) sql.Append($"ALTER TABLE payment RENAME COLUMN {Note(hop - 1)} TO {Note(hop)};\n");
        if (hop > 2 && hop % 7 == 0) sql.Append($"DROP TABLE of_{hop - 2};\n");
        return sql.Append($"UPDATE setting SET value = '{Version(hop)}' WHERE name = 'version';\n").ToString();
    }

    private static string Note(int hop) => hop < 5 ? "note" : FormattableString.Invariant($"note_{hop / 5}");

    private StoreAddress Company(string engine, int broken = 0)
    {
        StoreAddress store = _servers.Made(engine, "chain", "CREATE TABLE setting (name varchar(20) PRIMARY KEY, value varchar(20))",
            "INSERT INTO setting VALUES ('version', '1.0')", "CREATE TABLE person (id integer PRIMARY KEY, name varchar(40) NOT NULL)",
            "CREATE TABLE payment (id integer PRIMARY KEY, person integer REFERENCES person (id), amount numeric(12,2), note varchar(40))");
        for (int i = 1; i <= 20; i++)
        {
            TestServers.Execute(store, FormattableString.Invariant($"INSERT INTO person VALUES ({i}, 'person {i}')"));
            TestServers.Execute(store, FormattableString.Invariant($"INSERT INTO payment VALUES ({i}, {i}, {i}.25, 'n;{i}')"));
        }
        var kit = new StringBuilder("kit: chain\ntitle: Chain\nversions: [")
            .AppendJoin(", ", Enumerable.Range(0, Hops + 1).Select(i => $"\"{Version(i)}\""))
            .Append("]\ntold-by: [{sql: \"SELECT value FROM setting WHERE name = 'version'\"}]\nhops:\n");
        for (int hop = 1; hop <= Hops; hop++)
        {
            string n = hop.ToString(CultureInfo.InvariantCulture);
            _office.Write($"kit/scripts/to-{n}.sql", Script(engine, hop, isBroken: hop == broken));
            kit.Append($"  - {{hop: {{from: \"{Version(hop - 1)}\", to: \"{Version(hop)}\"}}, means: {{scripts: {{files: "
                + $"[scripts/to-{n}.sql]}}}}, "
                + $"tables: [{{from: setting, into: {{setting: {{value: \"'{Version(hop)}'\"}}}}}}"
                + (hop % 5 == 0 ? $", {{from: payment, into: {{payment: {{{Note(hop)}: {Note(hop - 1)}}}}}}}" : "") + "]"
                + (hop > 2 && hop % 7 == 0 ? $", tables-left-out: {{of_{hop - 2}: the vendor has no use for it}}" : "") + "}\n");
        }
        _office.Write("kit/kit.yaml", kit.ToString());
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store)));
        _office.WriteOffice();
        File.WriteAllText(_office["office.yaml"], File.ReadAllText(_office["office.yaml"]).Replace("wanted-version: \"2\"",
            $"wanted-version: \"{Version(Hops)}\"", StringComparison.Ordinal));
        _office.Run("ready", "--confirm", "one-disk");
        return store;
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void Many_scripts_are_gone_through_and_every_hop_is_proved(string engine)
    {
        StoreAddress store = Company(engine);
        IReadOnlyList<string> before = OddOffice.Rows(store);
        _office.Upgrade().Expect(0).Says($"A through {Version(Hops)}");
        Assert.Equal(Version(Hops), TestServers.Ask(store, "SELECT value FROM setting"));
        Assert.Equal("20", TestServers.Ask(store, $"SELECT COUNT(*) FROM payment WHERE {Note(Hops)} LIKE 'n;%'"));
        Assert.Equal("100", TestServers.Ask(store, FormattableString.Invariant($"SELECT COUNT(*) FROM of_{Hops}")));
        _office.Run("match").Expect(0).Says($"Proved: the new store of A holds what the old one gives, over all {Hops} hops");
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
    }

    [Theory] // whose declarations no transaction takes back
    [InlineData("mariadb")]
    public void A_statement_that_fails_in_the_seventeenth_is_named_and_all_is_taken_back(string engine)
    {
        StoreAddress store = Company(engine, broken: 17);
        IReadOnlyList<string> before = OddOffice.Rows(store);
        int statement = (engine == "postgresql" ? 5 : 4) + Inserts + 1;
        _office.Upgrade().Expect(1).Says("scripts/to-17.sql, line ", string.Create(CultureInfo.InvariantCulture,
            $"the engine refuses statement {statement} of {statement + 1}, \"INSERT INTO nowhere VALUES (1)\""), "A stopped");
        Assert.Equal(before, OddOffice.Rows(store));
        Assert.DoesNotContain(new Stores.StoreOpener().ServerOf(store).Names(store.Path), name =>
            name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Path, StringComparison.Ordinal));
    }
}
