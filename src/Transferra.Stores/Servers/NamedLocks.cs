// NamedLocks.cs: locks by name that a server keeps for one connection. All that this process holds of a server hang on the same one, as a
// server with a hundred companies lets about a hundred connections in.
// Why they are given back in words: a server that is busy takes a while to notice that a connection was closed, and until then the next
// command would be told that another one is at work.
// Holds: (1) a name is held once at a time, by this process or another one; (2) however many are held, there is one connection, which ends
// with the last of them; (3) when the server ended it, others can be taken again.
using System.Data.Common;

namespace Transferra.Stores.Servers;

internal sealed class NamedLocks
{
    private static readonly Lock Door = new();
    private static readonly Dictionary<string, NamedLocks> OfServers = [];

    private readonly string _server;
    private readonly DbConnection _connection;
    private readonly HashSet<string> _names = [];

    private NamedLocks(string server, DbConnection connection) => (_server, _connection) = (server, connection);

    /// <summary>Takes a lock.</summary>
    /// <param name="server">The server and the user, in any words that are the same for the same.</param>
    /// <param name="name">Of the lock.</param>
    /// <param name="open">Opens a connection.</param>
    /// <param name="take">Asks for the lock, without waiting, and tells whether it was given.</param>
    /// <param name="release">Gives it back.</param>
    /// <returns>The lock, held until it is disposed; null when it is held already.</returns>
    public static IDisposable? TryTake<T>(string server, string name, Func<T> open, Func<T, string, bool> take, Action<T, string> release)
        where T : DbConnection
    {
        lock (Door)
        {
            if (OfServers.TryGetValue(server, out NamedLocks? held))
            {
                if (held._names.Contains(name)) return null;
                try { return held.Taken(name, take, release); }
                catch (Exception error) when (IsLost(error))
                {
                    // The server ended the connection, and with it what it held.
                    OfServers.Remove(server);
                    held._connection.Dispose();
                }
            }
            OfServers[server] = held = new NamedLocks(server, open());
            try { return held.Taken(name, take, release); }
            finally { held.EndWhenUnused(); }
        }
    }

    private static bool IsLost(Exception error) => error is DbException or InvalidOperationException or IOException;

    private Held<T>? Taken<T>(string name, Func<T, string, bool> take, Action<T, string> release) where T : DbConnection
    {
        if (!take((T)_connection, name)) return null;
        _names.Add(name);
        return new Held<T>(this, name, release);
    }

    private void EndWhenUnused()
    {
        if (_names.Count > 0) return;
        if (OfServers.GetValueOrDefault(_server) == this) OfServers.Remove(_server);
        _connection.Dispose();
    }

    private sealed class Held<T>(NamedLocks among, string name, Action<T, string> release) : IDisposable where T : DbConnection
    {
        public void Dispose()
        {
            lock (Door)
            {
                if (!among._names.Remove(name)) return;
                try { release((T)among._connection, name); }
                catch (Exception error) when (IsLost(error)) { /* the server ended the connection, and the lock with it */ }
                among.EndWhenUnused();
            }
        }
    }
}
