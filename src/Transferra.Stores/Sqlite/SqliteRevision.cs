// SqliteRevision.cs: makes a copied SQLite file ready for the new version: tables that are filled anew are emptied, or made again with the
// columns of the new version and all else in the words of the old one.
// Why without a journal: a copy whose revision was interrupted is thrown away.
// Holds: (1) whatever is not named in the revision is not touched; (2) what is taken away of a table that is filled anew (indexes,
// triggers, where it had counted to) is in the mark, to be put back.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteRevision
{
    /// <summary>How a statement begins that has to be run outside of a transaction.</summary>
    public const string Setting = "PRAGMA ";

    private readonly StoreRevision _revision;
    private readonly SqliteConnection _connection;
    private readonly List<string> _takenAway = [], _lost = [];

    private SqliteRevision(StoreRevision revision, SqliteConnection connection) => (_revision, _connection) = (revision, connection);

    /// <summary>Revises a copy.</summary>
    public static BuildMark Run(string path, StoreRevision revision)
    {
        try
        {
            using SqliteConnection connection = SqliteEngine.Open(path, SqliteOpenMode.ReadWrite);
            var work = new SqliteRevision(revision, connection);
            work.Revise();
            return new BuildMark(revision.Tables.Where(table => table.Was is not null).ToDictionary(table => table.Shape.Name,
                _ => new BuiltTable(0, [])))
            { Copy = new CopyRest([], work._takenAway) { NotBrought = work._lost } };
        }
        catch (SqliteException error)
        {
            throw new TransferraException($"the copy {path} cannot be made ready for the new version: {error.Message}",
                "The kit asks for something that this file does not allow. Look at the hop; the old data is untouched.", error);
        }
    }

    private void Revise()
    {
        SqliteEngine.Execute(_connection, "PRAGMA foreign_keys = OFF");
        bool isWriteAhead = Ask("PRAGMA journal_mode") == "wal";
        if (isWriteAhead) Ask("PRAGMA journal_mode = DELETE");
        Ask("PRAGMA journal_mode = OFF");
        SqliteEngine.Execute(_connection, "PRAGMA synchronous = OFF; BEGIN");
        RevisedTable[] inPlace = [.. _revision.Tables.Where(table => table.Was is not null)];
        foreach (RevisedTable table in inPlace) TakeAwayTriggers(table.Was!.Name);
        Rename(inPlace);
        foreach (string table in _revision.Removed)
            if (NameOf(table) is { } name) SqliteEngine.Execute(_connection, $"DROP TABLE {SqliteEngine.Quote(name)}");
        foreach (RevisedTable table in inPlace) Empty(table);
        SqliteEngine.Execute(_connection, "COMMIT");
        if (isWriteAhead) _takenAway.Add(Setting + "journal_mode = WAL");
    }

    private string? Ask(string sql) => Rows(sql) is [var row, ..] ? row[0] : null;

    private List<string?[]> Rows(string sql)
    {
        using SqliteCommand command = _connection.CreateCommand();
        command.CommandText = sql;
        using SqliteDataReader reader = command.ExecuteReader();
        var rows = new List<string?[]>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount)
                .Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        return rows;
    }

    private string? NameOf(string table) =>
        Ask($"SELECT name FROM sqlite_schema WHERE type = 'table' AND lower(name) = lower({SqliteEngine.Literal(table)})");

    private void TakeAwayTriggers(string table)
    {
        foreach (string?[] trigger in Rows("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = "
            + $"lower({SqliteEngine.Literal(table)}) ORDER BY rowid"))
        {
            _takenAway.Add(trigger[1]!);
            SqliteEngine.Execute(_connection, $"DROP TRIGGER {SqliteEngine.Quote(trigger[0]!)}");
        }
    }

    // By the engine, which then writes the new names wherever the old ones stand. Names may be exchanged, so each goes by way of one that
    // nobody has.
    private void Rename(IReadOnlyList<RevisedTable> tables)
    {
        foreach (RevisedTable table in tables)
        {
            string name = NameOf(table.Was!.Name) ?? throw new TransferraException($"the copy has no table {table.Was.Name}",
                "The store differs from what the kit says of this version; run: transferra check");
            foreach (bool toFree in (bool[])[true, false])
                foreach (RevisedColumn column in table.Renamed)
                    SqliteEngine.Execute(_connection, $"ALTER TABLE {SqliteEngine.Quote(name)} RENAME COLUMN "
                        + $"{SqliteEngine.Quote(toFree ? column.From! : Free(column.Column.Name))} TO "
                        + $"{SqliteEngine.Quote(toFree ? Free(column.Column.Name) : column.Column.Name)}");
        }
        RevisedTable[] renamed = [.. tables.Where(table => table.IsRenamed)];
        foreach (RevisedTable table in renamed) RenameTable(NameOf(table.Was!.Name)!, Free(table.Shape.Name));
        _renamed.AddRange(renamed);
    }

    private readonly List<RevisedTable> _renamed = [];

    private static string Free(string name) => StoreAddress.RunPrefix + name;

    // A view that the engine cannot make sense of would keep it from renaming anything.
    private void RenameTable(string from, string to)
    {
        string rename = $"ALTER TABLE {SqliteEngine.Quote(from)} RENAME TO {SqliteEngine.Quote(to)}";
        try { SqliteEngine.Execute(_connection, rename); }
        catch (SqliteException)
        {
            SqliteEngine.Execute(_connection, "PRAGMA legacy_alter_table = ON");
            SqliteEngine.Execute(_connection, rename);
            SqliteEngine.Execute(_connection, "PRAGMA legacy_alter_table = OFF");
        }
    }

    private void Empty(RevisedTable table)
    {
        if (_renamed.Contains(table)) RenameTable(Free(table.Shape.Name), table.Shape.Name);
        string name = NameOf(table.Shape.Name)!, quoted = SqliteEngine.Quote(name);
        if (new SqliteRecordNumbers(_connection).Keep(table, name) is { } lost) _lost.Add(lost);
        string[][] indexes = [.. Rows("SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL AND lower(tbl_name) = "
            + $"lower({SqliteEngine.Literal(name)}) ORDER BY rowid").Select(row => (string[])[row[0]!, row[1]!])];
        _takenAway.InsertRange(0, indexes.Select(index => index[1]));
        string sql = Ask($"SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = {SqliteEngine.Literal(name)}")!;
        SqliteTableText declared = SqliteTableText.Read(sql) ?? throw new TransferraException($"the table {name} "
            + "is of a kind that cannot be filled anew", "Leave it out of the hop, so that it stays as it is.");
        string made = Declared(table, declared);
        if (made == Written(name, declared))
        {
            foreach (string[] index in indexes) SqliteEngine.Execute(_connection, $"DROP INDEX {SqliteEngine.Quote(index[0])}");
            SqliteEngine.Execute(_connection, $"DELETE FROM {quoted}");
            return;
        }
        string? counted = Rows("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'").Count == 0 ? null
            : Ask($"SELECT seq FROM sqlite_sequence WHERE name = {SqliteEngine.Literal(name)}");
        SqliteEngine.Execute(_connection, $"DROP TABLE {quoted}");
        SqliteEngine.Execute(_connection, made);
        if (counted is null || Rows("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_sequence'").Count == 0) return;
        string here = SqliteEngine.Literal(name);
        _takenAway.Add($"INSERT INTO sqlite_sequence (name, seq) SELECT {here}, 0 "
            + $"WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = {here})");
        _takenAway.Add($"UPDATE sqlite_sequence SET seq = max(seq, {counted}) WHERE name = {here}");
    }

    private static string Written(string name, SqliteTableText table) => $"CREATE TABLE {SqliteEngine.Quote(name)} (\n  "
        + string.Join(",\n  ", [.. table.Columns.Select(column => column.ToString()), .. table.Constraints.Select(part => part.Text)])
        + $"\n) {table.Tail}";

    private string Declared(RevisedTable table, SqliteTableText declared)
    {
        bool isStrict = declared.Tail.Contains("STRICT", StringComparison.OrdinalIgnoreCase);
        var columns = new List<SqliteColumnText>();
        foreach (RevisedColumn column in table.Columns)
        {
            SqliteColumnText? known = column.From is null ? null
                : declared.Columns.FirstOrDefault(there => RevisedTable.Same(there.Name, column.Column.Name));
            columns.Add(known is not null && column.IsSame ? Same(table, column, known) : Made(table, column.Column, known, isStrict));
        }
        // What the engine works out by itself is no column to a kit that does not speak of it, and stays.
        columns.AddRange(declared.Columns.Where(there => (table.KeepsOtherColumns || there.IsGenerated)
            && table.Was!.OrdinalOf(there.Name) < 0
            && !columns.Any(column => RevisedTable.Same(column.Name, there.Name))));
        // A table that somebody else made keeps its order, too.
        if (table.KeepsOtherColumns)
            columns = [.. columns.OrderBy(column => declared.Columns.ToList().FindIndex(there => RevisedTable.Same(there.Name, column.Name))
                is >= 0 and int at ? at : int.MaxValue)];
        string[] gone = [.. declared.Columns.Select(there => there.Name)
            .Where(name => !columns.Any(column => RevisedTable.Same(column.Name, name)))];
        IEnumerable<SqliteConstraint> constraints = declared.Constraints.Where(part => !(table.HasOtherKey && part.Kind == "PRIMARY")
            && !gone.Any(name => SqliteTableText.Mentions(part.Text, name)));
        if (table.HasOtherKey && table.Shape.Key.Count > 0)
            constraints = constraints.Append(new SqliteConstraint("PRIMARY", $"PRIMARY KEY ({Names(table.Shape.Key)})"));
        constraints = constraints.Concat(_revision.NewRelations(table).Select(relation => new SqliteConstraint("FOREIGN",
            $"FOREIGN KEY ({Names(relation.Columns)}) REFERENCES {SqliteEngine.Quote(relation.To)} ({Names(relation.On)})")));
        return Written(NameOf(table.Shape.Name)!, new SqliteTableText(columns, [.. constraints], declared.Tail));
    }

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(SqliteEngine.Quote));

    private static SqliteColumnText Same(RevisedTable table, RevisedColumn column, SqliteColumnText known)
    {
        ColumnShape was = table.Was!.Columns[table.Was.OrdinalOf(column.From!)], now = column.Column;
        var parts = known.Constraints.Where(part => !(table.HasOtherKey && part.Kind == "PRIMARY")
            && !(part.Kind == "NOT" && was.Required && !now.Required)
            && !(part.Kind == "DEFAULT" && was.Default != now.Default)).ToList();
        if (now.Required && !was.Required && !parts.Any(part => part.Kind == "NOT")) parts.Add(new SqliteConstraint("NOT", "NOT NULL"));
        if (was.Default != now.Default && now.Default is { } value) parts.Add(new SqliteConstraint("DEFAULT", $"DEFAULT {value}"));
        return known with { Constraints = parts };
    }

    private static SqliteColumnText Made(RevisedTable table, ColumnShape column, SqliteColumnText? known, bool isStrict)
    {
        bool isKey = table.Shape.Key.Contains(column.Name, StringComparer.OrdinalIgnoreCase);
        var parts = new List<SqliteConstraint>();
        // Its key stays what it was when only the type is another.
        if (!table.HasOtherKey && known?.Constraints.FirstOrDefault(part => part.Kind == "PRIMARY") is { } key) parts.Add(key);
        if (column.Required || isKey) parts.Add(new SqliteConstraint("NOT", "NOT NULL"));
        if (column.Default is { } value) parts.Add(new SqliteConstraint("DEFAULT", $"DEFAULT {value}"));
        return new SqliteColumnText(column.Name, column.DeclaredAs ?? (isStrict ? Strict(column.Type)
            : SqliteTypes.Declare(column.Type)), parts);
    }

    // The only types that a STRICT table knows.
    private static string Strict(FieldType type) => type.Kind switch
    {
        FieldKind.Integer or FieldKind.Boolean => "INTEGER",
        FieldKind.Double => "REAL",
        FieldKind.Binary => "BLOB",
        FieldKind.Any => "ANY",
        _ => "TEXT",
    };
}
