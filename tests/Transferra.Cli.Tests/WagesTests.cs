using System.Globalization;
using Transferra.Core.Records;
using Transferra.Demo;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The demo's payroll: a kit of a few lines, and three hops by others: scripts, a program, a person.</summary>
public sealed class WagesTests : IDisposable
{
    private readonly TempFolder _office = new();
    private readonly TestServers _servers = new();

    public WagesTests()
    {
        DemoOffice.Write(_office.Path, oneIn: 8);
        string path = _office["office.yaml"], text = File.ReadAllText(path);
        int from = text.IndexOf("  - kit: kits/pellwright-ledger", StringComparison.Ordinal),
            wages = text.IndexOf("  - kit: kits/pellwright-wages", StringComparison.Ordinal);
        // Alone, as the other packages want words and installers.
        File.WriteAllText(path, text[..from] + text[wages..text.IndexOf("closing:", StringComparison.Ordinal)] + "backup: {to: [sets]}\n");
        Run("ready", "--confirm", "one-disk", "--confirm", "kit").Expect(0);
    }

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private Called Run(params string[] arguments) => BuiltProgram.Run(_office.Path, BuiltProgram.Trusted(_office.Path,
        arguments));

    private string Store => _office["data/QPW/wages.db"];

    // What the vendor's program does when its administrator logs in first.
    private void LogIn() => BuiltProgram.RunIn(_office.Path, "stand-in", "first-login", "--in", ".", "--file", Store);

    [Fact]
    public void What_people_earn_is_never_shown_though_nobody_described_a_table()
    {
        Run("upgrade", "--yes", "QPW").Expect(3);
        LogIn();
        string name = DemoFolder.Ask(Store, "SELECT NAME FROM EMPLOYEE WHERE EMPNO = 2")!;
        DemoFolder.Execute(Store, "UPDATE EMPLOYEE SET RATE_PENCE = 987654, NAME = NAME || ' of Hidden Lane' WHERE EMPNO = 2; "
            + "DELETE FROM REMARK");
        Run("upgrade", "--resume").Expect(1).Says("(private)", "EMPLOYEE", "RATE_PENCE").SaysNot("987654", name, "paper slip");
        foreach (string file in Directory.GetFiles(_office["transferra/runs"], "*.*", SearchOption.AllDirectories))
        {
            string said = File.ReadAllText(file);
            foreach (string secret in (string[])["987654", name, "paper slip"])
                Assert.False(said.Contains(secret, StringComparison.Ordinal), $"{secret} stands in {file}");
        }
    }

    private const string Records = "SELECT (SELECT count(*) FROM PAYLINE) + (SELECT count(*) FROM ELEMENT) "
        + "+ (SELECT count(*) FROM EMPLOYEE) + (SELECT count(*) FROM REMARK)";

    private const string Sums = "SELECT count(*) || ' ' || sum(PENCE) || ' ' || (SELECT count(*) FROM EMPLOYEE) FROM PAYLINE";

    [Fact]
    public void Three_kinds_of_converters_one_after_the_other_are_gone_through_live_and_proved()
    {
        string kit = File.ReadAllText(_office["kits/pellwright-wages/kit.yaml"]), sums = DemoFolder.Ask(Store, Sums)!,
            records = DemoFolder.Ask(Store, Records)!;
        Assert.InRange(kit.Split('\n').Length, 5, 25);
        Assert.False(Directory.Exists(_office["kits/pellwright-wages/versions"]));
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_office["data/QPW"]);
        Run("upgrade", "--yes", "QPW").Expect(3).Says("QPW waits for you", "it opens " + Store[..20], "The office stays closed");
        Run("upgrade", "--resume").Expect(3).Says("QPW waits for you"); // nobody has done it yet
        LogIn();
        Run("upgrade", "--resume").Expect(0).Says("the vendor's scripts, run in a copy", "the vendor's program, run on a copy",
            "by hand, on a copy, in 2 steps", "QPW through 9");
        // What the old store held, however many hops have read it.
        string page = File.ReadAllText(Assert.Single(Directory.GetFiles(_office["transferra/runs"], "signoff.html",
            SearchOption.AllDirectories)));
        Assert.Contains(int.Parse(records, CultureInfo.InvariantCulture).ToString(">#,0<", CultureInfo.InvariantCulture),
            page.Split("<h2>")[0], StringComparison.Ordinal);
        Assert.Equal("9", DemoFolder.Ask(Store, "PRAGMA user_version"));
        Assert.Equal(sums, DemoFolder.Ask(Store, Sums));
        Run("match").Expect(0).Says("Proved: the new store of QPW holds what the old one gives, over all 3 hops",
            "New in version 8: the table PAYRUN", "New in version 9: the table WHO");
        Run("undo", "--yes", "QPW").Expect(0);
        Assert.Equal(before, TempFolder.Signature(_office["data/QPW"]));
    }

    [Fact]
    public void What_the_person_does_wrong_is_noticed_though_the_hops_before_were_right()
    {
        IReadOnlyDictionary<string, string> before = TempFolder.Signature(_office["data/QPW"]);
        Run("upgrade", "--yes", "QPW").Expect(3);
        LogIn();
        DemoFolder.Execute(Store, "UPDATE PAYLINE SET PENCE = PENCE + 1 WHERE PAYNO = 17");
        Run("upgrade", "--resume").Expect(1).Says("2 differences in QPW", "PENCE", "- {to: \"9\", table: CHANGED, what: new, "
            + "records: 1", "the match did not prove the new store", "QPW stopped",
            "- {to: \"9\", table: PAYLINE, column: PENCE, what: changed, records: 1");
        Assert.Equal(before, TempFolder.Signature(_office["data/QPW"]));
    }

    [Theory] // after so many times that progress was kept
    [InlineData(1)]
    [InlineData(3)]
    [InlineData(5)]
    public void Killed_between_two_hops_it_goes_on_with_the_one_that_was_not_through(int times)
    {
        Run("upgrade", "--yes", "QPW").Expect(3);
        Run("undo", "--yes", "QPW").Expect(0);
        Run("reopen");
        BuiltProgram.RunUntilReplaced("convert-progress.json", times, _office.Path, "upgrade", "--yes", "QPW");
        Called resumed = Run("upgrade", "--resume");
        if (resumed.ExitCode == 2) resumed = Run("upgrade", "--yes", "QPW");
        resumed.Expect(3).Says("QPW waits for you");
        LogIn();
        Run("upgrade", "--resume").Expect(0).Says("QPW through 9");
        Run("match").Expect(0).Says("Proved: the new store of QPW");
    }

    [Fact]
    public void The_same_on_PostgreSQL_with_a_kit_of_as_many_lines()
    {
        StoreAddress store = _servers.Database("postgresql", "wages");
        using (IStoreBuilder builder = new Stores.StoreOpener().Create(store)) builder.Complete(new Dictionary<string, string>());
        foreach (string sql in (string[])[
            "CREATE TABLE setting (name text PRIMARY KEY, value text)", "INSERT INTO setting VALUES ('version', '6')",
            "CREATE TABLE employee (empno int PRIMARY KEY, name text NOT NULL, rate numeric(10,2))",
            "INSERT INTO employee SELECT n, 'employee ' || n, n * 1.25 FROM generate_series(1, 40) n",
            "CREATE TABLE payline (payno bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, empno int REFERENCES employee, per date, "
                + "amount numeric(12,2))",
            "INSERT INTO payline (empno, per, amount) SELECT n, date '2026-01-31' - m, n * 100 + m FROM generate_series(1, 40) n, "
                + "generate_series(1, 30) m"]) TestServers.Execute(store, sql);
        string client = "psql, -w, -v, ON_ERROR_STOP=1, -h, \"{host}\", -p, \"{port}\", -U, \"{user}\", -d";
        _office.Write("kits/pellwright-wages/kit.yaml", """
            kit: pellwright-wages
            title: Pellwright Wages
            versions: ["6", "7", "8", "9"]
            told-by: [{sql: "SELECT value FROM setting WHERE name = 'version'"}]
            hops:
              - hop: {from: "6", to: "7"}
                means: {scripts: {files: [scripts/to-7.sql], transaction: hop}}
                tables: [{from: setting, into: {setting: {value: "'7'"}}}, {from: payline, into: {payline: {period: per}}}]
              - hop: {from: "7", to: "8"}
                means:
                  program:
                    command: [CLIENT, "{database}", -c, "ALTER TABLE employee ADD bank text; UPDATE setting SET value = '8'"]
                    environment: {PGPASSFILE: "{credentials}"}
                    credentials: "{host}:{port}:{database}:{user}:{password}"
                tables: [{from: setting, into: {setting: {value: "'8'"}}}]
              - hop: {from: "8", to: "9"}
                place: own
                means: {by-hand: {steps: ["Log in to {database}."]}}
                tables: [{from: setting, into: {setting: {value: "'9'"}}}]

            """.Replace("CLIENT", client, StringComparison.Ordinal));
        _office.Write("kits/pellwright-wages/scripts/to-7.sql", "ALTER TABLE payline RENAME COLUMN per TO period;\n"
            + "CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$;\n"
            + "CREATE TRIGGER noted AFTER INSERT ON payline FOR EACH ROW EXECUTE FUNCTION noted();\n"
            + "UPDATE setting SET value = '7' WHERE name = 'version';\n");
        string path = _office["office.yaml"];
        File.WriteAllText(path, File.ReadAllText(path).Replace("{sqlite: data/QPW/wages.db}", OddOffice.ServerYaml(store),
            StringComparison.Ordinal));
        Run("upgrade", "--yes", "QPW").Expect(3).Says("QPW waits for you", "Log in to " + store.Path[..10]);
        TestServers.Execute(store, "UPDATE setting SET value = '9'");
        TestServers.Execute(store, "CREATE TABLE who (name text PRIMARY KEY)");
        Run("upgrade", "--resume").Expect(0).Says("QPW through 9");
        Assert.Equal("1200 1", TestServers.Ask(store, "SELECT count(*) || ' ' || (SELECT count(*) FROM information_schema.tables WHERE "
            + "table_name = 'who') FROM payline WHERE period IS NOT NULL"));
        Run("match").Expect(0).Says("Proved: the new store of QPW holds what the old one gives, over all 3 hops");
        Run("undo", "--yes", "QPW").Expect(0);
        Assert.Equal("6", TestServers.Ask(store, "SELECT value FROM setting"));
    }
}
