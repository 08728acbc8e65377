using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>Views, routines, triggers and events of MariaDB, which the server moves with no table: there and back, and after an
/// interruption.</summary>
public sealed class MovedPartsTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    private static readonly string[] Parts =
    [
        "CREATE TABLE T (A INT PRIMARY KEY, B INT)", "CREATE FUNCTION F(N INT) RETURNS INT DETERMINISTIC RETURN N * 2",
        "CREATE TRIGGER D BEFORE INSERT ON T FOR EACH ROW BEGIN SET NEW.B = F(NEW.A); SET @last = NEW.A; END", "CREATE VIEW B_FIRST AS "
            + "SELECT A FROM T",
        "CREATE VIEW A_SECOND AS SELECT F(A) AS N FROM B_FIRST",
        "SET sql_mode = 'ANSI_QUOTES'; CREATE PROCEDURE P() INSERT INTO \"T\" (A) VALUES (3)", // in another mode it is no statement
        "CREATE EVENT E ON SCHEDULE EVERY 1 DAY ENABLE DO CALL P()", "CREATE EVENT OFF_ ON SCHEDULE EVERY 1 DAY DISABLE DO CALL P()",
    ];

    private static string? Ask(StoreAddress store, string question) => TestServers.Ask(store, question);

    private static string States(StoreAddress store) => Ask(store, "SELECT group_concat(event_name, ' ', status ORDER BY event_name) FROM "
        + "information_schema.events WHERE event_schema = database()")!;

    private static string? Left(StoreAddress store) => Ask(store, "SELECT (SELECT count(*) FROM information_schema.tables WHERE "
        + "table_schema = database()) + (SELECT count(*) FROM information_schema.routines WHERE routine_schema = database()) + (SELECT "
        + "count(*) FROM information_schema.events WHERE event_schema = database())");

    // What the moved database does is what it did.
    private static void Works(StoreAddress store)
    {
        TestServers.Execute(store, "CALL P()");
        Assert.Equal("6 6", Ask(store, "SELECT concat(B, ' ', (SELECT N FROM A_SECOND)) FROM T WHERE A = 3"));
        TestServers.Execute(store, "DELETE FROM T");
    }

    [Fact] // the server lets the account that moves do so many changes and no more; whole again, it is all in one place
    public void A_move_that_stops_at_any_change_is_finished_or_taken_back()
    {
        int finished = 0, takenBack = 0;
        for (int changes = 1; finished == 0 || changes < 40; changes++)
        {
            StoreAddress store = _servers.Made("mariadb", $"books{changes}", Parts),
                aside = _servers.Database("mariadb", $"aside{changes}");
            StoreAddress mover = _servers.AsClerk(store, _office.Path);
            TestServers.Execute(store, $"GRANT ALL ON *.* TO '{mover.Server!.User}'@'%' WITH MAX_UPDATES_PER_HOUR {changes}");
            bool isThrough = TryMove(mover, store.Path, aside.Path);
            IStoreServer server = new StoreOpener().ServerOf(store);
            foreach (string name in (string[])[aside.Path, store.Path]) if (Has(name)) server.Settle(name);
            Assert.NotEqual(server.Exists(store.Path), server.Exists(aside.Path));
            StoreAddress where = server.Exists(aside.Path) ? aside : store, other = where == store ? aside : store;
            if (isThrough) Assert.Equal(aside, where);
            if (Has(other.Path)) Assert.Equal((changes, "0"), (changes, Left(other)));
            Assert.Equal("E ENABLED,OFF_ DISABLED", States(where));
            Works(where);
            if (isThrough) finished++;
            else if (where == store) takenBack++;

            bool Has(string name) => server.Names("").Contains(name);
        }
        Assert.True(takenBack > 5, "hardly any move was stopped");
    }

    private static bool TryMove(StoreAddress mover, string from, string to)
    {
        try
        {
            new StoreOpener().ServerOf(mover).Rename(from, to);
            return true;
        }
        catch (Exception error) when (error is Core.Machine.TransferraException or System.Data.Common.DbException)
        {
            Assert.Contains("max_updates", error.Message, StringComparison.OrdinalIgnoreCase);
            return false;
        }
    }

    [Fact]
    public void A_move_whose_parts_the_new_place_refuses_leaves_all_of_it_in_the_old_one()
    {
        StoreAddress store = _servers.Made("mariadb", "books", [.. Parts, "INSERT INTO T (A) VALUES (9)"]),
            aside = _servers.Made("mariadb", "aside", "CREATE EVENT E ON SCHEDULE EVERY 1 DAY DISABLE DO SELECT 1");
        StoreAddress mover = _servers.AsClerk(store, _office.Path);
        foreach (string right in (string[])[$"GRANT ALL ON `{store.Path}`.* TO '{mover.Server!.User}'@'%'", "GRANT CREATE, ALTER, DROP, "
            + "INSERT, "
            + $"SELECT, TRIGGER ON `{aside.Path}`.* TO '{mover.Server.User}'@'%'", $"GRANT SELECT ON mysql.* TO '{mover.Server.User}'@'%'",
            $"GRANT SET USER ON *.* TO '{mover.Server.User}'@'%'"]) TestServers.Execute(store, right);
        // It may make no routine there.
        Assert.Throws<Core.Machine.TransferraException>(() => new StoreOpener().ServerOf(mover).Rename(store.Path, aside.Path));
        Assert.Equal("9", Ask(store, "SELECT A FROM T"));
        TestServers.Execute(store, "DELETE FROM T");
        Works(store);
        Assert.Equal("E ENABLED,OFF_ DISABLED", States(store));
        Assert.Equal("E DISABLED", States(aside));
        Assert.Equal("1", Left(aside));
    }

    [Fact]
    public void In_a_database_of_a_run_no_event_starts_and_back_in_place_it_is_as_it_was()
    {
        StoreAddress store = _servers.Made("mariadb", "books", Parts), run = store with { Path = StoreAddress.RunPrefix + store.Path };
        _servers.Known(run);
        StoreAddress clerk = _servers.AsClerk(store, _office.Path);
        TestServers.Execute(store, $"GRANT EXECUTE ON PROCEDURE P TO '{clerk.Server!.User}'@'%'");
        IStoreServer server = new StoreOpener().ServerOf(store);
        server.Rename(store.Path, run.Path);
        Assert.Equal("E SLAVESIDE_DISABLED,OFF_ DISABLED", States(run));
        Works(run);
        server.Rename(run.Path, store.Path);
        Assert.Equal("E ENABLED,OFF_ DISABLED", States(store));
        Works(store);
        TestServers.Execute(clerk, "CALL P()");
        Assert.DoesNotContain(run.Path, server.Names(""));
    }

    [Fact]
    public void A_view_that_a_hop_takes_the_ground_from_is_named_and_comes_back_with_undo()
    {
        OddCompany company = _office.Add("A", _servers.Database("mariadb", "books"));
        StoreAddress store = company.Store;
        foreach (string statement in (string[])["CREATE VIEW names AS SELECT NAME FROM ITEM", "CREATE VIEW numbers AS SELECT 1 AS ONE",
            "CREATE TABLE goes (id INT)", "CREATE VIEW broken AS SELECT id FROM goes", "DROP TABLE goes",
            "CREATE PROCEDURE P() SELECT 1"]) TestServers.Execute(store, statement);
        _office.Ready();
        _office.Upgrade().Expect(0).Says("the view names: it shows what the new version does not have");
        _office.Run("match").Expect(0).Says("Proved", "gone with what the hop takes away: the view names");
        Assert.Equal("1", Ask(store, "SELECT ONE FROM numbers"));
        Assert.ThrowsAny<Exception>(() => Ask(store, "SELECT * FROM names"));
        _office.Run("undo", "--yes", "A").Expect(0);
        Assert.Equal("A item 1", Ask(store, "SELECT NAME FROM names LIMIT 1"));
        Assert.Equal("broken,names,numbers", Ask(store, "SELECT group_concat(table_name ORDER BY 1) FROM information_schema.views WHERE "
            + "table_schema = database()"));
        TestServers.Execute(store, "CALL P()");
    }
}
