// MariaConnection.cs: opens connections to a MariaDB (or MySQL) server and words what it says when it does not open one.
using System.Collections.Concurrent;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal static class MariaConnection
{
    private const int UsualPort = 3306;

    // Values as they are, whatever the server's settings; nothing cut short, nothing rounded without a word, no limit for a long read.
    public const string Settings =
        "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION', time_zone = '+00:00', "
            + "net_write_timeout = 3600, net_read_timeout = 3600, "
        + "wait_timeout = 86400, max_sort_length = 20000, max_error_count = 65535";

    // By these numbers we know our own connections among those of a database.
    private static readonly ConcurrentDictionary<int, bool> Ours = new();

    /// <summary>Whether a connection, by the server's number, is one of this process.</summary>
    public static bool IsOurs(int number) => Ours.ContainsKey(number);

    /// <summary>An open connection without pooling.</summary>
    /// <param name="server">Where.</param>
    /// <param name="database">To work in; "" for none.</param>
    /// <param name="loads">Whether it will send files of rows (LOAD DATA LOCAL).</param>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static MySqlConnection Open(ServerAddress server, string database, bool loads = false)
    {
        ServerTls.Judge(server);
        bool socket = server.Host.StartsWith('/');
        var parts = new MySqlConnectionStringBuilder
        {
            Server = server.Host,
            ConnectionProtocol = socket ? MySqlConnectionProtocol.UnixSocket : MySqlConnectionProtocol.Sockets,
            Port = (uint)(server.Port == 0 ? UsualPort : server.Port),
            Database = database,
            Pooling = false,
            ConnectionTimeout = 15, // seconds
            DefaultCommandTimeout = 0,
            ApplicationName = "transferra",
            CharacterSet = "utf8mb4",
            TreatTinyAsBoolean = false,
            AllowLoadLocalInfile = loads,
            AllowUserVariables = true, // routines and triggers that are made again may use some
            SslMode = server.Connection switch
            {
                ConnectionCare.Checked when !loads => MySqlSslMode.VerifyFull,
                ConnectionCare.AsOffered => ServerTls.IsHere(server) ? MySqlSslMode.None : MySqlSslMode.Preferred,
                _ => MySqlSslMode.Required
            },
            SslCa = loads ? "" : server.Authority ?? "",
            AllowPublicKeyRetrieval = ServerTls.IsHere(server),
        };
        // Without a place of our own, what the engine's own programs use: [client] in .my.cnf.
        (string User, string Password)? habit = server.PasswordFile is null && server.PasswordVariable is null ? OptionFile.Read() : null;
        parts.UserID = server.User.Length > 0 ? server.User : habit?.User ?? Environment.UserName;
        if (ServerPassword.Of(server) is { } password) parts.Password = password;
        else if (habit is { } known && (server.User.Length == 0 || server.User == known.User)) parts.Password = known.Password;
        try
        {
            return Open(parts, server, loads);
        }
        catch (MySqlException error) when (parts.SslMode == MySqlSslMode.None
            && error.ErrorCode is not (MySqlErrorCode.UnableToConnectToHost or MySqlErrorCode.UnknownDatabase))
        {
            return OpenEncrypted(parts, server, database, loads);
        }
        catch (Exception error) when (error is MySqlException or InvalidOperationException or ArgumentException)
        {
            throw Explain(server, database, error);
        }
    }

    // A server, or an account, may ask for it also on its own machine.
    private static MySqlConnection OpenEncrypted(MySqlConnectionStringBuilder parts, ServerAddress server, string database, bool loads)
    {
        parts.SslMode = MySqlSslMode.Preferred;
        try
        {
            return Open(parts, server, loads);
        }
        catch (Exception error) when (error is MySqlException or InvalidOperationException or ArgumentException)
        {
            throw Explain(server, database, error);
        }
    }

    private static MySqlConnection Open(MySqlConnectionStringBuilder parts, ServerAddress server, bool loads)
    {
        // Only then into the database: whoever looks at its sessions meanwhile would not know that this one is ours.
        string database = parts.Database;
        var connection = new MySqlConnection(new MySqlConnectionStringBuilder(parts.ToString()) { Database = "" }.ToString());
        // To a server whose certificate the driver itself has checked it would hand any file that the server asks for; to others only the
        // stream that is loaded.
        if (loads && server.Connection == ConnectionCare.Checked)
            connection.RemoteCertificateValidationCallback = (_, certificate, chain, errors) => ServerTls.IsProved(server, certificate,
                chain, errors);
        try
        {
            connection.Open();
            Ours[connection.ServerThread] = true;
            Execute(connection, Settings);
            if (database.Length > 0) connection.ChangeDatabase(database);
            return connection;
        }
        catch
        {
            connection.Dispose();
            throw;
        }
    }

    private static TransferraException Explain(ServerAddress server, string database, Exception error)
    {
        string at = server.Host.StartsWith('/') ? server.Host
            : FormattableString.Invariant($"{server.Host}:{(server.Port == 0 ? UsualPort : server.Port)}");
        if (ServerTls.IsWhy(server, error)) return ServerTls.Refused("MariaDB", at, error);
        return (error as MySqlException)?.ErrorCode switch
        {
            MySqlErrorCode.UnknownDatabase => new($"there is no database {database} on the MariaDB server at {at}",
                "Correct the store in office.yaml.", error),
            MySqlErrorCode.AccessDenied or MySqlErrorCode.DatabaseAccessDenied =>
                new($"the MariaDB server at {at} does not let {(server.User.Length > 0 ? server.User : "this user")} in: {error.Message}",
                "Correct user and password-file in office.yaml, or the user's rights on the server.", error),
            MySqlErrorCode.UnableToConnectToHost => new($"no MariaDB server answers at {at}: {error.Message}",
                "Start it, or correct host and port in office.yaml.", error),
            _ => new($"the MariaDB server at {at} cannot be used: {error.Message}", "Look into the server's log.", error),
        };
    }

    /// <summary>In place of the server's words, which hold the values, and those may be somebody's own affair.</summary>
    public const string SameValues = "several records have the same values in what must be unique";

    /// <summary>What the engine said when work with a store stopped.</summary>
    public static TransferraException Stopped(string what, Exception error) =>
        new($"{what}: {(error is MySqlException { ErrorCode: MySqlErrorCode.DuplicateKeyEntry } ? SameValues : error.Message)}",
            "Look into the server's log, for room on its disk and for its health. The old data is untouched.", error);

    /// <summary>Ends the statement that runs on one of our connections; nothing happens when none does.</summary>
    /// <remarks>The driver's own way would open a session in the same database whose number we do not learn, and which the gates would
    /// take for somebody who is still in.</remarks>
    /// <exception cref="TransferraException">The server does not let us in a second time.</exception>
    public static void Interrupt(ServerAddress server, int number)
    {
        using MySqlConnection second = Open(server, "");
        Execute(second, string.Create(System.Globalization.CultureInfo.InvariantCulture, $"KILL QUERY {number}"));
    }

    /// <summary>After an interrupt that may have come when the statement had ended already: the next one would be ended in its place.
    /// </summary>
    public static void SettleInterrupt(MySqlConnection connection)
    {
        try
        {
            Execute(connection, "DO SLEEP(0)");
        }
        catch (MySqlException) { /* that was it; or the connection is gone, which the next question tells */ }
    }

    public static void Execute(MySqlConnection connection, string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    public static string? Scalar(MySqlConnection connection, string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        return command.ExecuteScalar() is { } found and not DBNull ? Convert.ToString(found,
            System.Globalization.CultureInfo.InvariantCulture) : null;
    }

    /// <summary>The server's version. What it says when a client connects starts with an older one, for old clients' sake.</summary>
    public static string VersionOf(MySqlConnection connection) => Scalar(connection, "SELECT VERSION()")!;

    public static string Quote(string name) => "`" + name.Replace("`", "``", StringComparison.Ordinal) + "`";

    public static string Literal(string text) => "'" + text.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("'", "''",
        StringComparison.Ordinal) + "'";
}
