// Catalog.cs: the tables and columns of a database by name. Kits may spell names in another case than the store does.
// Holds: (1) a database with names that differ only by case is refused: whoever asks for one of them could be given the other.
using Transferra.Core.Machine;
using Transferra.Stores.Files;

namespace Transferra.Stores.Servers;

/// <param name="where">The database, for messages.</param>
/// <param name="tables">Its tables' columns, by the table's name.</param>
/// <param name="nameOf">A column's name.</param>
internal sealed class Catalog<T>(string where, IReadOnlyDictionary<string, T[]> tables, Func<T, string> nameOf) where T : class
{
    private const string Next = "The store's tables differ from what the kit says of this version; run: transferra check";

    /// <summary>The tables, by name.</summary>
    /// <exception cref="TransferraException">Names differ only by case.</exception>
    public IReadOnlyDictionary<string, T[]> Tables { get; } = WithoutTwins(where, tables, nameOf);

    private static IReadOnlyDictionary<string, T[]> WithoutTwins(string where, IReadOnlyDictionary<string, T[]> tables, Func<T,
        string> nameOf)
    {
        NameTwins.Refuse($"{where} has two tables", tables.Keys, NameTwins.InDatabase);
        foreach ((string table, T[] columns) in tables)
            NameTwins.Refuse($"the table {table} in {where} has two columns", columns.Select(nameOf), NameTwins.InDatabase);
        return tables;
    }

    /// <summary>A table's name as the store spells it.</summary>
    /// <exception cref="TransferraException">There is none.</exception>
    public string Table(string name) => Tables.ContainsKey(name) ? name : Tables.Keys.FirstOrDefault(known =>
        string.Equals(known, name, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"there is no table {name} in {where}", Next);

    /// <summary>A column of a table.</summary>
    /// <param name="table">As the store spells it.</param>
    /// <param name="name">In any case.</param>
    /// <exception cref="TransferraException">There is none.</exception>
    public T Column(string table, string name) => Array.Find(Tables[table], column => nameOf(column) == name)
        ?? Array.Find(Tables[table], column => string.Equals(nameOf(column), name, StringComparison.OrdinalIgnoreCase))
        ?? throw new TransferraException($"the table {table} in {where} has no column {name}", Next);
}
