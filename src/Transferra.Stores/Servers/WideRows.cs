// WideRows.cs: which text columns of a table are to be kept outside of its rows, on servers whose rows have a limit.
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class WideRows
{
    private const int BytesPerCharacter = 4;

    /// <summary>By column, whether it is declared without a limit: those that have none, those longer than the engine's longest, and the
    /// longest of the others until the rest fits in a row. Never a column of the key, an index or a relation.</summary>
    /// <param name="table">The table.</param>
    /// <param name="longest">Most characters of a text in a row.</param>
    /// <param name="rowBytes">Most bytes of a row.</param>
    /// <param name="fixedBytes">What any other column takes at most.</param>
    /// <param name="outsideBytes">What a text outside takes in its row.</param>
    public static bool[] Outside(TableShape table, int longest, int rowBytes, int fixedBytes, int outsideBytes)
    {
        string[] inKeys = [.. table.Key, .. table.Indexes.SelectMany(index => index.Columns),
            .. table.Relations.SelectMany(relation => relation.Columns)];
        bool[] isMovable = [.. table.Columns.Select(column => column.Type.Kind == FieldKind.Text && !inKeys.Contains(column.Name,
            StringComparer.OrdinalIgnoreCase))];
        bool[] outside = [.. table.Columns.Select((column, i) => isMovable[i]
            && (column.Type.Length == 0 || column.Type.Length > longest))];
        foreach (int next in Enumerable.Range(0, outside.Length).Where(i => isMovable[i])
            .OrderByDescending(i => table.Columns[i].Type.Length))
        {
            long bytes = table.Columns.Select((column, i) => outside[i] ? outsideBytes : column.Type.Kind == FieldKind.Text
                ? (long)BytesPerCharacter * column.Type.Length + 2 : fixedBytes).Sum();
            if (bytes <= rowBytes) break;
            outside[next] = true;
        }
        return outside;
    }
}
