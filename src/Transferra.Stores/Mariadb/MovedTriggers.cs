// MovedTriggers.cs: the server moves no table that has a trigger, so triggers are taken away, the tables moved, and the triggers made
// again behind them.
// Holds: (1) before the first trigger is taken away, all of them stand in a table of the database that the tables go to; that table goes
// only when all are made
// again, so that an interrupted move can be finished or taken back; (2) each is made in the mode and with the character sets it was
// written for.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Machine;

namespace Transferra.Stores.Mariadb;

internal static class MovedTriggers
{
    /// <summary>Name of the table that the triggers stand in meanwhile; no table of a store.</summary>
    public const string Kept = "transferra_moving_triggers";

    private static string In(string database) => $"{MariaConnection.Quote(database)}.{MariaConnection.Quote(Kept)}";

    /// <summary>Takes the triggers of a database away and keeps them in another.</summary>
    public static void TakeAway(MySqlConnection connection, string from, string to)
    {
        List<string> names = MariaServer.List(connection,
            $"SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = {MariaConnection.Literal(from)} ORDER BY "
                + "event_object_table, action_timing, event_manipulation, action_order");
        if (names.Count == 0) return;
        MariaConnection.Execute(connection,
            $"CREATE TABLE {In(to)} (number INT NOT NULL PRIMARY KEY, origin VARCHAR(64) NOT NULL, session TEXT NOT NULL, statement "
                + "LONGTEXT NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4");
        MariaConnection.Execute(connection, "START TRANSACTION");
        for (int i = 0; i < names.Count; i++)
        {
            (string session, string statement) = Written(connection, from, names[i]);
            MariaConnection.Execute(connection, string.Create(CultureInfo.InvariantCulture,
                $"INSERT INTO {In(to)} VALUES ({i}, {MariaConnection.Literal(from)}, {MariaConnection.Literal(session)}, "
                    + $"{MariaConnection.Literal(statement)})"));
        }
        MariaConnection.Execute(connection, "COMMIT");
        foreach (string name in names) MariaConnection.Execute(connection,
            $"DROP TRIGGER {MariaConnection.Quote(from)}.{MariaConnection.Quote(name)}");
    }

    /// <summary>The statement that makes a trigger again, and what is to be set before.</summary>
    public static (string Session, string Statement) Written(MySqlConnection connection, string database, string name)
    {
        using var command = new MySqlCommand($"SHOW CREATE TRIGGER {MariaConnection.Quote(database)}.{MariaConnection.Quote(name)}",
            connection);
        using MySqlDataReader reader = command.ExecuteReader();
        reader.Read();
        if (reader.IsDBNull(2)) throw new TransferraException($"the text of the trigger {name} of {database} may "
            + "not be read by this user", "Run as a user who may, or take the trigger away for the upgrade.");
        return ($"SET SESSION sql_mode = {MariaConnection.Literal(reader.GetString(1))}, character_set_client = {reader.GetString(3)}, "
            + $"collation_connection = {reader.GetString(4)}",
            reader.GetString(2));
    }

    /// <summary>Makes the triggers again that an interrupted or finished move keeps in a database: there, when the tables are there,
    /// otherwise where they were.</summary>
    public static void MakeAgain(MySqlConnection connection, string database)
    {
        if (MariaConnection.Scalar(connection,
            $"SELECT 1 FROM information_schema.tables WHERE table_schema = {MariaConnection.Literal(database)} AND table_name = "
                + $"'{Kept}'") is null) return;
        List<string> origins = MariaServer.List(connection, $"SELECT DISTINCT origin FROM {In(database)}");
        if (origins.Count > 0)
        {
            string target = MariaServer.TablesOf(connection, database).Count > 0 ? database : origins[0];
            List<string> sessions = MariaServer.List(connection, $"SELECT session FROM {In(database)} ORDER BY number"),
                statements = MariaServer.List(connection, $"SELECT statement FROM {In(database)} ORDER BY number");
            connection.ChangeDatabase(target);
            foreach ((string session, string statement) in sessions.Zip(statements))
            {
                MariaConnection.Execute(connection, session);
                try { MariaConnection.Execute(connection, statement); }
                catch (MySqlException error) when (error.ErrorCode == MySqlErrorCode.TriggerAlreadyExists)
                {
                    // made before the interruption
                }
            }
            MariaConnection.Execute(connection, MariaConnection.Settings);
        }
        MariaConnection.Execute(connection, $"DROP TABLE {In(database)}");
    }

    /// <summary>Why this user could not make the triggers of a database again; null when nothing is known to hinder it.</summary>
    public static string? Hindrance(MySqlConnection connection, string database)
    {
        List<string> definers = MariaServer.List(connection,
            $"SELECT DISTINCT definer FROM information_schema.triggers WHERE trigger_schema = {MariaConnection.Literal(database)}");
        if (definers.Count == 0) return null;
        List<string> rights = MariaServer.List(connection,
            "SELECT privilege_type FROM information_schema.user_privileges WHERE replace(grantee, char(39), '') = current_user()");
        if (rights.Contains("SUPER", StringComparer.OrdinalIgnoreCase)) return null;
        string me = MariaConnection.Scalar(connection, "SELECT current_user()") ?? "";
        if (definers.Any(definer => definer != me) && !rights.Contains("SET USER", StringComparer.OrdinalIgnoreCase))
            return "triggers of other users have to be made again behind the tables, which this user may not; let an administrator say: "
                + "GRANT SET USER ON *.* TO ...";
        return MariaConnection.Scalar(connection, "SELECT @@log_bin = 1 AND @@log_bin_trust_function_creators = 0") == "1"
            ? "triggers have to be made again behind the tables, which the binary log does not allow this user; SET GLOBAL "
                + "log_bin_trust_function_creators = 1 for the night" : null;
    }
}
