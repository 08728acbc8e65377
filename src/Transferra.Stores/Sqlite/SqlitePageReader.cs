// SqlitePageReader.cs: one table as record batches, read from its pages; where they are not as they should be, the engine reads on from
// that record.
// Holds: (1) what it delivers is what the engine would: a property test compares the two over every kind of value, size of page and way
// of storing;
//        (2) damage is judged and told by the engine alone.
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal sealed class SqlitePageReader(SqlitePageFile pages, SqliteTableLayout layout, TableShape table, SqliteCells cells,
    Files.FileWatch? watch,
    Func<long, IRecordReader> engine) : IRecordReader
{
    private readonly SqliteTableScan _scan = new(pages, layout.RootPage);
    private readonly SqliteRecordDecoder _decoder = new(layout, table, cells);

    // Of the engine: reads the table in the same order, without so many records at its beginning.
    private IRecordReader? _engine;
    private long _delivered;
    private bool _ended;

    /// <summary>Whether the engine has taken over.</summary>
    internal bool IsHandedOver => _engine is not null;

    public bool Fill(RecordBatch batch)
    {
        if (_engine is not null) return _engine.Fill(batch);
        if (_ended) return false;
        Vector[] vectors = batch.Vectors;
        long stored = 0;
        for (int rows = batch.RowCount; rows < batch.Limits.MaxRows;)
        {
            SqliteTableScan.Step step = _scan.Next(out ReadOnlySpan<byte> record);
            if (step == SqliteTableScan.Step.End)
            {
                _ended = true;
                watch?.RefuseIfChanged();
                return false;
            }
            if (step == SqliteTableScan.Step.GaveUp || !_decoder.TryTake(batch, vectors, rows, record, _scan.Number))
            {
                batch.Truncate(rows);
                _engine = engine(_delivered);
                return _engine.Fill(batch);
            }
            _delivered++;
            rows++;
            stored += record.Length;
            if (SqliteRecordReader.IsHeavy(batch, rows, stored)) break;
        }
        return true;
    }

    public void Dispose() => _engine?.Dispose();
}
