// PgScript.cs: everything a schema of a PostgreSQL database has beside its rows, in SQL. What the server can write out itself
// (pg_get_...def) is left to it; the rest is put together from the system catalog. Source: PostgreSQL documentation, "System Catalogs"
// and "System Information Functions".
// Holds: (1) every name is written with its schema, whatever the search path; (2) what is not in the script is in NotCarried.
using Npgsql;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <param name="connection">In the store's snapshot.</param>
/// <param name="schema">Which schema.</param>
internal sealed class PgScript(NpgsqlConnection connection, string schema)
{
    private readonly string _schema = PgConnection.Literal(schema);

    // Objects of this schema that belong to no extension: those come with the extension.
    private const string NotOfExtension = "NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.objid = {0} AND e.deptype = 'e')";

    private static string Own(string oid) => NotOfExtension.Replace("{0}", oid, StringComparison.Ordinal);

    public StoreScript Read()
    {
        // With only the catalog in the path, the server writes every other name with its schema.
        string path = (string)PgConnection.Scalar(connection, "SELECT current_setting('search_path')")!;
        PgConnection.Execute(connection, "SET LOCAL search_path = pg_catalog");
        try
        {
            return new StoreScript([.. Before()], [.. After()], [.. Rights()])
            {
                Database = List("SELECT format(' LC_COLLATE %L LC_CTYPE %L', datcollate, datctype) FROM pg_database WHERE datname = "
                    + "current_database()")[0],
            };
        }
        finally
        {
            PgConnection.Execute(connection,
                $"SET LOCAL search_path = "
                    + string.Join(", ", path.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
                        .DefaultIfEmpty("\"\"")));
        }
    }

    private List<string> List(string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read()) if (!reader.IsDBNull(0)) rows.Add(reader.GetString(0));
        return rows;
    }

    private IEnumerable<string> Before() =>
    [
        .. List("SELECT format('CREATE SCHEMA IF NOT EXISTS %I', n.nspname) FROM pg_extension x JOIN pg_namespace n ON n.oid = "
            + $"x.extnamespace WHERE x.extname <> 'plpgsql' AND n.nspname NOT IN ('pg_catalog', {_schema}) GROUP BY 1"),
        .. List("SELECT format('CREATE EXTENSION IF NOT EXISTS %I SCHEMA %I', x.extname, n.nspname) FROM pg_extension x JOIN "
            + "pg_namespace n ON n.oid = x.extnamespace WHERE x.extname <> 'plpgsql' ORDER BY x.oid"),
        .. List("SELECT format('CREATE TYPE %I.%I AS ENUM (%s)', n.nspname, t.typname, (SELECT string_agg(quote_literal(e.enumlabel), "
            + "', ' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid)) "
            + $"FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = {_schema} AND t.typtype = 'e' AND "
            + $"{Own("t.oid")} ORDER BY t.oid"),
        .. List("SELECT format('CREATE TYPE %I.%I AS (%s)', n.nspname, t.typname, (SELECT string_agg(format('%I %s', a.attname, "
            + "format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum "
            + "> 0 AND NOT a.attisdropped)) "
            + "FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = "
            + $"{_schema} AND t.typtype = 'c' AND c.relkind = 'c' AND {Own("t.oid")} ORDER BY t.oid"),
        .. List("SELECT format('CREATE DOMAIN %I.%I AS %s%s%s%s%s', n.nspname, t.typname, format_type(t.typbasetype, t.typtypmod), CASE "
            + "WHEN t.typcollation <> b.typcollation THEN (SELECT format(' COLLATE %I.%I', cn.nspname, l.collname) FROM pg_collation l "
            + "JOIN pg_namespace cn ON cn.oid = l.collnamespace WHERE l.oid = t.typcollation) ELSE '' END, "
            + "CASE WHEN t.typdefault IS NOT NULL THEN ' DEFAULT ' || coalesce(pg_get_expr(t.typdefaultbin, 0), "
            + "quote_literal(t.typdefault)) ELSE '' END, CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, "
            + "coalesce((SELECT string_agg(format(' CONSTRAINT %I %s', x.conname, pg_get_constraintdef(x.oid)), '' ORDER BY x.conname) "
            + "FROM pg_constraint x WHERE x.contypid = t.oid AND x.contype = 'c'), '')) "
            + "FROM pg_type t JOIN pg_type b ON b.oid = t.typbasetype JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = "
            + $"{_schema} AND t.typtype = 'd' AND {Own("t.oid")} ORDER BY t.oid"),
        // Sequences that a column is numbered by (identity) come with the column.
        .. List("SELECT format('CREATE SEQUENCE %I.%I AS %s INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s', "
            + "n.nspname, c.relname, format_type(s.seqtypid, NULL), s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, CASE "
            + "WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) "
            + "FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = "
            + $"{_schema} AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'i') AND {Own("c.oid")} ORDER "
            + "BY c.oid"),
        .. Routines(),
        .. List(TablesSql),
    ];

    private List<string> Routines() =>
    [
        .. List("SELECT pg_get_functiondef(p.oid) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = "
            + $"{_schema} AND p.prokind IN ('f', 'p', 'w') AND {Own("p.oid")} ORDER BY p.oid"),
    ];

    private string TablesSql => $"""
        SELECT format('CREATE %sTABLE %I.%I%s%s%s%s', CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END, n.nspname, c.relname,
            CASE WHEN c.relispartition THEN (SELECT format(' PARTITION OF %I.%I %s', pn.nspname, p.relname, pg_get_expr(c.relpartbound,
              c.oid)) FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace pn ON pn.oid = p.relnamespace
              WHERE i.inhrelid = c.oid)
            ELSE format(E' (\n  %s\n)', coalesce((SELECT string_agg(format('%I %s%s%s%s', a.attname, format_type(a.atttypid, a.atttypmod),
                CASE WHEN a.attcollation <> t.typcollation THEN (SELECT format(' COLLATE %I.%I', cn.nspname, l.collname)
                  FROM pg_collation l JOIN pg_namespace cn ON cn.oid = l.collnamespace WHERE l.oid = a.attcollation) ELSE '' END,
                CASE WHEN a.attidentity <> '' THEN (SELECT format(' GENERATED %s AS IDENTITY (SEQUENCE NAME %I.%I '
                  || 'INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s)',
                  CASE a.attidentity WHEN 'a' THEN 'ALWAYS' ELSE 'BY DEFAULT' END, sn.nspname, sc.relname,
                  s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache,
                  CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END)
                        FROM pg_depend d JOIN pg_class sc ON sc.oid = d.objid AND sc.relkind = 'S'
                          JOIN pg_sequence s ON s.seqrelid = sc.oid JOIN pg_namespace sn ON sn.oid = sc.relnamespace
                          WHERE d.refobjid = c.oid AND d.refobjsubid = a.attnum AND d.deptype = 'i')
                    WHEN a.attgenerated = 's' THEN format(' GENERATED ALWAYS AS (%s) STORED', pg_get_expr(x.adbin, x.adrelid))
                    WHEN x.adbin IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(x.adbin, x.adrelid) ELSE '' END,
                CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END), E',\n  ' ORDER BY a.attnum)
                FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef x ON x.adrelid = c.oid
                  AND x.adnum = a.attnum WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attislocal), '')) END,
            CASE WHEN NOT c.relispartition THEN coalesce((SELECT ' INHERITS (' || string_agg(format('%I.%I', pn.nspname, p.relname),
              ', ' ORDER BY i.inhseqno) || ')' FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent
              JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE i.inhrelid = c.oid), '') ELSE '' END,
            CASE c.relkind WHEN 'p' THEN ' PARTITION BY ' || pg_get_partkeydef(c.oid) ELSE '' END,
            CASE WHEN c.reloptions IS NOT NULL THEN ' WITH (' || array_to_string(c.reloptions, ', ') || ')' ELSE '' END)
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} AND c.relkind IN ('r', 'p')
          AND {Own("c.oid")} ORDER BY c.relispartition, c.oid
        """;

    private IEnumerable<string> After() =>
    [
        // Keys before what refers to them; a check that was declared without looking at old records stays so.
        .. List("SELECT format('ALTER TABLE %I.%I ADD CONSTRAINT %I %s', n.nspname, c.relname, x.conname, pg_get_constraintdef(x.oid)) "
            + "FROM pg_constraint x JOIN pg_class c ON c.oid = x.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            + $"WHERE n.nspname = {_schema} AND x.contype IN ('p', 'u', 'x', 'c', 'f') AND x.conparentid = 0 AND (x.contype <> 'c' OR "
            + $"x.conislocal) AND {Own("c.oid")} ORDER BY position(x.contype::text in 'puxcf'), c.relname, x.conname"),
        // Of a partitioned table the server writes ONLY, and means all: its parts' indexes come with it.
        .. List("SELECT CASE ic.relkind WHEN 'I' THEN replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') ELSE "
            + "pg_get_indexdef(i.indexrelid) END FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_class ic ON ic.oid = "
            + $"i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} AND c.relkind IN ('r', 'p') "
            + "AND NOT EXISTS (SELECT 1 FROM pg_constraint x WHERE x.conindid = i.indexrelid AND x.contype IN ('p', 'u', 'x')) AND NOT "
            + $"ic.relispartition AND {Own("c.oid")} ORDER BY ic.relname"),
        .. List("SELECT format('CREATE %sVIEW %I.%I%s AS %s', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED ' ELSE '' END, n.nspname, "
            + "c.relname, CASE WHEN c.reloptions IS NOT NULL THEN ' WITH (' || array_to_string(c.reloptions, ', ') || ')' ELSE '' END, "
            + "rtrim(pg_get_viewdef(c.oid), '; ')) "
            + $"FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} AND c.relkind IN ('v', 'm') "
            + $"AND {Own("c.oid")} ORDER BY c.oid"),
        .. List("SELECT pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON "
            + $"n.oid = c.relnamespace WHERE n.nspname = {_schema} AND c.relkind = 'm' AND {Own("c.oid")} ORDER BY i.indexrelid"),
        .. List("SELECT pg_get_ruledef(r.oid) FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = "
            + $"c.relnamespace WHERE n.nspname = {_schema} AND r.rulename <> '_RETURN' AND {Own("c.oid")} ORDER BY r.oid"),
        .. List("SELECT pg_get_triggerdef(t.oid) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = "
            + $"c.relnamespace WHERE n.nspname = {_schema} AND NOT t.tgisinternal AND t.tgparentid = 0 AND {Own("c.oid")} ORDER BY "
            + "c.relname, t.tgname"),
        .. List("SELECT format('ALTER TABLE %I.%I %s TRIGGER %I', n.nspname, c.relname, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN "
            + "'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN "
            + "pg_namespace n ON n.oid = c.relnamespace "
            + $"WHERE n.nspname = {_schema} AND NOT t.tgisinternal AND t.tgparentid = 0 AND t.tgenabled <> 'O' ORDER BY 1"),
        .. List("SELECT pg_get_statisticsobjdef(s.oid) FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE "
            + $"n.nspname = {_schema} ORDER BY s.oid"),
        .. List("SELECT format('ALTER SEQUENCE %I.%I OWNED BY %I.%I.%I', n.nspname, c.relname, tn.nspname, t.relname, a.attname) FROM "
            + "pg_depend d JOIN pg_class c ON c.oid = d.objid AND c.relkind = 'S' JOIN pg_namespace n ON n.oid = c.relnamespace "
            + "JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace JOIN pg_attribute a ON a.attrelid "
            + $"= t.oid AND a.attnum = d.refobjsubid WHERE n.nspname = {_schema} AND d.deptype = 'a' ORDER BY c.oid"),
        .. Positions(),
        .. Comments(),
    ];

    // Where each sequence has come to, and whether that number was given out.
    private List<string> Positions() =>
        [.. List("SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE "
            + $"n.nspname = {_schema} AND c.relkind = 'S' AND {Own("c.oid")} ORDER BY c.oid")
        .Where(name => PgConnection.Scalar(connection, $"SELECT has_sequence_privilege({PgConnection.Literal(name)}, 'SELECT')") is true)
        .SelectMany(name => List($"SELECT format('SELECT pg_catalog.setval(%L, %s, %L)', {PgConnection.Literal(name)}, last_value, "
            + $"is_called) FROM {name}"))];

    private List<string> Comments() =>
    [
        .. List("SELECT format('COMMENT ON %s %I.%I IS %L', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN "
            + "'S' THEN 'SEQUENCE' WHEN 'i' THEN 'INDEX' WHEN 'I' THEN 'INDEX' WHEN 'c' THEN 'TYPE' ELSE 'TABLE' END, n.nspname, "
            + "c.relname, d.description) "
            + "FROM pg_description d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass JOIN pg_namespace n ON "
            + $"n.oid = c.relnamespace WHERE n.nspname = {_schema} AND d.objsubid = 0 AND {Own("c.oid")} ORDER BY 1"),
        .. List("SELECT format('COMMENT ON COLUMN %I.%I.%I IS %L', n.nspname, c.relname, a.attname, d.description) FROM pg_description "
            + "d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass JOIN pg_attribute a ON a.attrelid = c.oid AND "
            + "a.attnum = d.objsubid "
            + $"JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} AND d.objsubid > 0 AND {Own("c.oid")} ORDER BY "
            + "1"),
        .. List("SELECT format('COMMENT ON CONSTRAINT %I ON %I.%I IS %L', x.conname, n.nspname, c.relname, d.description) FROM "
            + "pg_description d JOIN pg_constraint x ON x.oid = d.objoid AND d.classoid = 'pg_constraint'::regclass JOIN pg_class c ON "
            + $"c.oid = x.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} ORDER BY 1"),
        .. List("SELECT format('COMMENT ON TRIGGER %I ON %I.%I IS %L', t.tgname, n.nspname, c.relname, d.description) FROM "
            + "pg_description d JOIN pg_trigger t ON t.oid = d.objoid AND d.classoid = 'pg_trigger'::regclass JOIN pg_class c ON c.oid "
            + $"= t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} ORDER BY 1"),
        .. List("SELECT format('COMMENT ON ROUTINE %I.%I(%s) IS %L', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid), "
            + "d.description) FROM pg_description d JOIN pg_proc p ON p.oid = d.objoid AND d.classoid = 'pg_proc'::regclass JOIN "
            + $"pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = {_schema} AND {Own("p.oid")} ORDER BY 1"),
        .. List("SELECT format('COMMENT ON TYPE %I.%I IS %L', n.nspname, t.typname, d.description) FROM pg_description d JOIN pg_type t "
            + "ON t.oid = d.objoid AND d.classoid = 'pg_type'::regclass JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = "
            + $"{_schema} AND {Own("t.oid")} ORDER BY 1"),
        .. List("SELECT format('COMMENT ON SCHEMA %I IS %L', n.nspname, d.description) FROM pg_description d JOIN pg_namespace n ON "
            + $"n.oid = d.objoid AND d.classoid = 'pg_namespace'::regclass WHERE n.nspname = {_schema} "
            + "AND d.description <> 'standard public schema'"),
    ];

    private IEnumerable<string> Rights() =>
    [
        .. List("SELECT format('ALTER %s %I.%I OWNER TO %I', CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN "
            + "'S' THEN 'SEQUENCE' WHEN 'c' THEN 'TYPE' ELSE 'TABLE' END, n.nspname, c.relname, pg_get_userbyid(c.relowner)) FROM "
            + "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            + $"WHERE n.nspname = {_schema} AND c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c') AND NOT (c.relkind = 'S' AND EXISTS (SELECT "
            + $"1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('a', 'i'))) AND {Own("c.oid")} ORDER BY c.oid"),
        .. List("SELECT format('ALTER ROUTINE %I.%I(%s) OWNER TO %I', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid), "
            + $"pg_get_userbyid(p.proowner)) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = {_schema} "
            + $"AND {Own("p.oid")} ORDER BY p.oid"),
        .. List("SELECT format('ALTER %s %I.%I OWNER TO %I', CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, n.nspname, "
            + "t.typname, pg_get_userbyid(t.typowner)) FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = "
            + $"{_schema} AND t.typtype IN ('e', 'd') AND {Own("t.oid")} ORDER BY t.oid"),
        // An access list that is there says all, also what it takes from everybody, so what stands by default is taken away first.
        .. List("SELECT format('REVOKE ALL ON %s %I.%I FROM PUBLIC', CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, "
            + $"n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} AND "
            + $"c.relacl IS NOT NULL AND {Own("c.oid")} ORDER BY c.oid"),
        .. Granted("pg_class c", "c.relacl", "c.relowner",
            "CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END || ' ' || format('%I.%I', n.nspname, c.relname)", "c.relnamespace",
                "c.oid"),
        .. List("SELECT format('GRANT %s (%I) ON %I.%I TO %s%s', g.privilege_type, a.attname, n.nspname, c.relname, CASE g.grantee WHEN "
            + "0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, "
            + "CASE WHEN g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) "
            + "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace, "
            + $"aclexplode(a.attacl) g WHERE n.nspname = {_schema} AND a.attacl IS NOT NULL ORDER BY 1"),
        .. List("SELECT format('REVOKE ALL ON ROUTINE %I.%I(%s) FROM PUBLIC', n.nspname, p.proname, "
            + "pg_get_function_identity_arguments(p.oid)) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname "
            + $"= {_schema} AND p.proacl IS NOT NULL AND {Own("p.oid")} ORDER BY p.oid"),
        .. Granted("pg_proc p", "p.proacl", "p.proowner",
            "'ROUTINE ' || format('%I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid))",
            "p.pronamespace", "p.oid"),
        .. Granted("pg_type t", "t.typacl", "t.typowner", "'TYPE ' || format('%I.%I', n.nspname, t.typname)", "t.typnamespace", "t.oid"),
        .. Granted("pg_namespace s", "s.nspacl", "s.nspowner", "'SCHEMA ' || quote_ident(s.nspname)", "s.oid", "s.oid"),
        .. List("SELECT format('ALTER DEFAULT PRIVILEGES FOR ROLE %I IN SCHEMA %I GRANT %s ON %s TO %s', pg_get_userbyid(d.defaclrole), "
            + "n.nspname, g.privilege_type, CASE d.defaclobjtype WHEN 'r' THEN 'TABLES' WHEN 'S' THEN 'SEQUENCES' WHEN 'f' THEN "
            + "'ROUTINES' ELSE 'TYPES' END, CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END) "
            + "FROM pg_default_acl d JOIN pg_namespace n ON n.oid = d.defaclnamespace, aclexplode(d.defaclacl) g WHERE n.nspname = "
            + $"{_schema} ORDER BY 1"),
    ];

    private List<string> Granted(string from, string list, string owner, string name, string space, string oid) =>
        List($"SELECT format('GRANT %s ON %s TO %s%s', g.privilege_type, {name}, CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE "
            + "quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) "
            + $"FROM {from} JOIN pg_namespace n ON n.oid = {space}, aclexplode({list}) g WHERE n.nspname = {_schema} AND {list} IS NOT "
            + $"NULL AND g.grantee <> {owner} AND {Own(oid)} ORDER BY 1");

    /// <summary>What the script does not carry.</summary>
    /// <summary>The other schemas that something is in, with how many tables.</summary>
    public IReadOnlyList<string> OtherSchemas() =>
        List("SELECT format('the schema %I with %s tables', n.nspname, count(*) FILTER (WHERE c.relkind IN ('r', 'p', 'f'))) FROM "
            + "pg_namespace n JOIN pg_class c ON c.relnamespace = n.oid WHERE n.nspname !~ '^pg_' AND n.nspname NOT IN "
            + $"('information_schema', {_schema}) AND {Own("c.oid")} GROUP BY n.nspname ORDER BY n.nspname");

    public IReadOnlyList<string> NotCarried() =>
    [
        .. List("SELECT 'the other schema ' || n.nspname || ' and what is in it' FROM pg_namespace n WHERE n.nspname !~ '^pg_' AND "
            + $"n.nspname NOT IN ('information_schema', {_schema}) AND EXISTS (SELECT 1 FROM pg_class c WHERE c.relnamespace = n.oid AND "
            + $"{Own("c.oid")}) ORDER BY 1"),
        .. List("SELECT 'the foreign table ' || c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname "
            + $"= {_schema} AND c.relkind = 'f' ORDER BY 1"),
        .. List("SELECT 'the row security policy ' || p.polname || ' of ' || c.relname FROM pg_policy p JOIN pg_class c ON c.oid = "
            + $"p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = {_schema} ORDER BY 1"),
        .. List("SELECT 'the range type ' || t.typname FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = "
            + $"{_schema} AND t.typtype = 'r' AND {Own("t.oid")} ORDER BY 1"),
        .. List("SELECT 'the aggregate ' || p.proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = "
            + $"{_schema} AND p.prokind = 'a' AND {Own("p.oid")} ORDER BY 1"),
        .. List("SELECT 'the operator ' || o.oprname FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE n.nspname = "
            + $"{_schema} AND {Own("o.oid")} ORDER BY 1"),
        .. List("SELECT 'the event trigger ' || evtname FROM pg_event_trigger ORDER BY 1"),
        .. List("SELECT 'the publication ' || pubname FROM pg_publication ORDER BY 1"),
        .. List("SELECT 'large objects: ' || count(*) FROM pg_largeobject_metadata HAVING count(*) > 0"),
        .. List("SELECT 'a setting of the database' || CASE WHEN s.setrole <> 0 THEN ' for ' || pg_get_userbyid(s.setrole) ELSE '' END "
            + "|| ': ' || split_part(x, '=', 1) FROM pg_db_role_setting s JOIN pg_database d ON d.oid = s.setdatabase, "
            + "unnest(s.setconfig) x WHERE d.datname = current_database() ORDER BY 1"),
    ];
}
