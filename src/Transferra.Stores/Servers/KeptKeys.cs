// KeptKeys.cs: which columns an engine itself keeps unique, so that nobody need look.
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

/// <summary>The primary keys of a database, which its engine keeps unique.</summary>
/// <param name="readShape">Reads the tables; called once, when it is first asked.</param>
internal sealed class KeptKeys(Func<IReadOnlyList<TableShape>> readShape)
{
    private Dictionary<string, IReadOnlyList<string>>? _keys;

    /// <summary>Whether no two records of a table have the same values in these columns: they contain its whole primary key.</summary>
    public bool Keeps(string table, IReadOnlyList<string> columns)
    {
        _keys ??= readShape().ToDictionary(shape => shape.Name, shape => shape.Key);
        return _keys.TryGetValue(table, out IReadOnlyList<string>? key) && key.Count > 0
            && key.All(column => columns.Contains(column, StringComparer.OrdinalIgnoreCase));
    }
}
