// MariaServer.cs: databases of a MariaDB server as wholes. A database cannot be renamed there; its tables can, all in one statement that
// happens as a whole or not at all, also when the server crashes (MariaDB documentation, Atomic DDL, since 10.6).
// So a store "is there" when its database has tables; views, routines and events are made again behind them (MovedParts.cs), and rights to
// the database and its tables stay with the database's name.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

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
        MariaConnection.Scalar(connection,
            $"SELECT 1 FROM information_schema.schemata WHERE schema_name = {MariaConnection.Literal(name)}") is not null;

    /// <summary>The tables of a database, but for what a move keeps there.</summary>
    internal static List<string> TablesOf(MySqlConnection connection, string name) =>
        List(connection, $"SELECT table_name FROM information_schema.tables WHERE table_schema = {MariaConnection.Literal(name)} AND "
            + $"table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') AND table_name <> '{MovedParts.Kept}' ORDER BY table_name");

    /// <summary>One column of what a query gives, as text.</summary>
    internal static List<string> List(MySqlConnection connection, string sql, int column = 0)
    {
        using var command = new MySqlCommand(sql, connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var found = new List<string>();
        while (reader.Read()) found.Add(Convert.ToString(reader.GetValue(column), CultureInfo.InvariantCulture)!);
        return found;
    }

    // A name of a lock has 64 characters at most; a digest always fits.
    public IDisposable? TryLock(string name) => NamedLocks.TryTake($"mariadb {address}", "transferra " + Convert.ToHexStringLower(
        System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(name)))[..40],
        () => MariaConnection.Open(address, ""),
        (connection, lockName) => MariaConnection.Scalar(connection, $"SELECT GET_LOCK('{lockName}', 0)") == "1",
        (connection, lockName) => MariaConnection.Scalar(connection, $"SELECT RELEASE_LOCK('{lockName}')"));

    // Whatever is changed in InnoDB's tables is written to its log, also that a transaction ends, and the log's end is told (MariaDB
    // documentation, InnoDB status variables). Tables of other engines leave nothing there.
    public string? ChangeMark(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        string here = MariaConnection.Literal(name);
        try
        {
            return MariaConnection.Scalar(connection, $"SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = {here} AND "
                + "engine IS NOT NULL AND engine <> 'InnoDB'") == "0"
                ? MariaConnection.Scalar(connection, "SELECT variable_value FROM information_schema.global_status WHERE variable_name = "
                    + "'Innodb_lsn_current'") : null;
        }
        catch (MySqlException) { return null; } // MySQL has no such table
    }

    public string EngineVersion()
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        return MariaConnection.VersionOf(connection);
    }

    public IReadOnlyList<ServerAdvice> Advice(string? name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        var found = new List<ServerAdvice>();
        string show(string setting) => MariaConnection.Scalar(connection, $"SELECT @@GLOBAL.{setting}") ?? "";
        if (show("innodb_flush_log_at_trx_commit") != "1")
            found.Add(new ServerAdvice("flush-log", true,
                $"innodb_flush_log_at_trx_commit is {show("innodb_flush_log_at_trx_commit")}: a power cut can lose the last seconds of "
                    + "what was committed",
                "SET GLOBAL innodb_flush_log_at_trx_commit = 1"));
        if (show("innodb_doublewrite") is "0" or "OFF")
            found.Add(new ServerAdvice("doublewrite", true, "innodb_doublewrite is off: a power cut can leave pages half-written",
                "Set innodb_doublewrite = ON and start the server anew."));
        if (!show("sql_mode").Contains("STRICT", StringComparison.OrdinalIgnoreCase))
            found.Add(new ServerAdvice("sql-mode", false,
                "the server is not strict: other programs' values that do not fit are cut without an error; Transferra sets its own "
                    + "sessions strict",
                "look for cut values in the check, and set sql_mode to STRICT_TRANS_TABLES"));
        if (show("log_bin") == "1")
            found.Add(new ServerAdvice("binary-log", false,
                "every change goes to the binary log as well, which takes time and room for a whole conversion",
                "see that its volume has room"));
        if (MariaConnection.Scalar(connection, "SELECT @@GLOBAL.innodb_buffer_pool_size / 1048576 < 512") == "1")
            found.Add(new ServerAdvice("buffer-pool", false,
                "innodb_buffer_pool_size is only "
                    + $"{Core.Machine.Sizes.Of(long.Parse(show("innodb_buffer_pool_size"), CultureInfo.InvariantCulture))}",
                "SET GLOBAL innodb_buffer_pool_size = 2147483648 for the night, if the machine has the memory"));
        if (List(connection, "XA RECOVER", 3).Count is > 0 and int prepared)
            found.Add(new ServerAdvice("prepared-transactions", true,
                $"{prepared} prepared transactions wait on the server: what they changed is neither in nor out",
                "Look at XA RECOVER, then XA COMMIT or XA ROLLBACK each."));
        if (name is null) return found;
        List<string> without = List(connection,
            "SELECT concat(table_name, ' (', engine, ')') FROM information_schema.tables WHERE table_schema = "
                + $"{MariaConnection.Literal(name)} AND table_type = 'BASE TABLE' AND engine NOT IN ('InnoDB', 'RocksDB') ORDER BY 1");
        if (without.Count > 0)
            found.Add(new ServerAdvice("tables-without-transactions", false,
                $"{without.Count} tables are of engines that keep no transactions, such as {without[0]}: a crash can damage them",
                "they become InnoDB tables in the new version"));
        return found;
    }

    public IReadOnlyList<string> Names(string like)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        return List(connection, "SELECT schema_name FROM information_schema.schemata WHERE schema_name NOT IN ('information_schema', "
            + "'performance_schema', 'mysql', 'sys') ORDER BY 1");
    }

    public void Rename(string from, string to)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        List<string> tables = TablesOf(connection, from);
        if (TablesOf(connection, to).Count > 0) throw new TransferraException($"the database {to} is there already and has tables",
            "Find out what it is; nothing was renamed.");
        MovedParts.MakeAgain(connection, to); // of an interrupted move
        try
        {
            if (!HasDatabase(connection, to))
                MariaConnection.Execute(connection, $"CREATE DATABASE {MariaConnection.Quote(to)} {OrderOf(connection, from)}");
            if (from.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)) MoveSequences(connection, from, to);
            MovedParts.TakeAway(connection, from, to);
            MariaConnection.Execute(connection, "RENAME TABLE " + string.Join(", ", tables.Select(table =>
                $"{MariaConnection.Quote(from)}.{MariaConnection.Quote(table)} TO "
                    + $"{MariaConnection.Quote(to)}.{MariaConnection.Quote(table)}")));
        }
        catch (MySqlException error)
        {
            try { MovedParts.MakeAgain(connection, to); }
            catch (MySqlException) { /* they are kept in a table there, and are made again when the run goes on or is taken back */ }
            throw MariaConnection.Stopped($"the tables of {from} cannot be moved to {to}", error);
        }
        try { Settle(to); }
        catch (TransferraException)
        {
            // Better back where it all is than between two places.
            try { MovedParts.TakeBack(connection, from, to, tables); }
            catch (Exception error) when (error is MySqlException or TransferraException) { /* kept, and tried again when it goes on */ }
            throw;
        }
        // What a run named itself leaves no empty database behind.
        if (from.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)) Remove(from);
    }

    /// <summary>The character set and order of texts of a database, as a statement that makes one says them.</summary>
    internal static string OrderOf(MySqlConnection connection, string name) => MariaConnection.Scalar(connection, "SELECT "
        + "concat('CHARACTER SET ', default_character_set_name, ' COLLATE ', default_collation_name) FROM information_schema.schemata "
        + "WHERE schema_name = "
        + MariaConnection.Literal(name)) ?? "";

    // Sequences stay where they are, as the tables of a store come and go; those that are not there come with the tables.
    private static void MoveSequences(MySqlConnection connection, string from, string to)
    {
        foreach (string sequence in List(connection, "SELECT table_name FROM information_schema.tables s WHERE table_schema = "
            + $"{MariaConnection.Literal(from)} AND table_type = 'SEQUENCE' AND NOT EXISTS (SELECT 1 FROM "
            + $"information_schema.tables o WHERE o.table_schema = {MariaConnection.Literal(to)} AND o.table_name = s.table_name)"))
            MariaConnection.Execute(connection, $"RENAME TABLE {MariaConnection.Quote(from)}.{MariaConnection.Quote(sequence)} TO "
                + $"{MariaConnection.Quote(to)}.{MariaConnection.Quote(sequence)}");
    }

    // A default that draws from a sequence names the database it was made in, which for a while was another one.
    private static void PointDefaults(MySqlConnection connection, string name)
    {
        if (name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)) return;
        string made = $" FROM information_schema.columns WHERE table_schema = {MariaConnection.Literal(name)} AND column_default LIKE "
            + $"'%`{StoreAddress.RunPrefix}%`.%' ORDER BY table_name, ordinal_position";
        foreach (string alter in List(connection, "SELECT concat('ALTER TABLE `', table_schema, '`.`', table_name, '` ALTER "
            + $"COLUMN `', column_name, '` SET DEFAULT (', regexp_replace(column_default, '`{StoreAddress.RunPrefix}[^`]*`\\\\.', "
            + $"{MariaConnection.Literal(MariaConnection.Quote(name).Replace("\\", "\\\\", StringComparison.Ordinal) + ".")}), "
            + "')')" + made))
            MariaConnection.Execute(connection, alter);
    }

    /// <inheritdoc/>
    public void Settle(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try
        {
            MovedParts.MakeAgain(connection, name);
            PointDefaults(connection, name);
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"what belongs to the tables of {name} cannot be made again; it is kept there "
                + $"in the table {MovedParts.Kept}", error);
        }
    }

    public IReadOnlyList<string> Hindrances(string? name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        var found = new List<string>();
        if (!List(connection, "SELECT privilege_type FROM information_schema.user_privileges "
            + "WHERE replace(grantee, char(39), '') = current_user()")
            .Contains("CREATE", StringComparer.OrdinalIgnoreCase))
            found.Add("this user may not make databases; let an administrator say: GRANT CREATE, ALTER, DROP, INSERT, SELECT, INDEX, "
                + "REFERENCES ON *.* TO ...");
        if (MariaConnection.Scalar(connection, "SELECT @@local_infile") != "1")
            found.Add("the server takes no rows from clients; switch it on for the time of the upgrade: SET GLOBAL local_infile = 1");
        if (name is not null && MovedParts.Hindrance(connection, name) is { } parts) found.Add(parts);
        return found;
    }

    public void Remove(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try
        {
            MovedParts.MakeAgain(connection, name);
            MariaConnection.Execute(connection, $"DROP DATABASE IF EXISTS {MariaConnection.Quote(name)}");
            if (name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)) ForgetRights(connection, name);
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"the database {name} cannot be removed", error);
        }
    }

    // Rights outlive their database; those to one that a run named are nobody's wish.
    private static void ForgetRights(MySqlConnection connection, string name)
    {
        string here = MariaConnection.Literal(name), quoted = MariaConnection.Quote(name);
        foreach (string revoke in List(connection, $"SELECT DISTINCT concat('REVOKE ALL ON ', {MariaConnection.Literal(quoted)}, '.* "
            + $"FROM ', "
            + $"grantee) FROM information_schema.schema_privileges WHERE replace(table_schema, char(92), '') = {here} UNION SELECT "
            + $"DISTINCT "
            + $"concat('REVOKE ALL ON ', {MariaConnection.Literal(quoted)}, '.`', replace(table_name, '`', '``'), '` FROM ', grantee) FROM "
            + $"(SELECT table_name, grantee FROM information_schema.table_privileges WHERE table_schema = {here} UNION SELECT table_name, "
            + $"grantee FROM information_schema.column_privileges WHERE table_schema = {here}) t"))
            MariaConnection.Execute(connection, revoke);
    }

    public IReadOnlyList<StoreSession> Sessions(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        using var command = new MySqlCommand("SELECT id, user, host, command, time FROM information_schema.processlist WHERE db = "
            + $"{MariaConnection.Literal(name)} AND command <> 'Daemon' ORDER BY id", connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var sessions = new List<StoreSession>();
        while (reader.Read())
        {
            if (MariaConnection.IsOurs((int)reader.GetInt64(0))) continue;
            bool idle = reader.GetString(3) == "Sleep";
            sessions.Add(new StoreSession(reader.GetInt64(0), reader.GetString(1), reader.GetString(2), "", idle ? "idle"
                : reader.GetString(3).ToLowerInvariant(),
                idle ? TimeSpan.FromSeconds(Convert.ToInt64(reader.GetValue(4), CultureInfo.InvariantCulture)) : null));
        }
        return sessions;
    }

    public void End(string name, StoreSession session)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try
        {
            MariaConnection.Execute(connection, string.Create(CultureInfo.InvariantCulture, $"KILL CONNECTION {session.Id}"));
        }
        catch (MySqlException error) when (error.ErrorCode == MySqlErrorCode.NoSuchThread) { /* it has ended */ }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"the session of {session.Words} in {name} cannot be ended", error);
        }
    }

    // Accounts that may come into the database are locked, all but this user's and administrators'; events that the server itself starts
    // are disabled.
    public IReadOnlyList<StoreDoor> Doors(string name)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        var doors = new List<StoreDoor>();
        try
        {
            foreach ((string user, string host) in AccountsInto(connection, name))
            {
                string account = $"{user}@{host}";
                doors.Add(new StoreDoor("account", account, $"the account {account} is locked",
                    $"the account {account} can be used again", false,
                    new Dictionary<string, string>
                    {
                        ["user"] = user,
                        ["host"] = host,
                        ["locked"] = IsLocked(connection, user, host)
                        ? "yes" : "no"
                    }));
            }
        }
        catch (MySqlException error) when (error.ErrorCode is MySqlErrorCode.TableAccessDenied
            or MySqlErrorCode.DatabaseAccessDenied or MySqlErrorCode.AccessDenied)
        {
            throw new TransferraException($"this user may not see who has accounts for {name}: {error.Message}",
                "Let an administrator say: GRANT CREATE USER ON *.* TO ...; GRANT SELECT ON mysql.* TO ...", error);
        }
        doors.AddRange(EventDoors(connection, name, name, "status = 'ENABLED'"));
        return doors;
    }

    private static List<StoreDoor> EventDoors(MySqlConnection connection, string name, string home, string condition)
    {
        using var command = new MySqlCommand("SELECT event_name, definer, sql_mode, time_zone FROM information_schema.events "
            + $"WHERE event_schema = {MariaConnection.Literal(name)} AND {condition} ORDER BY event_name", connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var doors = new List<StoreDoor>();
        while (reader.Read())
        {
            doors.Add(new StoreDoor(StoreDoor.Event, $"{home}.{reader.GetString(0)}",
                $"the event {reader.GetString(0)} of {home} does not start",
                $"the event {reader.GetString(0)} of {home} starts again at its times", false, new Dictionary<string, string>
                {
                    ["schema"] = home,
                    ["event"] = reader.GetString(0),
                    ["status"] = "ENABLED",
                    ["definer"] = reader.GetString(1),
                    ["sql-mode"] = reader.GetString(2),
                    ["time-zone"] = reader.GetString(3),
                }));
        }
        return doors;
    }

    /// <inheritdoc/>
    public IReadOnlyList<StoreDoor> DoorsOfCopy(string name, string home, IReadOnlyList<StoreDoor> original)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        return
        [
            .. Doors(name).Where(door => door.Kind != StoreDoor.Event), .. EventDoors(connection, name, home, "1 = 1").Where(door =>
                original.Any(found => found.Kind == StoreDoor.Event && found.Found["event"] == door.Found["event"]))
        ];
    }

    // Rights of an account, or of a role that it has: global ones, those of databases (whose names are patterns there), tables, columns
    // and routines.
    private static List<(string User, string Host)> AccountsInto(MySqlConnection connection, string name)
    {
        string here = MariaConnection.Literal(name);
        string sql = $"""
            WITH RECURSIVE entitled AS (
              SELECT User, Host FROM mysql.db WHERE {here} LIKE Db UNION SELECT User, Host FROM mysql.tables_priv WHERE Db = {here}
                UNION SELECT User, Host FROM mysql.columns_priv WHERE Db = {here}
              UNION SELECT User, Host FROM mysql.procs_priv WHERE Db = {here} UNION SELECT User, Host FROM mysql.user
                WHERE 'Y' IN (Select_priv, Insert_priv, Update_priv, Delete_priv, Execute_priv, Alter_priv, Drop_priv)
              UNION SELECT m.User, m.Host FROM mysql.roles_mapping m JOIN entitled e ON e.User = m.Role AND e.Host = '')
            SELECT DISTINCT u.User, u.Host FROM entitled e JOIN mysql.user u ON u.User = e.User AND u.Host = e.Host
            WHERE u.is_role = 'N' AND u.Super_priv = 'N' AND u.User <> 'mariadb.sys' AND concat(u.User, '@',
              u.Host) <> current_user() ORDER BY 1, 2
            """;
        using var command = new MySqlCommand(sql, connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var found = new List<(string, string)>();
        while (reader.Read()) found.Add((reader.GetString(0), reader.GetString(1)));
        return found;
    }

    internal static string Account(string user, string host) => $"{MariaConnection.Literal(user)}@{MariaConnection.Literal(host)}";

    internal static bool IsLocked(MySqlConnection connection, string user, string host) =>
        MariaConnection.Scalar(connection, $"SHOW CREATE USER {Account(user, host)}")!.Contains("ACCOUNT LOCK", StringComparison.Ordinal);

    /// <inheritdoc/>
    public StoreGuest Guest(string name, string account, string original) =>
        WithAccounts(connection => MariaGuest.Found(connection, name, account, original));

    /// <inheritdoc/>
    public void LetIn(StoreGuest guest) => WithAccounts(connection => { MariaGuest.LetIn(connection, guest); return guest; });

    /// <inheritdoc/>
    public void PutOut(StoreGuest guest) => WithAccounts(connection => { MariaGuest.PutOut(connection, guest); return guest; });

    private StoreGuest WithAccounts(Func<MySqlConnection, StoreGuest> act)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try { return act(connection); }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped("one account cannot be let in alone", error);
        }
    }

    public void Shut(StoreDoor door) => Turn(door, shut: true);

    public void Open(StoreDoor door) => Turn(door, shut: false);

    public bool IsShut(StoreDoor door) => Look(door) is not false;

    public bool IsAsFound(StoreDoor door) => Look(door) is not { } shut
        || shut == (door.Kind == "account" && door.Found["locked"] == "yes");

    // Whether it is shut; null when the account or event is gone.
    private bool? Look(StoreDoor door)
    {
        using MySqlConnection connection = MariaConnection.Open(address, "");
        if (door.Kind == "account")
        {
            if (!HasAccount(connection, door)) return null;
            return IsLocked(connection, door.Found["user"], door.Found["host"]);
        }
        return MariaConnection.Scalar(connection,
            $"SELECT status FROM information_schema.events WHERE event_schema = {MariaConnection.Literal(door.Found["schema"])} AND "
                + $"event_name = {MariaConnection.Literal(door.Found["event"])}") is { } status ? status != "ENABLED" : null;
    }

    private static bool HasAccount(MySqlConnection connection, StoreDoor door) =>
        MariaConnection.Scalar(connection,
            $"SELECT 1 FROM mysql.user WHERE User = {MariaConnection.Literal(door.Found["user"])} AND Host = "
                + $"{MariaConnection.Literal(door.Found["host"])}")
            is not null;

    private void Turn(StoreDoor door, bool shut)
    {
        if (Look(door) is not { } now || now == shut) return;
        using MySqlConnection connection = MariaConnection.Open(address, "");
        try
        {
            if (door.Kind == "account")
            {
                if (shut || door.Found["locked"] == "no")
                    MariaConnection.Execute(connection,
                        $"ALTER USER {Account(door.Found["user"], door.Found["host"])} ACCOUNT {(shut ? "LOCK" : "UNLOCK")}");
                return;
            }
            // An event keeps who altered it last, and in which mode: both stay what they were.
            int at = door.Found["definer"].LastIndexOf('@');
            MariaConnection.Execute(connection,
                $"SET SESSION sql_mode = {MariaConnection.Literal(door.Found["sql-mode"])}, time_zone = "
                    + $"{MariaConnection.Literal(door.Found["time-zone"])}");
            MariaConnection.Execute(connection,
                $"ALTER DEFINER = {Account(door.Found["definer"][..at], door.Found["definer"][(at + 1)..])} EVENT "
                    + $"{MariaConnection.Quote(door.Found["schema"])}.{MariaConnection.Quote(door.Found["event"])} "
                    + $"{(shut ? "DISABLE" : "ENABLE")}");
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"{(door.Kind == "account" ? "the account" : "the event")} {door.Name} cannot be "
                + $"{(shut ? "shut" : "opened")}", error);
        }
    }
}
