// FbServer.cs: databases of a Firebird server as wholes. A database is a file there, and the server has no command to rename one; so
// the file is renamed, which can only be done on the server's own machine, with nobody connected.
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

/// <param name="address">Where, and as whom.</param>
internal sealed class FbServer(ServerAddress address) : IStoreServer
{
    private StoreAddress At(string name) => new("firebird", name, Server: address);

    public bool Exists(string name)
    {
        using FbConnection? connection = FbLink.OpenIfThere(At(name));
        return connection is not null;
    }

    public void Rename(string from, string to)
    {
        if (!File.Exists(from))
            throw new TransferraException($"the database file {from} is not on this machine, or may not be seen by this user", "Run this on the server's own machine, as a user who may rename the file, and name the database by its path.");
        IReadOnlyList<string> others = ConnectedTo(from);
        if (others.Count > 0) throw new TransferraException($"the database {from} cannot be renamed while somebody is connected to it: {others[0]}", "End the connection, then try again.");
        if (Path.Exists(to)) throw new TransferraException($"{to} is there already", "Find out what it is; nothing was renamed.");
        try
        {
            File.Move(from, to, overwrite: false);
            new Core.Runs.DiskVolume().FlushFolder(Path.GetDirectoryName(to)!);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"the database file {from} cannot be renamed to {to}: {error.Message}", "Run this as a user who may rename it.", error);
        }
    }

    public void Remove(string name)
    {
        using (FbConnection? connection = FbLink.OpenIfThere(At(name)))
            if (connection is null) return;
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
        : [$"the database file {name} is not on this machine, or may not be seen by this user; it is renamed at the change-over, so run this on the server's own machine and name the database by its path"];

    private static IReadOnlyList<string> Unwritable(string name)
    {
        try
        {
            new Core.Runs.DiskVolume().TryWriting(Path.GetDirectoryName(name)!);
            return [];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return [$"files in {Path.GetDirectoryName(name)} cannot be renamed by this user: {error.Message}"];
        }
    }

    public IReadOnlyList<string> ConnectedTo(string name)
    {
        using FbConnection? connection = FbLink.OpenIfThere(At(name));
        if (connection is null) return [];
        using var command = new FbCommand("SELECT MON$ATTACHMENT_ID, TRIM(MON$USER), COALESCE(MON$REMOTE_PROCESS, ''), COALESCE(MON$REMOTE_ADDRESS, 'this machine') FROM MON$ATTACHMENTS "
            + "WHERE MON$SYSTEM_FLAG = 0 ORDER BY 1", connection);
        using FbDataReader reader = command.ExecuteReader();
        var lines = new List<string>();
        while (reader.Read())
        {
            if (FbLink.IsOurs(name, reader.GetInt64(0))) continue;
            string program = Path.GetFileName(reader.GetString(2));
            lines.Add($"{reader.GetString(1)}{(program.Length > 0 ? $" with {program}" : "")} from {reader.GetString(3).Split('/')[0]}");
        }
        return lines;
    }
}
