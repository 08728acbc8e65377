// PgMender.cs: changes records of a copied PostgreSQL database, by their places (ctid), which a copy made from a template shares with its
// original.
using System.Data.Common;
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Postgresql;

internal sealed class PgMender : SqlMender
{
    /// <summary>The system column that tells where a record lies.</summary>
    public const string PlaceColumn = "ctid";

    private readonly string _schema;
    private readonly bool _silencesTriggers;
    private readonly PgPlaces _known;
    private bool _rebuilds;

    public PgMender(StoreAddress address) : base(PgConnection.Open(address.Server!, address.Path), address.Shown)
    {
        _schema = address.Options.GetValueOrDefault("schema") ?? PgStore.UsualSchema;
        _silencesTriggers = Rows("SELECT 1 FROM pg_roles WHERE rolname = current_user AND rolsuper").Count > 0;
        if (_silencesTriggers) Execute("SET session_replication_role = replica");
        Transaction = Connection.BeginTransaction();
        _known = new PgPlaces((NpgsqlConnection)Connection, _schema);
    }

    public override bool HasPlacesOfOriginal => true;

    public override ColumnShape Prepare(TableShape table)
    {
        if (!_silencesTriggers && Rows("SELECT tgname FROM pg_trigger WHERE tgrelid = "
            + $"{PgConnection.Literal(Name(table.Name))}::regclass AND NOT tgisinternal AND tgenabled <> 'D'") is [var trigger, ..])
            throw new TransferraException($"the trigger {trigger[0]} of {table.Name} would run for every record that is put right, and "
                + "this user may not keep it from that", "Run this as an administrator of the server.");
        return new ColumnShape(PlaceColumn, FieldType.Text);
    }

    protected override string Name(string table, string? column = null) => column is null ? PlaceOf(table).Quoted
        : PgConnection.Quote(RealColumn(table, column));

    private readonly Dictionary<string, PgPlace> _places = [];

    private PgPlace PlaceOf(string table) => _places.TryGetValue(table, out PgPlace? known) ? known
        : _places[table] = _known.Find(table)
            ?? throw new TransferraException($"the copy has no table {table}", "Somebody or something else changed it; try again.");

    private readonly Dictionary<(string, string), (string Name, string Type)> _columns = [];

    private (string Name, string Type) Column(string table, string column)
    {
        if (_columns.TryGetValue((table, column), out (string, string) known)) return known;
        string?[] row = Rows("SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = "
            + $"{PgConnection.Literal(Name(table))}::regclass AND lower(attname) = lower({PgConnection.Literal(column)}) AND NOT "
            + $"attisdropped ORDER BY attname <> {PgConnection.Literal(column)} LIMIT 1")[0];
        return _columns[(table, column)] = (row[0]!, row[1]!);
    }

    private string RealColumn(string table, string column) => Column(table, column).Name;

    protected override string AtPlace(string table) => "ctid = CAST(@place AS tid)";

    protected override object Place(Vector places, int row) => places.Show(row);

    // A text that is longer than its column is refused by the engine, and the mending fails with it.
    public override bool CanHold(TableShape table, ColumnShape column, string value) => true;

    protected override string Setting(string table, ColumnShape column, string value, string parameter, DbCommand command)
    {
        Add(command, parameter[1..], value);
        return $"CAST(CAST({parameter} AS text) AS {Column(table, column.Name).Type})";
    }

    protected override bool IsOfEngine(Exception error) => error is NpgsqlException;

    public override string RebuildIndexes()
    {
        _rebuilds = true; // not within a transaction
        return "all indexes were built anew";
    }

    public override IReadOnlyList<PositionChange> SetPositions()
    {
        var changes = new List<PositionChange>();
        foreach (string?[] row in Rows("SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname), a.attname, "
            + "pg_get_serial_sequence(quote_ident(n.nspname) || '.' || "
            + "quote_ident(c.relname), a.attname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON "
            + $"a.attrelid = c.oid WHERE {PgThings.Ours} AND c.relkind IN ('r', 'p') AND a.attnum > 0 "
            + "AND NOT a.attisdropped ORDER BY 1, 2"))
        {
            if (row[2] is not { } sequence) continue;
            // A sequence that was never asked stands before its first number.
            long before = Whole(Rows($"SELECT CASE WHEN is_called THEN last_value ELSE last_value - 1 END FROM {sequence}")[0][0]);
            long most = Whole(Rows($"SELECT coalesce(max({PgConnection.Quote(row[1]!)}), 0) FROM "
                + row[0]!)[0][0]);
            if (before >= most) continue;
            Rows(FormattableString.Invariant($"SELECT setval({PgConnection.Literal(sequence)}, {most})"));
            changes.Add(new PositionChange(sequence, before, most));
        }
        return changes;
    }

    public override void Complete()
    {
        Transaction!.Commit();
        Transaction.Dispose();
        Transaction = null;
        if (!_rebuilds) return;
        foreach (string?[] schema in Rows($"SELECT quote_ident(n.nspname) FROM pg_namespace n WHERE {PgThings.Ours} ORDER BY 1"))
            Execute($"REINDEX SCHEMA {schema[0]}");
    }

    /// <summary>Copies a database within its server, with who owns it, who may come in, and its settings.</summary>
    public static void Copy(StoreAddress from, StoreAddress to)
    {
        PgConnection.LetGo(from.Path);
        using NpgsqlConnection connection = PgConnection.OpenKept(from.Server!, PgConnection.Maintenance);
        try
        {
            string source = PgConnection.Literal(from.Path), target = PgConnection.Quote(to.Path);
            string? owner = (string?)PgConnection.Scalar(connection,
                $"SELECT quote_ident(pg_get_userbyid(datdba)) FROM pg_database WHERE datname = {source}");
            // As files, so that every record keeps its place.
            string strategy = connection.PostgreSqlVersion.Major >= 15 ? " STRATEGY file_copy" : "";
            PgConnection.Execute(connection, $"CREATE DATABASE {target} TEMPLATE {PgConnection.Quote(from.Path)} OWNER {owner}{strategy}");
            foreach (string statement in Statements(connection, $"""
                SELECT 'REVOKE ALL ON DATABASE ' || quote_ident({PgConnection.Literal(to.Path)}) || ' FROM PUBLIC' FROM pg_database
                  WHERE datname = {source} AND datacl IS NOT NULL
                UNION ALL SELECT format('GRANT %s ON DATABASE %I TO %s%s', privilege_type, {PgConnection.Literal(to.Path)}, CASE grantee
                  WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END, CASE WHEN is_grantable THEN ' WITH GRANT OPTION'
                  ELSE '' END)
                    FROM pg_database, aclexplode(datacl) WHERE datname = {source} AND grantee <> datdba
                UNION ALL SELECT format('ALTER %s SET %I TO %s', CASE setrole WHEN 0 THEN format('DATABASE %I',
                  {PgConnection.Literal(to.Path)}) ELSE format('ROLE %I IN DATABASE %I', pg_get_userbyid(setrole),
                  {PgConnection.Literal(to.Path)}) END,
                    split_part(setting, '=', 1), CASE WHEN lower(split_part(setting, '=', 1)) IN ('search_path', 'temp_tablespaces',
                      'session_preload_libraries', 'local_preload_libraries') THEN substr(setting, strpos(setting, '=') + 1)
                      ELSE quote_literal(substr(setting, strpos(setting, '=') + 1)) END) FROM pg_db_role_setting s
                      JOIN pg_database d ON d.oid = s.setdatabase, unnest(setconfig) setting WHERE d.datname = {source}
                """)) PgConnection.Execute(connection, statement);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the database {from.Shown} cannot be copied", error);
        }
    }

    private static List<string> Statements(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var statements = new List<string>();
        while (reader.Read()) statements.Add(reader.GetString(0));
        return statements;
    }
}
