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
        List<string> triggers = List(connection, $"SELECT concat(trigger_name, ' on ', event_object_table) FROM information_schema.triggers WHERE trigger_schema = {MariaConnection.Literal(from)} ORDER BY 1");
        if (triggers.Count > 0)
            throw new TransferraException($"the tables of {from} cannot be moved, because the server moves no table that has a trigger: {triggers[0]}{(triggers.Count > 1 ? $" and {triggers.Count - 1} more" : "")}",
                "Give the new store a name of its own under new-store in office.yaml, and let the program's settings name that.");
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
