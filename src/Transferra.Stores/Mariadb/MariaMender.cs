// MariaMender.cs: changes records of copied MariaDB tables. The engine tells of no place of a record, so the copy gets a column that
// numbers them, which is taken away again at the end.
// Why only tables are copied: a change-over moves tables from database to database here; views, routines and events stay where they are.
using System.Data.Common;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaMender : SqlMender
{
    private const string PlaceColumn = "transferra_place";

    private readonly List<string> _numbered = [];
    private readonly string _database;

    public MariaMender(StoreAddress address) : base(MariaConnection.Open(address.Server!, address.Path), address.Shown)
    {
        _database = MariaConnection.Literal(address.Path);
        if (Rows($"SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = {_database} LIMIT 1")
            is [var trigger, ..])
        {
            Dispose();
            throw new TransferraException($"the trigger {trigger[0]} would run for records that are put right in {address.Shown}",
                "Take the triggers away for the time of the mending, and put them back after.");
        }
        Execute("SET SESSION foreign_key_checks = 0, sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION'");
    }

    public override bool HasPlacesOfOriginal => false;

    public override ColumnShape Prepare(TableShape table)
    {
        // A table that counts a column of its own cannot have a second one; that one tells its records apart when it is unique.
        if (Rows($"SELECT column_name FROM information_schema.columns WHERE table_schema = {_database} AND lower(table_name) = "
            + $"lower({MariaConnection.Literal(table.Name)}) AND extra LIKE '%auto_increment%'") is [var own, ..])
        {
            if (Rows($"SELECT 1 FROM information_schema.statistics s WHERE table_schema = {_database} AND lower(table_name) = "
                + $"lower({MariaConnection.Literal(table.Name)}) AND column_name = {MariaConnection.Literal(own[0]!)} AND non_unique = 0 "
                + "AND (SELECT count(*) FROM information_schema.statistics o WHERE o.table_schema = " + _database + " AND o.table_name = "
                + "s.table_name AND o.index_name = s.index_name) = 1").Count == 0)
                throw new TransferraException($"records of {table.Name} cannot be told apart: it counts {own[0]}, which is not unique",
                    "Take the mend of this table out of the kit, and mend it in the old program.");
            _places[table.Name] = own[0]!;
            return new ColumnShape(own[0]!, FieldType.Integer);
        }
        Execute($"ALTER TABLE {Name(table.Name)} ADD COLUMN {PlaceColumn} BIGINT NOT NULL AUTO_INCREMENT UNIQUE");
        _numbered.Add(table.Name);
        _places[table.Name] = PlaceColumn;
        return new ColumnShape(PlaceColumn, FieldType.Integer);
    }

    private readonly Dictionary<string, string> _places = [];

    protected override string Name(string table, string? column = null) =>
        MariaConnection.Quote(column ?? Rows($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_database} AND "
            + $"lower(table_name) = lower({MariaConnection.Literal(table)}) ORDER BY BINARY table_name <> "
            + $"{MariaConnection.Literal(table)} LIMIT 1")[0][0]!);

    protected override string AtPlace(string table) => $"{MariaConnection.Quote(_places[table])} = @place";

    protected override object Place(Vector places, int row) => ((LongVector)places).Values[row];

    // In strict mode the engine refuses what a column cannot hold, and the mending fails with it.
    public override bool CanHold(TableShape table, ColumnShape column, string value) => true;

    protected override string Setting(string table, ColumnShape column, string value, string parameter, DbCommand command)
    {
        Add(command, parameter[1..], value);
        return parameter;
    }

    protected override bool IsOfEngine(Exception error) => error is MySqlException;

    private List<string> Tables() =>
        [.. Rows($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_database} "
            + "AND table_type = 'BASE TABLE' ORDER BY 1")
        .Select(row => row[0]!)];

    public override string RebuildIndexes()
    {
        foreach (string table in Tables()) Execute($"ALTER TABLE {MariaConnection.Quote(table)} FORCE");
        return "all tables were built anew with their indexes";
    }

    public override IReadOnlyList<PositionChange> SetPositions()
    {
        var changes = new List<PositionChange>();
        foreach (string?[] row in Rows("SELECT t.table_name, t.auto_increment, c.column_name FROM information_schema.tables t JOIN "
            + $"information_schema.columns c ON c.table_name = t.table_name WHERE t.table_schema = {_database} AND "
            + $"c.table_schema = {_database} AND c.extra LIKE '%auto_increment%' AND c.column_name <> '{PlaceColumn}' ORDER BY 1"))
        {
            long before = Whole(row[1]) - 1,
                most = Whole(Rows($"SELECT coalesce(max({MariaConnection.Quote(row[2]!)}), 0) FROM "
                    + $"{MariaConnection.Quote(row[0]!)}")[0][0]);
            if (before >= most) continue;
            Execute(FormattableString.Invariant($"ALTER TABLE {MariaConnection.Quote(row[0]!)} AUTO_INCREMENT = {most + 1}"));
            changes.Add(new PositionChange(row[0]!, before, most));
        }
        return changes;
    }

    public override void Complete()
    {
        foreach (string table in _numbered) Execute($"ALTER TABLE {Name(table)} DROP COLUMN {PlaceColumn}");
    }

    /// <summary>Copies all tables of a database into a new one on the same server, as they are declared.</summary>
    public static void Copy(StoreAddress from, StoreAddress to)
    {
        using MySqlConnection connection = MariaConnection.Open(from.Server!, "");
        string source = MariaConnection.Quote(from.Path), target = MariaConnection.Quote(to.Path),
            schema = MariaConnection.Literal(from.Path);
        try
        {
            MariaConnection.Execute(connection, $"CREATE DATABASE {target} {MariaServer.OrderOf(connection, from.Path)}");
            MariaConnection.Execute(connection,
                $"SET SESSION foreign_key_checks = 0, unique_checks = 0, check_constraint_checks = 0, sql_mode = "
                    + $"'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'; USE {target}");
            CopySequences(connection, from, target);
            foreach (string table in MariaServer.TablesOf(connection, from.Path))
            {
                string name = MariaConnection.Quote(table);
                string declared = Here(from, Declared(connection, $"{source}.{name}"));
                MariaConnection.Execute(connection, declared);
                if (KeepsPast(connection, from, table)) continue;
                string columns = string.Join(", ", List(connection,
                    $"SELECT column_name FROM information_schema.columns WHERE table_schema = {schema} AND table_name = "
                        + $"{MariaConnection.Literal(table)} AND extra NOT LIKE '%GENERATED%' ORDER BY "
                        + "ordinal_position").Select(MariaConnection.Quote));
                MariaConnection.Execute(connection, $"INSERT INTO {target}.{name} ({columns}) SELECT {columns} FROM {source}.{name}");
            }
            MariaPart[] parts = [.. new MariaParts(connection, from.Path).All()];
            if (parts.FirstOrDefault(part => part.Whole is null) is { } hidden) throw MovedParts.MayNotRead(hidden, from.Path);
            MovedParts.Make(connection, [.. parts.Select(part => part with { Statement = part.Whole })], to.Path);
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"the tables of {from.Shown} cannot be copied", error);
        }
    }

    // They count on from where the server is sure that no number was given out. Where the office has one of the same name it stays, and the
    // tables draw from that (MariaServer.Rename).
    private static void CopySequences(MySqlConnection connection, StoreAddress from, string target)
    {
        foreach (string name in List(connection, "SELECT table_name FROM information_schema.tables WHERE table_schema = "
            + $"{MariaConnection.Literal(from.Path)} AND table_type = 'SEQUENCE' ORDER BY 1"))
        {
            string quoted = MariaConnection.Quote(name), full = $"{MariaConnection.Quote(from.Path)}.{quoted}";
            MariaConnection.Execute(connection, Here(from, MariaServer.List(connection, $"SHOW CREATE SEQUENCE {full}", 1)[0]));
            MariaConnection.Execute(connection, $"ALTER SEQUENCE {target}.{quoted} RESTART "
                + MariaConnection.Scalar(connection, $"SELECT next_not_cached_value FROM {full}"));
        }
    }

    private static string Here(StoreAddress from, string statement) =>
        statement.Replace(MariaConnection.Quote(from.Path) + ".", "", StringComparison.Ordinal);

    // The past that the server keeps of a table comes with it, where the server lets it be written.
    private static bool KeepsPast(MySqlConnection connection, StoreAddress from, string table)
    {
        string name = MariaConnection.Quote(table), schema = MariaConnection.Literal(from.Path);
        if (List(connection, $"SELECT 1 FROM information_schema.tables WHERE table_schema = {schema} AND table_type = 'SYSTEM VERSIONED' "
            + $"AND table_name = {MariaConnection.Literal(table)}").Count == 0) return false;
        string[] columns = [.. List(connection, "SELECT column_name FROM information_schema.columns WHERE table_schema "
            + $"= {schema} AND table_name = {MariaConnection.Literal(table)} AND (extra NOT LIKE '%GENERATED%' OR "
            + "generation_expression LIKE 'ROW %') ORDER BY ordinal_position").Select(MariaConnection.Quote)];
        string[] times = columns
            .Any(column => column.Equals("`row_start`", StringComparison.OrdinalIgnoreCase)) ? [] : ["row_start", "row_end"];
        string all = string.Join(", ", columns.Concat(times));
        MariaConnection.Execute(connection, "SET SESSION system_versioning_insert_history = 1");
        MariaConnection.Execute(connection,
            $"INSERT INTO {name} ({all}) SELECT {all} FROM {MariaConnection.Quote(from.Path)}.{name} FOR SYSTEM_TIME ALL");
        MariaConnection.Execute(connection, "SET SESSION system_versioning_insert_history = 0");
        return true;
    }

    private static string Declared(MySqlConnection connection, string table)
    {
        using var command = new MySqlCommand($"SHOW CREATE TABLE {table}", connection);
        using MySqlDataReader reader = command.ExecuteReader();
        reader.Read();
        return reader.GetString(1);
    }

    private static List<string> List(MySqlConnection connection, string sql) => MariaServer.List(connection, sql);
}
