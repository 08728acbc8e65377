// WrittenTable.cs: a table's columns and key as they are written into files that outlive the store: sets, and what a run recorded.
namespace Transferra.Core.Records;

/// <summary>One column of a table.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Type">Its type, as SQL writes it.</param>
public sealed record WrittenColumn(string Name, string Type);

/// <summary>One table, as its records were read.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Columns">Its columns.</param>
/// <param name="Key">Names of its key columns.</param>
public sealed record WrittenTable(string Name, IReadOnlyList<WrittenColumn> Columns, IReadOnlyList<string> Key)
{
    /// <summary>A table to be written.</summary>
    internal static WrittenTable Of(TableShape table) =>
        new(table.Name, [.. table.Columns.Select(column => new WrittenColumn(column.Name, column.Type.ToString()))], table.Key);

    /// <summary>The table, to read its records by.</summary>
    /// <exception cref="Machine.TransferraException">A type is not known here.</exception>
    internal TableShape Shape() => new(Name, [.. Columns.Select(column => FieldType.TryParse(column.Type, out FieldType type)
        ? new ColumnShape(column.Name, type)
        : throw new Machine.TransferraException($"the table {Name} was written down with a column of the type {column.Type}, which is not "
            + "known here", "Use the version of Transferra that wrote it."))], Key, []);
}
