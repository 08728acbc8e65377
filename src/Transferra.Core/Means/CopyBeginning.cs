// CopyBeginning.cs: the new store begins as an exact copy of the old one; tables that the maps fill anew are made ready for it, and their
// records need not be copied.
// Why: what no map speaks of (other tables, views, triggers, counters, rights) arrives exactly as it was, at the speed of a copy.
using Transferra.Core.Conversion;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Begins with a copy.</summary>
internal sealed class CopyBeginning : IHopBeginning
{
    /// <inheritdoc/>
    public string Name => "copy";

    /// <inheritdoc/>
    public bool Copies(StoreAddress from, StoreAddress to) => true;

    /// <summary>Why a store cannot begin as a copy of another; null when it can.</summary>
    public static string? Hindrance(StoreAddress from, StoreAddress to)
    {
        if (from.Engine != to.Engine) return $"the old store is {from.Engine} and the new one {to.Engine}";
        return from.Options.OrderBy(option => option.Key, StringComparer.Ordinal)
            .SequenceEqual(to.Options.OrderBy(option => option.Key, StringComparer.Ordinal)) ? null
            : "the new store is to be written in another form than the old one";
    }

    private static bool IsSameServer(StoreAddress from, StoreAddress to) => from.Server is not { } old || to.Server is not { } renewed
        || (old.Host, old.Port) == (renewed.Host, renewed.Port);

    /// <inheritdoc/>
    public BuildMark Begin(HopWork work)
    {
        if (Hindrance(work.Source, work.Target) is { } why)
            throw new TransferraException($"a new store cannot begin as a copy: {why}",
                $"Take \"beginning: copy\" out of {work.Hop.File}, or give the new store the same engine and place in office.yaml.");
        work.Observer.Progress("copying the store", 0, 0);
        StoreRevision? revision = work.Hop.Means.GoesByMaps ? RevisionOf(work.Hop.Correspondence) : null;
        IReadOnlyList<string> notBrought = Bring(work, work.Source, work.OpenSource, revision);
        if (revision is null) return BuildMark.Start with { Copy = new CopyRest([], []) { NotBrought = notBrought } };
        BuildMark mark = work.Stores.Revise(work.Target, revision, work.Hop.To.TextEncoding);
        return mark.Copy is null ? mark : mark with { Copy = mark.Copy with { NotBrought = [.. notBrought, .. mark.Copy.NotBrought] } };
    }

    /// <summary>Makes the new store an exact copy of another.</summary>
    /// <param name="work">The hop.</param>
    /// <param name="from">The other.</param>
    /// <param name="open">Opens it.</param>
    /// <param name="revision">What is done to the new store next, so that records it takes out need not be brought; null for
    /// nothing.</param>
    /// <returns>What could not be brought, one line each.</returns>
    internal static IReadOnlyList<string> Bring(HopWork work, StoreAddress from, Func<IStore> open, StoreRevision? revision = null)
    {
        if (IsSameServer(from, work.Target))
        {
            if (revision is null) work.Stores.Copy(from, work.Target);
            else work.Stores.CopyToRevise(from, work.Target, revision);
            return [];
        }
        using IStore source = open();
        return StoreMove.Run(source, work.Stores, work.Target, work.Observer, work.Cancel);
    }

    /// <summary>What a hop does to a copy.</summary>
    internal static StoreRevision RevisionOf(Correspondence hop)
    {
        var kept = new List<string>();
        var staying = new HashSet<string>(StringComparer.OrdinalIgnoreCase); // old tables whose place in the copy is taken
        var tables = new List<RevisedTable>();
        foreach (TableMap map in hop.Tables.Where(hop.Keeps))
        {
            kept.Add(map.Into[0].Table.Name);
            staying.Add(map.From.Name);
        }
        foreach (TableShape table in hop.To.Tables.Where(table => !kept.Contains(table.Name)))
        {
            (TableMap Map, TargetMap Target)? feeding = hop.Feeding(table.Name);
            bool inPlace = feeding is var (map, target) && target == PlaceIn(map) && staying.Add(map.From.Name);
            tables.Add(new RevisedTable(table, inPlace ? feeding!.Value.Map.From : null, ColumnsOf(table, inPlace ? feeding : null)));
        }
        return new StoreRevision(tables, kept,
            [.. hop.From.Tables.Select(table => table.Name).Where(name => !staying.Contains(name))]);
    }

    // Of several tables that one is split into, the one of its own name takes its place, otherwise the first.
    private static TargetMap PlaceIn(TableMap map) =>
        map.Into.FirstOrDefault(target => RevisedTable.Same(target.Table.Name, map.From.Name)) ?? map.Into[0];

    private static IReadOnlyList<RevisedColumn> ColumnsOf(TableShape table, (TableMap Map, TargetMap Target)? feeding)
    {
        if (feeding is not var (map, target)) return [.. table.Columns.Select(column => new RevisedColumn(column, null, false))];
        var taken = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var found = new Dictionary<string, ColumnShape>();
        // A column of the same name comes first; another takes its place only when none does.
        foreach (ColumnMap column in target.Columns.OrderBy(column => OldColumn(map, column.Value) is { } old
            && RevisedTable.Same(old.Name, column.Column.Name) ? 0 : 1))
            if (OldColumn(map, column.Value) is { } old && taken.Add(old.Name)) found[column.Column.Name] = old;
        return [.. table.Columns.Select(column => found.GetValueOrDefault(column.Name) is { } old
            ? new RevisedColumn(column, old.Name, old.Type == column.Type
                && (column.DeclaredAs is null || old.DeclaredAs == column.DeclaredAs)) : new RevisedColumn(column, null, false))];
    }

    // The old column that a value is, as it is or in another form.
    private static ColumnShape? OldColumn(TableMap map, Expression value) => value switch
    {
        ColumnReference { Lookup: null } reference => map.From.OrdinalOf(reference.Name) is >= 0 and int at ? map.From.Columns[at] : null,
        Cast cast => OldColumn(map, cast.Operand),
        _ => null,
    };
}
