// MariaRevision.cs: makes copied MariaDB tables ready for the new version: those that are filled anew are emptied and changed in place, so
// that engines, collations, comments, checks, indexes and partitions stay.
// Holds: (1) a table that is not named is not touched; (2) a table whose engine cannot take rows back is loaded in one that can.
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaRevision
{
    private const string Transactional = "InnoDB";

    private readonly MySqlConnection _connection;
    private readonly string _schema;
    private readonly List<string> _takenAway = [], _links = [];

    private MariaRevision(MySqlConnection connection, string database) =>
        (_connection, _schema) = (connection, MariaConnection.Literal(database));

    /// <summary>Revises a copy.</summary>
    public static BuildMark Run(StoreAddress copy, StoreRevision revision)
    {
        try
        {
            using MySqlConnection connection = MariaConnection.Open(copy.Server!, copy.Path);
            var work = new MariaRevision(connection, copy.Path);
            work.Do("SET SESSION foreign_key_checks = 0");
            RevisedTable[] inPlace = [.. revision.Tables.Where(table => table.Was is not null)];
            work.Revise(inPlace, revision.Removed);
            string[] filled = [.. inPlace.Select(table => table.Shape.Name)];
            return new BuildMark(filled.ToDictionary(table => table, _ => new BuiltTable(0, [])))
            {
                Copy = new CopyRest([.. MariaServer.TablesOf(connection, copy.Path)
                    .Where(table => !filled.Contains(table, StringComparer.OrdinalIgnoreCase))], [.. work._takenAway, .. work._links])
            };
        }
        catch (MySqlException error)
        {
            throw new TransferraException($"the copy {copy.Shown} cannot be made ready for the new version: {error.Message}",
                "The kit asks for something that this database does not allow, or this user may not. The old data is untouched.", error);
        }
    }

    private void Do(string sql) => MariaConnection.Execute(_connection, sql);

    private List<string> List(string sql, int column = 0) => MariaServer.List(_connection, sql, column);

    private string NameOf(string table) => List($"SELECT table_name FROM information_schema.tables WHERE table_schema = {_schema} AND "
        + $"lower(table_name) = lower({MariaConnection.Literal(table)}) ORDER BY BINARY table_name <> {MariaConnection.Literal(table)} "
        + "LIMIT 1").FirstOrDefault() ?? throw new TransferraException($"the copy has no table {table}",
            "The store differs from what the kit says of this version; run: transferra check");

    private void Revise(IReadOnlyList<RevisedTable> inPlace, IReadOnlyList<string> removed)
    {
        foreach (string table in removed)
        {
            string name = NameOf(table);
            LetGo(name);
            Do($"DROP TABLE {MariaConnection.Quote(name)}");
        }
        foreach (RevisedTable table in inPlace) TakeAwayTriggers(NameOf(table.Was!.Name));
        foreach (bool toFree in (bool[])[true, false])
            foreach (RevisedTable table in inPlace) RenameColumns(table, NameOf(table.Was!.Name), toFree);
        foreach (RevisedTable table in inPlace.Where(table => table.IsRenamed)) RenameTable(NameOf(table.Was!.Name), Free(table));
        foreach (RevisedTable table in inPlace.Where(table => table.IsRenamed)) RenameTable(Free(table), table.Shape.Name);
        foreach (RevisedTable table in inPlace) Empty(table, NameOf(table.Shape.Name));
    }

    private static string Free(RevisedTable table) => StoreAddress.RunPrefix + table.Shape.Name;

    private void RenameTable(string from, string to) =>
        Do($"RENAME TABLE {MariaConnection.Quote(from)} TO {MariaConnection.Quote(to)}");

    // They are not to run for records that are only carried, and the server renames no table that has one.
    private void TakeAwayTriggers(string table)
    {
        foreach (string trigger in List($"SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = {_schema} AND "
            + $"event_object_table = {MariaConnection.Literal(table)} ORDER BY action_timing, event_manipulation, action_order"))
        {
            MariaPart part = new MariaParts(_connection, _connection.Database).Trigger(trigger);
            _takenAway.Add(part.Whole ?? throw MovedParts.MayNotRead(part, _connection.Database));
            Do($"DROP TRIGGER {MariaConnection.Quote(trigger)}");
        }
    }

    private void RenameColumns(RevisedTable table, string name, bool toFree)
    {
        foreach (RevisedColumn column in table.Renamed)
        {
            string free = MariaConnection.Quote(StoreAddress.RunPrefix + column.Column.Name);
            Do($"ALTER TABLE {MariaConnection.Quote(name)} RENAME COLUMN {(toFree ? MariaConnection.Quote(column.From!) : free)} TO "
                + (toFree ? free : MariaConnection.Quote(column.Column.Name)));
        }
    }

    // Links to a table that goes.
    private void LetGo(string table)
    {
        foreach (string link in List("SELECT concat('ALTER TABLE `', table_name, '` DROP FOREIGN KEY `', constraint_name, '`') FROM "
            + $"information_schema.referential_constraints WHERE constraint_schema = {_schema} AND referenced_table_name = "
            + $"{MariaConnection.Literal(table)} AND table_name <> {MariaConnection.Literal(table)}")) Do(link);
    }

    private string[] Lines(string table) => List($"SHOW CREATE TABLE {MariaConnection.Quote(table)}", 1)[0].Split('\n');

    private void Empty(RevisedTable table, string name)
    {
        string quoted = MariaConnection.Quote(name), here = $"table_schema = {_schema} AND table_name = {MariaConnection.Literal(name)}";
        string engine = List($"SELECT engine FROM information_schema.tables WHERE {here}")[0];
        List<string> counted = List($"SELECT auto_increment FROM information_schema.tables WHERE {here} AND auto_increment IS NOT NULL");
        Do($"TRUNCATE TABLE {quoted}");
        if (engine != Transactional)
        {
            string options = Lines(name)[^1];
            Do($"ALTER TABLE {quoted} ENGINE = {Transactional}, ROW_FORMAT = DEFAULT");
            _takenAway.Add($"ALTER TABLE {quoted} ENGINE = {engine}"
                + (options.Contains(" ROW_FORMAT=", StringComparison.Ordinal)
                    ? ", ROW_FORMAT =" + options.Split(" ROW_FORMAT=")[1].Split(' ')[0].Insert(0, " ") : ""));
        }
        string[] columns = [.. List($"SELECT column_name FROM information_schema.columns WHERE {here} AND extra NOT LIKE '%GENERATED%'")];
        string[] gone = table.KeepsOtherColumns ? [] : [.. columns.Where(column => !table.Columns.Any(known => known.From is not null
            && RevisedTable.Same(known.Column.Name, column)))];
        string[] changed = [.. gone, .. table.Columns.Where(column => column is { From: not null, IsSame: false })
            .Select(column => column.Column.Name)];
        if (changed.Length > 0) FreeFromConstraints(name, changed, gone);
        var changes = new List<string>(gone.Select(column => $"DROP COLUMN {MariaConnection.Quote(column)}"));
        changes.AddRange(Changes(table, name));
        if (table.HasOtherKey && List($"SELECT 1 FROM information_schema.table_constraints WHERE {here} "
            + "AND constraint_type = 'PRIMARY KEY'").Count > 0) changes.Insert(0, "DROP PRIMARY KEY");
        if (table.HasOtherKey && table.Shape.Key.Count > 0)
            changes.Add($"ADD PRIMARY KEY ({string.Join(", ", table.Shape.Key.Select(MariaConnection.Quote))})");
        if (changes.Count > 0) Do($"ALTER TABLE {quoted} {string.Join(", ", changes)}");
        if (counted is [var number]) _takenAway.Add($"ALTER TABLE {quoted} AUTO_INCREMENT = {number}");
    }

    // Links and checks of columns that change; they are put back, and told when that fails.
    private void FreeFromConstraints(string table, string[] changed, string[] gone)
    {
        string quoted = MariaConnection.Quote(table);
        foreach (string line in Lines(table).Select(line => line.Trim().TrimEnd(',')))
        {
            if (!line.StartsWith("CONSTRAINT ", StringComparison.Ordinal)
                || !changed.Any(column => line.Contains(MariaConnection.Quote(column), StringComparison.Ordinal))) continue;
            string name = line[11..(line.IndexOf('`', 12) + 1)];
            Do($"ALTER TABLE {quoted} DROP "
                + $"{(line.Contains(" FOREIGN KEY ", StringComparison.Ordinal) ? "FOREIGN KEY" : "CONSTRAINT")} {name}");
            _links.Add($"ALTER TABLE {quoted} ADD {line}");
        }
        foreach (string other in List("SELECT DISTINCT table_name FROM information_schema.referential_constraints WHERE constraint_schema "
            + $"= {_schema} AND referenced_table_name = {MariaConnection.Literal(table)} AND table_name <> "
            + $"{MariaConnection.Literal(table)}"))
            foreach (string line in Lines(other).Select(line => line.Trim().TrimEnd(','))
                .Where(line => line.StartsWith("CONSTRAINT ", StringComparison.Ordinal)
                    && line.Contains($" REFERENCES {quoted} ", StringComparison.Ordinal)
                    && changed.Any(column => line[line.IndexOf(" REFERENCES ", StringComparison.Ordinal)..]
                        .Contains(MariaConnection.Quote(column), StringComparison.Ordinal))))
            {
                Do($"ALTER TABLE {MariaConnection.Quote(other)} DROP FOREIGN KEY {line[11..(line.IndexOf('`', 12) + 1)]}");
                _links.Add($"ALTER TABLE {MariaConnection.Quote(other)} ADD {line}");
            }
    }

    private IEnumerable<string> Changes(RevisedTable table, string name)
    {
        IReadOnlyList<string> types = MariaTypes.Declare(AnyValue.OneKind(table.Shape));
        string[] lines = Lines(name);
        for (int i = 0; i < table.Columns.Count; i++)
        {
            ColumnShape now = table.Columns[i].Column;
            string column = MariaConnection.Quote(now.Name);
            bool isKey = table.Shape.Key.Contains(now.Name, StringComparer.OrdinalIgnoreCase);
            string made = $"{column} {now.DeclaredAs ?? types[i]}{(now.Required || isKey ? " NOT NULL" : "")}"
                + (RevisedTable.Same(now.Name, table.Shape.NumberedColumn ?? "") ? " AUTO_INCREMENT"
                    : now.Default is { } initial ? " DEFAULT " + initial : "");
            if (table.Columns[i].From is null) yield return "ADD COLUMN " + made;
            else if (!table.Columns[i].IsSame) yield return "MODIFY COLUMN " + made;
            else
            {
                ColumnShape was = table.Was!.Columns[table.Was.OrdinalOf(table.Columns[i].From!)];
                if (was.Required == now.Required && was.Default == now.Default) continue;
                string declared = lines.Select(line => line.Trim().TrimEnd(',')).First(line => line.StartsWith(column + " ",
                    StringComparison.OrdinalIgnoreCase));
                if (now.Required && !was.Required) declared = declared.Replace(" DEFAULT NULL", "", StringComparison.Ordinal) + " NOT NULL";
                else if (was.Required && !now.Required && !isKey)
                    declared = declared.Replace(" NOT NULL", " NULL", StringComparison.Ordinal);
                yield return "MODIFY COLUMN " + declared;
                if (was.Default != now.Default) yield return $"ALTER COLUMN {column} "
                    + (now.Default is { } value ? "SET DEFAULT " + value : "DROP DEFAULT");
            }
        }
    }
}
