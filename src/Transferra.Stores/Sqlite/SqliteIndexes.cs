// SqliteIndexes.cs: the indexes of an open store, as far as their entries can be foretold from the records alone.
// Source: "The SQLite Database File Format", sections 2.5 (representation of indexes), 2.6 (the schema table); the engine's own pragmas.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>A column of an index's entries.</summary>
/// <param name="Column">Position in the table's records; -1 for the record's number.</param>
/// <param name="IsDescending">Whether greater values come first.</param>
/// <param name="Collation">Of texts.</param>
internal readonly record struct SqliteIndexColumn(int Column, bool IsDescending, SqliteCollation Collation);

/// <summary>An index.</summary>
/// <param name="RootPage">Of its b-tree.</param>
/// <param name="IsUnique">Whether no two records may have the same key, but for keys that lack a value.</param>
/// <param name="Columns">Of its entries; the last one is the record's number.</param>
internal sealed record SqliteIndexLayout(long RootPage, bool IsUnique, SqliteIndexColumn[] Columns);

/// <summary>Asks for them.</summary>
internal static class SqliteIndexes
{
    // In older files every index is in ascending order, whatever its declaration says (section 1.3.11: schema format number).
    private const int SchemaFormatAt = 44, FirstWithDescending = 4;

    /// <summary>The indexes of all tables.</summary>
    /// <param name="inquire">Puts a question to the engine.</param>
    /// <param name="pages">The file.</param>
    /// <returns>By table; null for a table of which one index can be read by the engine alone: of a part of the records, of what is
    /// computed, in an order that only a program knows. A table without any is not in it.</returns>
    public static Dictionary<string, List<SqliteIndexLayout>?> All(Func<string, QueryAnswer> inquire, SqlitePageFile pages)
    {
        var tables = new Dictionary<string, List<SqliteIndexLayout>?>(StringComparer.OrdinalIgnoreCase);
        bool mayDescend = pages.TryGet(1, out ReadOnlySpan<byte> first) && first[SchemaFormatAt + 3] >= FirstWithDescending;
        QueryAnswer found = inquire("SELECT s.tbl_name, s.name, s.rootpage, l.\"unique\", l.partial, x.cid, x.\"desc\", x.coll, x.\"key\" "
            + "FROM sqlite_schema s LEFT JOIN pragma_index_list(s.tbl_name) l ON l.name = s.name LEFT JOIN pragma_index_xinfo(s.name) x "
            + "WHERE s.type = 'index' ORDER BY s.tbl_name, s.name, x.seqno");
        foreach (var index in found.Rows.GroupBy(row => (Table: row[0]!, Name: row[1]!)))
        {
            SqliteIndexLayout? layout = LayoutOf([.. index], mayDescend);
            if (!tables.TryGetValue(index.Key.Table, out List<SqliteIndexLayout>? known)) known = tables[index.Key.Table] = [];
            if (layout is null) tables[index.Key.Table] = null;
            else known?.Add(layout);
        }
        return tables;
    }

    private static SqliteIndexLayout? LayoutOf(IReadOnlyList<IReadOnlyList<string?>> rows, bool mayDescend)
    {
        var columns = new List<SqliteIndexColumn>();
        foreach (IReadOnlyList<string?> row in rows)
        {
            if (row[4] != "0" || !int.TryParse(row[5], CultureInfo.InvariantCulture, out int column) || column < -1
                || CollationOf(row[7]) is not { } collation || (row[6] != "0" && !mayDescend)) return null;
            // The record's number is what stands behind the key, and nothing else is.
            if (row[8] == "0" != (column == -1)) return null;
            columns.Add(new SqliteIndexColumn(column, row[6] != "0", collation));
        }
        return columns.Count > 1 && columns.FindIndex(column => column.Column == -1) == columns.Count - 1
            && long.TryParse(rows[0][2], CultureInfo.InvariantCulture, out long root)
                ? new SqliteIndexLayout(root, rows[0][3] == "1", [.. columns]) : null;
    }

    private static SqliteCollation? CollationOf(string? name) => name?.ToUpperInvariant() switch
    {
        "BINARY" => SqliteCollation.Binary,
        "NOCASE" => SqliteCollation.NoCase,
        "RTRIM" => SqliteCollation.RightTrim,
        _ => null,
    };
}
