// PgServer.cs: databases of a PostgreSQL server as wholes: there or not, renamed, removed, who is connected.
using Npgsql;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <param name="address">Where, and as whom.</param>
internal sealed class PgServer(ServerAddress address) : IStoreServer
{
    public bool Exists(string name)
    {
        using NpgsqlConnection connection = PgConnection.Open(address, PgConnection.Maintenance);
        return PgConnection.Scalar(connection, "SELECT 1 FROM pg_database WHERE datname = $1", name) is not null;
    }

    public void Rename(string from, string to)
    {
        using NpgsqlConnection connection = PgConnection.Open(address, PgConnection.Maintenance);
        try
        {
            PgConnection.Execute(connection, $"ALTER DATABASE {PgConnection.Quote(from)} RENAME TO {PgConnection.Quote(to)}");
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.ObjectInUse)
        {
            IReadOnlyList<string> others = ConnectedTo(from);
            throw new TransferraException($"the database {from} cannot be renamed while somebody is connected to it{(others.Count > 0 ? ": " + others[0] : "")}", "End the connection, then try again.", error);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the database {from} cannot be renamed to {to}", error);
        }
    }

    public void Remove(string name)
    {
        using NpgsqlConnection connection = PgConnection.Open(address, PgConnection.Maintenance);
        try
        {
            PgConnection.Execute(connection, $"DROP DATABASE IF EXISTS {PgConnection.Quote(name)} WITH (FORCE)");
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the database {name} cannot be removed", error);
        }
    }

    public IReadOnlyList<string> Hindrances(string? name)
    {
        using NpgsqlConnection connection = PgConnection.Open(address, PgConnection.Maintenance);
        var found = new List<string>();
        if (PgConnection.Scalar(connection, "SELECT 1 FROM pg_roles WHERE rolname = current_user AND (rolcreatedb OR rolsuper)") is null)
            found.Add("this user may not make databases; let an administrator say: ALTER ROLE ... CREATEDB");
        if (name is null) return found;
        object? owner = PgConnection.Scalar(connection, "SELECT pg_get_userbyid(datdba)::text FROM pg_database WHERE datname = $1 AND NOT pg_has_role(current_user, datdba, 'USAGE')", name);
        if (owner is not null) found.Add($"this user may not rename the database {name}, which belongs to {owner}");
        object? other = PgConnection.Scalar(connection, "SELECT pg_get_userbyid(datdba)::text FROM pg_database WHERE datname = $1 AND datdba <> (SELECT oid FROM pg_roles WHERE rolname = current_user)", name);
        if (other is not null && owner is null && address.Owner is null)
            found.Add($"the database {name} belongs to {other}, and a new one would belong to {PgConnection.Scalar(connection, "SELECT current_user::text")}, so that the program might not be let in; say owner: {other} in office.yaml");
        return found;
    }

    public IReadOnlyList<string> ConnectedTo(string name)
    {
        using NpgsqlConnection connection = PgConnection.Open(address, PgConnection.Maintenance);
        using var command = new NpgsqlCommand("SELECT coalesce(usename, ''), coalesce(application_name, ''), coalesce(host(client_addr), 'this machine'), coalesce(state, '') FROM pg_stat_activity "
            + "WHERE datname = $1 AND backend_type = 'client backend' AND application_name <> $2 ORDER BY backend_start", connection);
        command.Parameters.AddWithValue(name);
        command.Parameters.AddWithValue(PgConnection.Application);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var lines = new List<string>();
        while (reader.Read())
        {
            string program = reader.GetString(1).Length > 0 ? $" with {reader.GetString(1)}" : "";
            lines.Add($"{reader.GetString(0)}{program} from {reader.GetString(2)}{(reader.GetString(3).Length > 0 ? $" ({reader.GetString(3)})" : "")}");
        }
        return lines;
    }
}
