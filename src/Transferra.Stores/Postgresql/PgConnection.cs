// PgConnection.cs: opens connections to a PostgreSQL server and words what it says when it does not open one.
// Holds: (1) a kept connection has no transaction, lock or setting of the one who gave it back, and ends by itself within seconds.
using System.Collections.Concurrent;
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Postgresql;

internal static class PgConnection
{
    /// <summary>The database that every server has, for questions about others.</summary>
    public const string Maintenance = "postgres";

    private const int UsualPort = 5432;

    private const string Engine = "postgresql";

    // Nothing that an administrator set for users may cut a long read short or change how a value is written; rows that a policy
    // would hide must be an error and not a silent loss.
    private static readonly string Settings = "SELECT " + string.Join(", ", new[]
    {
        ("statement_timeout", "0"), ("lock_timeout", "0"), ("idle_in_transaction_session_timeout", "0"), ("DateStyle", "ISO, YMD"),
        ("synchronize_seqscans", "off"), ("IntervalStyle", "iso_8601"), ("TimeZone", "UTC"), ("extra_float_digits", "1"),
        ("row_security", "off"),
    }.Select(setting => $"set_config('{setting.Item1}', '{setting.Item2}', false)"))
        // Our questions about a thousand tables look so large to the server that it compiles them, for most of a second each, and then they
        // take some hundredths. Releases before 11 have no such setting.
        + ", CASE WHEN current_setting('jit', true) IS NOT NULL THEN set_config('jit', 'off', false) END";

    // How long one is kept that nobody asks for, in seconds.
    private const int KeptSeconds = 2;

    /// <summary>An open connection that ends when it is disposed: for what changes a database.</summary>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static NpgsqlConnection Open(ServerAddress server, string database)
    {
        // Settings of the database may be among what is changed, and a kept connection began with the old ones.
        LetGo(database);
        return Open(server, database, isKept: false);
    }

    /// <summary>An open connection that is used again after it was disposed: for what only reads, and for questions about other
    /// databases (<see cref="Maintenance"/>).</summary>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static NpgsqlConnection OpenKept(ServerAddress server, string database) => Open(server, database, isKept: true);

    /// <summary>Ends what is kept to a database (<see cref="KeptConnections"/>).</summary>
    public static void LetGo(string database) => KeptConnections.LetGo(Engine, database);

    private static NpgsqlConnection Open(ServerAddress server, string database, bool isKept)
    {
        ServerTls.Judge(server);
        var parts = new NpgsqlConnectionStringBuilder
        {
            Host = server.Host,
            Port = server.Port == 0 ? UsualPort : server.Port,
            Database = database,
            Pooling = isKept,
            ConnectionIdleLifetime = KeptSeconds,
            ConnectionPruningInterval = 1,
            Timeout = 15, // seconds to connect
            CommandTimeout = 0,
            ApplicationName = OurName.Text,
            ReadBufferSize = 1 << 16,
            WriteBufferSize = 1 << 16,
            SslMode = server.Connection switch
            {
                ConnectionCare.Checked => SslMode.VerifyFull,
                ConnectionCare.Encrypted =>
                SslMode.Require,
                _ => ServerTls.IsHere(server) ? SslMode.Allow : SslMode.Prefer
            },
            RootCertificate = server.Authority,
        };
        if (server.User.Length > 0) parts.Username = server.User;
        // Without a place of our own, the driver looks where the engine's own programs look: PGPASSWORD, .pgpass, the socket's peer.
        if (ServerPassword.Of(server) is { } password) parts.Password = password;
        string description = parts.ToString();
        if (isKept) KeptConnections.Note(description, Engine, database, () =>
        {
            if (Kept.TryRemove(description, out NpgsqlDataSource? source)) source.Dispose();
        });
        NpgsqlConnection? connection = null;
        try
        {
            connection = Connect(description, isKept);
            try { Execute(connection, Settings); }
            catch (NpgsqlException) when (parts.Pooling)
            {
                // The server was started anew since, or ended it.
                NpgsqlConnection.ClearPool(connection);
                connection.Dispose();
                connection = Connect(description, isKept);
                Execute(connection, Settings);
            }
            return connection;
        }
        catch (Exception error) when (error is NpgsqlException or System.Net.Sockets.SocketException or ArgumentException
            or InvalidOperationException or TimeoutException)
        {
            connection?.Dispose();
            throw Explain(server, database, error);
        }
    }

    // What the driver opens connections to a database with, and keeps them in; by description.
    private static readonly ConcurrentDictionary<string, NpgsqlDataSource> Kept = new(StringComparer.Ordinal);

    // The driver remembers 200 kB of each database until it is told that we are done with it; an office may have hundreds.
    private static NpgsqlConnection Connect(string description, bool isKept)
    {
        while (isKept)
        {
            try { return Kept.GetOrAdd(description, Source).OpenConnection(); }
            catch (ObjectDisposedException)
            {
                // Let go of by another thread between the two.
            }
        }
        NpgsqlDataSource source = Source(description);
        try
        {
            NpgsqlConnection connection = source.OpenConnection();
            connection.StateChange += (_, change) =>
            {
                if (change.CurrentState == System.Data.ConnectionState.Closed) source.Dispose();
            };
            return connection;
        }
        catch
        {
            source.Dispose();
            throw;
        }
    }

    // Values of types that a database has of its own are read as text, so that the driver need not ask for these types.
    private static NpgsqlDataSource Source(string description)
    {
        var builder = new NpgsqlSlimDataSourceBuilder(description);
        builder.EnableArrays().EnableTransportSecurity().EnableIntegratedSecurity()
            .ConfigureTypeLoading(types => types.EnableTypeLoading(false));
        return builder.Build();
    }

    private static TransferraException Explain(ServerAddress server, string database, Exception error)
    {
        string at = FormattableString.Invariant($"{server.Host}:{(server.Port == 0 ? UsualPort : server.Port)}");
        return (error as PostgresException)?.SqlState switch
        {
            PostgresErrorCodes.InvalidCatalogName => new($"there is no database {database} on the PostgreSQL server at {at}",
                "Correct the store in office.yaml.", error),
            PostgresErrorCodes.InvalidPassword or PostgresErrorCodes.InvalidAuthorizationSpecification =>
                new($"the PostgreSQL server at {at} does not let {(server.User.Length > 0 ? server.User : "this user")} in: "
                    + $"{((PostgresException)error).MessageText}",
                    "Correct user and password-file in office.yaml, or the server's rules of who may come (pg_hba.conf).", error),
            { } => new($"the PostgreSQL server at {at} refuses the database {database}: {((PostgresException)error).MessageText}",
                "Look into the server's log.", error),
            null when error.InnerException is TimeoutException or System.Net.Sockets.SocketException || error is TimeoutException =>
                new($"no PostgreSQL server answers at {at}: {(error.InnerException ?? error).Message}",
                    "Start it, or correct host and port in office.yaml.", error),
            null when ServerTls.IsWhy(server, error) => ServerTls.Refused("PostgreSQL", at, error),
            // The driver says "No password has been provided" here, and nothing secret.
            null => new($"the PostgreSQL server at {at} cannot be used: {error.Message}",
                "Give a password-file in office.yaml, or a line in .pgpass; see docs/servers.md.", error),
        };
    }

    /// <summary>What the engine said when work with a store stopped.</summary>
    public static TransferraException Stopped(string what, Exception error)
    {
        // What the server adds about data (classes 22 and 23 of its codes) holds values, and those may be somebody's own affair.
        string said = error is PostgresException { } refused
            ? refused.MessageText + (refused.Detail is { Length: > 0 } detail && !refused.SqlState.StartsWith("22",
                StringComparison.Ordinal)
                && !refused.SqlState.StartsWith("23", StringComparison.Ordinal) ? $" ({detail})" : "") : error.Message;
        return new TransferraException($"{what}: {said}",
            "Look into the server's log, for room on its disk and for its health. The old data is untouched.", error);
    }

    public static void Execute(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    public static object? Scalar(NpgsqlConnection connection, string sql, params ReadOnlySpan<object> values)
    {
        using var command = new NpgsqlCommand(sql, connection);
        foreach (object value in values) command.Parameters.AddWithValue(value);
        return command.ExecuteScalar() is { } found and not DBNull ? found : null;
    }

    public static string Quote(string name) => "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";

    public static string Literal(string text) => "'" + text.Replace("'", "''", StringComparison.Ordinal) + "'";
}
