// PgThings.cs: what a PostgreSQL database has beside its rows, one by one, each with the statement that makes it again. What the server can
// write out itself (pg_get_...def) is left to it; the rest is put together from the system catalog. Source: PostgreSQL documentation,
// "System Catalogs" and "System Information Functions".
// Holds: (1) every name is written with its schema, whatever the search path; (2) what comes with an extension is not listed.
using Npgsql;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

/// <summary>When a thing is made again.</summary>
internal enum PgPhase
{
    /// <summary>Before rows are loaded.</summary>
    Before,
    /// <summary>After it.</summary>
    After,
    /// <summary>Last: who owns it, who may use it.</summary>
    Rights,
    /// <summary>Never: it is part of another thing, and stands here to be compared.</summary>
    Part,
}

/// <summary>A thing.</summary>
internal sealed record PgThing(PgPhase Phase, StoreDeclaration Declaration);

/// <summary>Reads them.</summary>
/// <param name="connection">In the store's snapshot, with only the catalog in its search path.</param>
internal sealed class PgThings(NpgsqlConnection connection)
{
    /// <summary>Stands in statements for the database they are run in.</summary>
    public const string Database = "{database}";

    /// <summary>Whether a namespace "n" is one of the database's own.</summary>
    public const string Ours = "n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'";

    // Objects that belong to no extension: those come with the extension.
    private static string Own(string oid) => $"NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.objid = {oid} AND e.deptype = 'e')";

    // And to nothing else, as the functions that come with a range type do.
    private static string Alone(string oid) => $"NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.objid = {oid} AND e.deptype IN ('e', 'i'))";

    /// <summary>The rows of a query, nulls left out.</summary>
    public List<string> List(string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read()) if (!reader.IsDBNull(0)) rows.Add(reader.GetString(0));
        return rows;
    }

    private IEnumerable<PgThing> Of(PgPhase phase, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection) { AllResultTypesAreUnknown = true };
        using NpgsqlDataReader reader = command.ExecuteReader();
        var things = new List<PgThing>();
        while (reader.Read())
            if (!reader.IsDBNull(3))
                things.Add(new PgThing(phase, new StoreDeclaration(reader.GetString(0), reader.GetString(1),
                    reader.IsDBNull(2) ? "" : reader.GetString(2), reader.GetString(3))));
        return things;
    }

    /// <summary>All of them, in an order that is good for most.</summary>
    public IEnumerable<PgThing> All() => [.. Types(), .. Routines(), .. Of(PgPhase.Before, TablesSql), .. Parts(), .. OfTables(),
        .. Others(), .. Positions(), .. Comments(), .. Rights()];

    private const string Typed = "FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE ",
        TypeName = "format('%I.%I', n.nspname, t.typname)";

    private IEnumerable<PgThing> Types() =>
    [
        .. Of(PgPhase.Before, "SELECT 'schema', nspname, '', format('CREATE SCHEMA IF NOT EXISTS %I', nspname) FROM pg_namespace n WHERE "
            + $"{Ours} AND {Own("n.oid")} ORDER BY 2"),
        .. Of(PgPhase.Before, "SELECT 'extension', x.extname, '', format('CREATE EXTENSION IF NOT EXISTS %I SCHEMA %I', x.extname, "
            + "n.nspname) FROM pg_extension x JOIN pg_namespace n ON n.oid = x.extnamespace WHERE x.extname <> 'plpgsql' ORDER BY x.oid"),
        .. Of(PgPhase.Before, "SELECT 'collation', format('%I.%I', n.nspname, l.collname), '', format('CREATE COLLATION %I.%I (PROVIDER = "
            + "%s, %s, DETERMINISTIC = %s)', n.nspname, l.collname, CASE l.collprovider WHEN 'i' THEN 'icu' ELSE 'libc' END, CASE WHEN "
            + "l.collprovider = 'i' THEN format('LOCALE = %L', coalesce(to_jsonb(l) ->> 'colliculocale', to_jsonb(l) ->> 'colllocale', "
            + "l.collcollate)) ELSE format('LC_COLLATE = %L, LC_CTYPE = %L', l.collcollate, l.collctype) END, CASE WHEN "
            + "l.collisdeterministic THEN 'true' ELSE 'false' END) FROM "
            + $"pg_collation l JOIN pg_namespace n ON n.oid = l.collnamespace WHERE {Ours} AND {Own("l.oid")} ORDER BY 2"),
        .. Of(PgPhase.Before, $"SELECT 'enum', {TypeName}, '', format('CREATE TYPE %I.%I AS ENUM (%s)', n.nspname, t.typname, (SELECT "
            + "string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid)) "
            + $"{Typed}{Ours} AND t.typtype = 'e' AND {Own("t.oid")} ORDER BY t.oid"),
        .. Of(PgPhase.Before, $"SELECT 'composite type', {TypeName}, '', format('CREATE TYPE %I.%I AS (%s)', n.nspname, "
            + "t.typname, (SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' "
            + "ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT "
            + "a.attisdropped)) FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid JOIN pg_namespace n ON n.oid = "
            + $"t.typnamespace WHERE {Ours} AND t.typtype = 'c' AND c.relkind = 'c' AND {Own("t.oid")} ORDER BY t.oid"),
        .. Of(PgPhase.Before, $"SELECT 'range type', {TypeName}, '', format('CREATE TYPE %I.%I AS RANGE (SUBTYPE = %s%s%s)', n.nspname, "
            + "t.typname, format_type(r.rngsubtype, NULL), CASE WHEN r.rngsubdiff <> 0 THEN format(', SUBTYPE_DIFF = %s', r.rngsubdiff) "
            + "ELSE '' END, CASE WHEN r.rngcollation <> 0 AND l.collname <> 'default' THEN format(', COLLATION = %I.%I', cn.nspname, "
            + "l.collname) ELSE '' END) FROM pg_range r JOIN pg_type t ON t.oid = r.rngtypid JOIN pg_namespace n ON n.oid = "
            + "t.typnamespace LEFT JOIN pg_collation l ON l.oid = r.rngcollation LEFT JOIN pg_namespace cn ON cn.oid = l.collnamespace "
            + $"WHERE {Ours} AND {Own("t.oid")} ORDER BY t.oid"),
        .. Of(PgPhase.Before, $"SELECT 'domain', {TypeName}, '', format('CREATE DOMAIN %I.%I AS %s%s%s%s%s', n.nspname, t.typname, "
            + "format_type(t.typbasetype, t.typtypmod), CASE WHEN t.typcollation <> b.typcollation THEN (SELECT format(' COLLATE %I.%I', "
            + "cn.nspname, l.collname) FROM pg_collation l JOIN pg_namespace cn ON cn.oid = l.collnamespace WHERE l.oid = "
            + "t.typcollation) ELSE '' END, CASE WHEN t.typdefault IS NOT NULL THEN ' DEFAULT ' || coalesce(pg_get_expr(t.typdefaultbin, "
            + "0), quote_literal(t.typdefault)) ELSE '' END, CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, coalesce((SELECT "
            + "string_agg(format(' CONSTRAINT %I %s', x.conname, pg_get_constraintdef(x.oid)), '' ORDER BY x.conname) FROM pg_constraint "
            + "x WHERE x.contypid = t.oid AND x.contype = 'c'), '')) FROM pg_type t JOIN pg_type b ON b.oid = t.typbasetype JOIN "
            + $"pg_namespace n ON n.oid = t.typnamespace WHERE {Ours} AND t.typtype = 'd' AND {Own("t.oid")} ORDER BY t.oid"),
        // Sequences that a column is numbered by (identity) come with the column.
        .. Of(PgPhase.Before, "SELECT 'sequence', format('%I.%I', n.nspname, c.relname), '', format('CREATE SEQUENCE %I.%I AS %s INCREMENT "
            + "BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s', n.nspname, c.relname, format_type(s.seqtypid, NULL), "
            + "s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) FROM "
            + $"pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {Ours} AND NOT "
            + $"EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'i') AND {Own("c.oid")} ORDER BY c.oid"),
    ];

    private const string Routine = "format('%I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid))",
        Procs = "FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace ";

    private IEnumerable<PgThing> Routines() =>
    [
        .. Of(PgPhase.Before, $"SELECT CASE p.prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, {Routine}, '', "
            + $"pg_get_functiondef(p.oid) {Procs}WHERE {Ours} AND p.prokind IN ('f', 'p', 'w') AND {Alone("p.oid")} ORDER BY p.oid"),
        .. Of(PgPhase.Before, $"SELECT 'aggregate', {Routine}, '', format('CREATE AGGREGATE %I.%I(%s) (SFUNC = %s, STYPE = %s%s%s%s)', "
            + "n.nspname, p.proname, pg_get_function_arguments(p.oid), a.aggtransfn, format_type(a.aggtranstype, NULL), CASE WHEN "
            + "a.aggfinalfn <> 0 THEN format(', FINALFUNC = %s', a.aggfinalfn) ELSE '' END, CASE WHEN a.agginitval IS NOT NULL THEN "
            + "format(', INITCOND = %L', a.agginitval) ELSE '' END, CASE WHEN a.aggcombinefn <> 0 THEN format(', COMBINEFUNC = %s', "
            + $"a.aggcombinefn) ELSE '' END) {Procs}JOIN pg_aggregate a ON a.aggfnoid = p.oid WHERE {Ours} AND a.aggkind = 'n' AND "
            + $"{Alone("p.oid")} ORDER BY p.oid"),
        .. Of(PgPhase.Before, "SELECT 'operator', format('%I.%s (%s, %s)', n.nspname, o.oprname, o.oprleft::regtype, "
            + "o.oprright::regtype), '', format('CREATE OPERATOR %I.%s (FUNCTION = %s%s, RIGHTARG = %s%s%s%s%s%s%s)', n.nspname, "
            + "o.oprname, o.oprcode, CASE WHEN o.oprleft <> 0 THEN format(', LEFTARG = %s', format_type(o.oprleft, NULL)) ELSE '' END, "
            + "format_type(o.oprright, NULL), CASE WHEN o.oprcom <> 0 THEN (SELECT format(', COMMUTATOR = OPERATOR(%I.%s)', kn.nspname, "
            + "k.oprname) FROM pg_operator k JOIN pg_namespace kn ON kn.oid = k.oprnamespace WHERE k.oid = o.oprcom) ELSE '' END, CASE "
            + "WHEN o.oprnegate <> 0 THEN (SELECT format(', NEGATOR = OPERATOR(%I.%s)', kn.nspname, k.oprname) FROM pg_operator k JOIN "
            + "pg_namespace kn ON kn.oid = k.oprnamespace WHERE k.oid = o.oprnegate) ELSE '' END, CASE WHEN o.oprrest <> 0 THEN format(', "
            + "RESTRICT = %s', o.oprrest) ELSE '' END, CASE WHEN o.oprjoin <> 0 THEN format(', JOIN = %s', o.oprjoin) ELSE '' END, CASE "
            + "WHEN o.oprcanhash THEN ', HASHES' ELSE '' END, CASE WHEN o.oprcanmerge THEN ', MERGES' ELSE '' END) FROM pg_operator o "
            + $"JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE {Ours} AND o.oprcode <> 0 AND {Own("o.oid")} ORDER BY o.oid"),
        .. Of(PgPhase.Before, "SELECT 'cast', format('%s as %s', format_type(x.castsource, NULL), format_type(x.casttarget, NULL)), '', "
            + "format('CREATE CAST (%s AS %s) %s%s', format_type(x.castsource, NULL), format_type(x.casttarget, NULL), CASE x.castmethod "
            + "WHEN 'f' THEN format('WITH FUNCTION %s', x.castfunc::regprocedure) WHEN 'i' THEN 'WITH INOUT' ELSE 'WITHOUT FUNCTION' END, "
            + "CASE x.castcontext WHEN 'a' THEN ' AS ASSIGNMENT' WHEN 'i' THEN ' AS IMPLICIT' ELSE '' END) FROM pg_cast x WHERE x.oid >= "
            + $"16384 AND {Alone("x.oid")} ORDER BY x.oid"),
        .. Of(PgPhase.Before, "SELECT 'text search dictionary', format('%I.%I', n.nspname, d.dictname), '', format('CREATE TEXT SEARCH "
            + "DICTIONARY %I.%I (TEMPLATE = %I.%I%s)', n.nspname, d.dictname, tn.nspname, t.tmplname, coalesce(', ' || d.dictinitoption, "
            + "'')) FROM pg_ts_dict d JOIN pg_namespace n ON n.oid = d.dictnamespace JOIN pg_ts_template t ON t.oid = d.dicttemplate JOIN "
            + $"pg_namespace tn ON tn.oid = t.tmplnamespace WHERE {Ours} AND {Own("d.oid")} ORDER BY 2"),
        .. Of(PgPhase.Before, "SELECT 'text search', format('%I.%I', n.nspname, c.cfgname), '', format('CREATE TEXT SEARCH CONFIGURATION "
            + "%I.%I (PARSER = %I.%I)%s', n.nspname, c.cfgname, pn.nspname, p.prsname, (SELECT string_agg(format('; ALTER TEXT SEARCH "
            + "CONFIGURATION %I.%I ADD MAPPING FOR %I WITH %s', n.nspname, c.cfgname, m.alias, m.dicts), '' ORDER BY m.alias) FROM (SELECT "
            + "k.alias, string_agg(format('%I.%I', dn.nspname, d.dictname), ', ' ORDER BY g.mapseqno) AS dicts FROM pg_ts_config_map g "
            + "JOIN ts_token_type(c.cfgparser) k ON k.tokid = g.maptokentype JOIN pg_ts_dict d ON d.oid = g.mapdict JOIN pg_namespace dn "
            + "ON dn.oid = d.dictnamespace WHERE g.mapcfg = c.oid GROUP BY k.alias) m)) FROM pg_ts_config c JOIN pg_namespace n ON n.oid "
            + "= c.cfgnamespace JOIN pg_ts_parser p ON p.oid = c.cfgparser JOIN pg_namespace pn ON pn.oid = p.prsnamespace WHERE "
            + $"{Ours} AND {Own("c.oid")} ORDER BY 2"),
    ];

    private static string TablesSql => $"""
        SELECT 'table', format('%I.%I', n.nspname, c.relname), format('%I.%I', n.nspname, c.relname),
          format('CREATE %sTABLE %I.%I%s%s%s%s', CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END, n.nspname, c.relname,
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
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {Ours} AND c.relkind IN ('r', 'p')
          AND {Own("c.oid")} ORDER BY c.relispartition, c.oid
        """;

    private const string Table = "format('%I.%I', n.nspname, c.relname)",
        Tables = "JOIN pg_class c ON c.oid = {0} JOIN pg_namespace n ON n.oid = c.relnamespace WHERE " + Ours + " AND ";

    private static string On(string oid) => Tables.Replace("{0}", oid, StringComparison.Ordinal);

    // What stands in the statements of tables, to be counted and compared.
    private IEnumerable<PgThing> Parts() =>
    [
        .. Of(PgPhase.Part, $"SELECT 'default', format('%s.%I', {Table}, a.attname), {Table}, pg_get_expr(x.adbin, x.adrelid) FROM "
            + $"pg_attrdef x JOIN pg_attribute a ON a.attrelid = x.adrelid AND a.attnum = x.adnum {On("x.adrelid")}a.attgenerated = '' AND "
            + $"{Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, $"SELECT 'generated column', format('%s.%I', {Table}, a.attname), {Table}, pg_get_expr(x.adbin, x.adrelid) "
            + $"FROM pg_attrdef x JOIN pg_attribute a ON a.attrelid = x.adrelid AND a.attnum = x.adnum {On("x.adrelid")}a.attgenerated <> "
            + $"'' AND {Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, $"SELECT 'identity', format('%s.%I', {Table}, a.attname), {Table}, a.attidentity FROM pg_attribute a "
            + $"{On("a.attrelid")}a.attidentity <> '' AND NOT a.attisdropped AND {Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, $"SELECT 'not null', format('%s.%I', {Table}, a.attname), {Table}, "
            + $"'NOT NULL' FROM pg_attribute a {On("a.attrelid")}a.attnotnull AND a.attnum > 0 "
            + $"AND NOT a.attisdropped AND c.relkind IN ('r', 'p') AND {Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, $"SELECT 'column', format('%s.%I', {Table}, a.attname), {Table}, format_type(a.atttypid, a.atttypmod) || "
            + "coalesce((SELECT ' COLLATE ' || l.collname FROM pg_collation l WHERE l.oid = a.attcollation AND a.attcollation <> "
            + $"t.typcollation), '') FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid {On("a.attrelid")}a.attnum > 0 AND NOT "
            + $"a.attisdropped AND c.relkind IN ('r', 'p') AND {Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, "SELECT 'foreign table', format('%I.%I', n.nspname, c.relname), '', 'FOREIGN TABLE' FROM pg_class c JOIN "
            + $"pg_namespace n ON n.oid = c.relnamespace WHERE {Ours} AND c.relkind = 'f' ORDER BY 2"),
    ];

    private IEnumerable<PgThing> OfTables() =>
    [
        // Keys before what refers to them; a check that was declared without looking at old records stays so.
        .. Of(PgPhase.After, "SELECT CASE x.contype WHEN 'p' THEN 'primary key' WHEN 'u' THEN 'unique' WHEN 'x' THEN 'exclusion' "
            + $"WHEN 'c' THEN 'check' ELSE 'foreign key' END, format('%s.%I', {Table}, x.conname), {Table}, format('ALTER TABLE "
            + "%I.%I ADD CONSTRAINT %I %s', n.nspname, c.relname, x.conname, pg_get_constraintdef(x.oid)) FROM pg_constraint x "
            + $"{On("x.conrelid")}x.contype IN ('p', 'u', 'x', 'c', 'f') AND x.conparentid = 0 AND (x.contype <> 'c' OR "
            + $"x.conislocal) AND {Own("c.oid")} ORDER BY position(x.contype::text in 'puxcf'), c.relname, x.conname"),
        // Of a partitioned table the server writes ONLY, and means all: its parts' indexes come with it.
        .. Of(PgPhase.After, $"SELECT 'index', format('%I.%I', n.nspname, ic.relname), {Table}, CASE ic.relkind WHEN 'I' THEN "
            + "replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') ELSE pg_get_indexdef(i.indexrelid) END FROM pg_index i JOIN "
            + $"pg_class ic ON ic.oid = i.indexrelid {On("i.indrelid")}c.relkind IN ('r', 'p') AND NOT EXISTS (SELECT 1 FROM "
            + "pg_constraint x WHERE x.conindid = i.indexrelid AND x.contype IN ('p', 'u', 'x')) AND NOT ic.relispartition AND "
            + $"{Own("c.oid")} ORDER BY ic.relname"),
        .. Of(PgPhase.After, $"SELECT CASE c.relkind WHEN 'm' THEN 'materialized view' ELSE 'view' END, {Table}, '', format('CREATE %sVIEW "
            + "%I.%I%s AS %s%s', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED ' ELSE '' END, n.nspname, c.relname, CASE WHEN c.reloptions IS "
            + "NOT NULL THEN ' WITH (' || array_to_string(c.reloptions, ', ') || ')' ELSE '' END, rtrim(pg_get_viewdef(c.oid), '; '), CASE "
            + "WHEN c.relkind = 'm' AND NOT c.relispopulated THEN ' WITH NO DATA' ELSE '' END) FROM pg_class c JOIN pg_namespace n ON "
            + $"n.oid = c.relnamespace WHERE {Ours} AND c.relkind IN ('v', 'm') AND {Own("c.oid")} ORDER BY c.oid"),
        .. Of(PgPhase.After, $"SELECT 'index', format('%I.%I', n.nspname, ic.relname), {Table}, "
            + "pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid "
            + $"{On("i.indrelid")}c.relkind = 'm' AND {Own("c.oid")} ORDER BY i.indexrelid"),
        .. Of(PgPhase.After, $"SELECT 'rule', format('%s.%I', {Table}, r.rulename), {Table}, pg_get_ruledef(r.oid) FROM pg_rewrite r "
            + $"{On("r.ev_class")}r.rulename <> '_RETURN' AND {Own("c.oid")} ORDER BY r.oid"),
        .. Of(PgPhase.After, $"SELECT 'trigger', format('%s.%I', {Table}, t.tgname), {Table}, pg_get_triggerdef(t.oid) FROM pg_trigger t "
            + $"{On("t.tgrelid")}NOT t.tgisinternal AND t.tgparentid = 0 AND {Own("c.oid")} ORDER BY c.relname, t.tgname"),
        .. Of(PgPhase.After, $"SELECT 'trigger state', format('%s.%I', {Table}, t.tgname), {Table}, "
            + "format('ALTER TABLE %I.%I %s TRIGGER %I', n.nspname, c.relname, CASE t.tgenabled WHEN 'D' THEN "
            + "'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname) FROM pg_trigger t "
            + $"{On("t.tgrelid")}NOT t.tgisinternal AND t.tgparentid = 0 AND t.tgenabled <> 'O' ORDER BY 2"),
        .. Of(PgPhase.After, $"SELECT 'statistics', format('%I.%I', n.nspname, s.stxname), '', pg_get_statisticsobjdef(s.oid) FROM "
            + $"pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE {Ours} ORDER BY s.oid"),
        .. Of(PgPhase.After, $"SELECT 'policy', format('%s.%I', {Table}, y.polname), {Table}, format('CREATE POLICY %I ON %I.%I AS "
            + "%s FOR %s TO %s%s%s', y.polname, n.nspname, c.relname, CASE WHEN y.polpermissive THEN 'PERMISSIVE' ELSE "
            + "'RESTRICTIVE' END, CASE y.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' "
            + $"THEN 'DELETE' ELSE 'ALL' END, CASE WHEN y.polroles = '{{0}}' THEN 'PUBLIC' ELSE (SELECT "
            + "string_agg(quote_ident(r.rolname), ', ' ORDER BY r.rolname) FROM pg_roles r WHERE r.oid = ANY (y.polroles)) END, "
            + "coalesce(' USING (' || pg_get_expr(y.polqual, y.polrelid) || ')', ''), coalesce(' WITH CHECK (' || "
            + $"pg_get_expr(y.polwithcheck, y.polrelid) || ')', '')) FROM pg_policy y {On("y.polrelid")}{Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.After, $"SELECT 'row security', {Table}, {Table}, format('ALTER TABLE %I.%I %s ROW LEVEL SECURITY', n.nspname, "
            + "c.relname, s.word) FROM (VALUES ('ENABLE'), ('FORCE')) s(word), pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            + $"WHERE {Ours} AND CASE s.word WHEN 'FORCE' THEN c.relforcerowsecurity ELSE c.relrowsecurity END ORDER BY s.word, 2"),
        .. Of(PgPhase.After, $"SELECT 'replica identity', {Table}, {Table}, format('ALTER TABLE %I.%I REPLICA IDENTITY %s', n.nspname, "
            + "c.relname, CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' ELSE (SELECT format('USING INDEX %I', "
            + "ic.relname) FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisreplident) END) "
            + $"FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {Ours} AND c.relkind IN ('r', 'p') AND c.relreplident "
            + $"NOT IN ('d') AND {Own("c.oid")} ORDER BY 2"),
        .. Of(PgPhase.After, $"SELECT 'cluster', {Table}, {Table}, format('ALTER TABLE %I.%I CLUSTER ON %I', n.nspname, c.relname, "
            + $"ic.relname) FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid {On("i.indrelid")}i.indisclustered ORDER BY 2"),
        .. Of(PgPhase.After, $"SELECT 'column setting', format('%s.%I', {Table}, a.attname), {Table}, concat_ws('; ', CASE WHEN "
            + "a.attstattarget > 0 THEN format('ALTER TABLE %I.%I ALTER COLUMN %I SET STATISTICS %s', n.nspname, c.relname, a.attname, "
            + "a.attstattarget) END, CASE WHEN a.attstorage <> t.typstorage THEN format('ALTER TABLE %I.%I ALTER COLUMN %I SET STORAGE "
            + "%s', n.nspname, c.relname, a.attname, CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' "
            + "ELSE 'EXTENDED' END) END, CASE WHEN a.attoptions IS NOT NULL THEN format('ALTER TABLE %I.%I ALTER COLUMN %I SET (%s)', "
            + "n.nspname, c.relname, a.attname, array_to_string(a.attoptions, ', ')) END) FROM pg_attribute a JOIN pg_type t ON t.oid = "
            + $"a.atttypid {On("a.attrelid")}a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p') AND (a.attstattarget > 0 OR "
            + $"a.attstorage <> t.typstorage OR a.attoptions IS NOT NULL) AND {Own("c.oid")} ORDER BY 2"),
    ];

    private IEnumerable<PgThing> Others() =>
    [
        .. Of(PgPhase.After, "SELECT 'sequence owner', format('%I.%I', n.nspname, c.relname), format('%I.%I', tn.nspname, t.relname), "
            + "format('ALTER SEQUENCE %I.%I OWNED BY %I.%I.%I', n.nspname, c.relname, tn.nspname, t.relname, a.attname) FROM pg_depend d "
            + "JOIN pg_class c ON c.oid = d.objid AND c.relkind = 'S' JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class t ON "
            + "t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum "
            + $"= d.refobjsubid WHERE {Ours} AND d.deptype = 'a' ORDER BY c.oid"),
        .. Of(PgPhase.After, "SELECT 'event trigger', evtname, '', format('CREATE EVENT TRIGGER %I ON %s%s EXECUTE FUNCTION "
            + "%s()%s', evtname, evtevent, CASE WHEN evttags IS NOT NULL THEN format(' WHEN TAG IN (%s)', (SELECT "
            + "string_agg(quote_literal(x), ', ') FROM unnest(evttags) x)) ELSE '' END, evtfoid::regproc, CASE evtenabled WHEN "
            + "'O' THEN '' ELSE format('; ALTER EVENT TRIGGER %I %s', evtname, CASE evtenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' "
            + $"THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END) END) FROM pg_event_trigger v WHERE {Own("v.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, "SELECT 'publication', pubname, '', 'PUBLICATION' FROM pg_publication ORDER BY 2"),
        // Made before their bytes come (PgPlace.LargeObjects).
        .. Of(PgPhase.Before, "SELECT 'large object', oid::text, '', format('SELECT pg_catalog.lo_create(%s)', oid) FROM "
            + "pg_largeobject_metadata ORDER BY oid"),
        .. Of(PgPhase.Rights, "SELECT 'owner', 'LARGE OBJECT ' || oid, '', format('ALTER LARGE OBJECT %s OWNER TO %I', oid, "
            + "pg_get_userbyid(lomowner)) FROM pg_largeobject_metadata ORDER BY oid"),
        .. Of(PgPhase.Rights, "SELECT 'right', 'LARGE OBJECT ' || l.oid, '', format('GRANT %s ON LARGE OBJECT %s TO %s%s', "
            + "g.privilege_type, l.oid, CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN "
            + "g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) FROM pg_largeobject_metadata l, aclexplode(l.lomacl) g WHERE "
            + "g.grantee <> l.lomowner ORDER BY l.oid, 4"),
        .. Of(PgPhase.Part, "SELECT 'operator class', format('%I.%I', n.nspname, o.opcname), '', 'OPERATOR CLASS' FROM pg_opclass o JOIN "
            + $"pg_namespace n ON n.oid = o.opcnamespace WHERE {Ours} AND {Own("o.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, "SELECT 'language', l.lanname, '', 'LANGUAGE' FROM pg_language l WHERE l.lanispl AND l.lanname <> 'plpgsql' "
            + $"AND {Own("l.oid")} ORDER BY 2"),
        .. Of(PgPhase.Part, "SELECT 'foreign server', s.srvname, '', 'SERVER' FROM pg_foreign_server s ORDER BY 2"),
    ];

    // Where each sequence has come to, and whether that number was given out.
    private IEnumerable<PgThing> Positions() =>
        [.. List("SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE "
            + $"{Ours} AND c.relkind = 'S' AND {Own("c.oid")} ORDER BY c.oid")
        .Where(name => PgConnection.Scalar(connection, $"SELECT has_sequence_privilege({PgConnection.Literal(name)}, 'SELECT')") is true)
        .SelectMany(name => Of(PgPhase.After, $"SELECT 'counter', {PgConnection.Literal(name)}, (SELECT d.refobjid::regclass::text FROM "
            + $"pg_depend d WHERE d.objid = {PgConnection.Literal(name)}::regclass AND d.deptype IN ('a', 'i') AND d.refobjsubid > 0 LIMIT "
            + $"1), format('SELECT pg_catalog.setval(%L, %s, %L)', {PgConnection.Literal(name)}, last_value, is_called) FROM {name}"))];

    private IEnumerable<PgThing> Comment(string name, string catalog, string joins, string condition) => Of(PgPhase.After,
        $"SELECT 'comment', {name}, {(joins.Contains("pg_class c", StringComparison.Ordinal) ? Table : "''")}, format('COMMENT ON %s IS "
            + $"%L', {name}, d.description) FROM pg_description d {joins} WHERE "
        + $"d.classoid = 'pg_catalog.{catalog}'::regclass AND {condition} ORDER BY 2");

    private IEnumerable<PgThing> Comments() =>
    [
        .. Comment("CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'i' THEN "
            + "'INDEX' WHEN 'I' THEN 'INDEX' WHEN 'c' THEN 'TYPE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END || format(' %I.%I', "
            + "n.nspname, c.relname)", "pg_class", "JOIN pg_class c ON c.oid = d.objoid JOIN pg_namespace n ON n.oid = c.relnamespace",
            $"{Ours} AND d.objsubid = 0 AND {Own("c.oid")}"),
        .. Comment("format('COLUMN %I.%I.%I', n.nspname, c.relname, a.attname)", "pg_class", "JOIN pg_attribute a ON a.attrelid = d.objoid "
            + "AND a.attnum = d.objsubid JOIN pg_class c ON c.oid = d.objoid JOIN pg_namespace n ON n.oid = c.relnamespace",
            $"{Ours} AND d.objsubid > 0 AND {Own("c.oid")}"),
        .. Comment("format('CONSTRAINT %I ON %I.%I', x.conname, n.nspname, c.relname)", "pg_constraint", "JOIN pg_constraint x ON x.oid = "
            + "d.objoid JOIN pg_class c ON c.oid = x.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace", Ours),
        .. Comment("format('TRIGGER %I ON %I.%I', t.tgname, n.nspname, c.relname)", "pg_trigger", "JOIN pg_trigger t ON t.oid = d.objoid "
            + "JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace", Ours),
        .. Comment("format('POLICY %I ON %I.%I', y.polname, n.nspname, c.relname)", "pg_policy", "JOIN pg_policy y ON y.oid = d.objoid "
            + "JOIN pg_class c ON c.oid = y.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace", Ours),
        .. Comment("format('RULE %I ON %I.%I', r.rulename, n.nspname, c.relname)", "pg_rewrite", "JOIN pg_rewrite r ON r.oid = d.objoid "
            + "JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace", Ours),
        .. Comment("CASE p.prokind WHEN 'a' THEN 'AGGREGATE' ELSE 'ROUTINE' END || format(' %I.%I(%s)', n.nspname, p.proname, "
            + "pg_get_function_identity_arguments(p.oid))", "pg_proc", "JOIN pg_proc p ON p.oid = d.objoid JOIN pg_namespace n ON n.oid = "
            + "p.pronamespace", $"{Ours} AND {Alone("p.oid")}"),
        .. Comment("CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END || format(' %I.%I', n.nspname, t.typname)", "pg_type",
            "JOIN pg_type t ON t.oid = d.objoid JOIN pg_namespace n ON n.oid = t.typnamespace", $"{Ours} AND {Own("t.oid")}"),
        .. Comment("format('SCHEMA %I', n.nspname)", "pg_namespace", "JOIN pg_namespace n ON n.oid = d.objoid",
            $"{Ours} AND {Own("n.oid")} AND d.description <> 'standard public schema'"),
    ];

    private IEnumerable<PgThing> Owner(string name, string owner, string from, string condition) => Of(PgPhase.Rights,
        $"SELECT 'owner', {name}, '', format('ALTER %s OWNER TO %I', {name}, pg_get_userbyid({owner})) FROM {from} WHERE {Ours} AND "
        + $"{condition} ORDER BY 2");

    private const string ClassName = "CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' "
        + "WHEN 'c' THEN 'TYPE' ELSE 'TABLE' END || format(' %I.%I', n.nspname, c.relname)",
        RoutineName = "'ROUTINE ' || format('%I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid))",
        ClassFrom = "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace",
        RoutineFrom = "pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace",
        TypeFrom = "pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace";

    private IEnumerable<PgThing> Rights() =>
    [
        .. Owner("format('SCHEMA %I', n.nspname)", "n.nspowner", "pg_namespace n", $"n.nspname <> 'public' AND {Own("n.oid")}"),
        .. Owner(ClassName, "c.relowner", ClassFrom, "c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c') AND NOT (c.relkind = 'S' AND EXISTS "
            + $"(SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('a', 'i'))) AND {Own("c.oid")}"),
        .. Owner(RoutineName, "p.proowner", RoutineFrom, Alone("p.oid")),
        .. Owner("CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END || format(' %I.%I', n.nspname, t.typname)", "t.typowner", TypeFrom,
            $"t.typtype IN ('e', 'd', 'r') AND {Own("t.oid")}"),
        // An access list that is there says all, also what it takes from everybody, so what stands by default is taken away first.
        .. Revoked("CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END || format(' %I.%I', n.nspname, c.relname)", ClassFrom,
            $"c.relacl IS NOT NULL AND {Own("c.oid")}"),
        .. Granted(ClassFrom, "c.relacl", "c.relowner",
            "CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END || format(' %I.%I', n.nspname, c.relname)", "c.oid"),
        .. Of(PgPhase.Rights, $"SELECT 'right', format('%s.%I %s', {Table}, a.attname, g.privilege_type), {Table}, "
            + "format('GRANT %s (%I) ON %I.%I TO %s%s', g.privilege_type, a.attname, n.nspname, c.relname, CASE g.grantee "
            + "WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN g.is_grantable THEN ' WITH "
            + "GRANT OPTION' ELSE '' END) FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON "
            + $"n.oid = c.relnamespace, aclexplode(a.attacl) g WHERE {Ours} AND a.attacl IS NOT NULL ORDER BY 4"),
        .. Revoked(RoutineName, RoutineFrom, $"p.proacl IS NOT NULL AND {Alone("p.oid")}"),
        .. Granted(RoutineFrom, "p.proacl", "p.proowner", RoutineName, "p.oid"),
        .. Revoked("'TYPE ' || format('%I.%I', n.nspname, t.typname)", TypeFrom, $"t.typacl IS NOT NULL AND {Own("t.oid")}"),
        .. Granted(TypeFrom, "t.typacl", "t.typowner", "'TYPE ' || format('%I.%I', n.nspname, t.typname)", "t.oid"),
        .. Revoked("'SCHEMA ' || quote_ident(n.nspname)", "pg_namespace n", $"n.nspacl IS NOT NULL AND {Own("n.oid")}"),
        .. Granted("pg_namespace n", "n.nspacl", "n.nspowner", "'SCHEMA ' || quote_ident(n.nspname)", "n.oid"),
        .. Of(PgPhase.Rights, "SELECT 'default right', coalesce(n.nspname, ''), '', format('ALTER DEFAULT PRIVILEGES FOR ROLE "
            + "%I%s GRANT %s ON %s TO %s%s', pg_get_userbyid(d.defaclrole), CASE WHEN n.nspname IS NULL THEN '' ELSE format(' IN "
            + "SCHEMA %I', n.nspname) END, g.privilege_type, CASE d.defaclobjtype WHEN 'r' THEN 'TABLES' WHEN 'S' THEN "
            + "'SEQUENCES' WHEN 'f' THEN 'ROUTINES' WHEN 'n' THEN 'SCHEMAS' ELSE 'TYPES' END, CASE g.grantee WHEN 0 THEN 'PUBLIC' "
            + "ELSE quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) "
            + "FROM pg_default_acl d LEFT JOIN pg_namespace n ON n.oid = d.defaclnamespace, aclexplode(d.defaclacl) g ORDER BY 4"),
        .. Of(PgPhase.Rights, "SELECT 'database setting', split_part(x, '=', 1) || CASE s.setrole WHEN 0 THEN '' ELSE ' for ' || "
            + "pg_get_userbyid(s.setrole) END, '', format('ALTER %s SET %I = %s', CASE s.setrole WHEN 0 THEN 'DATABASE ' ELSE format('ROLE "
            + $"%I IN DATABASE ', pg_get_userbyid(s.setrole)) END || '{Database}', split_part(x, '=', 1), CASE WHEN lower(split_part(x, "
            + "'=', 1)) IN ('search_path', 'temp_tablespaces', 'session_preload_libraries', 'local_preload_libraries') THEN substr(x, "
            + "strpos(x, '=') + 1) ELSE quote_literal(substr(x, strpos(x, '=') + 1)) END) FROM pg_db_role_setting s JOIN pg_database d ON "
            + "d.oid = s.setdatabase, unnest(s.setconfig) x WHERE d.datname = current_database() ORDER BY 2"),
        .. Of(PgPhase.Rights, $"SELECT 'database right', g.privilege_type || ' ' || g.grantee, '', format('GRANT %s ON DATABASE {Database} "
            + "TO %s%s', g.privilege_type, CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN "
            + "g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) FROM pg_database d, aclexplode(d.datacl) g WHERE d.datname = "
            + "current_database() AND g.privilege_type <> 'CONNECT' AND g.grantee <> d.datdba ORDER BY 4"),
    ];

    private IEnumerable<PgThing> Revoked(string name, string from, string condition) => Of(PgPhase.Rights,
        $"SELECT 'access list', {name}, '', 'REVOKE ALL ON ' || {name} || ' FROM "
            + $"PUBLIC' FROM {from} WHERE {Ours} AND {condition} ORDER BY 2");

    private IEnumerable<PgThing> Granted(string from, string list, string owner, string name, string oid) => Of(PgPhase.Rights,
        $"SELECT 'right', {name} || ' ' || g.privilege_type || ' ' || g.grantee, '', format('GRANT %s ON %s TO %s%s', g.privilege_type, "
        + $"{name}, CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, CASE WHEN g.is_grantable THEN ' "
        + $"WITH GRANT OPTION' ELSE '' END) FROM {from}, aclexplode({list}) g WHERE {Ours} AND {list} IS NOT NULL AND g.grantee <> {owner} "
        + $"AND {Own(oid)} ORDER BY 4");

    /// <summary>What no statement makes again, one line each.</summary>
    public IReadOnlyList<string> NotMadeAgain() =>
    [
        .. All().Where(thing => thing.Declaration.Kind is "foreign table" or "publication" or "operator class" or "language"
            or "foreign server").Select(thing => $"the {thing.Declaration.Kind} {thing.Declaration.Name}"),
    ];
}
