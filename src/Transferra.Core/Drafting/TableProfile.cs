// TableProfile.cs: what is seen of a table, and some of its records, chosen by their key so that the same ones are chosen in two stores.
// Holds: (1) no more than the first so many records are read, and no more than some hundred are kept.
using System.IO.Hashing;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="shape">The table.</param>
internal sealed class TableProfile(TableShape shape)
{
    /// <summary>Records that are read of a table; what is said of a longer one is said of these.</summary>
    public const int MostRead = 100_000;

    private const int MostKept = 800;

    private RecordBatch _kept = new(shape.Columns, new BatchLimits(2 * MostKept, long.MaxValue));
    private ulong _below = ulong.MaxValue;
    private readonly List<ulong> _hashes = [];

    /// <summary>The table.</summary>
    public TableShape Shape => shape;

    /// <summary>Its name.</summary>
    public string Name => shape.Name;

    /// <summary>Its columns.</summary>
    public ColumnProfile[] Columns { get; } = [.. shape.Columns.Select((column, i) => new ColumnProfile(column, i))];

    /// <summary>Records it has.</summary>
    public long Rows { get; private init; }

    /// <summary>Records looked at.</summary>
    public long Read { get; private set; }

    /// <summary>Some of its records; all of a small table.</summary>
    public RecordBatch Kept => _kept;

    /// <summary>Columns that tell a record: its key, or the first column in which hardly any two are the same; empty when there is
    /// none.</summary>
    public IReadOnlyList<ColumnProfile> Key => shape.Key.Count > 0
        ? [.. shape.Key.Select(name => Columns[shape.OrdinalOf(name)])]
        : Columns.FirstOrDefault(column => column.IsNearlyUnique) is { } telling ? [telling] : [];

    /// <summary>Values that could not be read as what their column is declared for.</summary>
    public long Unreadable { get; private set; }

    /// <summary>The smallest digests of all its values, by which tables are compared at a glance.</summary>
    public HashSet<ulong> Glance => _glance ??= [.. Columns.SelectMany(column => column.Digests.Take(MostGlanced))];

    private const int MostGlanced = 24;

    private HashSet<ulong>? _glance;

    /// <summary>A column by name.</summary>
    public ColumnProfile? Column(string name) => shape.OrdinalOf(name) is >= 0 and int at ? Columns[at] : null;

    /// <summary>Looks at a table.</summary>
    public static TableProfile Of(IStore store, TableShape shape, CancellationToken cancel)
    {
        TableProfile profile = Of(store, shape, [.. shape.Key.Select(shape.OrdinalOf)], cancel);
        // Where the store declares no key, it is known only now by what a record can be told, and so which ones to keep.
        return shape.Key.Count > 0 || profile.Read <= MostKept || profile.Key is not [var telling] ? profile
            : Of(store, shape, [telling.Ordinal], cancel);
    }

    /// <summary>Looks at a small table for its records alone; nothing is gathered of its columns where it has several.</summary>
    public static TableProfile Glimpse(IStore store, TableShape shape, CancellationToken cancel)
    {
        if (store.CountRows(shape.Name) is 1 or > MostKept) return Of(store, shape, cancel);
        var profile = new TableProfile(shape) { Rows = store.CountRows(shape.Name) };
        foreach (RecordBatch batch in store.Batches(shape, [], cancel)) profile._kept.AppendRows(batch, 0);
        return profile;
    }

    private static TableProfile Of(IStore store, TableShape shape, int[] key, CancellationToken cancel)
    {
        var profile = new TableProfile(shape) { Rows = store.CountRows(shape.Name) };
        foreach (RecordBatch batch in store.Batches(shape, [], cancel))
        {
            for (int row = 0; row < batch.RowCount && profile.Read < MostRead; row++) profile.Add(batch, row, key);
            profile.Unreadable += batch.Faults.Count;
            if (profile.Read >= MostRead) break;
        }
        return profile;
    }

    private void Add(RecordBatch batch, int row, int[] key)
    {
        Read++;
        var identity = new StringBuilder();
        for (int i = 0; i < Columns.Length; i++)
        {
            string? value = batch.Vectors[i].IsNull(row) ? null : batch.Vectors[i].Show(row);
            Columns[i].Add(value);
            if (key.Contains(i)) identity.Append(ColumnProfile.Canonical(value ?? "")).Append('\0');
        }
        ulong hash = key.Length == 0 ? (ulong)Read : XxHash3.HashToUInt64(Encoding.UTF8.GetBytes(identity.ToString()));
        if (hash > _below) return;
        for (int i = 0; i < Columns.Length; i++) _kept.Vectors[i].AppendFrom(batch.Vectors[i], row);
        _hashes.Add(hash);
        if (_kept.RowCount >= 2 * MostKept) Thin();
    }

    // Those with the smallest digests of their keys stay.
    private void Thin()
    {
        _below = _hashes.Order().ElementAt(MostKept - 1);
        var fewer = new RecordBatch(shape.Columns, new BatchLimits(2 * MostKept, long.MaxValue));
        for (int row = 0; row < _kept.RowCount; row++)
            if (_hashes[row] <= _below)
                for (int i = 0; i < Columns.Length; i++) fewer.Vectors[i].AppendFrom(_kept.Vectors[i], row);
        _kept = fewer;
        _hashes.RemoveAll(hash => hash > _below);
    }
}
