using System.Data.Common;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Keeping people out of databases, with real second sessions on the three servers.</summary>
public sealed class DoorTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();
    private readonly List<Action> _afterwards = [];

    public void Dispose()
    {
        foreach (Action action in _afterwards) action();
        _servers.Dispose();
        _folder.Dispose();
    }

    public static TheoryData<string> Engines => [.. StoreAddress.ServerEngines];

    private IReadOnlyList<StoreDoor> Shut(StoreAddress store)
    {
        IStoreServer server = _stores.ServerOf(store);
        IReadOnlyList<StoreDoor> doors = server.Doors(store.Path);
        Assert.NotEmpty(doors);
        foreach (StoreDoor door in doors) server.Shut(door);
        Assert.All(doors, door => Assert.True(server.IsShut(door)));
        return doors;
    }

    private void Open(StoreAddress store, IReadOnlyList<StoreDoor> doors)
    {
        foreach (StoreDoor door in doors) _stores.ServerOf(store).Open(door);
        Assert.All(doors, door => Assert.True(_stores.ServerOf(store).IsAsFound(door)));
    }

    private static bool LetsIn(StoreAddress as_)
    {
        try
        {
            using DbConnection connection = TestServers.Connect(as_);
            return true;
        }
        catch (DbException) { return false; }
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void Nobody_new_comes_in_but_we_do_and_afterwards_all_is_as_it_was(string engine)
    {
        StoreAddress store = _servers.Made(engine, "door", "CREATE TABLE t (a INTEGER)"), clerk = _servers.AsClerk(store, _folder.Path);
        IStoreServer server = _stores.ServerOf(store);
        using (DbConnection person = TestServers.Connect(clerk))
        {
            StoreSession session = Assert.Single(server.Sessions(store.Path));
            Assert.Equal(clerk.Server!.User, session.User, ignoreCase: true);
            Assert.Matches("^(127.0.0.1|localhost)", session.Host);
            Assert.Equal("idle", session.State);
            IReadOnlyList<StoreDoor> doors = Shut(store);
            Assert.False(LetsIn(clerk));
            if (!doors[0].EndsSessions)
            {
                // Who is in may finish; then is put out.
                Assert.Single(server.Sessions(store.Path));
                server.End(store.Path, session);
            }
            for (int i = 0; i < 50 && server.Sessions(store.Path).Count > 0; i++) Thread.Sleep(100);
            Assert.Empty(server.Sessions(store.Path));
            using (IStore ours = _stores.Open(store)) Assert.Equal(0, ours.CountRows("t"));
            Shut(store); // once more changes nothing
            Open(store, doors);
        }
        Assert.True(LetsIn(clerk));
        Open(store, Shut(store));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_store_that_was_renamed_meanwhile_is_opened_under_its_new_name(string engine)
    {
        StoreAddress store = _servers.Made(engine, "moved", "CREATE TABLE t (a INTEGER)"),
            aside = _servers.Known(store.Beside("", "7", "old-v5")), clerk =
            _servers.AsClerk(store, _folder.Path);
        if (engine == "mariadb") TestServers.Execute(store with { Path = "" },
            $"GRANT SELECT ON `{aside.Path}`.* TO '{clerk.Server!.User}'@'%'");
        IReadOnlyList<StoreDoor> doors = Shut(store);
        _stores.ServerOf(store).Rename(store.Path, aside.Path);
        Assert.False(LetsIn(clerk with { Path = aside.Path }));
        Open(store, doors);
        Assert.True(LetsIn(clerk with { Path = aside.Path }));
        // Of a store that is gone no door is left to be shut or opened.
        _stores.ServerOf(store).Remove(aside.Path);
        if (engine == "mariadb") return; // its doors are accounts, which are still there
        foreach (StoreDoor door in doors)
        {
            _stores.ServerOf(store).Shut(door);
            Assert.True(_stores.ServerOf(store).IsShut(door) && _stores.ServerOf(store).IsAsFound(door));
        }
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void One_account_alone_is_let_into_a_store_that_is_shut_and_afterwards_all_is_as_it_was(string engine)
    {
        StoreAddress store = _servers.Made(engine, "guest", "CREATE TABLE t (a INTEGER)"), guest = _servers.AsClerk(store, _folder.Path),
            other = _servers.AsClerk(store, _folder.Path);
        IStoreServer server = _stores.ServerOf(store);
        string[] declared() { using IStore ours = _stores.Open(store); return [.. ours.ListObjects().Select(thing => thing.Name)]; }
        string[] before = declared();
        IReadOnlyList<StoreDoor> doors = Shut(store);
        StoreGuest found = server.Guest(store.Path, guest.Server!.User, store.Path);
        for (int twice = 0; twice < 2; twice++)
        {
            server.LetIn(found);
            server.LetIn(found); // once more changes nothing
            Assert.True(LetsIn(guest));
            Assert.False(LetsIn(other));
            using (IStore ours = _stores.Open(store)) Assert.Equal(0, ours.CountRows("t"));
            server.PutOut(found);
            server.PutOut(found);
            Assert.False(LetsIn(guest) || LetsIn(other));
            Assert.All(doors, door => Assert.True(server.IsShut(door)));
        }
        Open(store, doors);
        Assert.True(LetsIn(guest) && LetsIn(other));
        Assert.Equal(before, declared());
        if (engine != "firebird") Assert.Contains("no account nobody_known", Assert.Throws<TransferraException>(() =>
            server.Guest(store.Path, "nobody_known", store.Path)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Mariadb_what_an_account_may_do_in_the_original_it_may_in_the_copy_and_what_else_it_reaches_is_told()
    {
        StoreAddress store = _servers.Made("mariadb", "rights", "CREATE TABLE t (a INTEGER)", "CREATE TABLE u (a INTEGER)"),
            copy = _servers.Known(store.Beside("", "7", "v6")), another = _servers.Made("mariadb", "another", "CREATE TABLE t (a INTEGER)"),
            guest = _servers.AsClerk(store, _folder.Path);
        string account = $"'{guest.Server!.User}'@'%'", role = $"r_{guest.Server.User}";
        TestServers.Execute(store, $"CREATE TABLE `{store.Path}`.v (a INTEGER)");
        TestServers.Execute(store, $"REVOKE ALL ON `{store.Path}`.* FROM {account}");
        foreach (string grant in (string[])[$"CREATE ROLE {role}",
            $"GRANT SELECT ON `{store.Path}`.u TO {role}", $"GRANT {role} TO {account}",
            $"GRANT SELECT (a), UPDATE (a) ON `{store.Path}`.t TO {account}", $"GRANT SELECT ON `{another.Path.Replace("_", "\\_",
                StringComparison.Ordinal)}`.* TO {account}"]) TestServers.Execute(store, grant);
        _afterwards.Add(() => TestServers.Execute(store with { Path = "" }, $"DROP ROLE {role}"));
        _stores.Copy(store, copy);
        IStoreServer server = _stores.ServerOf(store);
        StoreGuest found = server.Guest(copy.Path, guest.Server.User, store.Path);
        Assert.Equal([another.Path], found.AlsoInto.Where(name => name != store.Path));
        server.LetIn(found);
        StoreAddress inside = guest with { Path = copy.Path };
        Assert.Equal("0", TestServers.Ask(inside, "SELECT count(a) FROM t"));
        TestServers.Execute(inside, "UPDATE t SET a = 1");
        Assert.Equal("0", TestServers.Ask(inside, "SELECT count(*) FROM u"));
        Assert.ThrowsAny<DbException>(() => TestServers.Ask(inside, "SELECT count(*) FROM v"));
        server.PutOut(found);
        server.Remove(copy.Path);
        Assert.DoesNotContain(copy.Path, TestServers.Ask(store, "SELECT group_concat(Db) FROM mysql.tables_priv") ?? "",
            StringComparison.Ordinal);
    }

    [Fact]
    public void Postgresql_a_limit_that_was_set_comes_back()
    {
        StoreAddress store = _servers.Made("postgresql", "limit");
        foreach (string limit in (string[])["7", "0", "-1"])
        {
            TestServers.Execute(store, $"ALTER DATABASE \"{store.Path}\" CONNECTION LIMIT {limit}");
            Open(store, Shut(store));
            Assert.Equal(limit, TestServers.Ask(store with { Path = "postgres" },
                $"SELECT datconnlimit FROM pg_database WHERE datname = '{store.Path}'"));
        }
    }

    [Fact]
    public void Postgresql_an_owner_takes_the_right_to_connect_and_gives_it_back_to_whom_had_it()
    {
        StoreAddress store = _servers.Made("postgresql", "owned"), owner = _servers.AsClerk(store, _folder.Path),
            clerk = _servers.AsClerk(store, _folder.Path);
        StoreAddress server = store with { Path = "postgres" };
        string rights() => TestServers.Ask(server,
            "SELECT string_agg(CASE a.grantee WHEN 0 THEN 'public' ELSE a.grantee::regrole::text END || ' ' || a.privilege_type || ' ' "
                + "|| a.is_grantable, ', ' ORDER BY 1) FROM (SELECT (aclexplode(coalesce(datacl, acldefault('d', datdba)))).* FROM "
                + $"pg_database WHERE datname = '{store.Path}') a")!;
        TestServers.Execute(server, $"ALTER DATABASE \"{store.Path}\" OWNER TO {owner.Server!.User}");
        TestServers.Execute(owner, $"GRANT CONNECT ON DATABASE \"{store.Path}\" TO {clerk.Server!.User} WITH GRANT OPTION");
        string before = rights();
        IReadOnlyList<StoreDoor> doors = Shut(owner);
        Assert.Equal(2, doors.Count);
        Assert.False(LetsIn(clerk));
        Assert.True(LetsIn(owner));
        Open(owner, doors);
        Assert.True(LetsIn(clerk));
        Assert.Equal(before, rights());
        // Somebody who may not shut it is told whom to ask.
        Assert.Contains("belongs to " + owner.Server.User, Assert.Throws<TransferraException>(() => _stores.ServerOf(clerk)
            .Doors(store.Path)).Message, StringComparison.Ordinal);
        TestServers.Execute(server, $"ALTER DATABASE \"{store.Path}\" OWNER TO postgres");
        TestServers.Execute(server, $"REVOKE ALL ON DATABASE \"{store.Path}\" FROM {clerk.Server.User} CASCADE");
    }

    [Fact]
    public void Mariadb_what_was_locked_stays_locked_and_events_keep_who_made_them()
    {
        StoreAddress store = _servers.Made("mariadb", "events", "CREATE TABLE t (a INTEGER)"),
            clerk = _servers.AsClerk(store, _folder.Path), server = store with { Path = "" };
        TestServers.Execute(server, $"ALTER USER '{clerk.Server!.User}'@'%' ACCOUNT LOCK");
        TestServers.Execute(store, "SET SESSION sql_mode = 'ANSI_QUOTES', time_zone = '+03:00'; CREATE DEFINER = 'nobody'@'localhost' "
            + "EVENT \"nightly run\" ON SCHEDULE EVERY 1 DAY DO INSERT INTO t VALUES (1)");
        TestServers.Execute(store, "CREATE EVENT off ON SCHEDULE EVERY 1 DAY DISABLE DO INSERT INTO t VALUES (2)");
        string events() => TestServers.Ask(store,
            "SELECT group_concat(concat_ws('|', event_name, status, definer, sql_mode, time_zone) ORDER BY event_name) FROM "
                + $"information_schema.events WHERE event_schema = '{store.Path}'")!;
        string before = events();
        Assert.Contains("nightly run|ENABLED|nobody@localhost|ANSI_QUOTES|+03:00", before, StringComparison.Ordinal);
        IReadOnlyList<StoreDoor> doors = Shut(store);
        Assert.Equal(before.Replace("ENABLED", "DISABLED", StringComparison.Ordinal), events());
        Open(store, doors);
        Assert.Equal(before, events());
        Assert.False(LetsIn(clerk));
    }

    [Fact]
    public void Mariadb_a_right_that_comes_through_a_role_is_seen()
    {
        StoreAddress store = _servers.Made("mariadb", "role", "CREATE TABLE t (a INTEGER)"),
            other = _servers.Made("mariadb", "elsewhere"), clerk =
            _servers.AsClerk(other, _folder.Path), server = store with { Path = "" };
        string account = clerk.Server!.User + "@%", role = clerk.Server.User + "_r";
        Assert.DoesNotContain(_stores.ServerOf(store).Doors(store.Path), door => door.Name == account);
        TestServers.Execute(server, $"CREATE ROLE {role}");
        _afterwards.Insert(0, () => TestServers.Execute(server, $"DROP ROLE {role}"));
        TestServers.Execute(server, $"GRANT SELECT ON `{store.Path}`.* TO {role}");
        TestServers.Execute(server, $"GRANT {role} TO '{clerk.Server.User}'@'%'");
        Assert.Contains(_stores.ServerOf(store).Doors(store.Path), door => door.Name == account);
    }

    [Fact]
    public void Firebird_a_database_that_was_shut_down_stays_so()
    {
        StoreAddress store = _servers.Made("firebird", "down");
        StoreDoor door = Assert.Single(Shut(store)), again = Assert.Single(_stores.ServerOf(store).Doors(store.Path));
        Assert.Equal("1", again.Found["mode"]);
        Open(store, [again]);
        Assert.True(_stores.ServerOf(store).IsShut(door));
        // Its pages are validated all the same, and reading goes on after that.
        using (IStore ours = _stores.Open(store))
        {
            Assert.Empty(ours.CheckPhysically());
            Assert.Empty(ours.ReadShape());
        }
        Assert.True(_stores.ServerOf(store).IsShut(door));
        Open(store, [door]);
        Assert.False(_stores.ServerOf(store).IsShut(door));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void A_store_that_is_not_there_has_no_doors_and_nobody_in_it(string engine)
    {
        StoreAddress store = _servers.Database(engine, "missing");
        Assert.Empty(_stores.ServerOf(store).Sessions(store.Path));
        Assert.DoesNotContain(_stores.ServerOf(store).Doors(store.Path), door => door.Kind != "account");
    }

    private IReadOnlyList<ServerAdvice> Advice(StoreAddress store) => _stores.ServerOf(store).Advice(store.Path);

    [Theory]
    [MemberData(nameof(Engines))]
    public void The_engine_tells_its_version_and_a_server_as_it_should_be_nothing_unsafe(string engine)
    {
        StoreAddress store = _servers.Database(engine, "sound");
        using (IStoreBuilder builder = _stores.Create(store)) builder.Complete(new Dictionary<string, string>());
        Assert.Matches(@"^[0-9]+\.[0-9]+", _stores.ServerOf(store).EngineVersion());
        Assert.DoesNotContain(Advice(store), advice => advice.IsUnsafe && advice.Name != "flush-log");
        Assert.Contains(store.Path, _stores.ServerOf(store).Names(store.Path));
    }

    [Fact]
    public void Mariadb_settings_that_lose_or_cut_data_are_told()
    {
        StoreAddress store = _servers.Made("mariadb", "advice", "CREATE TABLE old_one (a INTEGER) ENGINE = MyISAM"),
            server = store with { Path = "" };
        TestServers.Execute(server, "SET GLOBAL innodb_flush_log_at_trx_commit = 2");
        _afterwards.Add(() => TestServers.Execute(server, "SET GLOBAL innodb_flush_log_at_trx_commit = 1"));
        using (DbConnection another = TestServers.Connect(store))
        {
            using DbCommand command = another.CreateCommand();
            foreach (string statement in (string[])["XA START 'waits'", "INSERT INTO old_one VALUES (1)", "XA END 'waits'",
                "XA PREPARE 'waits'"])
            {
#pragma warning disable CA2100 // statements of tests
                command.CommandText = statement;
#pragma warning restore CA2100
                command.ExecuteNonQuery();
            }
            IReadOnlyList<ServerAdvice> told = Advice(store);
            Assert.True(Assert.Single(told, advice => advice.Name == "flush-log").IsUnsafe);
            Assert.True(Assert.Single(told, advice => advice.Name == "prepared-transactions").IsUnsafe);
            Assert.Contains("old_one (MyISAM)", Assert.Single(told, advice => advice.Name == "tables-without-transactions").What,
                StringComparison.Ordinal);
            command.CommandText = "XA ROLLBACK 'waits'";
            command.ExecuteNonQuery();
        }
        Assert.DoesNotContain(Advice(store), advice => advice.Name == "prepared-transactions");
    }

    [Fact]
    public void Firebird_forced_writes_that_are_off_are_unsafe()
    {
        StoreAddress store = _servers.Made("firebird", "advice"); // made with forced writes off
        ServerAdvice advice = Assert.Single(Advice(store), advice => advice.Name == "forced-writes");
        Assert.True(advice.IsUnsafe);
        Assert.Contains("gfix -write sync", advice.Next, StringComparison.Ordinal);
    }

    [Fact]
    public void Postgresql_settings_that_lose_data_or_time_are_told()
    {
        StoreAddress store = _servers.Made("postgresql", "advice"), server = store with { Path = "postgres" };
        (string Setting, string Value, string Name, bool IsUnsafe)[] settings =
            [("fsync", "off", "fsync", true), ("full_page_writes", "off", "full-page-writes", true),
                ("max_wal_size", "'100MB'", "max-wal-size", false)];
        try
        {
            foreach ((string setting, string value, _, _) in settings) TestServers.Execute(server, $"ALTER SYSTEM SET {setting} = {value}");
            TestServers.Execute(server, "SELECT pg_reload_conf()");
            for (int i = 0; i < 50 && Advice(store).Count < settings.Length; i++) Thread.Sleep(100);
            IReadOnlyList<ServerAdvice> told = Advice(store);
            foreach ((_, _, string name, bool isUnsafe) in settings) Assert.Equal(isUnsafe,
                Assert.Single(told, advice => advice.Name == name).IsUnsafe);
        }
        finally
        {
            TestServers.Execute(server, "ALTER SYSTEM RESET ALL");
            TestServers.Execute(server, "SELECT pg_reload_conf()");
        }
    }
}
