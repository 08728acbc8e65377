// IStoredTable.cs: a table's records as the store itself keeps them, byte by byte, and the table in parts that can be read side by side.
// Why: two stores of one engine that keep the same bytes for a record hold the same record, which is told in a small part of the time that
// it takes to read its values.
namespace Transferra.Core.Records;

/// <summary>A table with numbered records whose stored bytes can be had. Its store stays open longer than it is used.</summary>
public interface IStoredTable
{
    /// <summary>What gives the bytes of a record their meaning: engine, declaration of the table, code page. In two tables of which it is
    /// the same, the same bytes under the same number are the same record.</summary>
    string Form { get; }

    /// <summary>The column that is the record's number; null where the number is none of its values.</summary>
    string? NumberColumn { get; }

    /// <summary>All records, once.</summary>
    IStoredRecords Records();

    /// <summary>The values of some records. To be asked for on one thread, each part may then be read on another.</summary>
    /// <param name="part">Which part of the table, from 0.</param>
    /// <param name="of">How many parts there are; together they are the whole table, each record in one of them.</param>
    /// <param name="which">Which records by their numbers; null for all.</param>
    IPartReader Part(int part, int of, Predicate<long>? which);
}

/// <summary>Goes through the stored bytes of a table.</summary>
public interface IStoredRecords
{
    /// <summary>Goes to the next record.</summary>
    /// <param name="bytes">As the store keeps it; valid until the next call.</param>
    /// <param name="number">Its number, which no other record of the table has.</param>
    /// <returns>False at the end, and where it gave up.</returns>
    /// <exception cref="Machine.TransferraException">The store was changed meanwhile.</exception>
    bool Next(out ReadOnlySpan<byte> bytes, out long number);

    /// <summary>Whether something was not as it should be; only the engine can read on then, from the beginning.</summary>
    bool HasGivenUp { get; }
}

/// <summary>Reads a part of a table. Unlike others it may end a batch before it is full.</summary>
public interface IPartReader : IRecordReader
{
    /// <summary>Whether something was not as it should be; only the engine can read the table then, from the beginning.</summary>
    bool HasGivenUp { get; }
}
