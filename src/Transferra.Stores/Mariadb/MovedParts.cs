// MovedParts.cs: the server moves no table that has a trigger, and no view, routine or event at all. So triggers are taken away, the tables
// moved, and all of it made again behind them; then what was left in the old place is removed.
// Holds: (1) before the first trigger is taken away, every part stands in a table of the database that the tables go to; that table goes
// only when all are made again, so that an interrupted move can be finished or taken back; (2) each is made in the mode and with the
// character sets it was written for; (3) nothing is removed from the old place that does not stand in the new one.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal static class MovedParts
{
    /// <summary>Name of the table that the parts stand in meanwhile; no table of a store.</summary>
    public const string Kept = "transferra_moving_parts";

    private static string In(string database) => $"{MariaConnection.Quote(database)}.{MariaConnection.Quote(Kept)}";

    /// <summary>Keeps the parts of a database in another, and takes the triggers away.</summary>
    public static void TakeAway(MySqlConnection connection, string from, string to)
    {
        // What has the same name there already stays where it is, on both sides.
        var there = new MariaParts(connection, to).All().Select(part => (part.Kind, part.Name)).ToHashSet();
        MariaPart[] parts = [.. new MariaParts(connection, from).All().Where(part => part.Kind == "trigger"
            || !there.Contains((part.Kind, part.Name)))];
        if (parts.Length == 0) return;
        if (parts.FirstOrDefault(part => part.Whole is null) is { } hidden) throw MayNotRead(hidden, from);
        MariaConnection.Execute(connection,
            $"CREATE TABLE {In(to)} (number INT NOT NULL PRIMARY KEY, origin VARCHAR(64) NOT NULL, kind VARCHAR(20) NOT NULL, name "
                + "VARCHAR(64) NOT NULL, statement LONGTEXT NOT NULL, rights LONGTEXT NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4");
        MariaConnection.Execute(connection, "START TRANSACTION");
        for (int i = 0; i < parts.Length; i++)
            MariaConnection.Execute(connection, string.Create(CultureInfo.InvariantCulture,
                $"INSERT INTO {In(to)} VALUES ({i}, {MariaConnection.Literal(from)}, '{parts[i].Kind}', ")
                + $"{MariaConnection.Literal(parts[i].Name)}, {MariaConnection.Literal(parts[i].Whole!)}, "
                + $"{MariaConnection.Literal(string.Join('\n', parts[i].Rights))})");
        MariaConnection.Execute(connection, "COMMIT");
        foreach (MariaPart trigger in parts.Where(part => part.Kind == "trigger")) MariaConnection.Execute(connection, trigger.Drop(from));
    }

    /// <summary>What is said when this user may not see the text of a part.</summary>
    public static TransferraException MayNotRead(MariaPart part, string database) => new($"the text of the {part.Kind} {part.Name} of "
        + $"{database} may not be read by this user", "Run as a user who may (SHOW VIEW, TRIGGER, EVENT, and SELECT ON mysql.proc), or "
        + "take "
            + "it away for the upgrade.");

    /// <summary>Makes the parts again that an interrupted or finished move keeps in a database: there, when the tables are there,
    /// otherwise where they were.</summary>
    public static void MakeAgain(MySqlConnection connection, string database)
    {
        if (MariaConnection.Scalar(connection,
            $"SELECT 1 FROM information_schema.tables WHERE table_schema = {MariaConnection.Literal(database)} AND table_name = "
                + $"'{Kept}'") is null) return;
        List<string> List(string column) => MariaServer.List(connection, $"SELECT {column} FROM {In(database)} ORDER BY number");
        List<string> origins = List("origin");
        if (origins.Count > 0)
        {
            bool hasMoved = MariaServer.TablesOf(connection, database).Count > 0;
            string target = hasMoved ? database : origins[0];
            MariaPart[] parts = [.. List("kind").Zip(List("name"), List("statement")).Zip(List("rights"), (part, rights) =>
                new MariaPart(part.First, part.Second, "", part.Third, rights.Split('\n', StringSplitOptions.RemoveEmptyEntries)))];
            connection.ChangeDatabase(target);
            Make(connection, hasMoved ? parts : [.. parts.Where(part => part.Kind == "trigger")], target);
            if (hasMoved)
                foreach (MariaPart left in parts.Where(part => part.Kind != "trigger"))
                    MariaConnection.Execute(connection, left.Drop(origins[0]));
            MariaConnection.Execute(connection, MariaConnection.Settings);
        }
        MariaConnection.Execute(connection, $"DROP TABLE {In(database)}");
    }

    /// <summary>Takes a move back whose parts cannot be made again in the new place: nothing is removed from the old one before they
    /// are.</summary>
    /// <param name="connection">To the server.</param>
    /// <param name="from">Where the tables were.</param>
    /// <param name="to">Where they are.</param>
    /// <param name="tables">Those that were moved.</param>
    public static void TakeBack(MySqlConnection connection, string from, string to, IReadOnlyList<string> tables)
    {
        foreach (MariaPart made in new MariaParts(connection, to).All()
            .Where(part => MariaServer.List(connection, $"SELECT 1 FROM {In(to)} WHERE kind = '{part.Kind}' AND name = "
                + MariaConnection.Literal(part.Name)).Count > 0).Reverse())
            MariaConnection.Execute(connection, made.Drop(to));
        MariaConnection.Execute(connection, "RENAME TABLE " + string.Join(", ", tables.Select(table =>
            $"{MariaConnection.Quote(to)}.{MariaConnection.Quote(table)} TO "
                + $"{MariaConnection.Quote(from)}.{MariaConnection.Quote(table)}")));
        MakeAgain(connection, to);
    }

    /// <summary>Makes parts in the database that is in use; what is there already stays.</summary>
    /// <param name="connection">In that database.</param>
    /// <param name="parts">Their statements are whole, with what is to be set before.</param>
    /// <param name="target">The database's name.</param>
    /// <exception cref="TransferraException">The server refuses one.</exception>
    public static void Make(MySqlConnection connection, IReadOnlyList<MariaPart> parts, string target)
    {
        string[] statements = [.. parts.Select(part => MariaParts.For(part.Statement!, part.Kind, target)),
            .. parts.SelectMany(part => part.Rights)];
        if (Rounds.Run(statements, statement => MariaScript.TryRun(connection, statement)) is [var failed, ..])
            throw new TransferraException($"{Rounds.Shown(failed.Statement)} cannot be made in {target}: {failed.Why}",
                "The user needs the rights that ready names. What is not made yet is kept and made when the run goes on or is taken back.");
    }

    /// <summary>Why this user could not make the parts of a database again; null when nothing is known to hinder it.</summary>
    public static string? Hindrance(MySqlConnection connection, string database)
    {
        string here = MariaConnection.Literal(database);
        List<string> definers = MariaServer.List(connection, $"SELECT definer FROM information_schema.triggers WHERE event_object_schema = "
            + $"{here} "
            + $"UNION SELECT definer FROM information_schema.views WHERE table_schema = {here} UNION SELECT definer FROM "
            + $"information_schema.routines WHERE routine_schema = {here} UNION SELECT definer FROM information_schema.events WHERE "
            + $"event_schema = {here}");
        if (definers.Count == 0) return null;
        if (MariaServer.List(connection, $"SELECT 1 FROM information_schema.routines WHERE routine_schema = {here} LIMIT 1").Count > 0)
        {
            try { MariaServer.List(connection, "SELECT 1 FROM mysql.procs_priv LIMIT 1"); }
            catch (MySqlException)
            {
                return "who may run the routines cannot be seen, and is to be kept; let an administrator say: GRANT SELECT ON "
                    + "mysql.procs_priv TO ...";
            }
        }
        List<string> rights = MariaServer.List(connection,
            "SELECT privilege_type FROM information_schema.user_privileges WHERE replace(grantee, char(39), '') = current_user()");
        if (rights.Contains("SUPER", StringComparer.OrdinalIgnoreCase)) return null;
        string me = MariaConnection.Scalar(connection, "SELECT current_user()") ?? "";
        if (definers.Any(definer => definer != me) && !rights.Contains("SET USER", StringComparer.OrdinalIgnoreCase))
            return "triggers, views, routines or events of other users have to be made again behind the tables, which this user may "
                + "not; let "
                + "an administrator say: GRANT SET USER ON *.* TO ...";
        return MariaConnection.Scalar(connection, "SELECT @@log_bin = 1 AND @@log_bin_trust_function_creators = 0") == "1"
            ? "triggers and routines have to be made again behind the tables, which the binary log does not allow this user; SET GLOBAL "
                + "log_bin_trust_function_creators = 1 for the night" : null;
    }
}
