// KeylessPairs.cs: pairs records of a table without a key by what they share, so that one changed value is not told as one record missing
// and one extra.
// How: first those that are the same but for one column; then, by values that few records have, those that share more than half of what
// either of them has.
// Holds: (1) no record is in two pairs; (2) a pair shares more than half of its values, or all but one of two, and then nobody else does;
//        (3) time grows with the number of records times columns, not with its square.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Pairs records.</summary>
/// <param name="missing">Records that should be there.</param>
/// <param name="extra">Records that are.</param>
internal sealed class KeylessPairs(RecordBatch missing, RecordBatch extra)
{
    private const int MostSharing = 32, Rounds = 3, Probes = 4;

    private readonly int _columns = missing.Vectors.Length;
    private readonly ulong[] _missing = CellsOf(missing), _extra = CellsOf(extra);
    private readonly int[] _pairOf = [.. Enumerable.Repeat(-1, missing.RowCount)];
    private readonly bool[] _taken = new bool[extra.RowCount];

    /// <summary>For each missing record the extra one that stands for it; -1 where none does.</summary>
    public int[] Pairs()
    {
        if (_columns < 2) return _pairOf;
        for (int column = 0; column < _columns; column++) AllButOne(column);
        for (int round = 0; round < Rounds && ByRareValues(); round++) { }
        return _pairOf;
    }

    // A number for each cell, equal for equal values; 0 where there is none.
    private static ulong[] CellsOf(RecordBatch batch)
    {
        int columns = batch.Vectors.Length;
        var cells = new ulong[batch.RowCount * columns];
        var writer = new CanonicalWriter();
        for (int column = 0; column < columns; column++)
            for (int row = 0; row < batch.RowCount; row++)
            {
                if (batch.Vectors[column].IsNull(row)) continue;
                writer.Clear();
                batch.Vectors[column].Encode(row, writer);
                cells[row * columns + column] = System.IO.Hashing.XxHash3.HashToUInt64(writer.Written, column) | 1;
            }
        return cells;
    }

    private static ulong Whole(ReadOnlySpan<ulong> row)
    {
        ulong sum = 0;
        foreach (ulong cell in row) sum = unchecked(sum + cell);
        return sum;
    }

    private ReadOnlySpan<ulong> MissingRow(int row) => _missing.AsSpan(row * _columns, _columns);

    private ReadOnlySpan<ulong> ExtraRow(int row) => _extra.AsSpan(row * _columns, _columns);

    private void AllButOne(int column)
    {
        var waiting = new Dictionary<ulong, Queue<int>>();
        for (int row = 0; row < _taken.Length; row++)
        {
            if (_taken[row]) continue;
            ulong rest = unchecked(Whole(ExtraRow(row)) - _extra[row * _columns + column]);
            if (rest == 0) continue;
            if (!waiting.TryGetValue(rest, out Queue<int>? same)) waiting[rest] = same = new Queue<int>();
            same.Enqueue(row);
        }
        Dictionary<ulong, int>? wanting = _columns > 2 ? null : [];
        for (int row = 0; wanting is not null && row < _pairOf.Length; row++)
            if (_pairOf[row] < 0) wanting[Rest(row)] = wanting.GetValueOrDefault(Rest(row)) + 1;
        for (int row = 0; row < _pairOf.Length; row++)
        {
            if (_pairOf[row] >= 0 || !waiting.TryGetValue(Rest(row), out Queue<int>? same) || same.Count == 0) continue;
            if (wanting is not null && (same.Count > 1 || wanting[Rest(row)] > 1)) continue;
            Pair(row, same.Dequeue());
        }

        ulong Rest(int row) => unchecked(Whole(MissingRow(row)) - _missing[row * _columns + column]);
    }

    private void Pair(int row, int with)
    {
        _pairOf[row] = with;
        _taken[with] = true;
    }

    // The best that each record could be paired with; the best of all first.
    private bool ByRareValues()
    {
        Dictionary<ulong, List<int>> having = Having();
        var best = new List<(int Shared, int Missing, int Extra)>();
        for (int row = 0; row < _pairOf.Length; row++)
        {
            if (_pairOf[row] >= 0) continue;
            (int Shared, int Extra) found = (0, -1);
            int probes = 0;
            foreach (List<int> few in Rarest(row, having).TakeWhile(_ => probes++ < Probes))
                foreach (int candidate in few)
                    if (!_taken[candidate] && Shared(row, candidate) is var shared && shared > found.Shared) found = (shared, candidate);
            if (found.Extra >= 0) best.Add((found.Shared, row, found.Extra));
        }
        bool any = false;
        foreach ((_, int row, int with) in best.OrderByDescending(pair => pair.Shared).ThenBy(pair => pair.Missing))
        {
            if (_taken[with]) continue;
            Pair(row, with);
            any = true;
        }
        return any;
    }

    private Dictionary<ulong, List<int>> Having()
    {
        var having = new Dictionary<ulong, List<int>>();
        for (int row = 0; row < _taken.Length; row++)
        {
            if (_taken[row]) continue;
            foreach (ulong cell in ExtraRow(row))
            {
                if (cell == 0) continue;
                if (!having.TryGetValue(cell, out List<int>? rows)) having[cell] = rows = [];
                if (rows.Count <= MostSharing) rows.Add(row);
            }
        }
        return having;
    }

    private List<List<int>> Rarest(int row, Dictionary<ulong, List<int>> having)
    {
        var few = new List<List<int>>();
        foreach (ulong cell in MissingRow(row))
            if (cell != 0 && having.TryGetValue(cell, out List<int>? rows) && rows.Count <= MostSharing) few.Add(rows);
        few.Sort((a, b) => a.Count.CompareTo(b.Count));
        return few;
    }

    // How many values two records share; 0 when not more than half of those that either has.
    private int Shared(int row, int other)
    {
        int shared = 0, had = 0;
        ReadOnlySpan<ulong> a = MissingRow(row), b = ExtraRow(other);
        for (int column = 0; column < a.Length; column++)
        {
            if (a[column] == 0 && b[column] == 0) continue;
            had++;
            if (a[column] == b[column]) shared++;
        }
        return 2 * shared > had ? shared : 0;
    }
}
