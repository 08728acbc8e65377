// IStoreServer.cs: a database server: its databases as wholes, who is connected, what shuts them out, what its settings should be.
using System.Globalization;
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>Somebody in a store.</summary>
/// <param name="Id">The server's number of the connection, or of the process that holds a file.</param>
/// <param name="User">Name at the server; "" when it is not known.</param>
/// <param name="Host">Where from.</param>
/// <param name="Program">With what; "" when it is not told.</param>
/// <param name="State">What it is doing, in the engine's words; "" when it is not told.</param>
/// <param name="Idle">How long nothing was asked; null when it is at work, or nobody knows.</param>
public sealed record StoreSession(long Id, string User, string Host, string Program, string State, TimeSpan? Idle)
{
    /// <summary>All of it in one line.</summary>
    public string Words => string.Concat(User, Program.Length > 0 ? $"{(User.Length > 0 ? " with " : "")}{Program}" : "", $" from {Host}",
        Doing.Length > 0
        ? $" ({Doing})" : "").Trim();

    /// <summary>What it is doing, and for how long nothing.</summary>
    public string Doing => Idle is { } idle
        ? string.Create(CultureInfo.InvariantCulture,
            $"{(State.Length > 0 ? State : "idle")} for "
                + $"{(idle.TotalMinutes < 2 ? $"{idle.TotalSeconds:0} s" : $"{idle.TotalMinutes:0} min")}") : State;
}

/// <summary>A way into a store that can be shut.</summary>
/// <param name="Kind">What it is, such as connection-limit or account.</param>
/// <param name="Name">Which, such as the database or the account.</param>
/// <param name="WhenShut">What is the case then, in words.</param>
/// <param name="WhenOpen">What is the case when it is as found, in words.</param>
/// <param name="EndsSessions">Whether shutting it also ends the sessions of those who are in.</param>
/// <param name="Found">How it was found, by name: all that is needed to bring that back.</param>
public sealed record StoreDoor(string Kind, string Name, string WhenShut, string WhenOpen, bool EndsSessions, IReadOnlyDictionary<string,
    string> Found)
{
    /// <summary>The kind of what the server starts by itself.</summary>
    public const string Event = "event";
}

/// <summary>A setting of a server that should be otherwise for an upgrade.</summary>
/// <param name="Name">Short name, letters, digits and "-".</param>
/// <param name="IsUnsafe">Whether data could be lost by it; otherwise it only takes time.</param>
/// <param name="What">How it is and what that means.</param>
/// <param name="Next">What to do, in the engine's own words.</param>
public sealed record ServerAdvice(string Name, bool IsUnsafe, string What, string Next);

/// <summary>What can be done to stores as a whole inside a database server.</summary>
public interface IStoreServer
{
    /// <summary>Whether the server has a store of this name.</summary>
    bool Exists(string name);

    /// <summary>Keeps another Transferra away from a store, wherever it runs, until disposed or until this process ends.</summary>
    /// <param name="name">The store, which need not be there.</param>
    /// <returns>Null when another one is at work on it; something without effect where the engine has no such lock.</returns>
    IDisposable? TryLock(string name);

    /// <summary>A text that is another one as soon as anybody has changed a record of a store, whoever it was, and that reading alone
    /// leaves as it is; changes of other stores of the server may change it, too.</summary>
    /// <param name="name">The store.</param>
    /// <returns>Null where the engine tells no such thing, or something is under way that is neither in nor out.</returns>
    string? ChangeMark(string name) => null;

    /// <summary>The version of the engine that answers.</summary>
    string EngineVersion();

    /// <summary>Settings of the server, or of a store, that make an upgrade slow or unsafe.</summary>
    /// <param name="name">The store; null when it is not there yet.</param>
    IReadOnlyList<ServerAdvice> Advice(string? name);

    /// <summary>The stores this user can see, by name.</summary>
    /// <param name="like">A known one; where stores are named by their path, those beside it are meant.</param>
    IReadOnlyList<string> Names(string like);

    /// <summary>Gives a store another name; fails when it is in use or the new name is taken. It is on the server's disk when this
    /// returns.</summary>
    void Rename(string from, string to);

    /// <summary>Finishes what an interrupted rename left to do at a name, be it the old or the new one; fine when there is
    /// nothing.</summary>
    void Settle(string name) { }

    /// <summary>Removes a store that we made ourselves; fine when it is not there.</summary>
    void Remove(string name);

    /// <summary>Who is connected to a store, apart from this process.</summary>
    IReadOnlyList<StoreSession> Sessions(string name);

    /// <summary>Ends somebody's session; fine when it has ended already.</summary>
    void End(string name, StoreSession session);

    /// <summary>The ways into a store that can be shut for everybody but this user and the server's administrators, as they are found
    /// now.</summary>
    /// <param name="name">The store.</param>
    /// <exception cref="TransferraException">This user may not shut one of them.</exception>
    IReadOnlyList<StoreDoor> Doors(string name);

    /// <summary>The ways into a copy of a database that was shut when it was copied: those of the original, as they were found.</summary>
    /// <param name="name">The copy.</param>
    /// <param name="home">What it is to be called in the end.</param>
    /// <param name="original">What was found of the original before it was shut; none when it was not.</param>
    IReadOnlyList<StoreDoor> DoorsOfCopy(string name, string home, IReadOnlyList<StoreDoor> original) => Doors(name);

    /// <summary>Shuts a door; fine when it is shut. The store is found again even when it has been renamed meanwhile.</summary>
    void Shut(StoreDoor door);

    /// <summary>Whether a door is shut, or its store is gone.</summary>
    bool IsShut(StoreDoor door);

    /// <summary>Brings a door back to what it was found as; fine when it is, or when its store is gone.</summary>
    void Open(StoreDoor door);

    /// <summary>Whether a door is as it was found, or its store is gone.</summary>
    bool IsAsFound(StoreDoor door);

    /// <summary>What has to be changed to let one account into a copy and to keep all others out of it, as it is found now.</summary>
    /// <param name="name">The copy.</param>
    /// <param name="account">The account's name at this server.</param>
    /// <param name="original">The store whose copy it is; where rights go by a store's name, the account has those that it has
    /// there.</param>
    /// <exception cref="TransferraException">There is no such account.</exception>
    StoreGuest Guest(string name, string account, string original);

    /// <summary>Lets it in; fine when it is in.</summary>
    void LetIn(StoreGuest guest);

    /// <summary>Brings back what was found; fine when that is so, or when the store is gone.</summary>
    void PutOut(StoreGuest guest);

    /// <summary>Who is connected to a store, apart from this process, in words.</summary>
    IReadOnlyList<string> ConnectedTo(string name) => [.. Sessions(name).Select(session => session.Words)];

    /// <summary>What would stop this user from making databases, or from renaming one, in words; empty when nothing is known to.</summary>
    /// <param name="name">The one to be renamed; null when none is.</param>
    IReadOnlyList<string> Hindrances(string? name);
}
