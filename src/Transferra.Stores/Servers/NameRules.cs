// NameRules.cs: names and numbers of columns that an engine takes.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

/// <summary>What an engine takes.</summary>
/// <param name="Engine">Its name, for messages.</param>
/// <param name="MostBytes">Of a name in UTF-8; 0 for any.</param>
/// <param name="MostCharacters">Of a name; 0 for any.</param>
/// <param name="MostColumns">Of a table.</param>
/// <param name="DistinguishesCase">Whether two names that differ in case are two names.</param>
internal sealed record NameRules(string Engine, int MostBytes, int MostCharacters, int MostColumns, bool DistinguishesCase)
{
    /// <summary>What of some tables it does not take.</summary>
    public IReadOnlyList<string> Complaints(IReadOnlyList<TableShape> tables) =>
    [
        .. tables.SelectMany(table => table.Columns.Select(column => (Of: $"{table.Name}.{column.Name}", column.Name))
            .Prepend((Of: table.Name, table.Name)))
            .Where(name => IsTooLong(name.Name)).Select(name => $"the name {name.Of} is too long for {Engine}"),
        .. tables.Where(table => table.Columns.Count > MostColumns)
            .Select(table => string.Create(CultureInfo.InvariantCulture,
                $"the table {table.Name} has {table.Columns.Count} columns, and {Engine} takes {MostColumns}")),
        .. tables.Where(table => table.Columns.Count == 0).Select(table => $"the table {table.Name} has no columns"),
        .. Doubled(tables.Select(table => table.Name)).Select(name => $"there are two tables {name} for {Engine}"),
        .. tables.SelectMany(table => Doubled(table.Columns.Select(column => column.Name))
            .Select(name => $"the table {table.Name} has two columns {name} for {Engine}")),
    ];

    private bool IsTooLong(string name) => (MostBytes > 0 && Encoding.UTF8.GetByteCount(name) > MostBytes)
        || (MostCharacters > 0 && name.Length > MostCharacters);

    private IEnumerable<string> Doubled(IEnumerable<string> names) =>
        names.GroupBy(name => name, DistinguishesCase ? StringComparer.Ordinal : StringComparer.OrdinalIgnoreCase)
            .Where(same => same.Count() > 1).Select(same => same.Key);
}

/// <summary>Texts in keys that have no limit of their own and get one.</summary>
internal static class KeyTexts
{
    /// <summary>Refuses rows with a longer one.</summary>
    /// <param name="outputs">What is to be written.</param>
    /// <param name="rows">Which rows.</param>
    /// <param name="rejects">Receives those that do not fit.</param>
    /// <param name="most">Characters.</param>
    /// <param name="isOutside">Whether a column is kept without a limit.</param>
    public static void Judge(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects, int most,
        Func<TableShape, bool[]> isOutside)
    {
        foreach (TableOutput output in outputs)
        {
            bool[]? outside = null;
            for (int column = 0; column < output.Vectors.Count; column++)
            {
                if (output.Table.Columns[column].Type is not { Kind: FieldKind.Text, Length: 0 }
                    || (outside ??= isOutside(output.Table))[column]) continue;
                var texts = (BytesVector)output.Vectors[column];
                foreach (int row in rows)
                    if (texts[row].Length > most && Encoding.UTF8.GetCharCount(texts[row]) > most)
                        rejects.Add(new RowReject(row, FaultCode.TooLong,
                            string.Create(CultureInfo.InvariantCulture,
                                $"{output.Table.Name}.{output.Table.Columns[column].Name} is part of a key or an index and takes "
                                    + $"{most} characters there")));
            }
        }
    }
}
