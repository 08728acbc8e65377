// SqliteThings.cs: what a SQLite file has beside its rows, one by one: what stands in sqlite_schema, taken apart as far as tables go, and
// what programs know the file by.
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <param name="ask">Asks in the store's snapshot.</param>
internal sealed class SqliteThings(Func<string, QueryAnswer> ask)
{
    // What a program may look at before it opens a file; the version of the data is not among them, as it tells versions.
    private static readonly string[] Settings = ["application_id", "page_size", "encoding", "auto_vacuum", "journal_mode"];

    /// <summary>All of them.</summary>
    public IReadOnlyList<StoreDeclaration> All()
    {
        var all = new List<StoreDeclaration>();
        foreach (IReadOnlyList<string?> row in ask("SELECT type, name, tbl_name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT "
            + "LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY type, name").Rows)
        {
            (string kind, string name, string of, string sql) = (row[0]!, row[1]!, row[2]!, row[3]!);
            if (kind != "table") all.Add(new StoreDeclaration(kind, name, kind == "view" ? "" : of, sql));
            else if (SqliteTableText.Read(sql) is { } table) all.AddRange(Parts(name, table));
            else all.Add(new StoreDeclaration("search structure", name, name, sql));
        }
        if (ask("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'").Rows.Count > 0)
            all.AddRange(ask("SELECT name, seq FROM sqlite_sequence ORDER BY name").Rows
                .Select(row => new StoreDeclaration("counter", row[0]!, row[0]!, row[1] ?? "")));
        all.AddRange(Settings.Select(setting => new StoreDeclaration("file setting", setting, "",
            ask($"PRAGMA {setting}").Rows is [var row, ..] ? row[0] ?? "" : "")));
        return all;
    }

    private static IEnumerable<StoreDeclaration> Parts(string name, SqliteTableText table)
    {
        yield return new StoreDeclaration("table", name, name, table.Tail);
        foreach (SqliteColumnText column in table.Columns)
        {
            yield return new StoreDeclaration("column", $"{name}.{column.Name}", name, column.Type);
            foreach (SqliteConstraint part in column.Constraints)
                yield return new StoreDeclaration(KindOf(part), $"{name}.{column.Name}", name, part.Text);
        }
        foreach (SqliteConstraint part in table.Constraints) yield return new StoreDeclaration(KindOf(part), name, name, part.Text);
    }

    private static string KindOf(SqliteConstraint part) => part.Kind switch
    {
        "PRIMARY" => part.Text.Contains("AUTOINCREMENT", StringComparison.OrdinalIgnoreCase) ? "numbered key" : "primary key",
        "NOT" => "not null",
        "REFERENCES" or "FOREIGN" => "foreign key",
        "GENERATED" or "AS" => "generated column",
        "COLLATE" => "collation",
        _ => part.Kind.ToLowerInvariant(),
    };
}
