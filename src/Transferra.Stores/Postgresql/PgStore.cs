// PgStore.cs: a PostgreSQL database opened for reading, in one snapshot that every reader shares.
// Why a connection for each reader: a connection does one COPY at a time; all take part in the snapshot of the first one
// (pg_export_snapshot).
// Holds: (1) nothing is written: every transaction is read only; (2) all reading sees the state of the moment it was opened, also while
// others write.
using System.Globalization;
using Npgsql;
using Transferra.Core.Records;
using Transferra.Stores.Servers;
using static Transferra.Stores.Postgresql.PgRecordReader;

namespace Transferra.Stores.Postgresql;

internal sealed class PgStore : IStore
{
    /// <summary>Where tables are looked for when office.yaml names no schema.</summary>
    public const string UsualSchema = "public";

    private readonly StoreAddress _address;
    private readonly string _schema;
    private readonly NpgsqlConnection _keeper;
    private readonly string _snapshot;
    private readonly string? _pages; // of texts that the server takes for bytes
    private readonly Catalog<PgColumn> _catalog;
    private readonly KnownCounts _counts = new();
    private readonly KeptKeys _keys;
    private readonly Dictionary<string, PgPlace> _places = [];

    private const int MostIdle = 4;

    private readonly System.Collections.Concurrent.ConcurrentBag<NpgsqlConnection> _idle = [];
    private volatile bool _isDisposed;

    private PgStore(StoreAddress address, NpgsqlConnection keeper, string? textEncoding)
    {
        (_address, _keeper) = (address, keeper);
        _schema = address.Options.GetValueOrDefault("schema") ?? UsualSchema;
        PgConnection.Execute(keeper, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY");
        // One question, as each takes a way to the server and back, and stores are opened often.
        IReadOnlyList<string?> told = Answer(keeper, "SELECT pg_export_snapshot(), pg_encoding_to_char(d.encoding), d.datcollate, "
            + "pg_get_userbyid(d.datdba), current_user, pg_database_size(d.oid), "
            + "(SELECT version FROM pg_stat_ssl WHERE pid = pg_backend_pid() AND ssl), "
            + "(SELECT string_agg(nspname, ', ' ORDER BY nspname) FROM pg_namespace n WHERE nspname !~ '^pg_' "
            + "AND nspname NOT IN ('information_schema', " + PgConnection.Literal(_schema) + ") "
            + "AND EXISTS (SELECT 1 FROM pg_class c WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p'))) "
            + "FROM pg_database d WHERE d.datname = current_database()").Rows[0];
        _snapshot = told[0]!;
        if (told[1] == "SQL_ASCII" && textEncoding is not null) _pages = textEncoding;
        var facts = new Dictionary<string, string>
        {
            ["character_set"] = told[1]!,
            ["collation"] = told[2]!,
            ["owner"] = told[3]!,
            ["user"] = told[4]!,
            [ServerTls.Fact] = told[6] is { } tls ? ServerTls.Said(address.Server!, tls) : ServerTls.Open(address.Server!),
        };
        if (told[7] is { } others) facts["other_schemas"] = others;
        Identity = new StoreIdentity("PostgreSQL", keeper.ServerVersion.Split(' ')[0],
            long.Parse(told[5]!, CultureInfo.InvariantCulture), facts);
        _keys = new KeptKeys(ReadShape);
        _catalog = new Catalog<PgColumn>(address.Shown + (_schema == UsualSchema ? "" : $", schema {_schema}"), LoadColumns(), column =>
            column.Name);
    }

    public StoreIdentity Identity { get; }

    public static PgStore Open(StoreAddress address, string? textEncoding)
    {
        NpgsqlConnection keeper = PgConnection.OpenKept(address.Server!, address.Path);
        try
        {
            return new PgStore(address, keeper, textEncoding);
        }
        catch (Exception error) when (error is NpgsqlException)
        {
            keeper.Dispose();
            throw PgConnection.Stopped($"the database {address.Shown} cannot be read", error);
        }
        catch
        {
            keeper.Dispose();
            throw;
        }
    }

    private string Say(string sql) => Convert.ToString(PgConnection.Scalar(_keeper, sql), CultureInfo.InvariantCulture) ?? "";

    // What comes with an extension belongs to it, but in the company's own schema, where it always was a table like others.
    private string AnyTable => $"({PgThings.Ours} AND c.relkind IN ('r', 'p') AND NOT c.relispartition AND ({IsOwn} OR NOT EXISTS (SELECT "
        + "1 FROM pg_depend e WHERE e.objid = c.oid AND e.deptype = 'e')))";

    private string IsOwn => $"n.nspname = {PgConnection.Literal(_schema)}";

    // Of other schemas, what this user may not read whole is named and passed over.
    private const string MayRead = "(has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT') AND NOT "
        + "row_security_active(c.oid))";

    // Tables of the company's own schema, of all others, and where the server keeps large objects.
    private string Tables => $"WHERE ({AnyTable} AND ({IsOwn} OR {MayRead}) OR c.oid = 'pg_catalog.pg_largeobject'::regclass AND EXISTS "
        + "(SELECT 1 FROM pg_largeobject_metadata) AND current_setting('is_superuser') = 'on')";

    private Dictionary<string, PgColumn[]> LoadColumns()
    {
        // Domains are followed down to the type they stand on.
        string sql = $"""
            WITH RECURSIVE base(oid, typ, typmod) AS (
                SELECT oid, oid, -1 FROM pg_type WHERE typtype <> 'd'
                UNION ALL SELECT t.oid, b.typ, CASE WHEN t.typtypmod >= 0 THEN t.typtypmod ELSE b.typmod END FROM pg_type t
                  JOIN base b ON t.typtype = 'd' AND t.typbasetype = b.oid)
            SELECT {PgPlace.Shown(_schema)}, a.attname, b.typ, CASE WHEN a.atttypmod >= 0 THEN a.atttypmod ELSE b.typmod END, a.attnotnull,
              pg_get_expr(d.adbin, d.adrelid), a.attidentity <> '', n.nspname, c.relname, c.relkind = 'p'
            FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0
              AND NOT a.attisdropped
            LEFT JOIN base b ON b.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum
            {Tables} ORDER BY {PgPlace.Shown(_schema)} COLLATE "C", a.attnum
            """;
        using var command = new NpgsqlCommand(sql, _keeper);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var rows = new List<(string Table, PgColumn? Column)>();
        while (reader.Read())
        {
            _places[reader.GetString(0)] = new PgPlace(reader.GetString(7), reader.GetString(8), reader.GetBoolean(9));
            string? fallback = !reader.IsDBNull(1) && !reader.IsDBNull(5) ? reader.GetString(5) : null;
            rows.Add((reader.GetString(0), reader.IsDBNull(1)
                ? null : new PgColumn(reader.GetString(1), reader.GetFieldValue<uint>(2), reader.GetInt32(3), reader.GetBoolean(4),
                    fallback,
                reader.GetBoolean(6) || fallback?.StartsWith("nextval(", StringComparison.Ordinal) == true)));
        }
        return rows.GroupBy(row => row.Table).ToDictionary(table => table.Key, table => table.Select(row => row.Column).OfType<PgColumn>()
            .ToArray());
    }

    private IReadOnlyList<TableShape>? _shape;

    // Asked of the server once: the store is seen as it was when it was opened, and a match asks for every table of hundreds.
    public IReadOnlyList<TableShape> ReadShape() => _shape ??= LoadShape();

    private IReadOnlyList<TableShape> LoadShape()
    {
        string where = Tables, shown = PgPlace.Shown(_schema), shownTarget = PgPlace.Shown(_schema, "tn", "t");
        const string names = "(SELECT coalesce(array_agg(a.attname::text ORDER BY k.place), '{}') FROM unnest({0}) WITH ORDINALITY "
            + "k(num, place) JOIN pg_attribute a ON a.attrelid = {1} AND a.attnum = k.num)";
        string Named(string numbers, string of) => names.Replace("{0}", numbers, StringComparison.Ordinal).Replace("{1}", of,
            StringComparison.Ordinal);
        string Rule(string code) => $"CASE {code} WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' WHEN 'd' THEN 'SET DEFAULT' ELSE '' END";
        ILookup<string, string[]> keys =
            Rows($"SELECT {shown}, {Named("x.conkey", "c.oid")} FROM pg_constraint x JOIN pg_class c ON c.oid = x.conrelid JOIN "
                + $"pg_namespace n ON n.oid = c.relnamespace {where} AND x.contype = 'p'",
            reader => (reader.GetString(0), reader.GetFieldValue<string[]>(1)));
        ILookup<string, RelationShape> relations =
            Rows($"SELECT {shown}, {Named("x.conkey", "c.oid")}, {shownTarget}, {Named("x.confkey", "t.oid")}, {Rule("x.confdeltype")}, "
                + $"{Rule("x.confupdtype")} FROM pg_constraint x JOIN pg_class c ON c.oid = x.conrelid "
            + $"JOIN pg_class t ON t.oid = x.confrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace JOIN pg_namespace n ON n.oid = "
            + $"c.relnamespace {where} "
            + "AND x.contype = 'f' ORDER BY x.conname",
            reader => (reader.GetString(0), new RelationShape(reader.GetFieldValue<string[]>(1), reader.GetString(2),
                reader.GetFieldValue<string[]>(3))
            {
                Rules = RelationShape.RulesOf(reader.GetString(4), reader.GetString(5))
            }));
        ILookup<string, IndexShape> indexes =
            Rows($"SELECT {shown}, i.relname, x.indisunique, {Named("x.indkey::int2[]", "c.oid")}, x.indpred IS NOT NULL OR x.indexprs "
                + $"IS NOT "
                + "NULL OR i.relam <> (SELECT oid FROM pg_am WHERE amname = 'btree') FROM pg_index x JOIN pg_class c ON "
                + "c.oid = x.indrelid JOIN pg_class i ON i.oid = x.indexrelid "
            + $"JOIN pg_namespace n ON n.oid = c.relnamespace {where} AND NOT x.indisprimary ORDER BY i.relname",
            reader => (reader.GetString(0), new IndexShape(reader.GetString(1), reader.GetFieldValue<string[]>(3), reader.GetBoolean(2))
            {
                IsSpecial = reader.GetBoolean(4)
            }));
        return [.. _catalog.Tables.Select(table => new TableShape(table.Key,
            [.. table.Value.Select(column => new ColumnShape(column.Name, PgTypes.Of(column), column.Required, Default: column.Default))],
            keys[table.Key].FirstOrDefault() ?? [], [.. relations[table.Key]])
        {
            Indexes = [.. indexes[table.Key]],
            NumberedColumn = table.Value.FirstOrDefault(column => column.IsNumbered)?.Name,
        })];
    }

    private ILookup<string, T> Rows<T>(string sql, Func<NpgsqlDataReader, (string Table, T Value)> read)
    {
        using var command = new NpgsqlCommand(sql, _keeper);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var rows = new List<(string Table, T Value)>();
        while (reader.Read()) rows.Add(read(reader));
        return rows.ToLookup(row => row.Table, row => row.Value);
    }

    public IReadOnlyList<StoreObject> ListObjects()
    {
        string shown = PgPlace.Shown(_schema);
        return [.. Inquire($"""
            SELECT CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'view' WHEN 'f' THEN 'foreign table' ELSE 'sequence' END, {shown},
                   coalesce(CASE WHEN c.relkind = 'S' THEN pg_sequence_last_value(c.oid)::text END, '') FROM pg_class c
                     JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} AND c.relkind IN ('v', 'm', 'f', 'S')
            UNION ALL SELECT 'trigger', t.tgname, {shown} FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
              JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} AND NOT t.tgisinternal
            UNION ALL SELECT 'routine', p.proname, '' FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
              WHERE {PgThings.Ours}
                AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = p.oid AND d.deptype = 'e')
            ORDER BY 1, 2
            """).Rows.Select(row => new StoreObject(row[0]!, row[1]!, row[2]!))];
    }

    // ONLY: records of tables that inherit from it are their own
    private string From(string table) => (_places[table].IsPartitioned ? "" : "ONLY ") + _places[table].Quoted;

    public StoreScript? ReadScript(string folder) => new PgScript(_keeper).Read();

    private IReadOnlyList<StoreDeclaration>? _declarations;

    /// <inheritdoc/>
    public IReadOnlyList<StoreDeclaration> Declarations() => _declarations ??= new PgScript(_keeper).Declarations();

    /// <inheritdoc/>
    public IReadOnlyList<OtherSchema> Elsewhere() => [.. _places.Values.Where(place => place.Schema != _schema)
        .GroupBy(place => place.Schema).OrderBy(schema => schema.Key, StringComparer.Ordinal)
        .Select(schema => new OtherSchema(schema.Key, schema.Count()))];

    /// <summary>Tables of other schemas, and large objects, that this user may not read.</summary>
    public IReadOnlyList<string> NotRead() => [.. Inquire($"SELECT {PgPlace.Shown(_schema)} FROM pg_class c JOIN pg_namespace n ON n.oid = "
        + $"c.relnamespace WHERE {AnyTable} AND NOT {IsOwn} AND NOT {MayRead} ORDER BY 1").Rows
        .Select(row => $"the table {row[0]}, which this user may not read"), .. Inquire("SELECT count(*) FROM pg_largeobject_metadata "
            + "HAVING count(*) > 0 AND "
        + "current_setting('is_superuser') <> 'on'").Rows.Select(row => $"{row[0]} large objects, which only an administrator of the "
        + "server may read")];

    /// <inheritdoc/>
    public IReadOnlyList<string> NotCarried() => [.. NotRead(), .. new PgScript(_keeper).NotCarried()];

    public bool KeepsKey(string table, IReadOnlyList<string> key) => _keys.Keeps(_catalog.Table(table), key);

    public long CountRows(string table) => _counts.Of(_catalog.Table(table), name => long.Parse(Say($"SELECT count(*) FROM {From(name)}"),
        CultureInfo.InvariantCulture));

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        string name = _catalog.Table(table.Name);
        var fields = table.Columns.Select(wanted => wanted.Name == PgMender.PlaceColumn
            ? ("ctid::text", How.Text) : FieldOf(_catalog.Column(name, wanted.Name), wanted.Type))
                .Select(field => (Sql: field.Item1, How: field.Item2))
            .ToArray();
        // Byte order of texts, as everything here compares them; the server's own order would part equal keys from each other or join
        // others.
        string order = orderBy.Count == 0 ? "" : " ORDER BY " + string.Join(", ", orderBy.Select(wanted => _catalog.Column(name, wanted))
            .Select(column =>
            // without it the server can go by its index
            PgConnection.Quote(column.Name) + (PgTypes.Of(column).Kind == FieldKind.Text ? "::text COLLATE \"C\"" : "")
                + (column.Required ? "" : " NULLS FIRST")));
        string columns = fields.Length == 0 ? "1" : string.Join(", ", fields.Select(field => field.Sql));
        NpgsqlConnection connection = Reading();
        try
        {
            string where = RangeCondition.Of(within, table, wanted => PgConnection.Quote(_catalog.Column(name, wanted).Name), wanted =>
                _catalog.Column(name, wanted).Oid is PgTypes.Int2 or PgTypes.Int4 or PgTypes.Int8);
            return RangeCondition.Hold(new PgRecordReader(connection, $"SELECT {columns} FROM {From(name)}{where}{order}",
                [.. fields.Select(field => field.How)], $"{_address.Shown}, table {name}", TextPages.DecoderOf(_pages, name))
            { WhenEnded = Keep }, table, within);
        }
        catch (NpgsqlException error)
        {
            connection.Dispose();
            throw PgConnection.Stopped($"{_address.Shown}, table {name}: reading cannot begin", error);
        }
    }

    // A connection on the store's snapshot; it is kept for the next reading when this one ends well.
    private NpgsqlConnection Reading()
    {
        if (_idle.TryTake(out NpgsqlConnection? idle)) return idle;
        NpgsqlConnection connection = PgConnection.OpenKept(_address.Server!, _address.Path);
        try
        {
            PgConnection.Execute(connection,
                $"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT {PgConnection.Literal(_snapshot)}");
            return connection;
        }
        catch (NpgsqlException error)
        {
            connection.Dispose();
            throw PgConnection.Stopped($"{_address.Shown}: reading cannot begin", error);
        }
    }

    // In the engine's binary form where it is one of ours; otherwise written out by the engine and read as text.
    private static (string Sql, How How) FieldOf(PgColumn column, FieldType wanted)
    {
        string name = PgConnection.Quote(column.Name);
        return (column.Oid, wanted.Kind) switch
        {
            (PgTypes.Int8, FieldKind.Integer or FieldKind.Decimal or FieldKind.Boolean) => (name, How.Int8),
            (PgTypes.Int4, FieldKind.Integer or FieldKind.Decimal or FieldKind.Boolean) => (name, How.Int4),
            (PgTypes.Int2, FieldKind.Integer or FieldKind.Decimal or FieldKind.Boolean) => (name, How.Int2),
            (PgTypes.Numeric, FieldKind.Integer or FieldKind.Decimal or FieldKind.Boolean) => (name, How.Numeric),
            (PgTypes.Money, FieldKind.Integer or FieldKind.Decimal) => (name + "::numeric", How.Numeric),
            (PgTypes.Money, FieldKind.Text) => (name + "::numeric::text", How.Text), // not as the server's country writes money
            (PgTypes.Bool, FieldKind.Boolean) => (name, How.Bool),
            (PgTypes.Bool, FieldKind.Integer) => (name + "::int", How.Int4),
            (PgTypes.Date, FieldKind.Date) => (name, How.Date),
            (PgTypes.Date, FieldKind.Timestamp) => (name + "::timestamp", How.Timestamp),
            (PgTypes.Time, FieldKind.Time) => (name, How.Time),
            (PgTypes.Timestamp, FieldKind.Timestamp) => (name, How.Timestamp),
            (PgTypes.Timestamptz, FieldKind.Timestamp) => ($"({name} AT TIME ZONE 'UTC')", How.Timestamp),
            (PgTypes.Timestamptz, FieldKind.Text) => ($"({name} AT TIME ZONE 'UTC')::text", How.Text),
            (PgTypes.Bytea, FieldKind.Binary) => (name, How.Bytes),
            (PgTypes.Uuid, FieldKind.Uuid) => (name, How.Uuid),
            (PgTypes.Float8, FieldKind.Double) => (name, How.Float8),
            (PgTypes.Float4, FieldKind.Double) => (name, How.Float4),
            (PgTypes.Text or PgTypes.Varchar, FieldKind.Text) => (name, How.Text),
            (_, FieldKind.Text) => (name + "::text", How.Text), // of character(n) without its padding
            (_, FieldKind.Binary) => ($"convert_to({name}::text, 'UTF8')", How.Bytes),
            _ => (name + "::text", How.Written),
        };
    }

    public IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost)
    {
        string name = _catalog.Table(table.Name), from = From(name);
        var fields = table.Columns.Select(wanted => FieldOf(_catalog.Column(name, wanted.Name), wanted.Type)).ToArray();
        string columns = fields.Length == 0 ? "1" : string.Join(", ", fields.Select(field => field.Sql));
        long pages = long.Parse(Say(
            $"SELECT pg_relation_size({PgConnection.Literal(_places[name].Quoted)}) / "
            + "current_setting('block_size')::int") ?? "0", CultureInfo.InvariantCulture);
        return new SkippingReader(table, (first, before) =>
        {
            NpgsqlConnection connection = PgConnection.OpenKept(_address.Server!, _address.Path);
            try
            {
                PgConnection.Execute(connection, "BEGIN READ ONLY");
                return new PgRecordReader(connection,
                    FormattableString.Invariant($"SELECT {columns} FROM {from} WHERE ctid >= '({first},0)' AND ctid < '({before},0)'"),
                    [.. fields.Select(field => field.How)], $"{_address.Shown}, table {name}", TextPages.DecoderOf(_pages, name));
            }
            catch (NpgsqlException error)
            {
                connection.Dispose();
                throw PgConnection.Stopped($"{_address.Shown}, table {name}: reading cannot begin", error);
            }
        }, 0, pages - 1, "page", lost);
    }

    // Of a superuser's connection everything could be asked, programs to be run on the server among it. Where policies hide records that
    // role would see fewer.
    private const string ReadersRole = "pg_read_all_data",
        MayBeReader = "SELECT current_setting('is_superuser') = 'on' AND EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '" + ReadersRole
        + "') AND NOT EXISTS (SELECT 1 FROM pg_class WHERE relrowsecurity)";

    public QueryAnswer Ask(string sql, TimeSpan? limit = null)
    {
        string question = KitQuestion.Of(sql);
        TimeSpan wait = limit ?? KitQuestion.TimeLimit;
        try
        {
            NpgsqlConnection asking = Reading();
            try
            {
                // What is set for the question, and by it, ends with it; one that fails takes its connection with it.
                PgConnection.Execute(asking, "SAVEPOINT question");
                PgConnection.Execute(asking, FormattableString.Invariant($"SET LOCAL statement_timeout = {(long)wait.TotalMilliseconds}"));
                if (PgConnection.Scalar(asking, MayBeReader) is true) PgConnection.Execute(asking, $"SET LOCAL ROLE {ReadersRole}");
                QueryAnswer answer = Answer(asking, question);
                PgConnection.Execute(asking, "ROLLBACK TO question; RELEASE question");
                Keep(asking);
                return answer;
            }
            catch
            {
                asking.Dispose();
                throw;
            }
        }
        catch (PostgresException error)
        {
            throw error.SqlState == PostgresErrorCodes.QueryCanceled ? KitQuestion.TookTooLong(_address.Shown, sql, wait, error)
                : KitQuestion.Refused(_address.Shown, sql, error.MessageText, error);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"{_address.Shown} did not answer", error);
        }
    }

    // What this class itself wants to know; what fails must not end the snapshot.
    private QueryAnswer Inquire(string sql)
    {
        PgConnection.Execute(_keeper, "SAVEPOINT question");
        try
        {
            QueryAnswer answer = Answer(_keeper, sql);
            PgConnection.Execute(_keeper, "RELEASE question");
            return answer;
        }
        catch (PostgresException error)
        {
            PgConnection.Execute(_keeper, "ROLLBACK TO question; RELEASE question");
            throw KitQuestion.Refused(_address.Shown, sql, error.MessageText, error);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"{_address.Shown} did not answer", error);
        }
    }

    private static QueryAnswer Answer(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection) { AllResultTypesAreUnknown = true };
        using NpgsqlDataReader reader = command.ExecuteReader();
        string[] columns = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read()) rows.Add([.. Enumerable.Range(0, columns.Length).Select(i => reader.IsDBNull(i) ? null
            : reader.GetString(i))]);
        return new QueryAnswer(columns, rows);
    }

    public IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        NpgsqlConnection? connection = null;
        try
        {
            foreach (string table in _catalog.Tables.Keys)
            {
                string from = From(table);
                // A connection after each complaint, as the driver gives one up when the server tells of damage.
                connection ??= PgConnection.OpenKept(_address.Server!, _address.Path);
                try
                {
                    // Reads every page and every value that is kept outside of its record; with checksums the server finds damaged pages on
                    // the way.
                    PgConnection.Scalar(connection, $"SELECT sum(length(t::text)) FROM {from} t");
                }
                catch (NpgsqlException error)
                {
                    complaints.Add($"{table}: {(error as PostgresException)?.MessageText ?? error.Message}");
                    connection.Dispose();
                    connection = null;
                }
            }
        }
        finally { connection?.Dispose(); }
        complaints.AddRange(Inquire("SELECT c.relname, x.conname FROM pg_constraint x JOIN pg_class c ON c.oid = x.conrelid JOIN "
            + $"pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} "
            + "AND NOT x.convalidated ORDER BY 1, 2")
            .Rows.Select(row => $"the relation {row[1]} of {row[0]} was never proved by the server"));
        complaints.AddRange(Inquire("SELECT i.relname FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_namespace n ON "
            + $"n.oid = i.relnamespace WHERE {PgThings.Ours} AND NOT x.indisvalid ORDER BY 1")
            .Rows.Select(row => $"the index {row[0]} is not valid"));
        if (Say("SELECT count(*) FROM pg_extension WHERE extname = 'amcheck'") != "0") complaints.AddRange(LookIntoPages());
        return complaints;
    }

    // The server's own look into tables and indexes, page by page. Only where its extension is installed: nothing is added to the
    // office's database for it.
    private List<string> LookIntoPages()
    {
        var complaints = new List<string>();
        NpgsqlConnection? connection = null;
        string extension = Say("SELECT quote_ident(n.nspname) FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE "
            + "e.extname = 'amcheck'")!;
        try
        {
            foreach (IReadOnlyList<string?> index in Inquire("SELECT i.oid, i.relname FROM pg_index x JOIN pg_class i ON i.oid = "
                + $"x.indexrelid JOIN pg_namespace n ON n.oid = i.relnamespace JOIN pg_am a ON a.oid = i.relam WHERE {PgThings.Ours} "
                + "AND a.amname = 'btree' AND x.indisvalid ORDER BY 2").Rows)
                Look($"SELECT {extension}.bt_index_check({index[0]}::regclass, true)", $"the index {index[1]}");
            if (Say("SELECT count(*) FROM pg_proc WHERE proname = 'verify_heapam'") == "0") return complaints;
            foreach (IReadOnlyList<string?> table in Inquire("SELECT c.oid, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = "
                + $"c.relnamespace WHERE {PgThings.Ours} AND c.relkind = 'r' ORDER BY 2").Rows)
                Look($"SELECT 'page ' || blkno || ': ' || msg FROM {extension}.verify_heapam({table[0]}::regclass) LIMIT 200",
                    $"the table {table[1]}");
            return complaints;
        }
        finally { connection?.Dispose(); }

        void Look(string sql, string what)
        {
            connection ??= PgConnection.OpenKept(_address.Server!, _address.Path);
            try
            {
                using var command = new NpgsqlCommand(sql, connection) { CommandTimeout = 0 };
                using NpgsqlDataReader reader = command.ExecuteReader();
                while (reader.Read())
                    if (!reader.IsDBNull(0) && reader.GetValue(0) is string complaint) complaints.Add($"{what}, {complaint}");
            }
            catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.InsufficientPrivilege)
            {
                // Only some users may ask for it; what can be read was looked at before.
            }
            catch (NpgsqlException error)
            {
                complaints.Add($"{what}: {(error as PostgresException)?.MessageText ?? error.Message}");
                connection.Dispose();
                connection = null;
            }
        }
    }

    // Opening one takes as long as reading a small table, and there may be hundreds of those. It stays on the store's snapshot.
    private void Keep(NpgsqlConnection connection)
    {
        if (_isDisposed || _idle.Count >= MostIdle) connection.Dispose();
        else _idle.Add(connection);
    }

    public void Dispose()
    {
        _isDisposed = true;
        while (_idle.TryTake(out NpgsqlConnection? idle)) idle.Dispose();
        _keeper.Dispose();
    }
}
