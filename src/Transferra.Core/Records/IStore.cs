// IStore.cs: what Core asks of a store; src/Transferra.Stores fills it in for each engine.
// Holds: (1) an opened store is only read; (2) all reading of one IStore sees one state of the data (one snapshot);
//        (3) a new store is built under a staged name and counts as existing only after Complete returned.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

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
    /// <exception cref="TransferraException">It is not a question, the engine refuses it or takes too long.</exception>
    QueryAnswer Ask(string sql, TimeSpan? limit = null);

    /// <summary>The engine's own full check; one line for each complaint, none when sound.</summary>
    IReadOnlyList<string> CheckPhysically();

    /// <summary>Where the store contradicts itself; known when it was opened, without a scan. Such a store is not converted, and nothing
    /// of it is proved.</summary>
    IReadOnlyList<StoreDoubt> Doubts => [];

    /// <summary>What is odd about the store and no damage, such as many records that are only marked as deleted.</summary>
    IReadOnlyList<StoreRemark> Remarks => [];
}
