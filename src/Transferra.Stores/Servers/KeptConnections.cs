// KeptConnections.cs: which connections to servers are kept for the next question, so that they can be let go of.
// Why they are kept: a server starts a process or a session for each and learns the database's catalog anew; in an upgrade of a few
// records, being let in again and again took more time than all that was asked.
// Holds: (1) after LetGo none is kept to what was let go of; (2) none is kept but to the few databases that were asked last.
namespace Transferra.Stores.Servers;

/// <summary>The connections that drivers keep open after we have closed them. Safe to use from several threads.</summary>
internal static class KeptConnections
{
    // A company's old store, its new one, and the database for questions about others, with one to spare.
    private const int MostDatabases = 4;

    private sealed record Kept(string Description, string Engine, string Database, Action End);

    private static readonly Lock Door = new();
    private static readonly List<Kept> Latest = []; // the one asked last comes last

    /// <summary>Notes that connections may be kept, and ends those to the database that nobody has asked for longest.</summary>
    /// <param name="description">What they are opened with; tells them from others.</param>
    /// <param name="engine">The engine.</param>
    /// <param name="database">The database they lead to, as the server calls it.</param>
    /// <param name="end">Ends those that nobody uses at the moment, and the others as soon as they are closed.</param>
    public static void Note(string description, string engine, string database, Action end)
    {
        Kept? oldest = null;
        lock (Door)
        {
            Latest.RemoveAll(kept => kept.Description == description);
            Latest.Add(new Kept(description, engine, database, end));
            if (Latest.Count > MostDatabases)
            {
                oldest = Latest[0];
                Latest.RemoveAt(0);
            }
        }
        oldest?.End();
    }

    /// <summary>Ends what is kept to a database: before it is renamed, copied, changed or removed.</summary>
    public static void LetGo(string engine, string database)
    {
        foreach (Kept kept in All()) if (kept.Engine == engine && kept.Database == database) kept.End();
    }

    /// <summary>Ends all that is kept.</summary>
    public static void LetGo()
    {
        foreach (Kept kept in All()) kept.End();
    }

    private static Kept[] All()
    {
        lock (Door) return [.. Latest];
    }
}
