using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Databases that use what their engine has: backed up, restored for proof, put back in place and taken back.</summary>
public sealed class RichSetTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    public static TheoryData<string, string[], string> Databases => new()
    {
        {
            "mariadb",
            [
                // rounds, with a note
                "CREATE TABLE PRICES (ID INT PRIMARY KEY, NET DECIMAL(12,4), GROSS DECIMAL(12,2) GENERATED ALWAYS AS (NET * 1.175) STORED)",
                "INSERT INTO PRICES (ID, NET) VALUES (1, 0.0001), (2, 19.9999), (3, NULL)",
                "CREATE TABLE LOG (ID INT AUTO_INCREMENT PRIMARY KEY, WHAT VARCHAR(40))",
                "CREATE TRIGGER NOTED AFTER INSERT ON PRICES FOR EACH ROW INSERT INTO LOG (WHAT) VALUES (concat('price ', NEW.ID))",
                "CREATE TRIGGER UPPERED BEFORE UPDATE ON PRICES FOR EACH ROW FOLLOWS_NOTHING",
                "CREATE TABLE PAST (ID INT PRIMARY KEY, V INT) WITH SYSTEM VERSIONING",
                "INSERT INTO PAST VALUES (1, 1)",
            ],
            "INSERT INTO PRICES (ID, NET) VALUES (9, 1)"
        },
        {
            "firebird",
            [
                "CREATE TABLE A_CHILD (ID INTEGER NOT NULL PRIMARY KEY, PID INTEGER, CONSTRAINT KNOWN CHECK (EXISTS (SELECT 1 FROM "
                    + "Z_PARENT WHERE Z_PARENT.ID = A_CHILD.PID)), CHECK (ID > 0 AND (SELECT COUNT(*) FROM Z_PARENT) > 0))",
                "INSERT INTO Z_PARENT VALUES (1)", "INSERT INTO Z_PARENT VALUES (2)", "INSERT INTO A_CHILD VALUES (1, 1)",
                    "INSERT INTO A_CHILD VALUES (2, 2)",
            ],
            "INSERT INTO A_CHILD VALUES (3, 1)"
        },
    };

    [Theory]
    [MemberData(nameof(Databases))]
    public void What_the_engine_keeps_by_rules_of_its_own_comes_back_and_is_proved(string engine, string[] statements, string laterInsert)
    {
        StoreAddress store = _servers.Database(engine, "rich");
        _office.Add("A", store);
        if (engine == "firebird") TestServers.Execute(store, "CREATE TABLE Z_PARENT (ID INTEGER NOT NULL PRIMARY KEY)");
        foreach (string statement in statements.Where(statement => !statement.Contains("FOLLOWS_NOTHING",
            StringComparison.Ordinal))) TestServers.Execute(store, statement);
        _office.Ready();
        IReadOnlyList<string> before = OddOffice.Rows(store);
        Assert.Contains(before, row => row.StartsWith(engine == "mariadb" ? "past: 1" : "a_child: 2", StringComparison.Ordinal));
        _office.Run("backup").Expect(0).Says("Proved:", "restored into scratch");
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal(before, OddOffice.Rows(store));
        // The rules are at work: the trigger writes its line, the check refuses.
        TestServers.Execute(store, laterInsert);
        if (engine == "mariadb") Assert.Equal("1", TestServers.Ask(store, "SELECT COUNT(*) FROM LOG WHERE WHAT = 'price 9'"));
        else Assert.ThrowsAny<System.Data.Common.DbException>(() => TestServers.Execute(store, "INSERT INTO A_CHILD VALUES (4, 77)"));
        _office.Run("undo", "--yes", "A").Expect(1).Says("has been used since, and is kept");
        Assert.Equal(before, OddOffice.Rows(store));
        TestServers.Execute(store, laterInsert);
        if (engine == "mariadb") Assert.Equal("1", TestServers.Ask(store, "SELECT COUNT(*) FROM LOG WHERE WHAT = 'price 9'"));
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path)
            .Where(name => name.Contains("transferra-", StringComparison.Ordinal)
            && name.EndsWith(Path.GetFileName(store.Path), StringComparison.Ordinal))) _servers.Known(store with { Path = left });
    }

    [Fact]
    public void A_user_who_may_not_make_databases_gets_sets_that_are_read_back_and_the_gate_asks()
    {
        StoreAddress store = _servers.Database("postgresql", "books");
        _office.Add("A", store);
        StoreAddress clerk = _servers.AsClerk(store, _office.Path);
        TestServers.Execute(store, $"GRANT SELECT ON ALL TABLES IN SCHEMA public TO {clerk.Server!.User}");
        _office.Companies[0] = new OddCompany("A", clerk, OddOffice.ServerYaml(clerk));
        _office.Ready();
        _office.Run("ready").Says("read back, but not restored into a database for proof", "A/read-back");
        _office.Run("backup").Expect(0).Says("Read back, not restored:", "no engine has taken them back");
        _office.Run("sets").Expect(0).Says("read back, not restored");
        // Another server, named for that, does it.
        _office.More[0] = $"backup: {{to: [sets], prove-on: [{OddOffice.ServerYaml(store)}]}}";
        _office.Ready();
        _office.Run("backup").Expect(0).Says("Proved:");
        TestServers.Execute(store, $"DROP OWNED BY {clerk.Server!.User}");
    }
}
