using System.Data.Common;
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using MySqlConnector;
using Npgsql;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Tests;

/// <summary>The servers that test.sh started (tests/servers.sh), and databases of one test on them, which go when the test ends.</summary>
internal sealed class TestServers : IDisposable
{
    private static int _count;

    private readonly string _prefix = string.Create(CultureInfo.InvariantCulture,
        $"t{Environment.ProcessId}_{Interlocked.Increment(ref _count)}_");
    private readonly List<StoreAddress> _given = [];

    /// <summary>Where a server is.</summary>
    public static ServerAddress Server(string engine)
    {
        string[] parts = (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_" + engine.ToUpperInvariant())
            ?? throw new InvalidOperationException($"the {engine} server for tests is not started; run ./test.sh, or source "
                + "tests/servers.sh")).Split(':');
        return new ServerAddress(parts[0], int.Parse(parts[1], CultureInfo.InvariantCulture), parts[2], parts[3]);
    }

    /// <summary>The folder that the Firebird server may make databases in.</summary>
    public static string FirebirdFolder => Environment.GetEnvironmentVariable("TRANSFERRA_TEST_FIREBIRD_FOLDER") ?? "";

    /// <summary>A database that is this test's own; not made yet.</summary>
    public StoreAddress Database(string engine, string name)
    {
        string path = _prefix + name;
        if (engine == "firebird") path = Path.Combine(OwnFolder(), path + ".fdb");
        return Known(new StoreAddress(engine, path, Server: Server(engine)));
    }

    private string _ownFolder = "";

    // Who works in a folder locks it, so that tests that run at the same time need one each.
    private string OwnFolder()
    {
        if (_ownFolder.Length > 0) return _ownFolder;
        Directory.CreateDirectory(_ownFolder = Path.Combine(FirebirdFolder, _prefix));
        File.SetUnixFileMode(_ownFolder, (UnixFileMode)0x1FF);
        return _ownFolder;
    }

    /// <summary>Has a database removed when the test ends.</summary>
    public StoreAddress Known(StoreAddress address)
    {
        _given.Add(address);
        return address;
    }

    /// <summary>Makes an empty database with the engine's own means.</summary>
    public StoreAddress Made(string engine, string name, params string[] statements) => Made(Database(engine, name), statements);

    /// <summary>The same on a server of a newer release of PostgreSQL.</summary>
    public StoreAddress MadeOnNewer(string name, params string[] statements) => Made(OnNewer(name), statements);

    /// <summary>A database on a server of a newer release of PostgreSQL; not made yet.</summary>
    public StoreAddress OnNewer(string name) => Known(new StoreAddress("postgresql", _prefix + name, Server: Server("postgresql_newer")));

    /// <summary>A database of a Firebird server that insists on encryption.</summary>
    public StoreAddress MadeOnEncrypted(string name, params string[] statements) => Made(Known(new StoreAddress("firebird",
        Path.Combine(Path.GetDirectoryName(Path.GetDirectoryName(FirebirdFolder))!, "firebird-encrypted", "data", _prefix + name + ".fdb"),
        Server: Server("firebird_encrypted"))), statements);

    private static StoreAddress Made(StoreAddress address, string[] statements)
    {
        string engine = address.Engine;
        switch (engine)
        {
            case "postgresql":
                Execute(address with { Path = "postgres" },
                $"CREATE DATABASE \"{address.Path}\" TEMPLATE template0 ENCODING 'UTF8'"); break;
            case "mariadb": Execute(address with { Path = "" }, $"CREATE DATABASE `{address.Path}` CHARACTER SET utf8mb4"); break;
            default: FbConnection.CreateDatabase(Describe(address), 8192, forcedWrites: false, overwrite: false); break;
        }
        foreach (string statement in statements) Execute(address, statement);
        return address;
    }

    private readonly List<(StoreAddress Server, string Statement)> _afterwards = [];

    private const string ClerksPassword = "opens-nothing-else-1";

    /// <summary>A store as a person of the office comes to it, who may work in it and is no administrator; an account that goes when the
    /// test ends.</summary>
    /// <param name="store">Which; a database that is there.</param>
    /// <param name="folder">For the file with the password.</param>
    public StoreAddress AsClerk(StoreAddress store, string folder)
    {
        // Firebird's names have 31 characters at most; it speaks of users in any database, here one that stays when the test's own is
        // renamed or removed.
        string clerk = string.Create(CultureInfo.InvariantCulture, $"clerk_{Environment.ProcessId}_{Interlocked.Increment(ref _count)}");
        StoreAddress server = store.Engine switch
        {
            "postgresql" => store with { Path = "postgres" },
            "mariadb" => store with { Path = "" },
            _ =>
            Made("firebird", "users_" + clerk)
        };
        foreach (string statement in store.Engine switch
        {
            "postgresql" => (string[])[$"CREATE ROLE {clerk} LOGIN PASSWORD '{ClerksPassword}'"],
            "mariadb" => [$"CREATE USER '{clerk}'@'%' IDENTIFIED BY '{ClerksPassword}'",
                $"GRANT SELECT, INSERT ON `{store.Path}`.* TO '{clerk}'@'%'"],
            _ => [$"CREATE USER {clerk} PASSWORD '{ClerksPassword}'"],
        }) Execute(server, statement);
        _afterwards.Add((server, store.Engine switch
        {
            "postgresql" => $"DROP ROLE {clerk}",
            "mariadb" => $"DROP USER '{clerk}'@'%'",
            _ => $"DROP USER {clerk}"
        }));
        string file = Path.Combine(folder, clerk);
        File.WriteAllText(file, ClerksPassword);
        File.SetUnixFileMode(file, UnixFileMode.UserRead);
        return store with { Server = store.Server! with { User = clerk, PasswordFile = file } };
    }

    private static string Password(StoreAddress address) => File.ReadLines(address.Server!.PasswordFile!).First();

    private static string Describe(StoreAddress address, string program = "") => new FbConnectionStringBuilder
    {
        DataSource = address.Server!.Host,
        Port = address.Server.Port,
        Database = address.Path,
        UserID = address.Server.User,
        Password = Password(address),
        Charset = "UTF8",
        Pooling = false,
        ApplicationName = program,
    }.ToString();

    /// <summary>A connection of the engine's own driver, as another program has one.</summary>
    /// <param name="address">Which database.</param>
    /// <param name="program">What PostgreSQL and Firebird are told of who comes.</param>
    public static DbConnection Connect(StoreAddress address, string? program = null)
    {
        ServerAddress server = address.Server!;
        DbConnection connection = address.Engine switch
        {
            "postgresql" => new NpgsqlConnection(new NpgsqlConnectionStringBuilder
            {
                Host = server.Host,
                Port = server.Port,
                Username = server.User,
                Password = Password(address),
                Database = address.Path,
                Pooling = false,
                ApplicationName = program ?? "somebody"
            }.ToString()),
            "mariadb" => new MySqlConnection(new MySqlConnectionStringBuilder
            {
                Server = server.Host,
                Port = (uint)server.Port,
                UserID = server.User,
                Password = Password(address),
                Database = address.Path,
                Pooling = false,
                AllowZeroDateTime = true,
                AllowUserVariables = true
            }.ToString()),
            _ => new FbConnection(Describe(address, program ?? "")),
        };
        connection.Open();
        return connection;
    }

    /// <summary>Runs a statement as another program would.</summary>
    public static void Execute(StoreAddress address, string sql)
    {
        using DbConnection connection = Connect(address);
        using DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100 // statements of tests
        command.CommandText = sql;
#pragma warning restore CA2100
        command.ExecuteNonQuery();
    }

    /// <summary>One value, as another program would read it.</summary>
    public static string? Ask(StoreAddress address, string sql)
    {
        using DbConnection connection = Connect(address);
        using DbCommand command = connection.CreateCommand();
#pragma warning disable CA2100
        command.CommandText = sql;
#pragma warning restore CA2100
        return Convert.ToString(command.ExecuteScalar(), CultureInfo.InvariantCulture);
    }

    private static void Remove(StoreAddress address) => new StoreOpener().ServerOf(address).Remove(address.Path);

    public void Dispose()
    {
        // Rights go with their database, and an account only when it has none; what an account is spoken of in goes last.
        bool isSpokenIn(StoreAddress address) => _afterwards.Any(last => last.Server == address);
        foreach (StoreAddress address in _given.Where(address => !isSpokenIn(address))) Remove(address);
        foreach ((StoreAddress server, string statement) in _afterwards) Execute(server, statement);
        foreach (StoreAddress address in _given.Where(isSpokenIn)) Remove(address);
        if (_ownFolder.Length > 0) Directory.Delete(_ownFolder, recursive: true);
        _ownFolder = "";
    }
}
