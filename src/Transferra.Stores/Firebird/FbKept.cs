// FbKept.cs: connections to databases of a Firebird server that are used again for a while.
// Why: the login is a long computation on both sides, and a database that nobody is in is opened anew by the server; in an upgrade of a
// few records that took more time than all that was asked. Why not the driver's own keeping: it forgets the connections that are in use
// when all are let go of, and leaves them open.
// Holds: (1) whoever takes one has it alone, and it works; (2) after LetGo none is kept, and those in use end when they are given back;
//        (3) one that nobody takes ends within seconds.
using System.Diagnostics;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

/// <summary>A connection for what only reads; given back when it is disposed.</summary>
/// <param name="connection">Open.</param>
/// <param name="description">What it was opened with.</param>
/// <param name="generation">How often such connections had been let go of when it was taken.</param>
internal sealed class FbLease(FbConnection connection, string description, int generation) : IDisposable
{
    private bool _isDisposed;

    /// <summary>The connection; without a transaction when this is disposed.</summary>
    public FbConnection Connection { get; } = connection;

    /// <summary>Whether it is of no use to anybody else.</summary>
    public bool IsSpoiled { get; set; }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_isDisposed) return;
        _isDisposed = true;
        FbKept.GiveBack(Connection, description, IsSpoiled ? null : generation);
    }
}

internal static class FbKept
{
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(2), Beat = TimeSpan.FromSeconds(1);

    // Those of one description.
    private sealed class Group
    {
        public Stack<(FbConnection Connection, long Since)> Idle { get; set; } = [];

        public int Generation { get; set; }
    }

    private static readonly Lock Door = new();
    private static readonly Dictionary<string, Group> Groups = [];
    private static readonly Timer Clock = new(_ => EndStale());
    private static bool _isTicking;

    /// <summary>A connection.</summary>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static FbLease Open(StoreAddress address, int dialect = 3)
    {
        string description = FbLink.Describe(address, dialect);
        if (Take(description, out int generation) is { } kept) return kept;
        return Lease(FbLink.OpenNew(address, dialect), description, address, generation);
    }

    /// <summary>A connection; null when the server has no such database.</summary>
    public static FbLease? OpenIfThere(StoreAddress address)
    {
        string description = FbLink.Describe(address);
        if (Take(description, out int generation) is { } kept) return kept;
        return FbLink.OpenIfThere(address) is { } connection ? Lease(connection, description, address, generation) : null;
    }

    private static FbLease Lease(FbConnection connection, string description, StoreAddress address, int generation)
    {
        KeptConnections.Note(description, "firebird", address.Path, () => LetGo(description));
        return new FbLease(connection, description, generation);
    }

    private static Group Of(string description)
    {
        if (!Groups.TryGetValue(description, out Group? group)) Groups[description] = group = new Group();
        return group;
    }

    // Where none is kept, the generation is that of before one is opened: all may be let go of meanwhile.
    private static FbLease? Take(string description, out int generation)
    {
        while (true)
        {
            FbConnection connection;
            lock (Door)
            {
                Group group = Of(description);
                generation = group.Generation;
                if (group.Idle.Count == 0) return null;
                connection = group.Idle.Pop().Connection;
            }
            try
            {
                FbLink.Scalar(connection, null, "SELECT 1 FROM RDB$DATABASE");
                return new FbLease(connection, description, generation);
            }
            // The server was started anew since, or ended it.
            catch (Exception error) when (IsOfALostOne(error)) { End(connection); }
        }
    }

    internal static void GiveBack(FbConnection connection, string description, int? generation)
    {
        lock (Door)
        {
            Group group = Of(description);
            if (generation == group.Generation && connection.State == System.Data.ConnectionState.Open)
            {
                group.Idle.Push((connection, Stopwatch.GetTimestamp()));
                // Begun anew with each, it would never come to those that nobody takes while others are given back.
                if (!_isTicking) _isTicking = Clock.Change(Beat, Beat);
                return;
            }
        }
        End(connection);
    }

    /// <summary>Ends all that are kept: before a database is renamed, removed, copied or changed, and before others work with it.</summary>
    public static void LetGo()
    {
        string[] all;
        lock (Door) all = [.. Groups.Keys];
        foreach (string description in all) LetGo(description);
    }

    private static void LetGo(string description)
    {
        (FbConnection Connection, long Since)[] ended;
        lock (Door)
        {
            Group group = Of(description);
            group.Generation++;
            ended = [.. group.Idle];
            group.Idle.Clear();
        }
        foreach ((FbConnection connection, _) in ended) End(connection);
    }

    private static void EndStale()
    {
        var ended = new List<FbConnection>();
        lock (Door)
        {
            bool isAnyLeft = false;
            foreach (Group group in Groups.Values)
            {
                ILookup<bool, (FbConnection Connection, long Since)> byAge = group.Idle.Reverse()
                    .ToLookup(one => Stopwatch.GetElapsedTime(one.Since) >= Longest);
                ended.AddRange(byAge[true].Select(one => one.Connection));
                group.Idle = new(byAge[false]);
                isAnyLeft |= group.Idle.Count > 0;
            }
            if (!isAnyLeft) _isTicking = !Clock.Change(Timeout.Infinite, Timeout.Infinite);
        }
        foreach (FbConnection connection in ended) End(connection);
    }

    private static void End(FbConnection connection)
    {
        try { connection.Dispose(); }
        catch (Exception error) when (IsOfALostOne(error)) { /* it has ended already */ }
    }

    private static bool IsOfALostOne(Exception error) => error is FbException or IOException or InvalidOperationException
        or System.Net.Sockets.SocketException or ArgumentException;
}
