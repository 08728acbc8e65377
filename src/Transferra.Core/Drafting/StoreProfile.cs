// StoreProfile.cs: what is seen of a whole store.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Drafting;

/// <param name="Engine">Its engine, as office.yaml calls it.</param>
/// <param name="Tables">Its tables.</param>
/// <param name="Header">Fields of its header.</param>
/// <param name="NotRead">What could not be looked at, one line each.</param>
internal sealed record StoreProfile(string Engine, IReadOnlyList<TableProfile> Tables, IReadOnlyDictionary<string, string> Header,
    IReadOnlyList<string> NotRead)
{
    /// <summary>Columns as TABLE.COLUMN in which a SQLite store of ours keeps whole units (pence, cents); see docs/types.md.</summary>
    public IReadOnlySet<string> InUnits { get; private init; } = new HashSet<string>();

    /// <summary>A table by name, in any case.</summary>
    public TableProfile? Table(string name) =>
        Tables.FirstOrDefault(table => string.Equals(table.Name, name, StringComparison.OrdinalIgnoreCase));

    /// <summary>Looks at a store.</summary>
    /// <param name="store">The store.</param>
    /// <param name="engine">Its engine, as office.yaml calls it.</param>
    /// <param name="tables">What is known of its tables; none where it tells by itself.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops.</param>
    public static StoreProfile Of(IStore store, string engine, IReadOnlyList<TableShape> tables, IProgressObserver observer,
        CancellationToken cancel)
    {
        var profiles = new List<TableProfile>();
        var notRead = new List<string>();
        foreach (TableShape table in tables.Count > 0 ? tables : store.ReadShape())
        {
            observer.Progress(table.Name, profiles.Count, 0);
            try { profiles.Add(TableProfile.Of(store, table, cancel)); }
            catch (TransferraException error) { notRead.Add($"{table.Name}: {error.Message}"); }
        }
        return new StoreProfile(engine, profiles, store.Identity.HeaderFields, notRead) { InUnits = Units(store, engine) };
    }

    private static HashSet<string> Units(IStore store, string engine) => engine != "sqlite" ? [] : [.. store.Ask("SELECT s.name || '.' || "
        + "c.name FROM sqlite_schema s JOIN pragma_table_info(s.name) c WHERE s.type = 'table' AND c.type LIKE 'DECIMAL!_INT%' ESCAPE '!'")
        .Rows.Select(row => row[0]!)];
}
