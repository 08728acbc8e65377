// SqliteLayouts.cs: how the tables of an open store lie in its pages, and what columns they have. The engine is asked once for all tables,
// and once for the columns of each: asked anew for every reading, a store of a thousand tables takes time by the square.
// Source: "The SQLite Database File Format", section 2.6 (the schema table); the engine's own pragmas.
using System.Globalization;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>The tables of one store, which is of one state as long as it is open.</summary>
/// <param name="inquire">Puts a question to the engine.</param>
internal sealed class SqliteLayouts(Func<string, QueryAnswer> inquire)
{
    /// <param name="Name">As the store writes it.</param>
    /// <param name="RootPage">Of its b-tree; null where its pages are not those of a table with record numbers.</param>
    /// <param name="Declared">The statement that made it; null where its pages are not such.</param>
    private sealed record Listed(string Name, long? RootPage, string? Declared);

    /// <param name="Rows">name, type, default, place in the key, hidden.</param>
    /// <param name="IsNumbered">Whether a key of one INTEGER is the record's number.</param>
    private sealed record Columns(IReadOnlyList<IReadOnlyList<string?>> Rows, bool IsNumbered);

    private readonly Dictionary<string, Columns> _columns = [];

    // By name in small letters, as the engine folds them: those of ASCII only.
    private Dictionary<string, Listed> Tables => field ??= ListAll();

    /// <summary>A name as the engine compares it.</summary>
    public static string Folded(string name) => string.Create(name.Length, name, (folded, from) =>
    {
        for (int i = 0; i < from.Length; i++) folded[i] = char.IsAsciiLetterUpper(from[i]) ? (char)(from[i] | 0x20) : from[i];
    });

    private Dictionary<string, Listed> ListAll()
    {
        Dictionary<string, IReadOnlyList<string?>> made = inquire("SELECT name, rootpage, sql FROM sqlite_schema WHERE type = 'table'")
            .Rows.GroupBy(row => Folded(row[0]!)).Where(same => same.Count() == 1).ToDictionary(same => same.Key, same => same.First());
        var listed = new Dictionary<string, Listed>();
        foreach (IReadOnlyList<string?> row in inquire("SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main'").Rows)
        {
            IReadOnlyList<string?>? by = row[1] == "table" && row[2] == "0" ? made.GetValueOrDefault(Folded(row[0]!)) : null;
            long? root = by is null ? null : long.Parse(by[1]!, CultureInfo.InvariantCulture);
            listed.TryAdd(Folded(row[0]!), new Listed(row[0]!, root, by?[2]));
        }
        return listed;
    }

    private Columns ColumnsOf(string name)
    {
        if (_columns.TryGetValue(name, out Columns? known)) return known;
        string literal = SqliteEngine.Literal(name);
        QueryAnswer columns = inquire($"SELECT name, type, dflt_value, pk, hidden FROM pragma_table_xinfo({literal}) ORDER BY cid");
        // A key of one INTEGER is the record's number, unless the engine has made an index for it, as it does where it was declared
        // descending.
        bool isNumbered = columns.Rows.Count(row => row[3] != "0") == 1
            && inquire($"SELECT 1 FROM pragma_index_list({literal}) WHERE origin = 'pk'").Rows.Count == 0;
        return _columns[name] = new Columns(columns.Rows, isNumbered);
    }

    /// <summary>How a table lies in its pages; null where the engine should read it: no record numbers of its own, columns that are
    /// computed.</summary>
    /// <param name="table">Which columns are to be read.</param>
    public SqliteTableLayout? Of(TableShape table)
    {
        if (!Tables.TryGetValue(Folded(table.Name), out Listed? listed) || listed.RootPage is not { } root) return null;
        Columns columns = ColumnsOf(listed.Name);
        var stored = new List<SqliteStoredColumn>();
        int numbered = -1;
        foreach (IReadOnlyList<string?> row in columns.Rows)
        {
            if (row[4] != "0") return null;
            if (columns.IsNumbered && row[3] != "0" && string.Equals(row[1], "INTEGER",
                StringComparison.OrdinalIgnoreCase)) numbered = stored.Count;
            string declared = row[1] ?? "";
            stored.Add(new SqliteStoredColumn(table.OrdinalOf(row[0]!), SqliteTypes.IsReal(declared),
                new(() => SqliteTypes.ConstantOf(declared, row[2]))));
        }
        bool areThere = table.Columns.All(column =>
            columns.Rows.Count(row => string.Equals(row[0], column.Name, StringComparison.OrdinalIgnoreCase)) == 1);
        return areThere ? new SqliteTableLayout(root, stored, numbered) : null;
    }

    /// <summary>The statement that made a table with record numbers; null where there is none.</summary>
    public string? DeclarationOf(string table) => Tables.GetValueOrDefault(Folded(table))?.Declared;

    /// <summary>The column that is the number of a table's records, of which the engine has none twice; null where there is none.</summary>
    public string? NumberOf(string table) => Tables.TryGetValue(Folded(table), out Listed? listed) && listed.RootPage is not null
        && ColumnsOf(listed.Name) is { IsNumbered: true } columns
            ? columns.Rows.FirstOrDefault(row => row[3] != "0" && string.Equals(row[1], "INTEGER", StringComparison.OrdinalIgnoreCase))?[0]
            : null;

    /// <summary>A table with all its columns, of any kind: any cell may hold any kind of value, and columns that the engine works out are
    /// values like others.</summary>
    /// <returns>Null when there is none.</returns>
    public TableShape? StoredShape(string table) => !Tables.TryGetValue(Folded(table), out Listed? listed) ? null
        : ColumnsOf(listed.Name).Rows.Where(row => row[4] != "1").Select(row => new ColumnShape(row[0]!, new FieldType(FieldKind.Any)))
            .ToArray() is { Length: > 0 } columns ? new TableShape(listed.Name, columns, [], []) : null;
}
