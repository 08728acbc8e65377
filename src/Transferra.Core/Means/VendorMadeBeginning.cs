// VendorMadeBeginning.cs: the new store begins as the one that the vendor's new program made when it was first started: with the
// vendor's own tables, in the vendor's words, and the records that the vendor ships.
// Holds: (1) the vendor's store is only read; (2) a table that nothing goes into keeps the records that the vendor ships.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Begins with the vendor's own new store.</summary>
internal sealed class VendorMadeBeginning : IHopBeginning
{
    /// <inheritdoc/>
    public string Name => "vendor-made";

    /// <inheritdoc/>
    public bool IsVendorMade => true;

    /// <inheritdoc/>
    public BuildMark Begin(HopWork work)
    {
        StoreAddress made = work.VendorMade ?? throw new TransferraException(
            $"{work.Hop.File} says that the new store begins as the vendor's new program makes it, and office.yaml names none",
            "Let the new program make its empty store, and name it under the company as vendor-made.");
        // Where others convert, their program fills it.
        if (!work.Hop.Means.GoesByMaps)
        {
            work.Observer.Progress("copying the store that the vendor made", 0, 0);
            return BuildMark.Start with
            {
                Copy = new CopyRest([], [])
                {
                    NotBrought = CopyBeginning.Bring(work, made, () => work.Stores.Open(made,
                    work.Hop.To.TextEncoding))
                }
            };
        }
        IReadOnlyList<TableShape> there;
        using (IStore store = work.Stores.Open(made, work.Hop.To.TextEncoding)) there = store.ReadShape();
        work.Observer.Progress("copying the store that the vendor made", 0, 0);
        IReadOnlyList<string> notBrought = CopyBeginning.Bring(work, made, () => work.Stores.Open(made, work.Hop.To.TextEncoding));
        StoreRevision revision = RevisionOf(work.Hop.Correspondence, there);
        BuildMark mark = work.Stores.Revise(work.Target, revision, work.Hop.To.TextEncoding);
        return mark.Copy is null ? mark : mark with
        {
            Copy = mark.Copy with { NotBrought = [.. notBrought, .. mark.Copy.NotBrought], Kept = revision.Kept }
        };
    }

    private static StoreRevision RevisionOf(Correspondence hop, IReadOnlyList<TableShape> there)
    {
        var kept = new List<string>();
        var tables = new List<RevisedTable>();
        foreach (TableShape table in hop.To.Tables)
        {
            TableShape? found = there.FirstOrDefault(known => RevisedTable.Same(known.Name, table.Name));
            if (found is not null && !hop.IsFed(table.Name))
            {
                kept.Add(table.Name);
                continue;
            }
            // Of the office's own columns the vendor's table knows nothing; they are added.
            tables.Add(new RevisedTable(table, found is null ? null : table, [.. table.Columns.Select(column =>
                new RevisedColumn(column, found is null || found.OrdinalOf(column.Name) < 0 ? null : column.Name, IsSame: true))])
            {
                KeepsOtherColumns = true
            });
        }
        return new StoreRevision(tables, kept, []);
    }
}
