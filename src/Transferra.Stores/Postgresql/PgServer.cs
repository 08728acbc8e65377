// PgServer.cs: databases of a PostgreSQL server as wholes: there or not, renamed, removed, who is connected.
using System.Globalization;
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Postgresql;

/// <param name="address">Where, and as whom.</param>
internal sealed class PgServer(ServerAddress address) : IStoreServer
{
    public bool Exists(string name)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        return PgConnection.Scalar(connection, "SELECT 1 FROM pg_database WHERE datname = $1", name) is not null;
    }

    // Advisory locks of one database know nothing of those of another, so all are taken in the one that every server has.
    public IDisposable? TryLock(string name) => NamedLocks.TryTake($"postgresql {address}", "transferra " + name,
        () => PgConnection.OpenKept(address, PgConnection.Maintenance),
        (connection, lockName) => PgConnection.Scalar(connection, "SELECT pg_try_advisory_lock(hashtextextended($1, 0))", lockName) is true,
        (connection, lockName) => PgConnection.Scalar(connection, "SELECT pg_advisory_unlock(hashtextextended($1, 0))", lockName));

    // A snapshot is two numbers of transactions of the whole server: all below the lower are through, none from the higher on is seen
    // (PostgreSQL documentation, 9.27, transaction ID and snapshot information functions). Where they are one number, all that two
    // snapshots with it see is the same; whatever is changed takes a number and moves it on when it is through. Readers take none.
    public string? ChangeMark(string name)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        return PgConnection.Scalar(connection, "SELECT d.oid || ' ' || txid_snapshot_xmax(s) FROM pg_database d, txid_current_snapshot() s "
            + "WHERE d.datname = $1 AND txid_snapshot_xmin(s) = txid_snapshot_xmax(s)", name) as string;
    }

    public string EngineVersion()
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        return (string)PgConnection.Scalar(connection, "SHOW server_version")!;
    }

    public IReadOnlyList<ServerAdvice> Advice(string? name)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        var found = new List<ServerAdvice>();
        string show(string setting) => Convert.ToString(PgConnection.Scalar(connection, $"SELECT current_setting('{setting}')"),
            CultureInfo.InvariantCulture)!;
        long number(string sql) => Convert.ToInt64(PgConnection.Scalar(connection, sql), CultureInfo.InvariantCulture);
        if (show("fsync") == "off")
            found.Add(new ServerAdvice("fsync", true, "fsync is off: a power cut can lose whole databases of this server",
                "Set fsync = on and reload the server."));
        if (show("full_page_writes") == "off")
            found.Add(new ServerAdvice("full-page-writes", true, "full_page_writes is off: a power cut can leave pages half-written",
                "Set full_page_writes = on and reload the server."));
        if (show("data_checksums") == "off")
            found.Add(new ServerAdvice("data-checksums", false, "pages carry no checksums, so that damage on the disk can go unnoticed",
                "pg_checksums --enable, with the server stopped, at a quiet time"));
        if (show("archive_mode") != "off"
            && number("SELECT count(*) FROM pg_stat_archiver WHERE last_failed_time > coalesce(last_archived_time, '-infinity')") > 0)
            found.Add(new ServerAdvice("archiving", true,
                "the last write-ahead log could not be archived: the log of a whole conversion may fill the disk",
                "Mend archive_command, or set archive_mode = off for the night."));
        else if (show("archive_mode") != "off")
            found.Add(new ServerAdvice("archiving", false,
                "every change is archived as well, which takes time and room for a whole conversion",
                "see that the archive has room"));
        if (number("SELECT pg_size_bytes(current_setting('max_wal_size')) / 1048576") < 512)
            found.Add(new ServerAdvice("max-wal-size", false,
                $"max_wal_size is only {show("max_wal_size")}, so that the server stops often to write everything down",
                "ALTER SYSTEM SET max_wal_size = '4GB'; SELECT pg_reload_conf()"));
        if (name is null) return found;
        string here = name.Replace("'", "''", StringComparison.Ordinal);
        if (number($"SELECT count(*) FROM pg_prepared_xacts WHERE database = '{here}'") is > 0 and long prepared)
            found.Add(new ServerAdvice("prepared-transactions", true,
                $"{prepared} prepared transactions wait in the database: what they changed is neither in nor out",
                "Look into pg_prepared_xacts, then COMMIT PREPARED or ROLLBACK PREPARED each."));
        if (number($"SELECT count(*) FROM pg_stat_progress_vacuum WHERE datname = '{here}'") > 0)
            found.Add(new ServerAdvice("vacuum", false, "the database is being vacuumed just now",
                "wait until it is through, or it goes on beside the upgrade and slows it"));
        return found;
    }

    public IReadOnlyList<string> Names(string like)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        using var command = new NpgsqlCommand("SELECT datname::text FROM pg_database WHERE datallowconn AND NOT datistemplate AND "
            + "has_database_privilege(oid, 'CONNECT') ORDER BY 1", connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var names = new List<string>();
        while (reader.Read()) names.Add(reader.GetString(0));
        return names;
    }

    public void Rename(string from, string to)
    {
        PgConnection.LetGo(from);
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        try
        {
            PgConnection.Execute(connection, $"ALTER DATABASE {PgConnection.Quote(from)} RENAME TO {PgConnection.Quote(to)}");
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.ObjectInUse)
        {
            IReadOnlyList<string> others = [.. Sessions(from).Select(session => session.Words)];
            throw new TransferraException($"the database {from} cannot be renamed while somebody is connected to "
                + $"it{(others.Count > 0 ? ": " + others[0] : "")}", "End the connection, then try again.", error);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the database {from} cannot be renamed to {to}", error);
        }
    }

    public void Remove(string name)
    {
        PgConnection.LetGo(name);
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
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
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        var found = new List<string>();
        if (PgConnection.Scalar(connection, "SELECT 1 FROM pg_roles WHERE rolname = current_user AND (rolcreatedb OR rolsuper)") is null)
            found.Add("this user may not make databases; let an administrator say: ALTER ROLE ... CREATEDB");
        if (name is null) return found;
        object? owner = PgConnection.Scalar(connection,
            "SELECT pg_get_userbyid(datdba)::text FROM pg_database WHERE datname = $1 AND NOT pg_has_role(current_user, datdba, 'USAGE')",
                name);
        if (owner is not null) found.Add($"this user may not rename the database {name}, which belongs to {owner}");
        object? other = PgConnection.Scalar(connection,
            "SELECT pg_get_userbyid(datdba)::text FROM pg_database WHERE datname = $1 AND datdba <> (SELECT oid FROM pg_roles WHERE "
                + "rolname = current_user)",
            name);
        if (other is not null && owner is null && address.Owner is null)
            found.Add($"the database {name} belongs to {other}, and a new one would belong to "
                + $"{PgConnection.Scalar(connection, "SELECT current_user::text")}, so that the program might not be let in; say owner: "
                + $"{other} in office.yaml");
        return found;
    }

    public IReadOnlyList<StoreSession> Sessions(string name)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        using var command = new NpgsqlCommand("SELECT pid, coalesce(usename, ''), coalesce(application_name, ''), "
            + "coalesce(host(client_addr), 'this machine'), coalesce(state, ''), "
            + "CASE WHEN state LIKE 'idle%' THEN extract(epoch FROM now() - state_change)::float8 END FROM pg_stat_activity WHERE "
            + "datname = $1 AND backend_type = 'client backend' AND application_name <> $2 ORDER BY backend_start", connection);
        command.Parameters.AddWithValue(name);
        command.Parameters.AddWithValue(OurName.Text);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var sessions = new List<StoreSession>();
        while (reader.Read())
            sessions.Add(new StoreSession(reader.GetInt32(0), reader.GetString(1), reader.GetString(3), reader.GetString(2),
                reader.GetString(4),
                reader.IsDBNull(5) ? null : TimeSpan.FromSeconds(Math.Max(0, reader.GetDouble(5)))));
        return sessions;
    }

    public void End(string name, StoreSession session)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        try
        {
            PgConnection.Execute(connection, string.Create(CultureInfo.InvariantCulture, $"SELECT pg_terminate_backend({session.Id})"));
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the session of {session.Words} in {name} cannot be ended", error);
        }
    }

    // For a superuser the database allows no connection, which holds for everybody but superusers. The owner who is none takes the right to
    // connect from all others, and knows from whom.
    public IReadOnlyList<StoreDoor> Doors(string name)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        using var command = new NpgsqlCommand("SELECT oid::bigint, datconnlimit, pg_has_role(current_user, datdba, 'USAGE'), (SELECT "
            + "rolsuper FROM pg_roles WHERE rolname = current_user), pg_get_userbyid(datdba)::text FROM pg_database "
            + "WHERE datname = $1", connection);
        command.Parameters.AddWithValue(name);
        string oid;
        bool isSuper;
        int limit;
        using (NpgsqlDataReader reader = command.ExecuteReader())
        {
            if (!reader.Read()) return [];
            (oid, limit, isSuper) = (reader.GetInt64(0).ToString(CultureInfo.InvariantCulture), reader.GetInt32(1), reader.GetBoolean(3));
            if (!isSuper && !reader.GetBoolean(2))
                throw new TransferraException($"this user may not shut the database {name}, which belongs to {reader.GetString(4)}",
                    "Name its owner, or a superuser, as the store's user in office.yaml.");
        }
        if (isSuper)
        {
            return [new StoreDoor("connection-limit", name, $"the database {name} takes no new connection but a superuser's",
                $"the database {name} takes connections again", false,
                new Dictionary<string, string> { ["oid"] = oid, ["limit"] = limit.ToString(CultureInfo.InvariantCulture) })];
        }
        return [.. GranteesOf(connection, oid).Select(grantee => ConnectDoor(name, oid, grantee.Role, grantee.Grantable))];
    }

    /// <inheritdoc/>
    public IReadOnlyList<StoreDoor> DoorsOfCopy(string name, string home, IReadOnlyList<StoreDoor> original)
    {
        // Rights to connect were copied as they are now, taken away; a limit is not copied.
        StoreDoor[] rights = [.. original.Where(door => door.Kind == ConnectRight)];
        if (rights.Length == 0) return Doors(name);
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        string? oid = Convert.ToString(PgConnection.Scalar(connection, "SELECT oid::bigint FROM pg_database WHERE datname = $1", name),
            CultureInfo.InvariantCulture);
        return string.IsNullOrEmpty(oid) ? [] : [.. rights.Select(door => ConnectDoor(name, oid, door.Found["role"],
            door.Found["grantable"] == "yes"))];
    }

    private const string ConnectRight = "connect-right";

    private static StoreDoor ConnectDoor(string name, string oid, string role, bool isGrantable) => new(ConnectRight,
        $"{name} for {(role.Length == 0 ? "everybody" : role)}",
        $"{(role.Length == 0 ? "nobody new" : $"{role} no more")} may connect to the database {name}",
        $"{(role.Length == 0 ? "everybody" : role)} may connect to the database {name} again", false,
        new Dictionary<string, string> { ["oid"] = oid, ["role"] = role, ["grantable"] = isGrantable ? "yes" : "no" });

    // Who may connect, apart from this user and from superusers; "" stands for everybody.
    internal static List<(string Role, bool Grantable)> GranteesOf(NpgsqlConnection connection, string oid)
    {
        using var command = new NpgsqlCommand("SELECT CASE a.grantee WHEN 0 THEN '' ELSE pg_get_userbyid(a.grantee)::text END, "
            + "a.is_grantable FROM pg_database d, aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a "
            + "WHERE d.oid = $1::oid AND a.privilege_type = 'CONNECT' AND a.grantee <> d.datdba AND (a.grantee = 0 OR "
            + "pg_get_userbyid(a.grantee) <> current_user) ORDER BY 1", connection);
        command.Parameters.AddWithValue(oid);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var found = new List<(string, bool)>();
        while (reader.Read()) found.Add((reader.GetString(0), reader.GetBoolean(1)));
        return found;
    }

    /// <inheritdoc/>
    public StoreGuest Guest(string name, string account, string original)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        return PgGuest.Found(connection, name, account);
    }

    /// <inheritdoc/>
    public void LetIn(StoreGuest guest)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        PgGuest.LetIn(connection, guest);
    }

    /// <inheritdoc/>
    public void PutOut(StoreGuest guest)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        PgGuest.PutOut(connection, guest);
    }

    public void Shut(StoreDoor door) => Turn(door, shut: true);

    public void Open(StoreDoor door) => Turn(door, shut: false);

    public bool IsShut(StoreDoor door) => Look(door, shut: true);

    public bool IsAsFound(StoreDoor door) => Look(door, shut: false);

    // The database may have another name by now; its number stays.
    private static string? NameOf(NpgsqlConnection connection, StoreDoor door) =>
        (string?)PgConnection.Scalar(connection, "SELECT datname::text FROM pg_database WHERE oid = $1::oid", door.Found["oid"]);

    private void Turn(StoreDoor door, bool shut)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        if (NameOf(connection, door) is not { } now) return;
        string name = PgConnection.Quote(now);
        try
        {
            if (door.Kind == "connection-limit") PgConnection.Execute(connection,
                $"ALTER DATABASE {name} CONNECTION LIMIT {(shut ? "0" : door.Found["limit"])}");
            else
            {
                string role = door.Found["role"].Length == 0 ? "PUBLIC" : PgConnection.Quote(door.Found["role"]);
                PgConnection.Execute(connection, shut
                    ? $"REVOKE CONNECT ON DATABASE {name} FROM {role}"
                    : $"GRANT CONNECT ON DATABASE {name} TO {role}{(door.Found["grantable"] == "yes" ? " WITH GRANT OPTION" : "")}");
            }
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the database {now} cannot be {(shut ? "shut" : "opened")}", error);
        }
    }

    private bool Look(StoreDoor door, bool shut)
    {
        using NpgsqlConnection connection = PgConnection.OpenKept(address, PgConnection.Maintenance);
        if (NameOf(connection, door) is null) return true;
        if (door.Kind == "connection-limit")
            return Convert.ToString(PgConnection.Scalar(connection, "SELECT datconnlimit FROM pg_database WHERE oid = $1::oid",
                door.Found["oid"]),
                CultureInfo.InvariantCulture) == (shut ? "0" : door.Found["limit"]);
        return GranteesOf(connection, door.Found["oid"]).Any(grantee => grantee.Role == door.Found["role"]) != shut;
    }
}
