// Catalog.cs: the tables and columns of a database by name. Kits may spell names in another case than the store does; the exact spelling
// goes first.
using Transferra.Core.Machine;

namespace Transferra.Stores.Servers;

/// <param name="where">The database, for messages.</param>
/// <param name="tables">Its tables' columns, by the table's name.</param>
/// <param name="nameOf">A column's name.</param>
internal sealed class Catalog<T>(string where, IReadOnlyDictionary<string, T[]> tables, Func<T, string> nameOf) where T : class
{
    private const string Next = "The store's tables differ from what the kit says of this version; run: transferra check";

    /// <summary>The tables, by name.</summary>
    public IReadOnlyDictionary<string, T[]> Tables => tables;

    /// <summary>A table's name as the store spells it.</summary>
    /// <exception cref="TransferraException">There is none.</exception>
    public string Table(string name) => tables.ContainsKey(name) ? name : tables.Keys.FirstOrDefault(known =>
        string.Equals(known, name, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"there is no table {name} in {where}", Next);

    /// <summary>A column of a table.</summary>
    /// <param name="table">As the store spells it.</param>
    /// <param name="name">In any case.</param>
    /// <exception cref="TransferraException">There is none.</exception>
    public T Column(string table, string name) => Array.Find(tables[table], column => nameOf(column) == name)
        ?? Array.Find(tables[table], column => string.Equals(nameOf(column), name, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"the table {table} in {where} has no column {name}", Next);
}
