// ActualHop.cs: what answers to what in a hop of a way, as it is when the stores are there. Where our maps convert from the beginning, that
// is known before; behind a hop in which others converted, a store may have other tables than anybody described.
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

internal static class ActualHop
{
    /// <summary>What answers to what.</summary>
    /// <param name="way">The way.</param>
    /// <param name="number">Which hop, from 0.</param>
    /// <param name="old">The store it begins with.</param>
    /// <param name="renewed">The store it ends with; not asked for where our maps convert.</param>
    public static Correspondence Of(Way way, int number, IStore old, Func<IStore> renewed)
    {
        Hop hop = way.Hops[number];
        if (hop.ByNames is { } names)
            return names.Of(hop.Correspondence, AsItIs(old, hop.From), AsItIs(renewed(), hop.To));
        return number < way.Foreseen.Count && hop.Correspondence.Awaiting is null ? hop.Correspondence
            : CustomFields.Of(old, hop.From).In([hop.Correspondence])[0];
    }

    // What the kit says of a table is kept where the store has it.
    private static KitVersion AsItIs(IStore store, KitVersion version)
    {
        IReadOnlyList<TableShape> real = store.ReadShape();
        if (version.IsOfStore) return version.Over([.. real.Select(table => Undescribed(table, version))]);
        KitVersion there = version with
        {
            Tables = [.. version.Tables.Select(table => (Said: table, Is: real.FirstOrDefault(known => RevisedTable.Same(known.Name,
                table.Name)))).Where(table => table.Is is not null).Select(table => table.Said with
                {
                    Name = table.Is!.Name,
                    Columns = [.. table.Said.Columns.Where(column => table.Is.OrdinalOf(column.Name) >= 0)],
                    Key = table.Said.Key.All(column => table.Is.OrdinalOf(column) >= 0) ? table.Said.Key : []
                })]
        };
        CustomFields custom = CustomFields.Of(store, there);
        there = custom.In(there);
        // All that the store declares of a table that nobody described, so that one that stays as it is is known as such.
        return there with
        {
            Tables = [.. there.Tables.Select(table => table.IsUndescribed ? Undescribed(real.First(known => known.Name == table.Name),
                version) : table)]
        };
    }

    private static TableShape Undescribed(TableShape table, KitVersion version) => table with
    {
        IsUndescribed = true,
        Columns = [.. table.Columns.Select(column => column with { IsPrivate = version.IsPrivate(table.Name, column.Name) })]
    };
}
