// SqliteIndexProof.cs: proves that every index of a table has exactly the entries that its records ask for, in their order.
// Why beside the engine's check: that one looks up every record in every index, each time from the root, in pages that do not stay in its
// cache; of 3 million records with two indexes each table it takes ten times what both read in order take.
// How: the keys of the table's records and the entries of an index are read once each; they are the same if there are as many of them
// and the sums of their digests agree. What is in ascending order then is where a look-up finds it.
// Holds: (1) what is proved, the engine's own comparison of records and indexes would find nothing in; a property test damages files at
// random and holds the two against each other; (2) what is not proved is left to the engine to judge: nothing is told here.
namespace Transferra.Stores.Sqlite;

/// <param name="pages">The file, for this proof alone.</param>
/// <param name="table">How its records lie.</param>
/// <param name="indexes">All its indexes.</param>
/// <param name="cancel">Stops between two records.</param>
internal sealed class SqliteIndexProof(SqlitePageFile pages, SqliteTableLayout table, IReadOnlyList<SqliteIndexLayout> indexes,
    CancellationToken cancel)
{
    private const int OftenEnough = 1 << 14;

    private readonly SqliteKeyBytes _key = new();
    private readonly SqliteIndexLayout[] _indexes = [.. indexes];
    private readonly UInt128[] _sums = new UInt128[indexes.Count];
    private readonly int _last = indexes.SelectMany(index => index.Columns).Select(column => column.Column).DefaultIfEmpty(-1).Max();
    private readonly int _columns = table.Columns.Count, _numbered = table.NumberedColumn;
    private long _records;

    /// <summary>Reads the table and its indexes.</summary>
    /// <returns>False when the engine should look.</returns>
    public bool Holds()
    {
        if (!AddRecords()) return false;
        for (int i = 0; i < _indexes.Length; i++)
            if (!HasEntries(_indexes[i], _sums[i])) return false;
        return true;
    }

    // Every record has to be one that the engine can take apart.
    private bool AddRecords()
    {
        var scan = new SqliteTableScan(pages, table.RootPage);
        var fields = new SqliteFields();
        while (true)
        {
            SqliteTableScan.Step step = scan.NextBeginning(out ReadOnlySpan<byte> record, out long bytes);
            if (step == SqliteTableScan.Step.End) return true;
            if (step == SqliteTableScan.Step.GaveUp || !fields.TryTake(record, bytes) || fields.Count > _columns) return false;
            if (++_records % OftenEnough == 0) cancel.ThrowIfCancellationRequested();
            if (record.Length < bytes && !IsEnough(record.Length, fields) && !scan.TryRecord(out record)) return false;
            for (int i = 0; i < _indexes.Length; i++)
            {
                _key.Clear();
                foreach (SqliteIndexColumn column in _indexes[i].Columns)
                    if (!TryAdd(column.Column, fields, record, scan.Number)) return false;
                _sums[i] += _key.Digest();
            }
        }
    }

    // Whether all that the indexes want lies in the beginning of a record.
    private bool IsEnough(int beginning, SqliteFields fields) =>
        _last < 0 || fields.Count == 0 || fields.EndOf(Math.Min(_last, fields.Count - 1)) <= beginning;

    private bool TryAdd(int column, SqliteFields fields, ReadOnlySpan<byte> record, long number)
    {
        if (column == -1 || column == _numbered)
        {
            _key.Add(number);
            return true;
        }
        if (column < fields.Count) return fields.TryAddTo(_key, record, column);
        // The record was stored before the column was added.
        return column < _columns && table.Columns[column].Added.Value is { } added && TryAdd(added);
    }

    private bool TryAdd(SqliteConstant added)
    {
        switch (added.Kind)
        {
            case SqliteNative.Null: _key.AddNull(); break;
            case SqliteNative.Integer: _key.Add(added.Whole); break;
            case SqliteNative.Text: _key.Add(added.Bytes, isText: true); break;
            default: return false;
        }
        return true;
    }

    private bool HasEntries(SqliteIndexLayout index, UInt128 wanted)
    {
        var scan = new SqliteIndexScan(pages, index.RootPage);
        SqliteFields fields = new(), before = new();
        byte[] last = [];
        UInt128 sum = 0;
        long entries = 0;
        while (true)
        {
            SqliteTableScan.Step step = scan.Next(out ReadOnlySpan<byte> entry);
            if (step == SqliteTableScan.Step.End) return entries == _records && sum == wanted;
            if (step == SqliteTableScan.Step.GaveUp || !fields.TryTake(entry, entry.Length) || fields.Count != index.Columns.Length
                || (entries > 0 && !IsBehind(index, entry, fields, last, before))) return false;
            _key.Clear();
            for (int field = 0; field < fields.Count; field++)
                if (!fields.TryAddTo(_key, entry, field)) return false;
            sum += _key.Digest();
            if (++entries % OftenEnough == 0) cancel.ThrowIfCancellationRequested();
            if (last.Length < entry.Length) last = new byte[2 * entry.Length];
            entry.CopyTo(last);
            (fields, before) = (before, fields);
        }
    }

    // Whether an entry comes behind the one before it, and has another key where each may be there once.
    private static bool IsBehind(SqliteIndexLayout index, ReadOnlySpan<byte> entry, SqliteFields fields, byte[] last, SqliteFields before)
    {
        bool lacksValue = false;
        for (int field = 0; field < fields.Count; field++)
        {
            if (field == fields.Count - 1 && index.IsUnique && !lacksValue) return false;
            int order = fields.Compare(entry, field, before, last, index.Columns[field].Collation);
            if (order != 0) return order > 0 != index.Columns[field].IsDescending;
            lacksValue |= fields.IsNull(field);
        }
        return false;
    }
}
