// DbfMemoCheck.cs: follows every pointer of a table into its memo file: each must lead to a value that is whole, and no two to the same
// bytes.
// Why overlaps: a memo file whose free chain was damaged gives out blocks that are in use, and the second text overwrites the first.
// Layout: docs/formats/dbf.md. Memory: 24 bytes a memo.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal static class DbfMemoCheck
{
    private const int Most = 200;

    /// <summary>What is wrong with the memos of a table.</summary>
    public static IReadOnlyList<string> Run(DbfStore store, DbfTable table)
    {
        var complaints = new List<string>();
        DbfField[] memos = [.. table.Header.Fields.Where(field => field.IsMemo(table.Header.Level))];
        if (memos.Length == 0) return complaints;
        TableShape shape = table.Shape with
        {
            Columns = [.. table.Shape.Columns.Where((_, i) =>
            table.Header.Fields[i].IsMemo(table.Header.Level))]
        };
        foreach (RecordBatch batch in store.Batches(shape, [], CancellationToken.None))
        {
            foreach (RowFault fault in batch.Faults.Where(fault => fault.Code == FaultCode.MissingReference))
            {
                complaints.Add($"{table.FilePath}, field {fault.Column}: {fault.Reason}");
                if (complaints.Count >= Most) return complaints;
            }
        }
        if (complaints.Count > 0) return complaints;
        List<(long Start, long End, long Record)> places = Places(table, memos);
        places.Sort();
        for (int i = 1; i < places.Count && complaints.Count < Most; i++)
        {
            // Records that share one memo as a whole are no damage: some programs copy the pointer.
            if (places[i].Start < places[i - 1].End && places[i].Start != places[i - 1].Start)
                complaints.Add(string.Create(CultureInfo.InvariantCulture,
                    $"{table.FilePath}: the memos of the records {places[i - 1].Record} and {places[i].Record} overlap in the memo "
                        + $"file, at offset {places[i].Start}"));
            if (places[i].End < places[i - 1].End) places[i] = places[i] with { End = places[i - 1].End };
        }
        return complaints;
    }

    private static List<(long Start, long End, long Record)> Places(DbfTable table, DbfField[] memos)
    {
        var places = new List<(long, long, long)>();
        using DbfMemo? memo = DbfMemo.Open(table.FilePath, table.Header.Level.Memo);
        if (memo is null) return places;
        using DbfBlocks blocks = table.OpenBlocks(table.Header.Records);
        while (blocks.Read())
            for (int row = 0; row < blocks.Count; row++)
            {
                if (blocks[row][0] == DbfRecordReader.Deleted) continue;
                foreach (DbfField field in memos)
                    if (DbfRecordReader.TryPointer(field, blocks[row].Slice(field.Offset, field.Length), out long block) && block > 0
                        && memo.TryRead(block, out _, out _))
                        places.Add((memo.LastPlace.Start, memo.LastPlace.End, blocks.First + row + 1));
            }
        return places;
    }
}
