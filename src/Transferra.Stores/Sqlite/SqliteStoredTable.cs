// SqliteStoredTable.cs: a table's records as its pages hold them, and the table in parts.
// Source: "The SQLite Database File Format", section 2.1 (record format): what a record's bytes mean follows from themselves, from the
// table's declaration and from the encoding of the file, which is UTF-8 wherever pages are read here.
// Holds: (1) parts together deliver every record once; (2) what is not laid out as it should be is given up, never passed over.
using Transferra.Core.Records;
using Transferra.Stores.Files;

namespace Transferra.Stores.Sqlite;

/// <param name="pages">The file; each reader takes another of its own.</param>
/// <param name="layout">How the table lies in it.</param>
/// <param name="table">What is read of it.</param>
/// <param name="cells">How its cells are read.</param>
/// <param name="watch">Tells when the file is changed meanwhile; null where the engine's lock keeps others from it.</param>
/// <param name="form">What gives its records their meaning.</param>
internal sealed class SqliteStoredTable(SqlitePageFile pages, SqliteTableLayout layout, TableShape table, SqliteCells cells,
    FileWatch? watch, string form) : IStoredTable
{
    // Parts are made of so many subtrees or more, so that they are of about the same size.
    private const int SubtreesOfAPart = 32;

    public string Form => form;

    public string? NumberColumn => layout.NumberedColumn >= 0 && layout.Columns[layout.NumberedColumn].Position is >= 0 and int at
        ? table.Columns[at].Name : null;

    public IStoredRecords Records() => new StoredRecords(new SqliteTableScan(pages.Again(), layout.RootPage), watch);

    public IPartReader Part(int part, int of, Predicate<long>? which)
    {
        SqlitePageFile own = pages.Again();
        if (SqliteTableScan.Subtrees(own, layout.RootPage, SubtreesOfAPart * of) is not { } all) return new NoReader();
        int from = (int)((long)all.Count * part / of), end = (int)((long)all.Count * (part + 1) / of);
        return new SqlitePartReader(new SqliteTableScan(own, layout.RootPage, [.. all.Skip(from).Take(end - from)]),
            new SqliteRecordDecoder(layout, table, cells), watch, which);
    }

    private sealed class StoredRecords(SqliteTableScan scan, FileWatch? watch) : IStoredRecords
    {
        public bool HasGivenUp { get; private set; }

        public bool Next(out ReadOnlySpan<byte> bytes, out long number)
        {
            SqliteTableScan.Step step = scan.Next(out bytes);
            number = scan.Number;
            if (step == SqliteTableScan.Step.Record) return true;
            if (step == SqliteTableScan.Step.GaveUp) HasGivenUp = true;
            else watch?.RefuseIfChanged();
            return false;
        }
    }

    private sealed class NoReader : IPartReader
    {
        public bool HasGivenUp => true;

        public bool Fill(RecordBatch batch) => false;

        public void Dispose() { }
    }
}
