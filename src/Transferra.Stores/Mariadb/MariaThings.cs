// MariaThings.cs: what a MariaDB database has beside its rows, one by one, by its information_schema.
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

/// <param name="ask">Asks in the store's snapshot.</param>
/// <param name="parts">Its routines, views, triggers and events.</param>
/// <param name="database">Which database.</param>
internal sealed class MariaThings(Func<string, List<IReadOnlyList<string?>>> ask, MariaParts parts, string database)
{
    private readonly string _schema = MariaConnection.Literal(database);

    // Each side names the database: the server would open the tables of all databases otherwise. And none is joined as it is: what the
    // server tells of itself has no index, so that each of its rows would be compared with each, seconds for a thousand tables; of a
    // question within, the server makes an index.
    private string Columns(string kind, string text, string condition) => $"SELECT '{kind}', concat(table_name, '.', column_name), "
        + $"table_name, {text} FROM information_schema.columns WHERE table_schema = {_schema} AND table_name IN (SELECT table_name FROM "
        + $"information_schema.tables WHERE table_schema = {_schema} AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')) AND "
        + $"({condition})";

    private string[] OfTables =>
    [
        "SELECT 'table', table_name, table_name, concat_ws(' ', engine, table_collation, create_options, table_comment) FROM "
            + $"information_schema.tables WHERE table_schema = {_schema} AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')",
        Columns("column", "concat_ws(' ', column_type, collation_name, if(extra LIKE '%INVISIBLE%', 'invisible', NULL), column_comment)",
            "1 = 1"),
        Columns("not null", "'NOT NULL'", "is_nullable = 'NO'"),
        // Where the sequence stands that a default draws from is the place's matter.
        Columns("default", "regexp_replace(column_default, 'nextval\\\\(`[^`]*`\\\\.', 'nextval(')", "column_default IS NOT NULL AND "
            + "column_default <> 'NULL'"),
        Columns("auto increment", "'auto_increment'", "extra LIKE '%auto_increment%'"),
        Columns("on update", "extra", "extra LIKE '%on update%'"),
        Columns("generated column", "concat(extra, ' ', generation_expression)", "generation_expression IS NOT NULL"),
        "SELECT CASE WHEN index_name = 'PRIMARY' THEN 'primary key' WHEN non_unique = 0 THEN 'unique' ELSE 'index' END, "
            + "concat(table_name, '.', index_name), table_name, concat_ws(' ', index_type, group_concat(concat(ifnull(column_name, ''), "
            + "ifnull(concat('(', sub_part, ')'), ''), ifnull(concat(' ', collation), '')) ORDER BY seq_in_index SEPARATOR ', ')) FROM "
            + $"information_schema.statistics WHERE table_schema = {_schema} GROUP BY table_name, index_name, non_unique, index_type",
        "SELECT 'foreign key', concat(r.table_name, '.', r.constraint_name), r.table_name, concat_ws(' ', "
            + "group_concat(k.column_name ORDER BY k.ordinal_position), 'to', r.referenced_table_name, "
            + "group_concat(k.referenced_column_name "
            + "ORDER BY k.ordinal_position), r.update_rule, r.delete_rule) FROM (SELECT DISTINCT table_name, constraint_name, "
            + "referenced_table_name, update_rule, delete_rule FROM information_schema.referential_constraints WHERE constraint_schema = "
            + $"{_schema}) r JOIN information_schema.key_column_usage k ON k.constraint_name = r.constraint_name AND k.table_name = "
            + $"r.table_name WHERE k.table_schema = {_schema} GROUP BY r.table_name, "
            + "r.constraint_name, r.referenced_table_name, r.update_rule, r.delete_rule",
        "SELECT 'check', concat(table_name, '.', constraint_name), table_name, check_clause FROM information_schema.check_constraints "
            + $"WHERE constraint_schema = {_schema}",
        "SELECT 'partition', concat(table_name, '.', partition_name), table_name, concat_ws(' ', partition_method, partition_expression, "
            + $"partition_description) FROM information_schema.partitions WHERE table_schema = {_schema} AND partition_name IS NOT NULL",
        "SELECT 'counter', table_name, table_name, auto_increment FROM information_schema.tables WHERE table_schema = "
            + $"{_schema} AND auto_increment IS NOT NULL",
        "SELECT 'trigger', trigger_name, event_object_table, concat_ws(' ', action_timing, event_manipulation, definer, sql_mode, "
            + $"action_statement) FROM information_schema.triggers WHERE event_object_schema = {_schema}",
    ];

    private string Sequences => "SELECT 'sequence', table_name, '', '' FROM information_schema.tables WHERE table_schema = "
        + $"{_schema} AND table_type = 'SEQUENCE'";

    /// <summary>All of them.</summary>
    public IReadOnlyList<StoreDeclaration> All() =>
    [
        .. OfTables.SelectMany(query => Of(query, isOfPlace: false)), .. parts.All().Where(part => part.Kind != "trigger")
            .Select(part => new StoreDeclaration(part.Kind, part.Name, "", string.Join('\n', [part.Statement ?? "", .. part.Rights]))),
        // Sequences stay when a store's tables are moved away and others come, and so do views that nobody could make again.
        .. Of(Sequences, isOfPlace: true).Select(sequence => sequence with { Text = PositionOf(sequence.Name) }),
        .. parts.BrokenViews().Select(view => new StoreDeclaration("view", view, "",
            "(the server cannot open it)") { IsOfPlace = true })
    ];

    private string PositionOf(string sequence) => ask("SELECT concat_ws(' ', minimum_value, maximum_value, 'by', increment, 'next', "
        + $"next_not_cached_value) FROM {MariaConnection.Quote(database)}.{MariaConnection.Quote(sequence)}")[0][0] ?? "";

    private IEnumerable<StoreDeclaration> Of(string query, bool isOfPlace) => ask(query + " ORDER BY 1, 2").Select(row =>
        new StoreDeclaration(row[0]!, row[1]!, row[2]!, row[3] ?? "") { IsOfPlace = isOfPlace });
}
