using System.Diagnostics.Metrics;
using Npgsql;
using Transferra.Core.Records;
using Transferra.Stores.Postgresql;
using Transferra.Stores.Servers;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>Tests here look at what one process keeps open, so no other test may run meanwhile.</summary>
[CollectionDefinition(nameof(KeptConnectionsTests), DisableParallelization = true)]
public sealed class KeptConnectionsAlone;

/// <summary>Connections that are kept for the next question, on real servers that tell who is there.</summary>
[Collection(nameof(KeptConnectionsTests))]
public sealed class KeptConnectionsTests : IDisposable
{
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _servers.Dispose();

    public static TheoryData<string> Engines => ["postgresql", "firebird"];

    private StoreAddress Made(string engine) => _servers.Made(engine, "kept", "CREATE TABLE t (a INTEGER)");

    // The server's numbers of our connections.
    private static string Ours(StoreAddress store) => TestServers.Ask(store, store.Engine == "postgresql"
        ? "SELECT coalesce(string_agg(pid::text, ' ' ORDER BY pid), '') FROM pg_stat_activity WHERE datname = current_database() AND "
            + "application_name LIKE 'transferra %'"
        : "SELECT COALESCE(LIST(MON$ATTACHMENT_ID, ' '), '') FROM MON$ATTACHMENTS WHERE MON$REMOTE_PROCESS STARTING WITH 'transferra '")!;

    private void Look(StoreAddress store)
    {
        using IStore opened = _stores.Open(store);
        Assert.Equal(0, opened.CountRows(opened.ReadShape().Single().Name));
    }

    private static void AssertNobodyStays(StoreAddress store, double withinSeconds)
    {
        // A server lists a session for a moment after its connection was closed.
        var clock = System.Diagnostics.Stopwatch.StartNew();
        while (Ours(store) is { Length: > 0 } left)
        {
            Assert.True(clock.Elapsed.TotalSeconds < withinSeconds, $"still there: {left}");
            Thread.Sleep(50);
        }
    }

    // The driver's own figures have a line for each database that it still remembers something of.
    private static int Remembered(StoreAddress store)
    {
        int lines = 0;
        using var listener = new MeterListener
        {
            InstrumentPublished = (instrument, listener) =>
            {
                if (instrument.Meter.Name == "Npgsql" && instrument.Name.EndsWith(".max", StringComparison.Ordinal))
                    listener.EnableMeasurementEvents(instrument);
            },
        };
        listener.SetMeasurementEventCallback<int>((_, _, tags, _) =>
        {
            foreach ((string _, object? value) in tags)
                if (value is string text && text.Contains(store.Path, StringComparison.Ordinal)) lines++;
        });
        listener.Start();
        listener.RecordObservableInstruments();
        return lines;
    }

    [Fact]
    public void Nothing_is_remembered_of_a_database_that_was_let_go_of()
    {
        StoreAddress store = Made("postgresql");
        using (PgConnection.OpenKept(store.Server!, store.Path)) Assert.Equal(1, Remembered(store));
        Assert.Equal(1, Remembered(store));
        PgConnection.LetGo(store.Path);
        Assert.Equal(0, Remembered(store));
    }

    // As one in another container, whose process may have the same number.
    [Theory]
    [MemberData(nameof(Engines))]
    public void Only_this_process_is_left_out_of_who_is_in_a_database(string engine)
    {
        StoreAddress store = Made(engine);
        using IStore opened = _stores.Open(store);
        Assert.Empty(_stores.ServerOf(store).Sessions(store.Path));
        string another = FormattableString.Invariant($"transferra {Environment.ProcessId}-00000000");
        using System.Data.Common.DbConnection other = TestServers.Connect(store, another);
        Assert.Equal(another, Assert.Single(_stores.ServerOf(store).Sessions(store.Path)).Program);
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void It_is_used_again_and_none_stays_once_they_are_let_go_of(string engine)
    {
        StoreAddress store = Made(engine);
        Look(store);
        string first = Ours(store);
        Assert.NotEqual("", first);
        for (int again = 0; again < 3; again++) Look(store);
        Assert.Equal(first, Ours(store));
        _stores.LetGo();
        AssertNobodyStays(store, 10);
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void One_in_use_goes_on_when_all_are_let_go_of_and_ends_when_it_is_given_back(string engine)
    {
        StoreAddress store = Made(engine);
        using (IStore opened = _stores.Open(store))
        {
            _stores.LetGo();
            Assert.Equal(0, opened.CountRows(opened.ReadShape().Single().Name));
        }
        AssertNobodyStays(store, 1.5); // sooner than one that is kept would go
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void One_that_nobody_asks_for_ends_by_itself(string engine)
    {
        StoreAddress store = Made(engine);
        Look(store);
        AssertNobodyStays(store, 30);
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void It_ends_by_itself_also_while_another_is_taken_again_and_again(string engine)
    {
        StoreAddress store = Made(engine), busy = _servers.Made(engine, "busy", "CREATE TABLE t (a INTEGER)");
        Look(store);
        var clock = System.Diagnostics.Stopwatch.StartNew();
        while (Ours(store) is { Length: > 0 } left)
        {
            Assert.True(clock.Elapsed.TotalSeconds < 15, $"still there: {left}");
            Look(busy);
            Thread.Sleep(50);
        }
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void One_that_the_server_ended_is_not_taken_for_one_that_works(string engine)
    {
        StoreAddress store = Made(engine);
        Look(store);
        string first = Ours(store);
        TestServers.Execute(store, engine == "postgresql" ? $"SELECT pg_terminate_backend({first})"
            : $"DELETE FROM MON$ATTACHMENTS WHERE MON$ATTACHMENT_ID = {first}");
        Look(store);
        Assert.NotEqual(first, Ours(store));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void What_changes_a_database_finds_nobody_of_ours_in_it(string engine)
    {
        StoreAddress store = Made(engine), renamed = _servers.Database(engine, "renamed");
        Look(store);
        _stores.ServerOf(store).Rename(store.Path, renamed.Path);
        Look(renamed);
        StoreAddress copy = _servers.Database(engine, "copy");
        _stores.Copy(renamed, copy);
        Look(copy);
        using (IScriptRunner runner = _stores.RunScripts(copy))
        {
            Assert.DoesNotContain(' ', Ours(copy));
            runner.Complete();
        }
    }

    [Fact]
    public void Nothing_of_who_had_it_before_is_left_on_it()
    {
        StoreAddress store = Made("postgresql");
        object? number;
        using (NpgsqlConnection before = PgConnection.OpenKept(store.Server!, store.Path))
        {
            number = PgConnection.Scalar(before, "SELECT pg_backend_pid()");
            PgConnection.Execute(before, "CREATE TEMPORARY TABLE left_over (a INTEGER); SELECT pg_advisory_lock(4711)");
            PgConnection.Execute(before, "SET statement_timeout = 77; SET search_path = nowhere; BEGIN; LOCK TABLE public.t");
        }
        Assert.Equal("0", TestServers.Ask(store, "SELECT count(*) FROM pg_locks WHERE relation = 't'::regclass"));
        using NpgsqlConnection after = PgConnection.OpenKept(store.Server!, store.Path);
        Assert.Equal(number, PgConnection.Scalar(after, "SELECT pg_backend_pid()"));
        Assert.Equal("0", PgConnection.Scalar(after, "SHOW statement_timeout"));
        Assert.NotEqual("nowhere", PgConnection.Scalar(after, "SHOW search_path"));
        Assert.Null(PgConnection.Scalar(after, "SELECT to_regclass('left_over')::text"));
        const string locks = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND pid = pg_backend_pid()";
        Assert.Equal(0L, PgConnection.Scalar(after, locks));
        PgConnection.Execute(after, "VACUUM public.t"); // refused within a transaction
    }

    [Fact]
    public void Only_what_leads_to_the_database_is_let_go_of()
    {
        var ended = new List<string>();
        foreach (string database in (string[])["one", "two"])
            KeptConnections.Note("of-test-" + database, "engine-of-test", database, () => ended.Add(database));
        KeptConnections.LetGo("engine-of-test", "two");
        KeptConnections.LetGo("another-engine", "one");
        Assert.Equal(["two"], ended);
        KeptConnections.LetGo();
        Assert.Equal(["one", "two", "two"], ended.Order());
    }

    [Fact]
    public void Of_many_databases_only_those_asked_last_are_kept()
    {
        var ended = new List<string>();
        string[] many = [.. Enumerable.Range(1, 30).Select(number => FormattableString.Invariant($"many-{number:00}"))];
        foreach (string database in many)
        {
            KeptConnections.Note("of-test-" + many[0], "engine-of-test", many[0], () => ended.Add(many[0])); // asked all the time
            KeptConnections.Note("of-test-" + database, "engine-of-test", database, () => ended.Add(database));
        }
        Assert.Equal(many[1..^3], ended);
    }
}
