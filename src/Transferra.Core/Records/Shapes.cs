// Shapes.cs: what tables and stores look like, independent of any engine.
namespace Transferra.Core.Records;

/// <summary>One column of a table.</summary>
/// <param name="Name">As the store spells it.</param>
/// <param name="Type">What it holds.</param>
/// <param name="Required">Whether null is not allowed.</param>
public sealed record ColumnShape(string Name, FieldType Type, bool Required = false);

/// <summary>A declared link from one table to another.</summary>
/// <param name="Columns">Columns of this table.</param>
/// <param name="To">The table pointed to.</param>
/// <param name="On">Columns of that table, in the same order.</param>
public sealed record RelationShape(IReadOnlyList<string> Columns, string To, IReadOnlyList<string> On);

/// <summary>One table.</summary>
/// <param name="Name">As the store spells it.</param>
/// <param name="Columns">In the table's order.</param>
/// <param name="Key">Columns that identify a record; empty when nothing does.</param>
/// <param name="Relations">Links to other tables.</param>
public sealed record TableShape(
    string Name, IReadOnlyList<ColumnShape> Columns, IReadOnlyList<string> Key, IReadOnlyList<RelationShape> Relations)
{
    /// <summary>Zero-based position of a column by name, in any case; -1 when there is none.</summary>
    public int OrdinalOf(string column)
    {
        for (int i = 0; i < Columns.Count; i++)
            if (string.Equals(Columns[i].Name, column, StringComparison.OrdinalIgnoreCase)) return i;
        return -1;
    }
}
