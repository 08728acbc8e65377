// NamedLock.cs: a lock by name that a server keeps for one connection.
// Why it is given back in words: a server that is busy takes a while to notice that a connection was closed, and until then the next
// command would be told that another one is at work.
using System.Data.Common;

namespace Transferra.Stores.Servers;

/// <param name="connection">Holds the lock; closed with it.</param>
/// <param name="release">The statement that gives it back.</param>
internal sealed class NamedLock(DbConnection connection, string release) : IDisposable
{
    public void Dispose()
    {
        using (connection)
        {
            try
            {
                using DbCommand command = connection.CreateCommand();
                command.CommandText = release;
                command.ExecuteNonQuery();
            }
            // The server ended the connection, and the lock with it.
            catch (Exception error) when (error is DbException or InvalidOperationException or IOException) { }
        }
    }
}
