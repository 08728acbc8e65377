using System.Data.Common;
using System.Globalization;
using Transferra.Core.Records;
using Transferra.Stores.Servers;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>The locks of an office with more companies than a server lets connections in.</summary>
public sealed class NamedLocksTests : IDisposable
{
    private const int Many = 250;

    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _servers.Dispose();

    // A connection with a name of its own, so that others of this process do not count.
    private static (Func<DbConnection> Open, string Count, string End) Ways(string engine, StoreAddress at,
        string mark) =>
        engine == "postgresql"
            ? (() => TestServers.Connect(at with { Path = "postgres" }, mark),
                $"SELECT count(*) FROM pg_stat_activity WHERE application_name = '{mark}'",
                $"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = '{mark}'")
            : (() => TestServers.Connect(at with { Path = "mysql" }),
                $"SELECT COUNT(*) FROM information_schema.processlist WHERE id = IS_USED_LOCK('{mark} 0')",
                $"KILL IS_USED_LOCK('{mark} 0')");

    private static string Ask(DbConnection connection, string sql)
    {
        using DbCommand command = connection.CreateCommand();
        command.CommandText = sql;
        return Convert.ToString(command.ExecuteScalar(), CultureInfo.InvariantCulture) ?? "";
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void All_hang_on_one_connection_that_ends_with_the_last(string engine)
    {
        StoreAddress at = _servers.Made(engine, "locks");
        string mark = at.Path;
        (Func<DbConnection> open, string count, string end) = Ways(engine, at, mark);
        string Watched(string sql) => TestServers.Ask(at, sql) ?? "";
        IDisposable? Take(int number) => NamedLocks.TryTake(mark, $"{mark} {number}", open,
            (connection, name) => Ask(connection, engine == "postgresql" ? $"SELECT pg_try_advisory_lock(hashtextextended('{name}', 0))"
                : $"SELECT GET_LOCK('{name}', 0)") is "True" or "1",
            (connection, name) => Ask(connection, engine == "postgresql" ? $"SELECT pg_advisory_unlock(hashtextextended('{name}', 0))"
                : $"SELECT RELEASE_LOCK('{name}')"));
        IDisposable?[] held = [.. Enumerable.Range(0, Many).Select(Take)];
        Assert.DoesNotContain(null, held);
        Assert.Equal("1", Watched(count));
        Assert.Null(Take(7));
        held[7]!.Dispose();
        held[7]!.Dispose();
        using (IDisposable? again = Take(7)) Assert.NotNull(again);
        // The server ends the connection, and with it what it held.
        TestServers.Execute(at, end);
        using (IDisposable? other = Take(Many)) Assert.NotNull(other);
        foreach (IDisposable? one in held) one!.Dispose();
        if (engine == "postgresql") for (int tries = 0; tries < 50 && Watched(count) != "0"; tries++) Thread.Sleep(100);
        Assert.Equal("0", Watched(count));
        using (IDisposable? once = Take(0)) Assert.NotNull(once);
    }

    [Theory]
    [InlineData("postgresql")]
    [InlineData("mariadb")]
    public void A_server_gives_an_office_as_many_as_it_has_companies(string engine)
    {
        StoreAddress at = _servers.Made(engine, "many");
        IStoreServer server = _stores.ServerOf(at);
        IDisposable?[] held = [.. Enumerable.Range(0, Many).Select(number => server.TryLock($"{at.Path} {number}"))];
        try
        {
            Assert.DoesNotContain(null, held);
            Assert.Null(server.TryLock($"{at.Path} 249"));
            Assert.NotNull(server.EngineVersion());
        }
        finally
        {
            foreach (IDisposable? one in held) one?.Dispose();
        }
        using IDisposable? again = server.TryLock($"{at.Path} 249");
        Assert.NotNull(again);
    }
}
