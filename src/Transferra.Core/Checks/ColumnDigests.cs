// ColumnDigests.cs: the digests of a batch's values, column by column, computed once a batch for all probes that ask for them.
// Why: a column is in a key, in a relation and in what sums go by; each of them would digest the same values again, and row by row.
// Holds: (1) what is given is what Digest gives of each value; (2) never that of an earlier filling of the batch; (3) several threads may
// ask.
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Digests of the columns of one batch.</summary>
internal sealed class ColumnDigests(RecordBatch batch)
{
    private readonly (ulong[] Digests, long Filling)[] _columns = new (ulong[], long)[batch.Columns.Count];
    private readonly List<KeyDigests> _keys = [];

    /// <summary>The digests of a column's values in the batch as it is now.</summary>
    /// <returns>At least as many as it has rows; valid until the batch is filled anew.</returns>
    public ulong[] Of(int ordinal)
    {
        lock (_columns)
        {
            (ulong[]? digests, long filling) = _columns[ordinal];
            if (digests is not null && filling == batch.Filling) return digests;
            int rows = batch.RowCount;
            if (digests is null || digests.Length < rows) digests = new ulong[rows];
            Digest.OfAll(batch.Vectors[ordinal], digests.AsSpan(0, rows));
            _columns[ordinal] = (digests, batch.Filling);
            return digests;
        }
    }

    /// <summary>Has the memory of some columns' digests given up together with this.</summary>
    public void Know(KeyDigests key) => _keys.Add(key);

    /// <summary>Gives up the memory.</summary>
    public void Release()
    {
        lock (_columns) Array.Clear(_columns);
        foreach (KeyDigests key in _keys) key.Release();
    }
}

/// <summary>The digests of some columns of a table's batch, together.</summary>
internal sealed class KeyDigests
{
    private readonly TableScan _scan;
    private readonly int[] _ordinals;
    private ulong[] _together = [], _digests = [];
    private bool _areWhole;

    /// <param name="scan">The table.</param>
    /// <param name="ordinals">The columns; none: all rows are the same.</param>
    public KeyDigests(TableScan scan, int[] ordinals)
    {
        (_scan, _ordinals) = (scan, ordinals);
        scan.Digests.Know(this);
    }

    /// <summary>Looks at the batch as it is now, for no more than which rows are whole.</summary>
    public void LookForNulls() => _areWhole = !Array.Exists(_ordinals, ordinal => _scan.Batch.Vectors[ordinal].HasNull);

    /// <summary>Looks at the batch as it is now.</summary>
    public void Look()
    {
        LookForNulls();
        _digests = _ordinals.Length == 1 ? _scan.Digests.Of(_ordinals[0])
            : Digest.Together([.. _ordinals.Select(_scan.Digests.Of)], _scan.Batch.RowCount, ref _together);
    }

    /// <summary>The digest of a row's values.</summary>
    public ulong this[int row] => _digests[row];

    /// <summary>Whether the row has a value in each of the columns.</summary>
    public bool IsWhole(int row)
    {
        if (_areWhole) return true;
        foreach (int ordinal in _ordinals)
            if (_scan.Batch.Vectors[ordinal].IsNull(row)) return false;
        return true;
    }

    /// <summary>Gives up the memory.</summary>
    public void Release() => (_together, _digests) = ([], []);
}
