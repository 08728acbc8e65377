// FbServer.cs: databases of a Firebird server as wholes. A database is a file there, and the server has no command to rename one; so
// the file is renamed, which can only be done on the server's own machine, with nobody connected.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using FirebirdSql.Data.Services;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

/// <param name="address">Where, and as whom.</param>
internal sealed class FbServer(ServerAddress address) : IStoreServer
{
    private StoreAddress At(string name) => new("firebird", name, Server: address);

    public bool Exists(string name)
    {
        using FbLease? connection = FbKept.OpenIfThere(At(name));
        return connection is not null;
    }

    /// <summary>Throws when a database that is to be made is there already.</summary>
    public static void RefuseIfThere(StoreAddress address)
    {
        if (new FbServer(address.Server!).Exists(address.Path))
            throw new TransferraException($"the database {address.Shown} is there already; a new store is never written over another",
                "Find out what it is; rename it or name another one.");
    }

    // Firebird has no locks by name. Where its files can be seen from here, the folder they lie in is locked (StoreLocks).
    public IDisposable? TryLock(string name) => new MemoryStream();

    public string EngineVersion()
    {
        // LI-V3.0.11.33703: the part behind the first letter and digit of the platform's mark.
        string said = FbLink.Connecting(At(""), description => new FbServerProperties(description).GetServerVersion());
        int start = said.IndexOf("-V", StringComparison.Ordinal) is >= 0 and int mark ? mark + 2
            : said.IndexOf("-T", StringComparison.Ordinal) + 2;
        return said[start..].Split(' ')[0];
    }

    public IReadOnlyList<ServerAdvice> Advice(string? name)
    {
        if (name is null) return [];
        using FbLease? connection = FbKept.OpenIfThere(At(name));
        if (connection is null) return [];
        var found = new List<ServerAdvice>();
        long number(string sql) => Convert.ToInt64(FbLink.Scalar(connection.Connection, null, sql), CultureInfo.InvariantCulture);
        if (number("SELECT MON$FORCED_WRITES FROM MON$DATABASE") == 0)
            found.Add(new ServerAdvice("forced-writes", true, "forced writes are off: a power cut can damage the database",
                "Set them on: gfix -write sync DATABASE"));
        if (number("SELECT COUNT(*) FROM RDB$TRANSACTIONS WHERE RDB$TRANSACTION_STATE = 1") is > 0 and long limbo)
            found.Add(new ServerAdvice("limbo-transactions", true,
                $"{limbo} transactions are in limbo: what they changed is neither in nor out",
                "Look at gfix -list, then gfix -commit or -rollback each."));
        long gap = number("SELECT MON$NEXT_TRANSACTION - MON$OLDEST_TRANSACTION FROM MON$DATABASE");
        const long many = 20_000;
        if (gap > many)
            found.Add(new ServerAdvice("sweep", false,
                FormattableString.Invariant($"{gap:#,0} transactions have left record versions behind, which every reading goes through"),
                "gfix -sweep DATABASE, before the night"));
        if (number("SELECT MON$PAGE_BUFFERS FROM MON$DATABASE") < 256)
            found.Add(new ServerAdvice("page-buffers", false, "the database keeps very few pages in memory",
                "gfix -buffers 4096 DATABASE"));
        return found;
    }

    public IReadOnlyList<string> Names(string like) => Path.GetDirectoryName(like) is { Length: > 0 } folder && Directory.Exists(folder)
        ? [.. Directory.EnumerateFiles(folder).Where(file => Path.GetExtension(file).ToUpperInvariant() is ".FDB" or ".GDB")
            .Order(StringComparer.Ordinal)] : [];

    public void Rename(string from, string to)
    {
        if (!File.Exists(from))
            throw new TransferraException($"the database file {from} is not on this machine, or may not be seen by this user",
                "Run this on the server's own machine, as a user who may rename the file, and name the database by its path.");
        IReadOnlyList<string> others = [.. Sessions(from).Select(session => session.Words)];
        if (others.Count > 0)
            throw new TransferraException($"the database {from} cannot be renamed while somebody is connected to it: {others[0]}",
                "End the connection, then try again.");
        if (Path.Exists(to)) throw new TransferraException($"{to} is there already", "Find out what it is; nothing was renamed.");
        FbKept.LetGo();
        try
        {
            File.Move(from, to, overwrite: false);
            new Core.Machine.DiskVolume().FlushFolder(Path.GetDirectoryName(to)!);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"the database file {from} cannot be renamed to {to}: {error.Message}",
                "Run this as a user who may rename it.", error);
        }
    }

    public void Remove(string name)
    {
        using (FbLease? connection = FbKept.OpenIfThere(At(name)))
            if (connection is null) return;
        FbKept.LetGo();
        try
        {
            FbConnection.DropDatabase(FbLink.Describe(At(name)));
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"the database {name} cannot be removed", error);
        }
    }

    public IReadOnlyList<string> Hindrances(string? name) => name is null ? [] : File.Exists(name) ? Unwritable(name)
        : [$"the database file {name} is not on this machine, or may not be seen by this user; it is renamed at the change-over, so run "
            + "this on the server's own machine and name the database by its path"];

    private static IReadOnlyList<string> Unwritable(string name)
    {
        try
        {
            new Core.Machine.DiskVolume().TryWriting(Path.GetDirectoryName(name)!);
            return [];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return [$"files in {Path.GetDirectoryName(name)} cannot be renamed by this user: {error.Message}"];
        }
    }

    public IReadOnlyList<StoreSession> Sessions(string name)
    {
        using FbLease? connection = FbKept.OpenIfThere(At(name));
        if (connection is null) return [];
        using var command = new FbCommand("SELECT a.MON$ATTACHMENT_ID, TRIM(a.MON$USER), COALESCE(a.MON$REMOTE_PROCESS, ''), "
            + "COALESCE(a.MON$REMOTE_ADDRESS, 'this machine'), a.MON$STATE, "
            + "(SELECT DATEDIFF(SECOND FROM MAX(s.MON$TIMESTAMP) TO CURRENT_TIMESTAMP) FROM MON$STATEMENTS s WHERE s.MON$ATTACHMENT_ID = "
            + "a.MON$ATTACHMENT_ID) FROM MON$ATTACHMENTS a WHERE a.MON$SYSTEM_FLAG = 0 ORDER BY 1", connection.Connection);
        using FbDataReader reader = command.ExecuteReader();
        var sessions = new List<StoreSession>();
        while (reader.Read())
        {
            if (reader.GetString(2) == OurName.Text) continue;
            bool idle = Convert.ToInt32(reader.GetValue(4), CultureInfo.InvariantCulture) == 0;
            sessions.Add(new StoreSession(reader.GetInt64(0), reader.GetString(1), reader.GetString(3).Split('/')[0],
                Path.GetFileName(reader.GetString(2)),
                idle ? "idle" : "active",
                idle && !reader.IsDBNull(5) ? TimeSpan.FromSeconds(Math.Max(0, reader.GetInt64(5))) : null));
        }
        return sessions;
    }

    public void End(string name, StoreSession session)
    {
        using FbLease? connection = FbKept.OpenIfThere(At(name));
        if (connection is null) return;
        try
        {
            FbLink.Execute(connection.Connection, null, string.Create(CultureInfo.InvariantCulture,
                $"DELETE FROM MON$ATTACHMENTS WHERE MON$ATTACHMENT_ID = {session.Id}"));
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"the session of {session.Words} in {name} cannot be ended", error);
        }
    }

    // The server's own shutdown mode: none but SYSDBA and the owner come in. It is written in the database's own file.
    public IReadOnlyList<StoreDoor> Doors(string name)
    {
        using FbLease? connection = FbKept.OpenIfThere(At(name));
        if (connection is null) return [];
        string? mine = (string?)FbLink.Scalar(connection.Connection, null,
            "SELECT CASE WHEN CURRENT_USER = 'SYSDBA' OR CURRENT_USER = TRIM(MON$OWNER) THEN 'yes' END FROM MON$DATABASE");
        if (mine is null)
            throw new TransferraException($"this user may not shut the database {name}, which belongs to somebody else",
                "Name its owner, or SYSDBA, as the store's user in office.yaml.");
        (string mode, string made) = Read(connection.Connection);
        return [new StoreDoor("shutdown", name, $"the database {name} is shut down for all but its owner and SYSDBA",
            $"the database {name} is online again", true,
            new Dictionary<string, string> { ["path"] = name, ["mode"] = mode, ["made"] = made })];
    }

    // Shutdown mode (0 online, 1 multi, 2 single, 3 full) and the moment the database was made, by which it is known again.
    private static (string Mode, string Made) Read(FbConnection connection) =>
        (Convert.ToString(FbLink.Scalar(connection, null, "SELECT MON$SHUTDOWN_MODE FROM MON$DATABASE"), CultureInfo.InvariantCulture)!,
         (string)FbLink.Scalar(connection, null, "SELECT CAST(MON$CREATION_DATE AS VARCHAR(40)) FROM MON$DATABASE")!);

    // Where the door's database is now, and its mode: at its path, or where a run has put it beside that; null when it is gone.
    private (string Path, string Mode)? Find(StoreDoor door)
    {
        string path = door.Found["path"], name = Path.GetFileName(path), folder = Path.GetDirectoryName(path) ?? "";
        IEnumerable<string> beside = !Directory.Exists(folder) ? [] : Directory.EnumerateFiles(folder).Where(file => file != path)
            .Where(file => Path.GetFileName(file).EndsWith(name, StringComparison.Ordinal) || name.EndsWith(Path.GetFileName(file),
                StringComparison.Ordinal));
        foreach (string candidate in beside.Prepend(path))
        {
            using FbLease? connection = FbKept.OpenIfThere(At(candidate));
            if (connection is null) continue;
            (string mode, string made) = Read(connection.Connection);
            if (made == door.Found["made"]) return (candidate, mode);
        }
        return null;
    }

    public void Shut(StoreDoor door)
    {
        if (Find(door) is not { Mode: "0" } found) return;
        ShutDown(found.Path);
    }

    private void ShutDown(string path) => Configure(path, "shut", configuration =>
        configuration.DatabaseShutdown2(FbShutdownOnlineMode.Multi, FbShutdownType.ForceShutdown, 0));

    private void BringOnline(string path) => Configure(path, "opened", configuration =>
        configuration.DatabaseOnline2(FbShutdownOnlineMode.Normal));

    /// <summary>Does something for which a database that is shut down must be online for a while.</summary>
    public void WhileOnline(string path, Action action)
    {
        BringOnline(path);
        try
        {
            action();
        }
        finally
        {
            ShutDown(path);
        }
    }

    public void Open(StoreDoor door)
    {
        if (door.Found["mode"] != "0" || Find(door) is not { } found || found.Mode == "0") return;
        BringOnline(found.Path);
    }

    public bool IsShut(StoreDoor door) => Find(door) is not { Mode: "0" };

    public bool IsAsFound(StoreDoor door) => Find(door) is not { } found || found.Mode == door.Found["mode"];

    /// <inheritdoc/>
    public StoreGuest Guest(string name, string account, string original)
    {
        using FbConnection connection = FbLink.Open(At(name));
        return FbGuest.Found(connection, name, account);
    }

    /// <inheritdoc/>
    public void LetIn(StoreGuest guest)
    {
        string mode;
        FbKept.LetGo();
        using (FbConnection? connection = FbLink.OpenIfThere(At(guest.Store)))
        {
            if (connection is null) return;
            FbGuest.Stand(connection, guest.Account);
            mode = Read(connection).Mode;
        }
        if (mode != "0") BringOnline(guest.Store);
    }

    /// <inheritdoc/>
    public void PutOut(StoreGuest guest)
    {
        string mode;
        using (FbLease? there = FbKept.OpenIfThere(At(guest.Store)))
        {
            if (there is null) return;
            mode = Read(there.Connection).Mode;
        }
        if (mode == "0" && guest.Found[FbGuest.Mode] != "0") ShutDown(guest.Store);
        using FbConnection connection = FbLink.Open(At(guest.Store));
        FbGuest.StandDown(connection, guest.Account);
    }

    private void Configure(string path, string what, Action<FbConfiguration> action)
    {
        FbKept.LetGo();
        try
        {
            FbLink.Connecting(At(path), description =>
            {
                action(new FbConfiguration(description));
                return true;
            });
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"the database {path} cannot be {what}", error);
        }
    }
}
