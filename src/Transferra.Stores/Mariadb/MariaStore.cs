// MariaStore.cs: a MariaDB database opened for reading, in one consistent snapshot.
// Holds: (1) nothing is written: the transaction is read only; (2) all reading sees the state of the moment it was opened, also while
// others write. The
//        server promises that for InnoDB tables; tables of other kinds are locked against writing meanwhile.
using System.Globalization;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;
using static Transferra.Stores.Mariadb.MariaRecordReader;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaStore : IStore
{
    // Up to here a text can be cast in a query without fear of the server's limit for one packet, past which it would give a null.
    private const int LongestCastCharacters = 16_383;

    // Four bytes a character are within what the connection's settings let the server sort by.
    private const int LongestSortedCharacters = 4000;

    private readonly StoreAddress _address;
    private readonly MySqlConnection _connection;
    private readonly MySqlConnection? _locks;
    private readonly Catalog<MariaColumn> _catalog;
    private readonly KnownCounts _counts = new();
    private readonly KeptKeys _keys;
    private readonly string _database;

    private MariaStore(StoreAddress address, MySqlConnection connection)
    {
        (_address, _connection, _database) = (address, connection, MariaConnection.Literal(address.Path));
        string[] unsafeTables = [.. Rows($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_database} AND "
            + "table_type = 'BASE TABLE' AND engine <> 'InnoDB' ORDER BY 1").Select(row => row[0]!)];
        if (unsafeTables.Length > 0)
        {
            _locks = MariaConnection.Open(address.Server!, address.Path);
            MariaConnection.Execute(_locks, "SET SESSION lock_wait_timeout = 5");
            MariaConnection.Execute(_locks,
                "LOCK TABLES " + string.Join(", ", unsafeTables.Select(table => MariaConnection.Quote(table) + " READ")));
        }
        MariaConnection.Execute(connection, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ");
        MariaConnection.Execute(connection, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY");
        _keys = new KeptKeys(ReadShape);
        _catalog = new Catalog<MariaColumn>(address.Shown, LoadColumns(), column => column.Name);
        string version = MariaConnection.VersionOf(connection);
        bool isMaria = version.Contains("MariaDB", StringComparison.OrdinalIgnoreCase);
        IReadOnlyList<string?> schema =
            Rows("SELECT default_character_set_name, default_collation_name, current_user() FROM information_schema.schemata WHERE "
                + $"schema_name = {_database}")
            .SingleOrDefault()
            ?? throw new TransferraException($"the database {address.Shown} has gone", "Find out who removed it.");
        var facts = new Dictionary<string, string> { ["character_set"] = schema[0]!, ["collation"] = schema[1]!, ["user"] = schema[2]! };
        facts[ServerTls.Fact] = Rows("SHOW SESSION STATUS LIKE 'Ssl_version'") is [[_, { Length: > 0 } tls]]
            ? ServerTls.Said(address.Server!, tls) : ServerTls.Open(address.Server!);
        if (!isMaria) facts["flavour"] = "MySQL";
        if (unsafeTables.Length > 0) facts["tables_without_transactions"] = string.Join(", ", unsafeTables);
        long bytes = long.Parse(Rows("SELECT coalesce(sum(data_length + index_length), 0) FROM information_schema.tables WHERE "
            + $"table_schema = {_database}")
            .Single()[0]!, CultureInfo.InvariantCulture);
        Identity = new StoreIdentity("MariaDB", version.Split('-')[0], bytes, facts);
    }

    public StoreIdentity Identity { get; }

    public static MariaStore Open(StoreAddress address)
    {
        MySqlConnection connection = MariaConnection.Open(address.Server!, address.Path);
        try
        {
            return new MariaStore(address, connection);
        }
        catch (MySqlException error)
        {
            connection.Dispose();
            throw MariaConnection.Stopped($"the database {address.Shown} cannot be read", error);
        }
        catch
        {
            connection.Dispose();
            throw;
        }
    }

    private List<IReadOnlyList<string?>> Rows(string sql)
    {
        using var command = new MySqlCommand(sql, _connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read()) rows.Add([.. Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? null
            : Text(reader, i))]);
        return rows;
    }

    private static string? Text(MySqlDataReader reader, int column) => reader.GetValue(column) switch
    {
        byte[] bytes => System.Text.Encoding.UTF8.GetString(bytes),
        var value => Convert.ToString(value, CultureInfo.InvariantCulture),
    };

    private Dictionary<string, MariaColumn[]> LoadColumns()
    {
        // Two questions and no join: by a join the server opens every table of all its databases, and takes T1 and t1 for one.
        HashSet<string> tables = [.. Rows("SELECT table_name FROM information_schema.tables WHERE table_schema "
            + $"= {_database} AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') AND table_name <> '{MovedParts.Kept}'")
            .Select(row => row[0]!)];
        IEnumerable<IReadOnlyList<string?>> columns = Rows("SELECT table_name, column_name, data_type, column_type, numeric_precision, "
            + "numeric_scale, character_maximum_length, is_nullable, column_default, extra FROM information_schema.columns WHERE "
            + $"table_schema = {_database} ORDER BY table_name, ordinal_position").Where(row => tables.Contains(row[0]!));
        return columns.GroupBy(row => row[0]!).OrderBy(table => table.Key, StringComparer.Ordinal)
            .ToDictionary(table => table.Key, table => table.Select(row => new MariaColumn(row[1]!, row[2]!.ToLowerInvariant(),
            row[3]!.Contains("unsigned", StringComparison.OrdinalIgnoreCase), Number(row[4]), Number(row[5]), row[6] is null
                ? 0 : long.Parse(row[6]!, CultureInfo.InvariantCulture), row[7] == "NO",
            row[8] is null or "NULL" ? null : row[8], row[9]!.Contains("auto_increment", StringComparison.OrdinalIgnoreCase))).ToArray());

        static int Number(string? text) => text is null ? 0 : int.Parse(text, CultureInfo.InvariantCulture);
    }

    private IReadOnlyList<TableShape>? _shape;

    // Asked of the server once: the store is seen as it was when it was opened, and a match asks for every table of hundreds.
    public IReadOnlyList<TableShape> ReadShape() => _shape ??= LoadShape();

    private IReadOnlyList<TableShape> LoadShape()
    {
        var indexes = Rows("SELECT table_name, index_name, column_name, non_unique, sub_part IS NOT NULL OR index_type <> 'BTREE' FROM "
            + "information_schema.statistics WHERE "
            + $"table_schema = {_database} ORDER BY table_name, index_name, seq_in_index").ToLookup(row => row[0]!);
        var relations = Rows("SELECT k.table_name, k.constraint_name, k.column_name, k.referenced_table_name, k.referenced_column_name, "
            + "r.delete_rule, r.update_rule FROM information_schema.key_column_usage k JOIN (SELECT DISTINCT table_name, constraint_name, "
            + $"delete_rule, update_rule FROM information_schema.referential_constraints WHERE constraint_schema = {_database}) r "
            + "ON r.constraint_name = k.constraint_name AND r.table_name = k.table_name "
            + $"WHERE k.table_schema = {_database} AND k.referenced_table_name IS NOT NULL "
            + "ORDER BY k.table_name, k.constraint_name, k.ordinal_position").ToLookup(row => row[0]!);
        return [.. _catalog.Tables.Select(table => new TableShape(table.Key,
            [.. table.Value.Select(column => new ColumnShape(column.Name, MariaTypes.Of(column), column.Required,
                Default: column.Default))],
            [.. indexes[table.Key].Where(row => row[1] == "PRIMARY").Select(row => row[2]!)],
            [.. relations[table.Key].GroupBy(row => row[1]).Select(relation =>
                new RelationShape([.. relation.Select(row => row[2]!)], relation.First()[3]!, [.. relation.Select(row => row[4]!)])
                {
                    Rules = RelationShape.RulesOf(relation.First()[5], relation.First()[6])
                })])
        {
            Indexes = [.. indexes[table.Key].Where(row => row[1] != "PRIMARY").GroupBy(row => row[1]!)
                .Select(index => new IndexShape(index.Key, [.. index.Select(row => row[2]).OfType<string>()], index.First()[3] == "0")
                {
                    IsSpecial = index.Any(row => row[4] != "0" || row[2] is null)
                })],
            NumberedColumn = Array.Find(table.Value, column => column.IsNumbered)?.Name,
        })];
    }

    public StoreScript? ReadScript(string folder) => new MariaScript(_connection, _address.Path).Read();

    private IReadOnlyList<StoreDeclaration>? _declarations;

    /// <inheritdoc/>
    public IReadOnlyList<StoreDeclaration> Declarations() => _declarations ??=
        new MariaThings(Rows, new MariaParts(_connection, _address.Path), _address.Path).All();

    public IReadOnlyList<string> NotCarried() => new MariaScript(_connection, _address.Path).NotCarried();

    public IReadOnlyList<StoreObject> ListObjects() =>
    [
        .. Rows($"SELECT 'event', event_name, '' FROM information_schema.events WHERE event_schema = {_database} UNION ALL SELECT "
            + $"'routine', routine_name, '' FROM information_schema.routines WHERE routine_schema = {_database} "
            + $"UNION ALL SELECT 'sequence', table_name, '' FROM information_schema.tables WHERE table_schema = {_database} AND "
            + "table_type = 'SEQUENCE' "
            + $"UNION ALL SELECT 'numbering', table_name, auto_increment FROM information_schema.tables WHERE table_schema = {_database} "
            + "AND auto_increment IS NOT NULL "
            + "UNION ALL SELECT 'trigger', trigger_name, event_object_table FROM information_schema.triggers WHERE event_object_schema = "
            + $"{_database} UNION ALL SELECT 'view', table_name, '' FROM information_schema.views "
            + $"WHERE table_schema = {_database} ORDER BY 1, 2")
            .Select(row => new StoreObject(row[0]!, row[1]!, row[2]!)),
    ];

    public bool KeepsKey(string table, IReadOnlyList<string> key) => _keys.Keeps(_catalog.Table(table), key);

    public long CountRows(string table) => _counts.Of(_catalog.Table(table), name =>
        long.Parse(Rows($"SELECT count(*) FROM {MariaConnection.Quote(name)}").Single()[0]!, CultureInfo.InvariantCulture));

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        string name = _catalog.Table(table.Name);
        var fields = table.Columns.Select(wanted => FieldOf(_catalog.Column(name, wanted.Name), wanted.Type)).ToArray();
        // The server sorts by the first bytes of a text only, and has little room for more; longer ones are put in order here.
        bool sortsHere = orderBy.Any(wanted => _catalog.Column(name, wanted) is { IsText: true, Characters: > LongestSortedCharacters });
        string order = orderBy.Count == 0 || sortsHere ? "" : " ORDER BY " + string.Join(", ",
            orderBy.Select(wanted => _catalog.Column(name, wanted)).Select(column =>
            column.IsText ? $"CAST(CONVERT({MariaConnection.Quote(column.Name)} USING utf8mb4) AS BINARY)"
                : MariaConnection.Quote(column.Name)));
        string columns = fields.Length == 0 ? "1" : string.Join(", ", fields.Select(field => field.Sql));
        string where = RangeCondition.Of(within, table, MariaConnection.Quote, wanted => _catalog.Column(name, wanted).IsWhole);
        IRecordReader reader = RangeCondition.Hold(new MariaRecordReader(_connection,
            () => MariaConnection.Interrupt(_address.Server!, _connection.ServerThread),
            $"SELECT {columns} FROM {MariaConnection.Quote(name)}{where}{order}",
            [.. fields.Select(field => field.How)], $"{_address.Shown}, table {name}"), table, within);
        return sortsHere ? new RecordSorter(reader, table.Columns, [.. orderBy.Select(table.OrdinalOf)]) : reader;
    }

    private static (string Sql, How How) FieldOf(MariaColumn column, FieldType wanted)
    {
        string name = MariaConnection.Quote(column.Name);
        bool asNumber = wanted.Kind is FieldKind.Integer or FieldKind.Boolean or FieldKind.Decimal;
        if (column.Type == "bit")
        {
            string number = $"CAST({name} AS UNSIGNED)";
            return asNumber && column.Precision < 64 ? (number, How.Whole) : ($"CAST({number} AS BINARY)", How.Written);
        }
        if (column.IsWhole && asNumber && !(column.Type == "bigint" && column.IsUnsigned)) return (name, How.Whole);
        if (column.IsBinary) return (name, How.Bytes) is var bytes && wanted.Kind is FieldKind.Binary ? bytes
            : (name, wanted.Kind == FieldKind.Uuid ? How.Bytes : How.Written);
        if (column.IsText)
        {
            return column.Type is "enum" or "set" or "inet4" or "inet6" || column.Characters is > 0 and <= LongestCastCharacters
                ? ($"CAST(CONVERT({name} USING utf8mb4) AS BINARY)", wanted.Kind == FieldKind.Binary ? How.Bytes : How.Written)
                    : (name, How.LongText);
        }
        // A float is written out with six digits only; as a double it has all that it holds.
        if (column.Type == "float") return ($"CAST(CAST({name} AS DOUBLE) AS BINARY)", How.Written);
        // An identifier is sixteen bytes there, and is wanted as it is written.
        if (column.Type == "uuid") return ($"CAST(CAST({name} AS CHAR) AS BINARY)", How.Written);
        return ($"CAST({name} AS BINARY)", How.Written);
    }

    public IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => KeyedSalvage.Read(this, table,
        _catalog.Table(table.Name), MariaConnection.Quote, lost);

    public QueryAnswer Ask(string sql, TimeSpan? limit = null)
    {
        string question = KitQuestion.Of(sql);
        TimeSpan wait = limit ?? KitQuestion.TimeLimit;
        try
        {
            using MySqlConnection asking = MariaConnection.Open(_address.Server!, _address.Path);
            MariaConnection.Execute(asking, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ");
            MariaConnection.Execute(asking, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY");
            using var command = new MySqlCommand(question, asking) { CommandTimeout = Math.Max(1, (int)wait.TotalSeconds) };
            return Answer(command);
        }
        catch (MySqlException error)
        {
            throw error.ErrorCode is MySqlErrorCode.CommandTimeoutExpired or MySqlErrorCode.QueryInterrupted
                ? KitQuestion.TookTooLong(_address.Shown, sql, wait, error)
                : KitQuestion.Refused(_address.Shown, sql, error.Message, error);
        }
    }

    private static QueryAnswer Answer(MySqlCommand command)
    {
        using MySqlDataReader reader = command.ExecuteReader();
        string[] columns = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read()) rows.Add([.. Enumerable.Range(0, columns.Length).Select(i => reader.IsDBNull(i) ? null : Text(reader, i))]);
        return new QueryAnswer(columns, rows);
    }

    private readonly List<StoreRemark> _remarks = [];

    public IReadOnlyList<StoreRemark> Remarks => _remarks;

    public IReadOnlyList<string> CheckPhysically()
    {
        var complaints = new List<string>();
        _remarks.Clear();
        foreach (string table in _catalog.Tables.Keys)
        {
            foreach (IReadOnlyList<string?> row in Checked(table))
            {
                // An engine of the server that has no check says so in a note, and nothing of damage.
                if (row[2] == "note") _remarks.Add(new StoreRemark(StoreRemark.Odd, $"{table}: {row[3]}"));
                else if (!(row[2] == "status" && row[3] is "OK"
                    or "Table is already up to date")) complaints.Add($"{table}: {row[2]}: {row[3]}");
            }
        }
        // The server wants to close a table that it found damaged, and waits for all who hold it: also for ourselves.
        if (complaints.Count > 0) _locks?.Dispose();
        return complaints;
    }

    private List<IReadOnlyList<string?>> Checked(string table)
    {
        try { return Rows($"CHECK TABLE {MariaConnection.Quote(table)} EXTENDED"); }
        catch (MySqlException error) { throw MariaConnection.Stopped($"{_address.Shown}: the table {table} cannot be checked", error); }
    }

    public void Dispose()
    {
        _connection.Dispose();
        _locks?.Dispose();
    }
}
