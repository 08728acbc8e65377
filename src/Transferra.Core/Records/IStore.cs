// IStore.cs: what Core asks of a store; src/Transferra.Stores fills it in for each engine.
// Holds: (1) an opened store is only read; (2) all reading of one IStore sees one state of the data (one snapshot);
//        (3) a new store is built under a staged name and counts as existing only after Complete returned.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>A schema of a database that is not the company's own.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Tables">How many tables it has; each is called by the schema's name, a point and its own.</param>
public sealed record OtherSchema(string Name, int Tables);

/// <summary>A store opened for reading only.</summary>
public interface IStore : IDisposable
{
    /// <summary>What it is.</summary>
    StoreIdentity Identity { get; }

    /// <summary>The tables it has, with columns as the engine declares them, ordered by name.</summary>
    IReadOnlyList<TableShape> ReadShape();

    /// <summary>A table with all its columns as the engine keeps their values, whatever they are declared for: for a comparison with the
    /// same table of another store of this engine.</summary>
    /// <param name="table">Its name, in any case.</param>
    /// <returns>Null when there is none.</returns>
    TableShape? ReadStoredShape(string table)
    {
        IReadOnlyList<TableShape> tables = ReadShape();
        return tables.FirstOrDefault(known => known.Name == table)
            ?? tables.FirstOrDefault(known => string.Equals(known.Name, table, StringComparison.OrdinalIgnoreCase));
    }

    /// <summary>What it has beside tables: views, triggers, routines, sequences. Listed, so that nobody is surprised by what a conversion
    /// does not carry.</summary>
    IReadOnlyList<StoreObject> ListObjects();

    /// <summary>Whether the engine itself lets no two records of a table have the same values in these columns, so that nobody need look
    /// for it.</summary>
    bool KeepsKey(string table, IReadOnlyList<string> key) => false;

    /// <summary>Exact number of records.</summary>
    long CountRows(string table);

    /// <summary>About how many records there are, for progress and for what comes first; told without reading them where the engine
    /// can.</summary>
    long AboutRows(string table) => CountRows(table);

    /// <summary>Reads a table, ordered by the given columns (none: the store's own order).</summary>
    /// <param name="table">Which columns to read and as which types; cells that do not fit become cell faults.</param>
    /// <param name="orderBy">Column names.</param>
    /// <param name="within">Only the records of this range; null for all.</param>
    IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null);

    /// <summary>A table as the store itself keeps it; null where only the engine can read it.</summary>
    /// <param name="table">Which columns to read and as which types.</param>
    IStoredTable? Stored(TableShape table) => null;

    /// <summary>Reads of a damaged table what can be read, in no particular order.</summary>
    /// <param name="table">Which columns to read and as which types.</param>
    /// <param name="lost">Receives what cannot be read, as it is met.</param>
    IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => new ReadToDamage(() => Read(table, []), table.Name, lost);

    /// <summary>Reads everything the store has beside its rows, for making it again on the same engine; null for stores of files, which
    /// are copied as they are.</summary>
    /// <param name="folder">Where the rows were written out; a file of the engine's own form may be put there, too.</param>
    StoreScript? ReadScript(string folder) => null;

    /// <summary>What it has beside records, in the engine's own words, one by one.</summary>
    IReadOnlyList<StoreDeclaration> Declarations() => [];

    /// <summary>Other schemas of the same database that have tables. They are read, and go where a copy of the database goes.</summary>
    IReadOnlyList<OtherSchema> Elsewhere() => [];

    /// <summary>What <see cref="ReadScript"/> does not carry, one line each, with what this user may not see.</summary>
    IReadOnlyList<string> NotCarried() => [];

    /// <summary>What is in it and is not read here, one line each; only a copy of the whole store would carry it.</summary>
    IReadOnlyList<string> NotRead() => [];

    /// <summary>What of <see cref="NotRead"/> is not compared, either, when the new store is a copy of this one.</summary>
    IReadOnlyList<string> NotCompared() => NotRead();

    /// <summary>Puts a question of a kit to the engine in its own SQL, on a connection of its own that may only read.</summary>
    /// <param name="sql">One statement, as <see cref="KitQuestion"/> has it.</param>
    /// <param name="limit">How long the engine may take; null for <see cref="KitQuestion.TimeLimit"/>.</param>
    /// <exception cref="TransferraException">It is not a question, the engine refuses it or takes too long.</exception>
    QueryAnswer Ask(string sql, TimeSpan? limit = null);

    /// <summary>The engine's own full check; one line for each complaint, none when sound.</summary>
    IReadOnlyList<string> CheckPhysically();

    /// <summary>The same, for whoever may want to stop it.</summary>
    /// <param name="cancel">Stops it where the engine lets itself be stopped.</param>
    /// <exception cref="OperationCanceledException">It was stopped.</exception>
    IReadOnlyList<string> CheckPhysicallyUntil(CancellationToken cancel) => CheckPhysically();

    /// <summary>The store opened once more, to be read in another thread beside this one; null where that is not possible.</summary>
    IStore? Again() => null;

    /// <summary>Where the store contradicts itself; known when it was opened, without a scan. Such a store is not converted, and nothing
    /// of it is proved.</summary>
    IReadOnlyList<StoreDoubt> Doubts => [];

    /// <summary>What is odd about the store and no damage, such as many records that are only marked as deleted.</summary>
    IReadOnlyList<StoreRemark> Remarks => [];
}
