// SampledStore.cs: a store of which only drawn parts of some tables are read. All else is the store's own.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Reads parts of a store.</summary>
/// <param name="store">The store; disposed with this.</param>
/// <param name="ranges">Of each table that is drawn from, by its name, the ranges of its key that are read.</param>
internal sealed class SampledStore(IStore store, IReadOnlyDictionary<string, IReadOnlyList<KeyRange>> ranges) : IStore
{
    /// <inheritdoc/>
    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null) =>
        within is null && ranges.TryGetValue(table.Name, out IReadOnlyList<KeyRange>? parts)
            ? new PartsReader(parts.Select(part => store.Read(table, orderBy, part))) : store.Read(table, orderBy, within);

    private sealed class PartsReader(IEnumerable<IRecordReader> parts) : IRecordReader
    {
        private readonly IEnumerator<IRecordReader> _parts = parts.GetEnumerator();
        private IRecordReader? _current;

        public bool Fill(RecordBatch batch)
        {
            while (!batch.IsFull)
            {
                if (_current is null)
                {
                    if (!_parts.MoveNext()) return false;
                    _current = _parts.Current;
                }
                if (_current.Fill(batch)) return true;
                _current.Dispose();
                _current = null;
            }
            return true;
        }

        public void Dispose()
        {
            _current?.Dispose();
            _parts.Dispose();
        }
    }

    public StoreIdentity Identity => store.Identity;
    public IReadOnlyList<StoreDoubt> Doubts => store.Doubts;
    public IReadOnlyList<StoreRemark> Remarks => store.Remarks;
    public IReadOnlyList<TableShape> ReadShape() => store.ReadShape();
    public TableShape? ReadStoredShape(string table) => store.ReadStoredShape(table);
    public IReadOnlyList<StoreObject> ListObjects() => store.ListObjects();
    public bool KeepsKey(string table, IReadOnlyList<string> key) => store.KeepsKey(table, key);
    public long CountRows(string table) => store.CountRows(table);
    public long AboutRows(string table) => store.AboutRows(table);
    public IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => store.ReadWhatCanBe(table, lost);
    public StoreScript? ReadScript(string folder) => store.ReadScript(folder);
    public IReadOnlyList<StoreDeclaration> Declarations() => store.Declarations();
    public IReadOnlyList<OtherSchema> Elsewhere() => store.Elsewhere();
    public IReadOnlyList<string> NotCarried() => store.NotCarried();
    public IReadOnlyList<string> NotRead() => store.NotRead();
    public IReadOnlyList<string> NotCompared() => store.NotCompared();
    public QueryAnswer Ask(string sql, TimeSpan? limit = null) => store.Ask(sql, limit);
    public IReadOnlyList<string> CheckPhysically() => store.CheckPhysically();
    public void Dispose() => store.Dispose();
}
