// SqlitePartReader.cs: records of a table as batches, read from its pages, up to the first one that is not laid out as it should be.
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Sqlite;

/// <param name="scan">Goes through the records.</param>
/// <param name="decoder">Takes their values.</param>
/// <param name="watch">Tells when the file is changed meanwhile; null where the engine's lock keeps others from it.</param>
/// <param name="which">Which records by their numbers; null for all.</param>
internal sealed class SqlitePartReader(SqliteTableScan scan, SqliteRecordDecoder decoder, FileWatch? watch, Predicate<long>? which)
    : IPartReader
{
    // Where few records are wanted, whoever waits for them gets to say "stop" every so often.
    private const int MostPassed = 1 << 16;

    public bool HasGivenUp { get; private set; }

    public bool Fill(RecordBatch batch)
    {
        Vector[] vectors = batch.Vectors;
        long stored = 0;
        int passed = 0;
        for (int rows = batch.RowCount; rows < batch.Limits.MaxRows && passed < MostPassed;)
        {
            SqliteTableScan.Step step = scan.Next(out ReadOnlySpan<byte> record);
            if (step == SqliteTableScan.Step.End)
            {
                watch?.RefuseIfChanged();
                return false;
            }
            if (step == SqliteTableScan.Step.Record && which is not null && !which(scan.Number))
            {
                passed++;
                continue;
            }
            if (step == SqliteTableScan.Step.GaveUp || !decoder.TryTake(batch, vectors, rows, record, scan.Number))
            {
                batch.Truncate(rows);
                HasGivenUp = true;
                return false;
            }
            rows++;
            stored += record.Length;
            if (SqliteRecordReader.IsHeavy(batch, rows, stored)) break;
        }
        return true;
    }

    public void Dispose() { }
}
