// MariaServer.cs: databases of a MariaDB server as wholes. A database cannot be renamed there; its tables can, all in one statement that happens
// as a whole or not at all, also when the server crashes (MariaDB documentation, Atomic DDL, since 10.6).
// So a store "is there" when its database has tables, and views, routines and rights stay with the database's name.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

/// <param name="address">Where, and as whom.</param>
internal sealed class MariaServer(ServerAddress address) : IStoreServer
{
    public bool Exists(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        return TablesOf(connection, name).Count > 0;
    }

    /// <summary>Whether there is a database of this name, with or without tables.</summary>
    public bool HasDatabase(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        return HasDatabase(connection, name);
    }

    private static bool HasDatabase(MySqlConnection connection, string name) =>
        MariaConnection.Scalar(connection, $"SELECT 1 FROM information_schema.schemata WHERE schema_name = {MariaConnection.Literal(name)}") is not null;

    private static List<string> TablesOf(MySqlConnection connection, string name) =>
        List(connection, $"SELECT table_name FROM information_schema.tables WHERE table_schema = {MariaConnection.Literal(name)} AND table_type = 'BASE TABLE' ORDER BY table_name");

    private static List<string> List(MySqlConnection connection, string sql)
    {
        using var command = new MySqlCommand(sql, connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var found = new List<string>();
        while (reader.Read()) found.Add(reader.GetString(0));
        return found;
    }

    public void Rename(string from, string to)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        List<string> tables = TablesOf(connection, from);
        if (TablesOf(connection, to).Count > 0) throw new TransferraException($"the database {to} is there already and has tables", "Find out what it is; nothing was renamed.");
        if (TriggerOf(connection, from) is { } trigger) throw new TransferraException($"the tables of {from} cannot be moved, because {trigger}", "Take the triggers away for the upgrade, then try again.");
        try
        {
            if (!HasDatabase(connection, to))
                MariaConnection.Execute(connection, $"CREATE DATABASE {MariaConnection.Quote(to)}");
            MariaConnection.Execute(connection, "RENAME TABLE " + string.Join(", ", tables.Select(table =>
                $"{MariaConnection.Quote(from)}.{MariaConnection.Quote(table)} TO {MariaConnection.Quote(to)}.{MariaConnection.Quote(table)}")));
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"the tables of {from} cannot be moved to {to}", error);
        }
        // What a run named itself leaves no empty database behind.
        if (from.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)) Remove(from);
    }

    private static string? TriggerOf(MySqlConnection connection, string name)
    {
        List<string> triggers = List(connection, $"SELECT concat(trigger_name, ' on ', event_object_table) FROM information_schema.triggers WHERE trigger_schema = {MariaConnection.Literal(name)} ORDER BY 1");
        return triggers.Count == 0 ? null : $"the server moves no table that has a trigger: {triggers[0]}{(triggers.Count > 1 ? $" and {triggers.Count - 1} more" : "")}";
    }

    public IReadOnlyList<string> Hindrances(string? name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        var found = new List<string>();
        if (!List(connection, "SELECT privilege_type FROM information_schema.user_privileges WHERE replace(grantee, char(39), '') = current_user()").Contains("CREATE", StringComparer.OrdinalIgnoreCase))
            found.Add("this user may not make databases; let an administrator say: GRANT CREATE, ALTER, DROP, INSERT, SELECT, INDEX, REFERENCES ON *.* TO ...");
        if (MariaConnection.Scalar(connection, "SELECT @@local_infile") != "1") found.Add("the server takes no rows from clients; switch it on for the time of the upgrade: SET GLOBAL local_infile = 1");
        if (name is not null && TriggerOf(connection, name) is { } trigger) found.Add(trigger + "; take the triggers away for the upgrade");
        return found;
    }

    public void Remove(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try
        {
            MariaConnection.Execute(connection, $"DROP DATABASE IF EXISTS {MariaConnection.Quote(name)}");
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"the database {name} cannot be removed", error);
        }
    }

    public IReadOnlyList<string> ConnectedTo(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        using var command = new MySqlCommand($"SELECT id, user, host, command, time FROM information_schema.processlist WHERE db = {MariaConnection.Literal(name)} AND command <> 'Daemon' ORDER BY id", connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var lines = new List<string>();
        while (reader.Read())
        {
            if (MariaConnection.IsOurs((int)reader.GetInt64(0))) continue;
            string idle = reader.GetString(3) == "Sleep" ? string.Create(CultureInfo.InvariantCulture, $"idle for {reader.GetValue(4)} s") : reader.GetString(3).ToLowerInvariant();
            lines.Add($"{reader.GetString(1)} from {reader.GetString(2)} ({idle})");
        }
        return lines;
    }
}
