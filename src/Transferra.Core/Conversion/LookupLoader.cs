// LookupLoader.cs: brings the records that others point to into memory before a table is converted.
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

internal static class LookupLoader
{
    /// <summary>Loads the lookups of a table map.</summary>
    /// <exception cref="TransferraException">A lookup has more records than memory is promised for.</exception>
    public static IReadOnlyList<LookupTable> Load(IStore store, TableMap map) => Load(store, map.Lookups);

    /// <summary>Loads lookups.</summary>
    /// <exception cref="TransferraException">A lookup has more records than memory is promised for.</exception>
    public static IReadOnlyList<LookupTable> Load(IStore store, IReadOnlyList<LookupMap> lookups) =>
        [.. lookups.Select(lookup => Load(store, lookup))];

    private static LookupTable Load(IStore store, LookupMap lookup)
    {
        var loaded = new LookupTable(lookup.Table?.Name ?? lookup.Shape.Name, lookup.Shape.Columns);
        if (lookup.Table is null)
        {
            var key = new BytesVector(FieldType.Text);
            foreach ((string old, string code) in lookup.Codes)
            {
                key.Append(Encoding.UTF8.GetBytes(old));
                ((BytesVector)loaded.Values.Vectors[0]).Append(Encoding.UTF8.GetBytes(code));
                loaded.AddKey(key, key.Count - 1);
            }
            return loaded;
        }
        int on = lookup.Table.OrdinalOf(lookup.On);
        using IRecordReader reader = store.Read(lookup.Table, []);
        var batch = new RecordBatch(lookup.Table.Columns);
        bool more = true;
        while (more)
        {
            batch.Reset();
            more = reader.Fill(batch);
            if (loaded.Values.RowCount + batch.RowCount > LookupTable.MaxRows)
                throw new TransferraException($"the lookup {lookup.Shape.Name} has more than {LookupTable.MaxRows} records",
                    "Lookups are kept in memory. Split the hop so that this table is not looked up.");
            HashSet<int>? unreadable = batch.Faults.Count == 0 ? null : [.. batch.Faults.Select(fault => fault.Row)];
            for (int row = 0; row < batch.RowCount; row++)
            {
                if (batch.Vectors[on].IsNull(row)) continue;
                for (int column = 0; column < batch.Vectors.Length; column++)
                    loaded.Values.Vectors[column].AppendFrom(batch.Vectors[column], row);
                loaded.AddKey(batch.Vectors[on], row, unreadable?.Contains(row) != true);
            }
        }
        return loaded;
    }
}
