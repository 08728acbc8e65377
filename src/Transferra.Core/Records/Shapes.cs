// Shapes.cs: what tables and stores look like, independent of any engine.
namespace Transferra.Core.Records;

/// <summary>One column of a table.</summary>
/// <param name="Name">As the store spells it.</param>
/// <param name="Type">What it holds.</param>
/// <param name="Required">Whether null is not allowed.</param>
/// <param name="IsPrivate">Whether its values are people's own affair and never shown: not in lists, reports, messages or journals.</param>
/// <param name="Default">What the engine puts in when nothing is said: a literal as SQL writes it, or the engine's own expression as read
/// from it; null when nothing.</param>
public sealed record ColumnShape(string Name, FieldType Type, bool Required = false, bool IsPrivate = false, string? Default = null)
{
    /// <summary>Whether its values leave the house as their form only: amounts, say, which are shown to the administrator.</summary>
    public bool IsMasked { get; init; }

    /// <summary>How the engine is to declare it, in the vendor's own words; null to leave that to the engine's table of types.</summary>
    public string? DeclaredAs { get; init; }
}

/// <summary>An index beside the key.</summary>
/// <param name="Name">As the store spells it; "" in a kit, where it is made from the table's and columns' names.</param>
/// <param name="Columns">In its order; an index over expressions names none.</param>
/// <param name="IsUnique">Whether no two records may have the same values.</param>
public sealed record IndexShape(string Name, IReadOnlyList<string> Columns, bool IsUnique)
{
    /// <summary>Whether it is more than an index over whole columns of all records: over expressions, some records, beginnings of texts, or
    /// of another method than the usual one.</summary>
    public bool IsSpecial { get; init; }
}

/// <summary>A declared link from one table to another.</summary>
/// <param name="Columns">Columns of this table.</param>
/// <param name="To">The table pointed to.</param>
/// <param name="On">Columns of that table, in the same order.</param>
public sealed record RelationShape(IReadOnlyList<string> Columns, string To, IReadOnlyList<string> On)
{
    /// <summary>What becomes of a record when the one it points to is removed or gets another key, as SQL writes it with a blank before it:
    /// " ON DELETE CASCADE"; "" when that is not allowed then.</summary>
    public string Rules { get => field ?? ""; init; }

    /// <summary>Whether only a kit says so of tables that are as the store has them: it is checked, and nothing is declared by
    /// it.</summary>
    public bool IsOnlySaid { get; init; }

    /// <summary>The same from what a catalog says: CASCADE, SET NULL, SET DEFAULT, and anything else for none.</summary>
    public static string RulesOf(string? onDelete, string? onUpdate) => Rule("DELETE", onDelete) + Rule("UPDATE", onUpdate);

    private static string Rule(string on, string? does) => does is "CASCADE" or "SET NULL" or "SET DEFAULT" ? $" ON {on} {does}" : "";
}

/// <summary>One table.</summary>
/// <param name="Name">As the store spells it.</param>
/// <param name="Columns">In the table's order.</param>
/// <param name="Key">Columns that identify a record; empty when nothing does.</param>
/// <param name="Relations">Links to other tables.</param>
public sealed record TableShape(
    string Name, IReadOnlyList<ColumnShape> Columns, IReadOnlyList<string> Key, IReadOnlyList<RelationShape> Relations)
{
    /// <summary>Indexes beside the key.</summary>
    public IReadOnlyList<IndexShape> Indexes { get; init; } = [];

    /// <summary>The column whose values the engine counts up by itself; null when none.</summary>
    public string? NumberedColumn { get; init; }

    /// <summary>Whether no kit describes it. What belongs to such a table (indexes, links) is made where the new engine takes it, and
    /// otherwise named; it stops nothing.</summary>
    public bool IsUndescribed { get; init; }

    /// <summary>What stands in place of a private value wherever it would be shown.</summary>
    public const string Private = "(private)";

    /// <summary>Whether values said to be of a column may be shown: not of a private one, and not when nobody knows of which column they
    /// are and the table has a private one.</summary>
    public bool MayShow(string column) => !Columns.Any(known => known.IsPrivate) || (OrdinalOf(column) is >= 0 and int ordinal
        && !Columns[ordinal].IsPrivate);

    /// <summary>Zero-based position of a column by name, in any case; -1 when there is none.</summary>
    public int OrdinalOf(string column)
    {
        for (int i = 0; i < Columns.Count; i++)
            if (string.Equals(Columns[i].Name, column, StringComparison.OrdinalIgnoreCase)) return i;
        return -1;
    }
}
