// IStore.cs: what Core asks of a store; src/Transferra.Stores fills it in for each engine.
// Holds: (1) an opened store is only read; (2) all reading of one IStore sees one state of the data (one snapshot);
//        (3) a new store is built under a staged name and counts as existing only after Complete returned.
namespace Transferra.Core.Records;

/// <summary>A question put to the engine in its own language, and what came back: column names and text cells.</summary>
public sealed record QueryAnswer(IReadOnlyList<string> Columns, IReadOnlyList<IReadOnlyList<string?>> Rows);

/// <summary>What an engine says of a store.</summary>
/// <param name="Engine">The engine's name, such as "SQLite".</param>
/// <param name="EngineVersion">Of the engine that reads it.</param>
/// <param name="Bytes">Size on disk.</param>
/// <param name="HeaderFields">Facts from the file header, by name.</param>
public sealed record StoreIdentity(string Engine, string EngineVersion, long Bytes, IReadOnlyDictionary<string, string> HeaderFields)
{
    /// <summary>The header field that tells what was guessed of a store's form; there only when something was.</summary>
    public const string Guess = "guessed_form";

    /// <summary>The header field that tells of changes that lie beside the store's file and not yet in it; there only when there are
    /// some.</summary>
    public const string WaitingChanges = "waiting_changes";
}

/// <summary>Something that a store has beside its tables.</summary>
/// <param name="Kind">view, trigger, routine, event, or where counting has come to: sequence, or numbering of a table.</param>
/// <param name="Name">As the store spells it; of a numbering, the table.</param>
/// <param name="Of">The table it belongs to, or the position that counting has come to; "" when neither.</param>
public sealed record StoreObject(string Kind, string Name, string Of = "");

/// <summary>Where a store contradicts itself: it does not add up, whatever is read of it.</summary>
/// <param name="Table">The table.</param>
/// <param name="Records">Records in doubt: counted and not there, or there and not counted; 0 when none are.</param>
/// <param name="What">What contradicts what, one line with file and offset.</param>
public sealed record StoreDoubt(string Table, long Records, string What);

/// <summary>Something odd about a store that is no damage.</summary>
/// <param name="Kind"><see cref="DeletedRecords"/> or <see cref="Odd"/>.</param>
/// <param name="What">One line, with the place.</param>
public sealed record StoreRemark(string Kind, string What)
{
    /// <summary>Kinds of remark, as kinds of finding: many records only marked as deleted, and anything else.</summary>
    public const string DeletedRecords = "deleted-records", Odd = "odd-store";
}

/// <summary>Records of one table, in order.</summary>
public interface IRecordReader : IDisposable
{
    /// <summary>Appends rows until the batch is full or the table ends.</summary>
    /// <returns>False when the table has ended.</returns>
    bool Fill(RecordBatch batch);
}

/// <summary>A store opened for reading only.</summary>
public interface IStore : IDisposable
{
    /// <summary>What it is.</summary>
    StoreIdentity Identity { get; }

    /// <summary>The tables it has, with columns as the engine declares them, ordered by name.</summary>
    IReadOnlyList<TableShape> ReadShape();

    /// <summary>What it has beside tables: views, triggers, routines, sequences. Listed, so that nobody is surprised by what a conversion
    /// does not carry.</summary>
    IReadOnlyList<StoreObject> ListObjects();

    /// <summary>Whether the engine itself lets no two records of a table have the same values in these columns, so that nobody need look
    /// for it.</summary>
    bool KeepsKey(string table, IReadOnlyList<string> key) => false;

    /// <summary>Exact number of records.</summary>
    long CountRows(string table);

    /// <summary>Reads a table, ordered by the given columns (none: the store's own order).</summary>
    /// <param name="table">Which columns to read and as which types; cells that do not fit become cell faults.</param>
    /// <param name="orderBy">Column names.</param>
    /// <param name="within">Only the records of this range; null for all.</param>
    IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null);

    /// <summary>Reads of a damaged table what can be read, in no particular order.</summary>
    /// <param name="table">Which columns to read and as which types.</param>
    /// <param name="lost">Receives what cannot be read, as it is met.</param>
    IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => new ReadToDamage(() => Read(table, []), table.Name, lost);

    /// <summary>Reads everything the store has beside its rows, for making it again on the same engine; null for stores of files, which
    /// are copied as they are.</summary>
    /// <param name="folder">Where the rows were written out; a file of the engine's own form may be put there, too.</param>
    StoreScript? ReadScript(string folder) => null;

    /// <summary>What <see cref="ReadScript"/> does not carry, one line each, with what this user may not see.</summary>
    IReadOnlyList<string> NotCarried() => [];

    /// <summary>What lies in the same database and is not read here, such as other schemas, one line each; a change-over would leave it
    /// behind.</summary>
    IReadOnlyList<string> NotRead() => [];

    /// <summary>Puts a question of a kit to the engine in its own SQL, on a connection of its own that may only read.</summary>
    /// <param name="sql">One statement, as <see cref="KitQuestion"/> has it.</param>
    /// <param name="limit">How long the engine may take; null for <see cref="KitQuestion.TimeLimit"/>.</param>
    /// <exception cref="TransferraException">It is no question, the engine refuses it or takes too long.</exception>
    QueryAnswer Ask(string sql, TimeSpan? limit = null);

    /// <summary>The engine's own full check; one line for each complaint, none when sound.</summary>
    IReadOnlyList<string> CheckPhysically();

    /// <summary>Where the store contradicts itself; known when it was opened, without a scan. Such a store is not converted, and nothing
    /// of it is proved.</summary>
    IReadOnlyList<StoreDoubt> Doubts => [];

    /// <summary>What is odd about the store and no damage, such as many records that are only marked as deleted.</summary>
    IReadOnlyList<StoreRemark> Remarks => [];
}

/// <summary>One table of the new store to which rows are added.</summary>
/// <param name="Table">Its shape.</param>
/// <param name="Vectors">Its values, in the shape's order; all of the same count.</param>
public sealed record TableOutput(TableShape Table, IReadOnlyList<Vector> Vectors);

/// <summary>A row that the engine would not take.</summary>
/// <param name="Row">Zero-based row of the batch.</param>
/// <param name="Code">Why.</param>
/// <param name="Reason">The engine's words, lower case, one line.</param>
/// <param name="Value">The value it is about as a person reads it; "" when the engine does not say which.</param>
public readonly record struct RowReject(int Row, FaultCode Code, string Reason, string Value = "");

/// <summary>A new store being built. One writer thread at a time.</summary>
public interface IStoreBuilder : IDisposable
{
    /// <summary>Creates an empty table.</summary>
    void CreateTable(TableShape table);

    /// <summary>Writes rows: each row goes to all the outputs or to none.</summary>
    /// <param name="outputs">Where to; all from the same source batch.</param>
    /// <param name="rows">Which rows of the batch.</param>
    /// <param name="rejects">Receives the rows the engine would not take.</param>
    void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects);

    /// <summary>Builds keys, indexes and relations, sets header fields, proves the counts, and flushes everything to disk.</summary>
    /// <param name="headerFields">For the header of a SQLite file. Other stores have none to set, and their version is told by a
    /// record.</param>
    /// <exception cref="KeyConflictException">Records with the same key came in, and the store was not created to refuse them one by
    /// one.</exception>
    void Complete(IReadOnlyDictionary<string, string> headerFields);

    /// <summary>Whether values are written to it as the engine once wrote them out, as text, instead of as the types we have for
    /// them.</summary>
    bool TakesWritten => false;

    /// <summary>What could not be brought back of a store that is made again, one line each; nothing of the rows.</summary>
    IReadOnlyList<string> Remarks => [];
}

/// <summary>Opens and creates stores. Filled in by Transferra.Stores.</summary>
public interface IStoreOpener
{
    /// <summary>Opens a store for reading.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="textEncoding">Name of the code page its text is in; null for UTF-8.</param>
    /// <exception cref="TransferraException">Missing, empty, foreign, damaged beyond opening, or locked.</exception>
    IStore Open(StoreAddress address, string? textEncoding = null);

    /// <summary>Starts a new, empty store in a file, folder or database that must not exist.</summary>
    /// <param name="address">Where.</param>
    /// <param name="textEncoding">Name of the code page to write text in; null for UTF-8.</param>
    /// <param name="keysFirst">Whether a record whose key is there already is refused when it comes. Some engines load faster when keys
    /// are built at the end; those then throw <see cref="KeyConflictException"/> when the keys do not allow it.</param>
    IStoreBuilder Create(StoreAddress address, string? textEncoding = null, bool keysFirst = false);

    /// <summary>What a new store would not take, known without making it.</summary>
    /// <param name="address">Where it would be.</param>
    /// <param name="textEncoding">Name of the code page its text would be in; null for UTF-8.</param>
    IStoreJudge JudgeOf(StoreAddress address, string? textEncoding = null) => new TakesAll();

    /// <summary>Makes a store again from what <see cref="IStore.ReadScript"/> read, under a name that is free. Its tables are there at
    /// once; CreateTable tells only what will be written to one.</summary>
    /// <param name="address">Where; of the engine the script was read from.</param>
    /// <param name="script">The script.</param>
    /// <param name="folder">Where the script's file is.</param>
    IStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder);

    /// <summary>Adds what <see cref="Rebuild"/> left out because it does not move with the tables when a store is renamed, and is not
    /// there yet.</summary>
    /// <returns>What could not be added.</returns>
    IReadOnlyList<string> AddUnmoved(StoreAddress address, StoreScript script);

    /// <summary>Makes an exact copy of a store, with everything that is in it, under a name that is free.</summary>
    /// <param name="from">Nobody must be writing to it.</param>
    /// <param name="to">Of the same engine, and on the same server.</param>
    /// <exception cref="TransferraException">It cannot be copied so that nothing is missing.</exception>
    void Copy(StoreAddress from, StoreAddress to);

    /// <summary>Opens a copy of a store to put records right in it.</summary>
    /// <param name="copy">One that Copy made.</param>
    /// <param name="textEncoding">The code page of its text; null for UTF-8.</param>
    IStoreMender Mend(StoreAddress copy, string? textEncoding);

    /// <summary>The files a store consists of, as they are now: the main file first, or those of its folder by name; none for one on a
    /// server.</summary>
    IReadOnlyList<string> FilesOf(StoreAddress address);

    /// <summary>The server that keeps a store.</summary>
    /// <param name="address">One whose <see cref="StoreAddress.Server"/> is given.</param>
    IStoreServer ServerOf(StoreAddress address);
}

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
        ? FormattableString.Invariant($"{(State.Length > 0 ? State : "idle")} for {(idle.TotalMinutes < 2 ? $"{idle.TotalSeconds:0} s" : $"{idle.TotalMinutes:0} min")}") : State;
}

/// <summary>A way into a store that can be shut.</summary>
/// <param name="Kind">What it is, such as connection-limit or account.</param>
/// <param name="Name">Which, such as the database or the account.</param>
/// <param name="WhenShut">What is the case then, in words.</param>
/// <param name="WhenOpen">What is the case when it is as found, in words.</param>
/// <param name="EndsSessions">Whether shutting it also ends the sessions of those who are in.</param>
/// <param name="Found">How it was found, by name: all that is needed to bring that back.</param>
public sealed record StoreDoor(string Kind, string Name, string WhenShut, string WhenOpen, bool EndsSessions, IReadOnlyDictionary<string,
    string> Found);

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

    /// <summary>Shuts a door; fine when it is shut. The store is found again even when it has been renamed meanwhile.</summary>
    void Shut(StoreDoor door);

    /// <summary>Whether a door is shut, or its store is gone.</summary>
    bool IsShut(StoreDoor door);

    /// <summary>Brings a door back to what it was found as; fine when it is, or when its store is gone.</summary>
    void Open(StoreDoor door);

    /// <summary>Whether a door is as it was found, or its store is gone.</summary>
    bool IsAsFound(StoreDoor door);

    /// <summary>Who is connected to a store, apart from this process, in words.</summary>
    IReadOnlyList<string> ConnectedTo(string name) => [.. Sessions(name).Select(session => session.Words)];

    /// <summary>What would stop this user from making databases, or from renaming one, in words; empty when nothing is known to.</summary>
    /// <param name="name">The one to be renamed; null when none is.</param>
    IReadOnlyList<string> Hindrances(string? name);
}
