// KeptConnections.cs: which connections to servers are kept for the next question, so that they can be let go of.
// Why they are kept: a server starts a process or a session for each and learns the database's catalog anew; in an upgrade of a few
// records, being let in again and again took more time than all that was asked.
// Holds: (1) after LetGo none is kept to what was let go of.
using System.Collections.Concurrent;

namespace Transferra.Stores.Servers;

/// <summary>The connections that drivers keep open after we have closed them. Safe to use from several threads.</summary>
internal static class KeptConnections
{
    private static readonly ConcurrentDictionary<string, (string Engine, string Database, Action End)> Kept = new();

    /// <summary>Notes that connections may be kept.</summary>
    /// <param name="description">What they are opened with; tells them from others.</param>
    /// <param name="engine">The engine.</param>
    /// <param name="database">The database they lead to, as the server calls it.</param>
    /// <param name="end">Ends those that nobody uses at the moment, and the others as soon as they are closed.</param>
    public static void Note(string description, string engine, string database, Action end) =>
        Kept.TryAdd(description, (engine, database, end));

    /// <summary>Ends what is kept to a database: before it is renamed, copied, changed or removed.</summary>
    public static void LetGo(string engine, string database)
    {
        foreach ((_, (string ofEngine, string of, Action end)) in Kept)
            if (ofEngine == engine && of == database) end();
    }

    /// <summary>Ends all that is kept.</summary>
    public static void LetGo()
    {
        foreach ((_, (_, _, Action end)) in Kept) end();
    }
}
