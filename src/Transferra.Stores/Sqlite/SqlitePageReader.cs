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
    private readonly SqlitePartReader _pages = new(new SqliteTableScan(pages, layout.RootPage),
        new SqliteRecordDecoder(layout, table, cells), watch, which: null);

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
        int before = batch.RowCount;
        bool more = _pages.Fill(batch);
        _delivered += batch.RowCount - before;
        if (_pages.HasGivenUp) return (_engine = engine(_delivered)).Fill(batch);
        _ended = !more;
        return more;
    }

    public void Dispose() => _engine?.Dispose();
}
