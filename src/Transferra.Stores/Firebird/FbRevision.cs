// FbRevision.cs: makes a copied Firebird database ready for the new version: tables that are filled anew are emptied and changed in place,
// so that domains, computed columns, generators, rights and comments stay. The engine renames no table: one with another name is made
// anew. Source: Firebird Language Reference, "ALTER TABLE", and the system tables' descriptions in its appendix.
// Holds: (1) a table that is not named is not touched; (2) what a procedure or another table's computed column needs is not taken from it:
// the engine refuses, and says so.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

internal sealed class FbRevision
{
    private const int View = 1, Trigger = 2, Expression = 6; // of RDB$DEPENDENCIES

    private readonly FbConnection _connection;
    private readonly int _dialect;
    private readonly List<string> _links = [], _views = [], _wakes = [];

    private FbRevision(FbConnection connection, int dialect) => (_connection, _dialect) = (connection, dialect);

    /// <summary>Revises a copy.</summary>
    public static BuildMark Run(StoreAddress copy, StoreRevision revision)
    {
        try
        {
            using FbConnection connection = FbLink.OpenInDialect(copy, out int dialect);
            var work = new FbRevision(connection, dialect);
            RevisedTable[] inPlace = [.. revision.Tables.Where(table => table.Was is not null && !table.IsRenamed)];
            string[] removed = [.. revision.Removed, .. revision.Tables.Where(table => table.IsRenamed).Select(table => table.Was!.Name)];
            work.Revise(inPlace, removed);
            string[] filled = [.. inPlace.Select(table => table.Shape.Name)];
            return new BuildMark(filled.ToDictionary(table => table, _ => new BuiltTable(0, [])))
            {
                Copy = new CopyRest([.. work.List("SELECT TRIM(RDB$RELATION_NAME) FROM RDB$RELATIONS WHERE COALESCE(RDB$SYSTEM_FLAG, "
                    + "0) = 0 AND RDB$VIEW_BLR IS NULL").Select(row => row[0]!).Except(filled, StringComparer.OrdinalIgnoreCase)],
                    [.. work._links, .. work._views, .. work._wakes])
            };
        }
        catch (FbException error)
        {
            throw new TransferraException($"the copy {copy.Shown} cannot be made ready for the new version: {FbLink.FirstLine(error)}",
                "The kit asks for something that this database does not allow, such as removing a column that a procedure needs. The old "
                    + "data is untouched.", error);
        }
    }

    private void Do(string sql) => FbLink.Execute(_connection, null, sql);

    private string Quote(string name) => _dialect == 1 ? name : FbLink.Quote(name);

    private List<string?[]> List(string sql)
    {
        using var command = new FbCommand(sql, _connection);
        using FbDataReader reader = command.ExecuteReader();
        var rows = new List<string?[]>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount)
                .Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        return rows;
    }

    private string NameOf(string table) => List("SELECT FIRST 1 TRIM(RDB$RELATION_NAME) FROM RDB$RELATIONS WHERE UPPER(RDB$RELATION_NAME) "
        + $"= UPPER({FbLink.Literal(table)}) ORDER BY IIF(RDB$RELATION_NAME = {FbLink.Literal(table)}, 0, 1)") is [var row, ..] ? row[0]!
        : throw new TransferraException($"the copy has no table {table}",
            "The store differs from what the kit says of this version; run: transferra check");

    private string ColumnOf(string table, string column) => List("SELECT FIRST 1 TRIM(RDB$FIELD_NAME) FROM RDB$RELATION_FIELDS WHERE "
        + $"RDB$RELATION_NAME = {FbLink.Literal(table)} AND UPPER(RDB$FIELD_NAME) = UPPER({FbLink.Literal(column)})") is [var row, ..]
        ? row[0]! : column;

    private void Revise(IReadOnlyList<RevisedTable> inPlace, IReadOnlyList<string> removed)
    {
        string[] names = [.. inPlace.Select(table => NameOf(table.Was!.Name))], gone = [.. removed.Select(NameOf)];
        foreach (string table in names.Concat(gone)) LetGoOfLinks(table);
        foreach (string table in names) Silence(table);
        foreach (string table in gone)
        {
            DropWhatLooksAt(table, null);
            Do($"DROP TABLE {Quote(table)}");
        }
        for (int i = 0; i < names.Length; i++) Empty(inPlace[i], names[i]);
    }

    // Links from and to it go until the records are there.
    private void LetGoOfLinks(string table)
    {
        foreach (string?[] link in List("SELECT TRIM(c.RDB$CONSTRAINT_NAME), TRIM(c.RDB$RELATION_NAME), TRIM(p.RDB$RELATION_NAME), "
            + "TRIM(r.RDB$UPDATE_RULE), TRIM(r.RDB$DELETE_RULE), (SELECT LIST(TRIM(s.RDB$FIELD_NAME), ',') FROM (SELECT * FROM "
            + "RDB$INDEX_SEGMENTS ORDER BY RDB$FIELD_POSITION) s WHERE s.RDB$INDEX_NAME = c.RDB$INDEX_NAME), (SELECT "
            + "LIST(TRIM(s.RDB$FIELD_NAME), ',') FROM (SELECT * FROM RDB$INDEX_SEGMENTS ORDER BY RDB$FIELD_POSITION) s WHERE "
            + "s.RDB$INDEX_NAME = p.RDB$INDEX_NAME) FROM RDB$RELATION_CONSTRAINTS c JOIN RDB$REF_CONSTRAINTS r ON r.RDB$CONSTRAINT_NAME = "
            + "c.RDB$CONSTRAINT_NAME JOIN RDB$RELATION_CONSTRAINTS p ON p.RDB$CONSTRAINT_NAME = r.RDB$CONST_NAME_UQ WHERE "
            + $"c.RDB$RELATION_NAME = {FbLink.Literal(table)} OR p.RDB$RELATION_NAME = {FbLink.Literal(table)}"))
        {
            Do($"ALTER TABLE {Quote(link[1]!)} DROP CONSTRAINT {Quote(link[0]!)}");
            string name = link[0]!.StartsWith("INTEG_", StringComparison.Ordinal) ? "" : $"CONSTRAINT {Quote(link[0]!)} ";
            _links.Add($"ALTER TABLE {Quote(link[1]!)} ADD {name}FOREIGN KEY ({Names(link[5]!)}) REFERENCES {Quote(link[2]!)} "
                + $"({Names(link[6]!)}){Rule("UPDATE", link[3]!)}{Rule("DELETE", link[4]!)}");
        }
    }

    private string Names(string columns) => string.Join(", ", columns.Split(',').Select(Quote));

    private static string Rule(string when, string rule) => rule == "RESTRICT" ? "" : $" ON {when} {rule}";

    // Triggers are not to run for records that are only carried; indexes are built once, behind them.
    private void Silence(string table)
    {
        foreach (string?[] trigger in List("SELECT TRIM(RDB$TRIGGER_NAME) FROM RDB$TRIGGERS WHERE RDB$RELATION_NAME = "
            + $"{FbLink.Literal(table)} AND COALESCE(RDB$SYSTEM_FLAG, 0) = 0 AND COALESCE(RDB$TRIGGER_INACTIVE, 0) = 0"))
        {
            Do($"ALTER TRIGGER {Quote(trigger[0]!)} INACTIVE");
            _wakes.Add($"ALTER TRIGGER {Quote(trigger[0]!)} ACTIVE");
        }
        foreach (string?[] index in List("SELECT TRIM(i.RDB$INDEX_NAME) FROM RDB$INDICES i WHERE i.RDB$RELATION_NAME = "
            + $"{FbLink.Literal(table)} AND COALESCE(i.RDB$INDEX_INACTIVE, 0) = 0 AND NOT EXISTS (SELECT 1 FROM RDB$RELATION_CONSTRAINTS "
            + "c WHERE c.RDB$INDEX_NAME = i.RDB$INDEX_NAME)"))
        {
            Do($"ALTER INDEX {Quote(index[0]!)} INACTIVE");
            _wakes.Add($"ALTER INDEX {Quote(index[0]!)} ACTIVE");
        }
    }

    private void Empty(RevisedTable table, string name)
    {
        Do($"DELETE FROM {Quote(name)}");
        foreach (bool toFree in (bool[])[true, false])
            foreach (RevisedColumn column in table.Renamed)
            {
                string free = "TRANSFERRA_" + table.Shape.OrdinalOf(column.Column.Name).ToString(CultureInfo.InvariantCulture);
                string from = toFree ? ColumnOf(name, column.From!) : free, to = toFree ? free : column.Column.Name;
                if (toFree) DropWhatLooksAt(name, from);
                Do($"ALTER TABLE {Quote(name)} ALTER COLUMN {Quote(from)} TO {Quote(to)}");
            }
        if (table.HasOtherKey)
            foreach (string?[] key in List("SELECT TRIM(RDB$CONSTRAINT_NAME) FROM RDB$RELATION_CONSTRAINTS WHERE RDB$RELATION_NAME = "
                + $"{FbLink.Literal(name)} AND RDB$CONSTRAINT_TYPE = 'PRIMARY KEY'")) Do($"ALTER TABLE {Quote(name)} DROP CONSTRAINT "
                + $"{Quote(key[0]!)}");
        string[] there = [.. List("SELECT TRIM(f.RDB$FIELD_NAME) FROM RDB$RELATION_FIELDS f JOIN RDB$FIELDS "
            + $"t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE f.RDB$RELATION_NAME = {FbLink.Literal(name)} "
            + "AND t.RDB$COMPUTED_BLR IS NULL AND t.RDB$DIMENSIONS IS NULL").Select(row => row[0]!)];
        foreach (string column in there.Where(column => !table.KeepsOtherColumns && !table.Columns.Any(known => known.From is not null
            && RevisedTable.Same(known.Column.Name, column)))) Drop(name, column);
        IReadOnlyList<string> types = FbTypes.Declare(AnyValue.OneKind(table.Shape), hasInt128: false);
        for (int i = 0; i < table.Columns.Count; i++) Change(table, name, table.Columns[i], types[i]);
        if (table.HasOtherKey && table.Shape.Key.Count > 0)
            Do($"ALTER TABLE {Quote(name)} ADD PRIMARY KEY "
                + $"({string.Join(", ", table.Shape.Key.Select(key => Quote(ColumnOf(name, key))))})");
    }

    private void Drop(string table, string column)
    {
        DropWhatLooksAt(table, column);
        foreach (string?[] constraint in List("SELECT DISTINCT TRIM(c.RDB$CONSTRAINT_NAME) FROM RDB$RELATION_CONSTRAINTS c JOIN "
            + $"RDB$INDEX_SEGMENTS s ON s.RDB$INDEX_NAME = c.RDB$INDEX_NAME WHERE c.RDB$RELATION_NAME = {FbLink.Literal(table)} AND "
            + $"s.RDB$FIELD_NAME = {FbLink.Literal(column)}")) Do($"ALTER TABLE {Quote(table)} DROP CONSTRAINT {Quote(constraint[0]!)}");
        foreach (string?[] index in List("SELECT DISTINCT TRIM(i.RDB$INDEX_NAME) FROM RDB$INDICES i JOIN RDB$INDEX_SEGMENTS s ON "
            + $"s.RDB$INDEX_NAME = i.RDB$INDEX_NAME WHERE i.RDB$RELATION_NAME = {FbLink.Literal(table)} AND s.RDB$FIELD_NAME = "
            + FbLink.Literal(column)))
        {
            Do($"DROP INDEX {Quote(index[0]!)}");
            _wakes.Remove($"ALTER INDEX {Quote(index[0]!)} ACTIVE");
        }
        Do($"ALTER TABLE {Quote(table)} DROP {Quote(column)}");
    }

    private void Change(RevisedTable table, string name, RevisedColumn column, string type)
    {
        ColumnShape now = column.Column;
        bool isKey = table.Shape.Key.Contains(now.Name, StringComparer.OrdinalIgnoreCase);
        string quoted = Quote(ColumnOf(name, now.Name));
        if (column.From is null || !column.IsSame)
        {
            string? position = column.From is null ? null : List("SELECT RDB$FIELD_POSITION + 1 FROM RDB$RELATION_FIELDS WHERE "
                + $"RDB$RELATION_NAME = {FbLink.Literal(name)} AND RDB$FIELD_NAME = {FbLink.Literal(ColumnOf(name, now.Name))}")[0][0];
            if (column.From is not null) Drop(name, ColumnOf(name, now.Name));
            Do($"ALTER TABLE {Quote(name)} ADD {quoted} {now.DeclaredAs ?? type}{(now.Default is { } initial ? " DEFAULT " + initial : "")}"
                + (now.Required || isKey ? " NOT NULL" : ""));
            if (position is not null) Do($"ALTER TABLE {Quote(name)} ALTER COLUMN {quoted} POSITION {position}");
            return;
        }
        ColumnShape was = table.Was!.Columns[table.Was.OrdinalOf(column.From)];
        string change = $"ALTER TABLE {Quote(name)} ALTER COLUMN {quoted} ";
        if (was.Default != now.Default) Do(change + (now.Default is { } value ? "SET DEFAULT " + value : "DROP DEFAULT"));
        if (now.Required && !was.Required) Do(change + "SET NOT NULL");
        else if (was.Required && !now.Required && !isKey) Do(change + "DROP NOT NULL");
    }

    // Checks, triggers and views that name a table or a column keep the engine from changing it. They are made again behind the records,
    // and told when that fails.
    private void DropWhatLooksAt(string table, string? column)
    {
        string at = $"d.RDB$DEPENDED_ON_NAME = {FbLink.Literal(table)}" + (column is null ? "" : $" AND d.RDB$FIELD_NAME = "
            + $"{FbLink.Literal(column)}");
        foreach (string?[] check in List("SELECT DISTINCT TRIM(c.RDB$CONSTRAINT_NAME), TRIM(c.RDB$RELATION_NAME), (SELECT FIRST 1 "
            + "t.RDB$TRIGGER_SOURCE FROM RDB$CHECK_CONSTRAINTS k JOIN RDB$TRIGGERS t ON t.RDB$TRIGGER_NAME = k.RDB$TRIGGER_NAME WHERE "
            + "k.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME) FROM RDB$RELATION_CONSTRAINTS c JOIN RDB$CHECK_CONSTRAINTS x ON "
            + "x.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME JOIN RDB$DEPENDENCIES d ON d.RDB$DEPENDENT_NAME = x.RDB$TRIGGER_NAME WHERE "
            + $"c.RDB$CONSTRAINT_TYPE = 'CHECK' AND {at}"))
        {
            Do($"ALTER TABLE {Quote(check[1]!)} DROP CONSTRAINT {Quote(check[0]!)}");
            string name = check[0]!.StartsWith("INTEG_", StringComparison.Ordinal) ? "" : $"CONSTRAINT {Quote(check[0]!)} ";
            _views.Add($"ALTER TABLE {Quote(check[1]!)} ADD {name}{check[2]}");
        }
        foreach (string?[] index in List("SELECT DISTINCT TRIM(i.RDB$INDEX_NAME), TRIM(i.RDB$RELATION_NAME), "
            + "COALESCE(i.RDB$UNIQUE_FLAG, 0), COALESCE(i.RDB$INDEX_TYPE, 0), i.RDB$EXPRESSION_SOURCE FROM RDB$DEPENDENCIES d JOIN "
            + $"RDB$INDICES i ON i.RDB$INDEX_NAME = d.RDB$DEPENDENT_NAME WHERE d.RDB$DEPENDENT_TYPE = {Expression} AND {at}"))
        {
            Do($"DROP INDEX {Quote(index[0]!)}");
            _wakes.Remove($"ALTER INDEX {Quote(index[0]!)} ACTIVE");
            _wakes.Add($"CREATE {(index[2] == "1" ? "UNIQUE " : "")}{(index[3] == "1" ? "DESCENDING " : "")}INDEX {Quote(index[0]!)} ON "
                + $"{Quote(index[1]!)} COMPUTED BY {index[4]}");
        }
        foreach (string?[] trigger in List("SELECT DISTINCT TRIM(d.RDB$DEPENDENT_NAME) FROM "
            + "RDB$DEPENDENCIES d JOIN RDB$TRIGGERS t ON t.RDB$TRIGGER_NAME = d.RDB$DEPENDENT_NAME "
            + $"WHERE d.RDB$DEPENDENT_TYPE = {Trigger} AND COALESCE(t.RDB$SYSTEM_FLAG, 0) = 0 AND {at}"))
            DropTrigger(trigger[0]!);
        foreach (string?[] view in List("SELECT DISTINCT TRIM(d.RDB$DEPENDENT_NAME) FROM "
            + $"RDB$DEPENDENCIES d WHERE d.RDB$DEPENDENT_TYPE = {View} AND {at}")) DropView(view[0]!);
    }

    private void DropTrigger(string name)
    {
        string?[] trigger = List("SELECT TRIM(RDB$RELATION_NAME), RDB$TRIGGER_TYPE, RDB$TRIGGER_SEQUENCE, RDB$TRIGGER_SOURCE FROM "
            + $"RDB$TRIGGERS WHERE RDB$TRIGGER_NAME = {FbLink.Literal(name)}")[0];
        _views.Add($"CREATE TRIGGER {Quote(name)} FOR {Quote(trigger[0]!)} INACTIVE "
            + $"{FbThings.When(int.Parse(trigger[1]!, CultureInfo.InvariantCulture))} "
            + $"POSITION {trigger[2]} {trigger[3]}");
        Do($"DROP TRIGGER {Quote(name)}");
    }

    private void DropView(string name)
    {
        if (List($"SELECT 1 FROM RDB$RELATIONS WHERE RDB$RELATION_NAME = {FbLink.Literal(name)}").Count == 0) return; // gone with another
        DropWhatLooksAt(name, null);
        _views.AddRange(FbThings.ViewStatements(name, List, Quote));
        Do($"DROP VIEW {Quote(name)}");
    }
}
