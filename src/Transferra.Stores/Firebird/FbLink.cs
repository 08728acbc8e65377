// FbLink.cs: opens connections to databases of a Firebird server and words what it says when it does not open one.
using System.Collections.Concurrent;
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal static class FbLink
{
    private const int UsualPort = 3050, BadLogin = 335544472, CannotOpen = 335544344, NoSuchFile = 335544734, NoServer = 335544721,
        NotEncrypted = 335545064, MostPacketBytes = 32_000;

    /// <summary>The engine's number for a database that is shut down.</summary>
    public const int Shutdown = 335544528;

    /// <summary>The driver's description of a connection.</summary>
    /// <param name="address">Which database.</param>
    /// <param name="dialect">3, or 1 for databases of that kind.</param>
    public static string Describe(StoreAddress address, int dialect = 3)
    {
        ServerAddress server = address.Server!;
        var parts = new FbConnectionStringBuilder
        {
            DataSource = server.Host,
            Port = server.Port == 0 ? UsualPort : server.Port,
            Database = address.Path,
            // The engine's own programs look into the same two variables.
            UserID = server.User.Length > 0 ? server.User : Environment.GetEnvironmentVariable("ISC_USER") ?? "SYSDBA",
            Password = ServerPassword.Of(server) ?? Environment.GetEnvironmentVariable("ISC_PASSWORD") ?? "",
            Charset = "UTF8",
            Dialect = dialect,
            Pooling = false,
            ConnectionTimeout = 15, // seconds
            CommandTimeout = 0,
            ApplicationName = OurName.Text,
            ServerType = FbServerType.Default,
            PacketSize = MostPacketBytes, // long values come in as many journeys as they have packets
            WireCrypt = server.Connection != ConnectionCare.AsOffered ? FbWireCrypt.Required
                : MayBePlain(server) ? FbWireCrypt.Disabled : FbWireCrypt.Enabled,
        };
        return parts.ToString();
    }

    // Servers on this machine that ask for encryption all the same.
    private static readonly ConcurrentDictionary<(string Host, int Port), bool> Insisting = [];

    // The driver takes a third of the time of a connection to encrypt what never leaves this machine.
    private static bool MayBePlain(ServerAddress server) => server.Connection == ConnectionCare.AsOffered && ServerTls.IsHere(server)
        && !Insisting.ContainsKey((server.Host, server.Port));

    // Whether it may be tried once more, with encryption; another thread may have noted it meanwhile.
    private static bool Insists(StoreAddress address, int dialect, FbException error, string tried)
    {
        if (MayBePlain(address.Server!) && error.Errors.Any(entry => entry.Number == NotEncrypted))
            Insisting.TryAdd((address.Server!.Host, address.Server.Port), true);
        return Describe(address, dialect) != tried;
    }

    /// <summary>Does something that connects by itself, once more where the server insists on encryption.</summary>
    /// <param name="address">Which database.</param>
    /// <param name="action">Gets the driver's description of a connection.</param>
    internal static T Connecting<T>(StoreAddress address, Func<string, T> action)
    {
        string description = Describe(address);
        try { return action(description); }
        catch (FbException error) when (Insists(address, 3, error, description)) { return action(Describe(address)); }
    }

    /// <summary>An open connection that ends when it is disposed: for what changes a database.</summary>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static FbConnection Open(StoreAddress address, int dialect = 3)
    {
        // What is declared cannot be changed while others have looked it up.
        FbKept.LetGo();
        return OpenNew(address, dialect);
    }

    /// <summary>The same, beside those that are kept (<see cref="FbKept"/>).</summary>
    internal static FbConnection OpenNew(StoreAddress address, int dialect) => TryOpen(address, dialect, out FbException? error)
        ?? throw Explain(address, error!);

    /// <summary>An open connection; null when the server has no such database.</summary>
    internal static FbConnection? OpenIfThere(StoreAddress address)
    {
        if (TryOpen(address, 3, out FbException? error) is { } connection) return connection;
        return error!.Errors.Any(entry => entry.Number is NoSuchFile) || IsMissing(error) ? null : throw Explain(address, error);
    }

    /// <summary>An open connection that speaks the database's own dialect.</summary>
    public static FbConnection OpenInDialect(StoreAddress address, out int dialect)
    {
        FbConnection connection = Open(address);
        dialect = Convert.ToInt32(Scalar(connection, null, "SELECT MON$SQL_DIALECT FROM MON$DATABASE"), CultureInfo.InvariantCulture);
        if (dialect == 3) return connection;
        connection.Dispose();
        return Open(address, dialect);
    }

    private static bool IsMissing(FbException error) => error.Errors.Any(entry => entry.Number == CannotOpen)
        && error.Message.Contains("No such file", StringComparison.OrdinalIgnoreCase);

    private static FbConnection? TryOpen(StoreAddress address, int dialect, out FbException? error)
    {
        error = null;
        string description = Describe(address, dialect);
        var connection = new FbConnection(description);
        try
        {
            connection.Open();
            return connection;
        }
        catch (FbException failure)
        {
            connection.Dispose();
            if (Insists(address, dialect, failure, description)) return TryOpen(address, dialect, out error);
            error = failure;
            return null;
        }
        catch
        {
            connection.Dispose();
            throw;
        }
    }

    private static TransferraException Explain(StoreAddress address, FbException error)
    {
        ServerAddress server = address.Server!;
        string at = FormattableString.Invariant($"{server.Host}:{(server.Port == 0 ? UsualPort : server.Port)}");
        int[] numbers = [.. error.Errors.Select(entry => entry.Number)];
        string said = FirstLine(error);
        if (numbers.Contains(BadLogin))
            return new($"the Firebird server at {at} does not let {(server.User.Length > 0 ? server.User : "this user")} in: {said}",
                "Correct user and password-file in office.yaml.", error);
        if (numbers.Contains(NoSuchFile) || IsMissing(error))
            return new($"there is no database {address.Path} on the Firebird server at {at}",
                "Correct the store in office.yaml: the path as the server sees it, or an alias.", error);
        if (numbers.Contains(Shutdown)) return new($"the database {address.Shown} is shut down", "Bring it online, then try again.", error);
        if (numbers.Contains(NoServer) || error.InnerException is System.Net.Sockets.SocketException
            || error.InnerException is System.IO.IOException)
            return new($"no Firebird server answers at {at}: {said}", "Start it, or correct host and port in office.yaml.", error);
        return new($"the Firebird server at {at} does not open {address.Path}: {said}", "Look into the server's log.", error);
    }

    /// <summary>What the engine said, in one line.</summary>
    public static string FirstLine(Exception error) =>
        string.Join(" ", error.Message.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
        // a value may be somebody's own affair
        .Where(line => !line.StartsWith("Problematic key value", StringComparison.Ordinal)).Distinct());

    /// <summary>What the engine said when work with a store stopped.</summary>
    public static TransferraException Stopped(string what, Exception error) =>
        new($"{what}: {FirstLine(error)}",
            "Look into the server's log, for room on its disk and for its health. The old data is untouched.", error);

    public static void Execute(FbConnection connection, FbTransaction? transaction, string sql)
    {
        using var command = new FbCommand(sql, connection, transaction);
        command.ExecuteNonQuery();
    }

    public static object? Scalar(FbConnection connection, FbTransaction? transaction, string sql)
    {
        using var command = new FbCommand(sql, connection, transaction);
        return command.ExecuteScalar() is { } found and not DBNull ? found : null;
    }

    public static string Quote(string name) => "\"" + name.Replace("\"", "\"\"", StringComparison.Ordinal) + "\"";

    public static string Literal(string text) => "'" + text.Replace("'", "''", StringComparison.Ordinal) + "'";
}
