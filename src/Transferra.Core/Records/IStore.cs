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

    /// <summary>Exact number of records.</summary>
    long CountRows(string table);

    /// <summary>Reads a table, ordered by the given columns (none: the store's own order).</summary>
    /// <param name="table">Which columns to read and as which types; cells that do not fit become cell faults.</param>
    /// <param name="orderBy">Column names.</param>
    IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy);

    /// <summary>Puts a question to the engine in its own SQL.</summary>
    QueryAnswer Ask(string sql);

    /// <summary>The engine's own full check; one line for each complaint, none when sound.</summary>
    IReadOnlyList<string> CheckPhysically();
}

/// <summary>One table of the new store to which rows are added.</summary>
/// <param name="Table">Its shape.</param>
/// <param name="Vectors">Its values, in the shape's order; all of the same count.</param>
public sealed record TableOutput(TableShape Table, IReadOnlyList<Vector> Vectors);

/// <summary>A row that the engine would not take.</summary>
/// <param name="Row">Zero-based row of the batch.</param>
/// <param name="Code">Why.</param>
/// <param name="Reason">The engine's words, lower case, one line.</param>
public readonly record struct RowReject(int Row, FaultCode Code, string Reason);

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

    /// <summary>Builds keys and indexes, sets header fields, and flushes everything to disk.</summary>
    void Complete(IReadOnlyDictionary<string, string> headerFields);
}

/// <summary>Where a company's records live, as office.yaml says.</summary>
/// <param name="Engine">"sqlite", "dbf" or "delimited".</param>
/// <param name="Path">Full path of the file, or of the folder of tables.</param>
/// <param name="Form">How a folder of delimited text is written, by key; null when nothing is said.</param>
public sealed record StoreAddress(string Engine, string Path, IReadOnlyDictionary<string, string>? Form = null)
{
    private static readonly Dictionary<string, string> Nothing = [];

    /// <summary>What is said of its form; empty when nothing is.</summary>
    public IReadOnlyDictionary<string, string> Options => Form ?? Nothing;
}

/// <summary>Opens and creates stores. Filled in by Transferra.Stores.</summary>
public interface IStoreOpener
{
    /// <summary>Opens a store for reading.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="textEncoding">Name of the code page its text is in; null for UTF-8.</param>
    /// <exception cref="TransferraException">Missing, empty, foreign, damaged beyond opening, or locked.</exception>
    IStore Open(StoreAddress address, string? textEncoding = null);

    /// <summary>Starts a new, empty store in a file or folder that must not exist.</summary>
    /// <param name="address">Where.</param>
    /// <param name="textEncoding">Name of the code page to write text in; null for UTF-8.</param>
    IStoreBuilder Create(StoreAddress address, string? textEncoding = null);

    /// <summary>The files a store consists of, as they are now: the main file first, or those of its folder by name.</summary>
    IReadOnlyList<string> FilesOf(StoreAddress address);
}
