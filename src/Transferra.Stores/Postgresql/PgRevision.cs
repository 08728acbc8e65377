// PgRevision.cs: makes a copied PostgreSQL database ready for the new version: tables that are filled anew are emptied and get their new
// columns in place, so that triggers, rights, comments, counters and whatever else belongs to them stay.
// How what is in the way is found: the database's things (PgThings.cs) are listed before and after; what is missing then was taken away
// with others and is put back when the records are there.
// Holds: (1) all of it is one transaction; (2) a table that is not named is not touched, nor is a counter that it shares.
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Postgresql;

internal sealed class PgRevision
{
    private sealed record Revised(RevisedTable Table, PgPlace Place);

    private readonly NpgsqlConnection _connection;
    private readonly StoreRevision _revision;
    private readonly string _schema;
    private readonly List<Revised> _inPlace = [];
    private readonly List<PgPlace> _removed = [];
    private readonly List<string> _takenAway = [];

    private PgRevision(NpgsqlConnection connection, StoreRevision revision, string schema) =>
        (_connection, _revision, _schema) = (connection, revision, schema);

    /// <summary>Revises a copy.</summary>
    public static BuildMark Run(StoreAddress copy, StoreRevision revision)
    {
        try
        {
            using NpgsqlConnection connection = PgConnection.Open(copy.Server!, copy.Path);
            var work = new PgRevision(connection, revision, copy.Options.GetValueOrDefault("schema") ?? PgStore.UsualSchema);
            PgConnection.Execute(connection, "BEGIN");
            work.Revise();
            PgConnection.Execute(connection, "COMMIT");
            return new BuildMark(revision.Tables.Where(table => table.Was is not null).ToDictionary(table => table.Shape.Name,
                _ => new BuiltTable(0, [])))
            { Copy = new CopyRest([], work._takenAway) };
        }
        catch (NpgsqlException error)
        {
            throw new TransferraException($"the copy {copy.Shown} cannot be made ready for the new version: "
                + $"{(error as PostgresException)?.MessageText ?? error.Message}",
                "The kit asks for something that this database does not allow, or this user may not. The old data is untouched.", error);
        }
    }

    private void Revise()
    {
        var places = new PgPlaces(_connection, _schema);
        _removed.AddRange(_revision.Removed.Select(places.Find).OfType<PgPlace>());
        foreach (RevisedTable table in _revision.Tables.Where(table => table.Was is not null))
            _inPlace.Add(new Revised(table, places.Find(table.Was!.Name)
                ?? throw new TransferraException($"the copy has no table {table.Was.Name}",
                    "The store differs from what the kit says of this version; run: transferra check")));
        Rename();
        PgConnection.Execute(_connection, "SET LOCAL search_path = pg_catalog");
        var things = new PgThings(_connection);
        PgThing[] before = [.. things.All()];
        Silence();
        LetGoOfSharedCounters();
        foreach (PgPlace table in _removed) Do($"DROP TABLE {table.Quoted} CASCADE");
        foreach (Revised revised in _inPlace) Empty(revised);
        HashSet<string> after = [.. things.All().Select(thing => thing.Declaration.Text)];
        string[] enabling = [.. _takenAway]; // last, when the triggers are there again
        _takenAway.Clear();
        _takenAway.AddRange(before.Where(thing => thing.Phase is PgPhase.After or PgPhase.Rights
            && !after.Contains(thing.Declaration.Text) && IsToComeBack(thing.Declaration)).Select(thing => thing.Declaration.Text));
        _takenAway.AddRange(enabling);
        _takenAway.AddRange(Refreshes());
    }

    private void Do(string sql) => PgConnection.Execute(_connection, sql);

    private List<string> List(string sql)
    {
        using var command = new NpgsqlCommand(sql, _connection);
        using NpgsqlDataReader reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read()) rows.Add(reader.GetString(0));
        return rows;
    }

    // The server keeps all that refers to a name. Names may be exchanged, so each goes by way of one that nobody has.
    private void Rename()
    {
        foreach (bool toFree in (bool[])[true, false])
            foreach (Revised revised in _inPlace)
                foreach (RevisedColumn column in revised.Table.Renamed)
                {
                    string free = PgConnection.Quote(StoreAddress.RunPrefix + column.Column.Name);
                    Do($"ALTER TABLE {revised.Place.Quoted} RENAME COLUMN {(toFree ? Real(revised.Place, column.From!) : free)} TO "
                        + (toFree ? free : PgConnection.Quote(column.Column.Name)));
                }
        foreach (bool toFree in (bool[])[true, false])
            for (int i = 0; i < _inPlace.Count; i++)
            {
                if (!_inPlace[i].Table.IsRenamed) continue;
                string name = LastPart(_inPlace[i].Table.Shape.Name, _inPlace[i].Place.Schema);
                string to = toFree ? StoreAddress.RunPrefix + name : name;
                Do($"ALTER TABLE {_inPlace[i].Place.Quoted} RENAME TO {PgConnection.Quote(to)}");
                _inPlace[i] = _inPlace[i] with { Place = _inPlace[i].Place with { Table = to } };
            }
    }

    // A table stays in its schema.
    private static string LastPart(string name, string schema) =>
        name.StartsWith(schema + ".", StringComparison.OrdinalIgnoreCase) ? name[(schema.Length + 1)..] : name;

    private string Real(PgPlace place, string column) => List($"SELECT quote_ident(attname) FROM pg_attribute WHERE attrelid = "
        + $"{Oid(place)} AND lower(attname) = lower({PgConnection.Literal(column)}) AND attnum > 0 AND NOT attisdropped ORDER BY attname "
        + $"<> {PgConnection.Literal(column)} LIMIT 1").FirstOrDefault() ?? PgConnection.Quote(column);

    private static string Oid(PgPlace place) => $"{PgConnection.Literal(place.Quoted)}::regclass";

    private string Oids(IEnumerable<PgPlace> places) => $"ARRAY[{string.Join(", ", places.Select(Oid))}]::regclass[]";

    // Links from and to them go until the records are there, as the server would not empty a table that others point to; triggers are not
    // to run for records that are only carried.
    private void Silence()
    {
        PgPlace[] all = [.. _inPlace.Select(revised => revised.Place)];
        if (all.Length == 0 && _removed.Count == 0) return;
        string touched = Oids(all.Concat(_removed));
        foreach (string statement in List("SELECT format('ALTER TABLE %s DROP CONSTRAINT %I', "
            + "x.conrelid::regclass, x.conname) FROM pg_constraint x WHERE x.contype = 'f' AND x.conparentid "
            + $"= 0 AND (x.conrelid = ANY ({touched}) OR x.confrelid = ANY ({touched}))")) Do(statement);
        foreach (PgPlace table in all)
        {
            _takenAway.AddRange(List($"SELECT format('ALTER TABLE %s ENABLE%s TRIGGER %I', {PgConnection.Literal(table.Quoted)}, CASE "
                + "tgenabled WHEN 'A' THEN ' ALWAYS' WHEN 'R' THEN ' REPLICA' ELSE '' END, tgname) FROM pg_trigger WHERE tgrelid = "
                + $"{Oid(table)} AND NOT tgisinternal AND tgenabled <> 'D' ORDER BY tgname"));
            Do($"ALTER TABLE {table.Quoted} DISABLE TRIGGER USER");
            foreach (string index in List("SELECT i.indexrelid::regclass::text FROM pg_index i WHERE i.indrelid = "
                + $"{Oid(table)} AND NOT EXISTS (SELECT 1 FROM pg_constraint x WHERE x.conindid = i.indexrelid) AND NOT i.indisreplident "
                + "AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.indexrelid)")) Do($"DROP INDEX {index}");
        }
    }

    // A counter goes with the table whose column owns it, and with it what other tables take from it.
    private void LetGoOfSharedCounters()
    {
        if (_removed.Count == 0) return;
        foreach (string sequence in List("SELECT DISTINCT d.objid::regclass::text FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND "
            + $"s.relkind = 'S' JOIN pg_depend u ON u.refobjid = d.objid AND u.classid = 'pg_attrdef'::regclass JOIN pg_attrdef a ON a.oid "
            + $"= u.objid WHERE d.deptype = 'a' AND d.refobjid = ANY ({Oids(_removed)}) AND NOT a.adrelid = ANY ({Oids(_removed)})"))
            Do($"ALTER SEQUENCE {sequence} OWNED BY NONE");
    }

    private void Empty(Revised revised)
    {
        (RevisedTable table, PgPlace place) = (revised.Table, revised.Place);
        Do($"TRUNCATE {(place.IsPartitioned ? "" : "ONLY ")}{place.Quoted}");
        string[] gone = table.KeepsOtherColumns ? [] : [.. List($"SELECT attname::text FROM pg_attribute WHERE attrelid = {Oid(place)} AND "
            + "attnum > 0 AND NOT attisdropped AND attinhcount = 0").Where(name => !table.Columns.Any(column => column.From is not null
                && RevisedTable.Same(column.Column.Name, name)))];
        RevisedColumn[] retyped = [.. table.Columns.Where(column => column is { From: not null, IsSame: false })];
        List<string> computed = [];
        if (gone.Length + retyped.Length > 0)
        {
            DropWhatLooksAt(place);
            computed = DropComputed(place, [.. gone, .. retyped.Select(column => column.Column.Name)]);
        }
        if (table.HasOtherKey)
            foreach (string key in List($"SELECT quote_ident(conname) FROM pg_constraint WHERE conrelid = {Oid(place)} AND contype = 'p'"))
                Do($"ALTER TABLE {place.Quoted} DROP CONSTRAINT {key} CASCADE");
        foreach (string column in gone) Do($"ALTER TABLE {place.Quoted} DROP COLUMN {PgConnection.Quote(column)} CASCADE");
        foreach (RevisedColumn column in table.Columns) Change(table, place, column);
        foreach (string column in computed) DoOrLater(column);
        if (table.HasOtherKey && table.Shape.Key.Count > 0)
            Do($"ALTER TABLE {place.Quoted} ADD PRIMARY KEY ({string.Join(", ", table.Shape.Key.Select(column => Real(place, column)))})");
    }

    // Columns that the server works out from those that change; it is made again from what they are then.
    private List<string> DropComputed(PgPlace place, string[] changed)
    {
        string names = string.Join(", ", changed.Select(PgConnection.Literal));
        List<string> found = List("SELECT format('%I %s GENERATED ALWAYS AS (%s) STORED', a.attname, format_type(a.atttypid, a.atttypmod), "
            + $"pg_get_expr(d.adbin, d.adrelid)) FROM pg_attribute a JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
            + $"WHERE a.attrelid = {Oid(place)} AND a.attgenerated = 's' AND EXISTS (SELECT 1 FROM pg_depend p JOIN pg_attribute c ON "
            + "c.attrelid = p.refobjid AND c.attnum = p.refobjsubid WHERE p.classid = 'pg_attrdef'::regclass AND p.objid = d.oid AND "
            + $"p.refobjid = a.attrelid AND c.attname IN ({names})) ORDER BY a.attnum");
        foreach (string column in found)
        {
            string name = column[..column.IndexOf(" GENERATED", StringComparison.Ordinal)];
            name = name[0] == '"' ? name[..(name.IndexOf('"', 1) + 1)] : name.Split(' ')[0];
            Do($"ALTER TABLE {place.Quoted} DROP COLUMN {name} CASCADE");
        }
        return [.. found.Select(column => $"ALTER TABLE {place.Quoted} ADD COLUMN {column}")];
    }

    private void DoOrLater(string statement)
    {
        Do("SAVEPOINT one");
        try { Do(statement); }
        catch (PostgresException)
        {
            Do("ROLLBACK TO one");
            _takenAway.Add(statement); // it fails again then, and is told
        }
        Do("RELEASE one");
    }

    // Views and policies keep the server from changing the columns they look at.
    private void DropWhatLooksAt(PgPlace place)
    {
        foreach (string policy in List("SELECT format('DROP POLICY %I ON %s', "
            + $"polname, polrelid::regclass) FROM pg_policy WHERE polrelid = {Oid(place)}")) Do(policy);
        foreach (string view in List("SELECT DISTINCT CASE c.relkind WHEN 'm' THEN 'MATERIALIZED ' ELSE '' END || 'VIEW IF EXISTS ' || "
            + "c.oid::regclass FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid AND d.classid = 'pg_rewrite'::regclass JOIN "
            + $"pg_class c ON c.oid = r.ev_class AND c.relkind IN ('v', 'm') WHERE d.refobjid = {Oid(place)}")) Do($"DROP {view} CASCADE");
    }

    private static string TypeOf(RevisedTable table, ColumnShape column) => column.DeclaredAs
        ?? PgTypes.Declare(AnyValue.OneKind(table.Shape).Columns[table.Shape.OrdinalOf(column.Name)].Type);

    private void Change(RevisedTable table, PgPlace place, RevisedColumn column)
    {
        ColumnShape now = column.Column;
        bool isKey = table.Shape.Key.Contains(now.Name, StringComparer.OrdinalIgnoreCase);
        if (column.From is null)
        {
            Do($"ALTER TABLE {place.Quoted} ADD COLUMN {PgConnection.Quote(now.Name)} "
                + $"{TypeOf(table, now)}{(now.Default is { } initial ? " DEFAULT " + initial : "")}"
                + (now.Required || isKey ? " NOT NULL" : ""));
            return;
        }
        ColumnShape was = table.Was!.Columns[table.Was.OrdinalOf(column.From)];
        string change = $"ALTER TABLE {place.Quoted} ALTER COLUMN {Real(place, now.Name)} ";
        if (!column.IsSame)
        {
            string type = TypeOf(table, now);
            Do(change + "DROP IDENTITY IF EXISTS");
            Do(change + "DROP DEFAULT");
            Do($"{change}TYPE {type} USING NULL::{type}");
        }
        if (!column.IsSame || was.Default != now.Default)
        {
            if (now.Default is { } value) Do(change + "SET DEFAULT " + value);
            else if (was.Default is not null) Do(change + "DROP DEFAULT");
        }
        if (now.Required && !was.Required) Do(change + "SET NOT NULL");
        else if (was.Required && !now.Required && !isKey) Do(change + "DROP NOT NULL");
    }

    // What went with a table or a key that the new version does not have is not missed.
    private bool IsToComeBack(StoreDeclaration thing)
    {
        bool IsOf(PgPlace place)
        {
            string name = List($"SELECT format('%I.%I', {PgConnection.Literal(place.Schema)}, {PgConnection.Literal(place.Table)})")[0];
            return thing.Of == name || thing.Name.EndsWith(" " + name, StringComparison.Ordinal)
                || thing.Name.Contains($" {name}.", StringComparison.Ordinal) || thing.Name.Contains($" {name} ", StringComparison.Ordinal);
        }
        if (_removed.Any(IsOf)) return false;
        return thing.Kind != "primary key" || !_inPlace.Any(revised => revised.Table.HasOtherKey && IsOf(revised.Place));
    }

    // Of views that stayed, those that keep records of tables that are filled anew.
    private List<string> Refreshes() => _inPlace.Count == 0 ? [] : List("WITH RECURSIVE d(oid) AS (SELECT unnest("
        + $"{Oids(_inPlace.Select(revised => revised.Place))})::oid UNION SELECT r.ev_class FROM d JOIN pg_depend p ON p.refobjid = d.oid "
        + "JOIN pg_rewrite r ON r.oid = p.objid AND p.classid = 'pg_rewrite'::regclass) SELECT 'REFRESH MATERIALIZED VIEW ' || "
        + "c.oid::regclass FROM d JOIN pg_class c ON c.oid = d.oid WHERE c.relkind = 'm' AND c.relispopulated ORDER BY c.oid");
}
