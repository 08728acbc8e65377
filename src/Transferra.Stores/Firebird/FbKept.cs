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
internal sealed class FbLease(FbConnection connection, string description, int generation) : IDisposable
{
    private bool _isDisposed;

    /// <summary>The connection; without a transaction when this is disposed.</summary>
    public FbConnection Connection { get; } = connection;

    /// <summary>What it was opened with.</summary>
    public string Description { get; } = description;

    /// <summary>How often all were let go of before it was taken.</summary>
    public int Generation { get; } = generation;

    /// <summary>Whether it is of no use to anybody else.</summary>
    public bool IsSpoiled { get; set; }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_isDisposed) return;
        _isDisposed = true;
        FbKept.GiveBack(this);
    }
}

internal static class FbKept
{
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(2);

    private static readonly Lock Door = new();
    private static readonly Dictionary<string, Stack<(FbConnection Connection, long Since)>> Idle = [];
    private static readonly Timer Clock = new(_ => End(stale: true));
    private static int _generation;

    /// <summary>A connection.</summary>
    /// <exception cref="TransferraException">The server is not there, does not let us in, or has no such database.</exception>
    public static FbLease Open(StoreAddress address, int dialect = 3) => Take(FbLink.Describe(address, dialect))
        ?? Lease(FbLink.OpenNew(address, dialect), address, dialect);

    /// <summary>A connection; null when the server has no such database.</summary>
    public static FbLease? OpenIfThere(StoreAddress address)
    {
        if (Take(FbLink.Describe(address)) is { } kept) return kept;
        return FbLink.OpenIfThere(address) is { } connection ? Lease(connection, address, dialect: 3) : null;
    }

    private static FbLease Lease(FbConnection connection, StoreAddress address, int dialect)
    {
        KeptConnections.Note("firebird", "firebird", "", LetGo);
        lock (Door) return new FbLease(connection, FbLink.Describe(address, dialect), _generation);
    }

    private static FbLease? Take(string description)
    {
        while (true)
        {
            FbConnection connection;
            int generation;
            lock (Door)
            {
                if (!Idle.TryGetValue(description, out Stack<(FbConnection Connection, long Since)>? kept) || kept.Count == 0) return null;
                (connection, generation) = (kept.Pop().Connection, _generation);
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

    internal static void GiveBack(FbLease lease)
    {
        lock (Door)
        {
            if (!lease.IsSpoiled && lease.Generation == _generation && lease.Connection.State == System.Data.ConnectionState.Open)
            {
                if (!Idle.TryGetValue(lease.Description, out Stack<(FbConnection, long)>? kept)) Idle[lease.Description] = kept = [];
                kept.Push((lease.Connection, Stopwatch.GetTimestamp()));
                Clock.Change(Longest, Longest);
                return;
            }
        }
        End(lease.Connection);
    }

    /// <summary>Ends all that are kept: before a database is renamed, removed, copied or changed, and before others work with it.</summary>
    public static void LetGo() => End(stale: false);

    private static void End(bool stale)
    {
        var ended = new List<FbConnection>();
        lock (Door)
        {
            if (!stale) _generation++;
            foreach ((string description, Stack<(FbConnection Connection, long Since)> kept) in Idle.ToArray())
            {
                (FbConnection Connection, long Since)[] staying = [.. kept.Where(one => stale
                    && Stopwatch.GetElapsedTime(one.Since) < Longest)];
                ended.AddRange(kept.Except(staying).Select(one => one.Connection));
                if (staying.Length == 0) Idle.Remove(description);
                else Idle[description] = new(staying.Reverse());
            }
            if (Idle.Count == 0) Clock.Change(Timeout.Infinite, Timeout.Infinite);
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
