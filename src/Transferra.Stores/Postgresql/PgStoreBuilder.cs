// PgStoreBuilder.cs: a new PostgreSQL database, loaded by binary COPY in one transaction, or in one for each mark; keys, indexes and
// relations are built after the load.
// Holds: (1) a row goes to all its tables or to none; (2) nothing is left of a database whose Complete did not return and of which no
// mark was taken; (3) when Complete returns,
//        the server has counted what was sent, and has it on its disk.
using Npgsql;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Postgresql;

internal sealed class PgStoreBuilder : IStoreBuilder
{
    private readonly StoreAddress _address;
    private readonly string _schema;
    private readonly bool _keysFirst;
    private readonly StoreScript? _script;
    private readonly CopyRest? _copied; // null unless the database began as a copy
    private readonly NpgsqlConnection _connection;
    private readonly PgPlaces _known;
    private readonly Dictionary<string, LoadedTable> _tables = [];
    private NpgsqlRawCopyStream? _copy;
    private PgCopyWriter? _writer;
    private LoadedTable? _copying;
    private readonly HashSet<string> _madeHere = []; // in the present transaction
    private bool _complete, _isMarked;

    private PgStoreBuilder(StoreAddress address, NpgsqlConnection connection, bool keysFirst, StoreScript? script,
        CopyRest? copied = null)
    {
        (_address, _connection, _keysFirst, _script, _copied) = (address, connection, keysFirst, script, copied);
        _schema = address.Options.GetValueOrDefault("schema") ?? PgStore.UsualSchema;
        _known = new PgPlaces(connection, _schema);
    }

    public static PgStoreBuilder Create(StoreAddress address, bool keysFirst) => Make(address, keysFirst, null);

    /// <summary>Makes a database again as a script tells; values are written to it as the server once wrote them out.</summary>
    public static PgStoreBuilder Rebuild(StoreAddress address, StoreScript script) => Make(address, keysFirst: false, script);

    private static PgStoreBuilder Make(StoreAddress address, bool keysFirst, StoreScript? script)
    {
        var server = new PgServer(address.Server!);
        if (server.Exists(address.Path))
            throw new TransferraException($"the database {address.Shown} is there already; a new store is never written over another",
                "Find out what it is; rename it or name another one.");
        using (NpgsqlConnection connection = PgConnection.OpenKept(address.Server!, PgConnection.Maintenance))
        {
            try
            {
                PgConnection.Execute(connection,
                    $"CREATE DATABASE {PgConnection.Quote(address.Path)} TEMPLATE template0 ENCODING 'UTF8'{script?.Database}");
            }
            catch (PostgresException error)
            {
                throw new TransferraException($"the database {address.Shown} cannot be made: {error.MessageText}",
                    "The user needs the right to make databases (CREATEDB), and the server a locale that goes with UTF-8.", error);
            }
        }
        PgStoreBuilder? builder = null;
        try
        {
            builder = new PgStoreBuilder(address, PgConnection.Open(address.Server!, address.Path), keysFirst, script);
            builder.BeginTransaction();
            builder.RunScript(script?.Before);
            return builder;
        }
        catch
        {
            if (builder is not null) builder.Dispose();
            else server.Remove(address.Path);
            throw;
        }
    }

    /// <summary>Goes on with a database that was begun; what was not made final is gone from it already.</summary>
    public static PgStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, bool keysFirst)
    {
        if (!new PgServer(address.Server!).Exists(address.Path)) throw BegunStore.Unfit(address.Shown, "it is not there");
        // In a copy the old keys are there from the beginning.
        var builder = new PgStoreBuilder(address, PgConnection.Open(address.Server!, address.Path), keysFirst || mark.Copy is not null,
            null, mark.Copy)
        { _isMarked = true };
        try
        {
            builder.BeginTransaction();
            foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(address.Shown, tables, mark))
            {
                if (shape.IsUndescribed && builder._known.Find(shape.Name) is { } place)
                    builder._places[shape.Name] = place;
                BegunStore.ProveRows(address.Shown, shape.Name,
                    (long)PgConnection.Scalar(builder._connection, $"SELECT count(*) FROM {builder.Rows(shape.Name)}")!, built);
                builder._tables.Add(shape.Name, new LoadedTable(AnyValue.OneKind(shape)) { Rows = built.Rows });
                if (mark.Copy is not null) builder._found.Add(shape.Name);
                if (mark.Copy is not null || shape.Columns.Any(column => column.DeclaredAs is not null))
                    builder._asDeclared.Add(shape.Name);
            }
            return builder;
        }
        catch (NpgsqlException error)
        {
            builder.Dispose();
            throw BegunStore.Unfit(address.Shown, error.Message, error);
        }
        catch
        {
            builder.Dispose();
            throw;
        }
    }

    private void BeginTransaction() => PgConnection.Execute(_connection,
        $"BEGIN; CREATE SCHEMA IF NOT EXISTS {PgConnection.Quote(_schema)}; SET search_path = {PgConnection.Quote(_schema)}");

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        if (_script is not null) throw new InvalidOperationException("a database that is made again as it was is made in one go");
        Guard("what was loaded so far could not be made final", () =>
        {
            EndCopy();
            PgConnection.Execute(_connection, "COMMIT");
            BeginTransaction();
        });
        _madeHere.Clear();
        _isMarked = true;
        return new BuildMark(_tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows, [])))
        {
            Copy = _copied
        };
    }

    // Tables whose columns are what the old database or the kit declares: values go to them as text, which every type takes.
    private readonly HashSet<string> _asDeclared = [];
    private readonly HashSet<string> _found = []; // of a copy, those that were there

    // Bodies of routines name things that are made later, so the server is not to look into them.
    private void RunScript(IReadOnlyList<string>? statements)
    {
        if (statements is null) return;
        PgConnection.Execute(_connection, "SET LOCAL check_function_bodies = off");
        if (Rounds.Run(statements, TryRun) is [var failed, ..])
            throw new TransferraException($"{_address.Shown} cannot be made again as it was: "
                + $"{Rounds.Shown(failed.Statement)}: {failed.Why}",
                "What the server lacks has to be put there first, such as an extension; or restore into a folder and look at the rows.");
    }

    private string? TryRun(string statement)
    {
        PgConnection.Execute(_connection, "SAVEPOINT one");
        try
        {
            PgConnection.Execute(_connection, statement);
            PgConnection.Execute(_connection, "RELEASE one");
            return null;
        }
        catch (PostgresException error)
        {
            PgConnection.Execute(_connection, "ROLLBACK TO one; RELEASE one");
            return error.MessageText;
        }
    }

    /// <inheritdoc/>
    public bool TakesWritten => _script is not null;

    private readonly List<string> _remarks = [];

    /// <inheritdoc/>
    public IReadOnlyList<string> Remarks => _remarks;

    private HashSet<(string Schema, string Table, string Column)>? _generated;

    // Columns that the server works out by itself take no values.
    private bool IsGenerated(string table, string column)
    {
        if (_script is null && _copied is null) return false;
        if (_generated is null)
        {
            _generated = [];
            using var command = new NpgsqlCommand("SELECT n.nspname::text, c.relname::text, a.attname::text FROM pg_attribute a JOIN "
                + "pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE a.attgenerated <> ''", _connection);
            using NpgsqlDataReader reader = command.ExecuteReader();
            while (reader.Read()) _generated.Add((reader.GetString(0), reader.GetString(1), reader.GetString(2)));
        }
        if (_generated.Count == 0) return false;
        PgPlace place = Place(table);
        return _generated.Contains((place.Schema, place.Table, column));
    }

    private readonly Dictionary<string, PgPlace> _places = [];

    // Where a table is in a database that is made again or began as a copy; in one that began empty, all but those that no kit describes
    // are in the company's schema.
    private PgPlace Place(string table) => _places.TryGetValue(table, out PgPlace? known) ? known
        : _script is null && _copied is null ? new PgPlace(_schema, table, false)
        : _places[table] = _known.Find(table) ?? NewPlace(table);

    private PgPlace NewPlace(string table) => table.IndexOf('.', StringComparison.Ordinal) is > 0 and int point
        && PgConnection.Scalar(_connection, "SELECT 1 FROM pg_namespace WHERE nspname = $1", table[..point]) is not null
        ? new PgPlace(table[..point], table[(point + 1)..], false) : new PgPlace(_schema, table, false);

    // Records of tables that inherit from another are their own; those of a partitioned table are its parts'.
    private string Rows(string table) => $"{(_script is null && _copied is null || Place(table).IsPartitioned ? "" : "ONLY ")}"
        + Place(table).Quoted;

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(PgConnection.Quote));

    public void CreateTable(TableShape table) => Guard($"the table {table.Name} cannot be made", () =>
    {
        table = AnyValue.OneKind(table);
        EndCopy();
        if (_script is not null)
        {
            _tables.Add(table.Name, new LoadedTable(table));
            return;
        }
        if (table.IsUndescribed && table.Name.IndexOf('.', StringComparison.Ordinal) is > 0 and int point
            && TryRun($"CREATE SCHEMA IF NOT EXISTS {PgConnection.Quote(table.Name[..point])}") is null)
            _places[table.Name] = new PgPlace(table.Name[..point], table.Name[(point + 1)..], false);
        List<string> lines = [.. table.Columns.Select(column =>
        {
            bool isKey = LoadedTable.IsKey(table, column), isNumbered = LoadedTable.IsNumbered(table, column);
            return $"{PgConnection.Quote(column.Name)} "
                + $"{column.DeclaredAs ?? PgTypes.Declare(column.Type)}"
                    + $"{(isNumbered ? " GENERATED BY DEFAULT AS IDENTITY" : column.Default is { } value ? " DEFAULT " + value : "")}"
                        + $"{(column.Required || isKey ? " NOT NULL" : "")}";
        })];
        if (_keysFirst && table.Key.Count > 0) lines.Add($"PRIMARY KEY ({Names(table.Key)})");
        PgConnection.Execute(_connection, $"CREATE TABLE {Place(table.Name).Quoted} (\n  {string.Join(",\n  ", lines)}\n)");
        _tables.Add(table.Name, new LoadedTable(table));
        _madeHere.Add(table.Name);
        if (table.Columns.Any(column => column.DeclaredAs is not null)) _asDeclared.Add(table.Name);
    });

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "PostgreSQL");
        int[] takeable = _script is null ? Takeable(outputs, rows, rejects) : WithoutZeros(outputs, rows, rejects);
        if (takeable.Length == 0) return;
        Guard("loading stopped", () =>
        {
            if (_keysFirst || outputs.Any(output => _asDeclared.Contains(output.Table.Name))) LoadOrRefuse(outputs, takeable, rejects);
            else
            {
                Load(outputs, takeable);
                Count(outputs, takeable.Length);
            }
        });
    }

    /// <summary>Refuses what the server does not hold: numbers of a declared size are finite or NaN there.</summary>
    internal static int[] Takeable(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects) =>
        WithoutZeros(outputs,
        Specials.Hold(outputs, rows, rejects, "PostgreSQL", (vector, row) => vector is not WideVector wides
            || wides.Values[row] == Specials.NaN), rejects);

    // PostgreSQL's texts cannot hold the character U+0000; a record with one is refused before anything of it is sent.
    private static int[] WithoutZeros(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects)
    {
        BytesVector[] texts = [.. outputs.SelectMany(output => output.Vectors).OfType<BytesVector>()
            .Where(vector => vector.Type.Kind == FieldKind.Text && vector.AllBytes.Contains((byte)0))];
        if (texts.Length == 0) return rows.ToArray();
        var takeable = new List<int>(rows.Length);
        foreach (int row in rows)
        {
            if (Array.Exists(texts, vector => vector[row].Contains((byte)0)))
                rejects.Add(new RowReject(row, FaultCode.NotText, "a text has the character U+0000, which PostgreSQL cannot hold"));
            else takeable.Add(row);
        }
        return [.. takeable];
    }

    private void Load(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows)
    {
        foreach (TableOutput output in outputs)
        {
            if (_script is not null || _asDeclared.Contains(output.Table.Name))
            {
                EndCopy();
                LoadWritten(output, rows);
                continue;
            }
            LoadedTable table = _tables[output.Table.Name];
            if (_copying != table)
            {
                EndCopy();
                // Frozen: the table was made in this transaction, so its records need no later visit by the server.
                _copy = _connection.BeginRawBinaryCopy($"COPY {Place(output.Table.Name).Quoted} "
                    + $"({Names(output.Table.Columns.Select(column => column.Name))}) FROM STDIN (FORMAT "
                    + $"BINARY{(_keysFirst || !_madeHere.Contains(output.Table.Name) ? "" : ", FREEZE")})");
                _writer = new PgCopyWriter(_copy);
                _copying = table;
            }
            _writer!.Add(output.Vectors, rows);
        }
    }

    // As text, which every type of the server takes: also those that we have no type for.
    private void LoadWritten(TableOutput output, ReadOnlySpan<int> rows)
    {
        int[] taken = [.. Enumerable.Range(0, output.Vectors.Count)
            .Where(i => !IsGenerated(output.Table.Name, output.Table.Columns[i].Name))];
        using var copy = (StreamWriter)_connection.BeginTextImport($"COPY {Place(output.Table.Name).Quoted} "
            + $"({Names(taken.Select(i => output.Table.Columns[i].Name))}) FROM STDIN");
        using Stream text = _written.Of(taken.Select(i => output.Vectors[i]), rows);
        text.CopyTo(copy.BaseStream);
    }

    private readonly LoadText _written = new(binaryPrefix: "\\\\x");

    private void Count(IReadOnlyList<TableOutput> outputs, int rows)
    {
        foreach (TableOutput output in outputs) _tables[output.Table.Name].Rows += rows;
    }

    // All rows at once; when one of them is refused, halves, down to the row.
    private void LoadOrRefuse(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        PgConnection.Execute(_connection, "SAVEPOINT load");
        try
        {
            Load(outputs, rows);
            EndCopy();
            PgConnection.Execute(_connection, "RELEASE load");
            Count(outputs, rows.Length);
        }
        catch (PostgresException error) when (error.SqlState[..2] is Constraint or NoSuchValue)
        {
            PgConnection.Execute(_connection, "ROLLBACK TO load; RELEASE load");
            (_copy, _copying) = (null, null);
            if (rows.Length == 1)
            {
                // The server's words hold the value.
                bool mayTell = error.SqlState[..2] == Constraint
                    || !outputs.SelectMany(output => output.Table.Columns).Any(column => column.IsPrivate);
                rejects.Add(new RowReject(rows[0], error.SqlState[..2] == Constraint ? FaultCode.DuplicateKey : FaultCode.WrongKind,
                    $"the new table {error.TableName ?? outputs[0].Table.Name} refused the record: "
                        + (mayTell ? error.MessageText : "it does not hold one of its values")));
                return;
            }
            LoadOrRefuse(outputs, rows[..(rows.Length / 2)], rejects);
            LoadOrRefuse(outputs, rows[(rows.Length / 2)..], rejects);
        }
    }

    // Classes of the server's errors: an integrity constraint is violated; a type does not hold a value.
    private const string Constraint = "23", NoSuchValue = "22";

    private void EndCopy()
    {
        if (_copy is null) return;
        NpgsqlRawCopyStream copy = _copy;
        (_copy, _copying) = (null, null);
        _writer!.End();
        copy.Dispose();
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        Guard("loading stopped", EndCopy);
        if (_script is null && _copied is null) BuildDeclared();
        Guard("what belongs to the tables cannot be made", () => RunScript(_script?.After));
        if (_copied is not null) Guard("what belongs to the tables cannot be put back", PutBack);
        foreach (LoadedTable table in _tables.Values)
            table.ProveCount((long)PgConnection.Scalar(_connection, $"SELECT count(*) FROM {Rows(table.Shape.Name)}")!);
        Guard("the load could not be made final", Finish);
        _complete = true;
        _connection.Dispose();
    }

    private void BuildDeclared()
    {
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            if (shape.Key.Count > 0 && !_keysFirst) BuildKey(shape);
            foreach (IndexShape index in shape.Indexes) BuildIndex(shape, index);
        }
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            foreach (RelationShape relation in shape.Relations) BuildRelation(shape, relation);
            if (shape.NumberedColumn is { } numbered)
                Guard($"the numbering of {shape.Name} cannot be set", () => PgConnection.Execute(_connection,
                    $"SELECT setval(pg_get_serial_sequence({PgConnection.Literal(Place(shape.Name).Quoted)}, "
                        + $"{PgConnection.Literal(numbered)}), coalesce((SELECT max({PgConnection.Quote(numbered)}) FROM "
                        + $"{Place(shape.Name).Quoted}), 0) + 1, false)"));
        }
    }

    private UndescribedParts Undescribed => new(TryRun, _remarks);

    private void BuildIndex(TableShape shape, IndexShape index)
    {
        string Made(string name) => $"CREATE {(index.IsUnique ? "UNIQUE " : "")}INDEX "
            + $"{(name.Length > 0 ? PgConnection.Quote(name) : "")} ON "
            + $"{Place(shape.Name).Quoted} ({Names(index.Columns)})";
        if (shape.IsUndescribed) Undescribed.Make(shape, index, Made);
        else Guard($"an index of {shape.Name} cannot be built", () => PgConnection.Execute(_connection, Made(index.Name)));
    }

    private void BuildRelation(TableShape shape, RelationShape relation)
    {
        string made = $"ALTER TABLE {Place(shape.Name).Quoted} ADD FOREIGN KEY ({Names(relation.Columns)}) REFERENCES "
            + $"{Place(relation.To).Quoted} ({Names(relation.On)}){relation.Rules}";
        if (shape.IsUndescribed) Undescribed.Make(shape, relation, made);
        else Guard($"the relation from {shape.Name} ({string.Join(", ", relation.Columns)}) to {relation.To} cannot be built",
            () => PgConnection.Execute(_connection, made));
    }

    // Of a copy: what stood in the way of the records, and what the new version has beyond the old one.
    private void PutBack()
    {
        PgConnection.Execute(_connection, "SET LOCAL check_function_bodies = off");
        string[] waiting = [.. Rounds.Run(_copied!.TakenAway, TryRun).Select(failed => failed.Statement)];
        PgConnection.Execute(_connection, "COMMIT");
        IReadOnlyList<TableShape> there;
        using (var store = PgStore.Open(_address, null)) there = store.ReadShape();
        BeginTransaction();
        TableShape? Has(TableShape shape) => there.FirstOrDefault(known => string.Equals(known.Name, shape.Name,
            StringComparison.OrdinalIgnoreCase));
        TableShape[] shapes = [.. _tables.Values.Select(table => table.Shape)];
        foreach (TableShape shape in shapes)
            foreach (IndexShape index in shape.Indexes.Where(index => Has(shape)?.Indexes.Any(known => known.IsUnique == index.IsUnique
                && known.Columns.SequenceEqual(index.Columns, StringComparer.OrdinalIgnoreCase)) != true)) BuildIndex(shape, index);
        // Some of it needs what the new version brings.
        _remarks.AddRange(Rounds.Run(waiting, TryRun).Select(failed => $"{Rounds.Shown(failed.Statement)}: {failed.Why}"));
        foreach (TableShape shape in shapes)
        {
            foreach (RelationShape relation in shape.Relations.Where(relation => Has(shape)?.Relations.Any(known =>
                known.Columns.SequenceEqual(relation.Columns, StringComparer.OrdinalIgnoreCase)) != true)) BuildRelation(shape, relation);
            CountOn(shape);
        }
    }

    // A counter stays where it was, unless a record that came in has a higher number.
    private void CountOn(TableShape shape)
    {
        string table = PgConnection.Literal(Place(shape.Name).Quoted);
        foreach (ColumnShape column in shape.Columns.Where(column => column.Type.Kind is FieldKind.Integer))
        {
            if (PgConnection.Scalar(_connection, $"SELECT pg_get_serial_sequence({table}, attname) FROM pg_attribute WHERE attrelid = "
                + $"{table}::regclass AND attname = $1 AND NOT attisdropped", column.Name) is not string sequence) continue;
            PgConnection.Execute(_connection, $"SELECT setval({PgConnection.Literal(sequence)}, m) FROM (SELECT "
                + $"max({PgConnection.Quote(column.Name)}) AS m FROM {Rows(shape.Name)}) t, {sequence} s WHERE m > CASE WHEN s.is_called "
                + "THEN s.last_value ELSE s.last_value - 1 END");
        }
    }

    private void Finish()
    {
        _remarks.AddRange(Rounds.Run([.. (_script?.Rights ?? []).Select(ForThis)], TryRun)
            .Select(failed => $"{Rounds.Shown(failed.Statement)}: {failed.Why}"));
        string? owner = _address.Server!.Owner;
        // Who has the other tables of a copy can use those that are new in it.
        string? ofNew = owner ?? (_copied is null ? null : (string?)PgConnection.Scalar(_connection, "SELECT pg_get_userbyid(c.relowner)"
            + $"::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {PgThings.Ours} AND c.relkind IN ('r', 'p') "
            + "GROUP BY c.relowner ORDER BY count(*) DESC LIMIT 1"));
        if (ofNew is not null)
            foreach (string table in _tables.Keys.Where(table => !_found.Contains(table)))
                PgConnection.Execute(_connection, $"ALTER TABLE {Place(table).Quoted} OWNER TO {PgConnection.Quote(ofNew)}");
        if (owner is not null && _copied is null)
            foreach (string schema in _places.Values.Select(place => place.Schema).Append(_schema).Distinct())
                PgConnection.Execute(_connection, $"ALTER SCHEMA {PgConnection.Quote(schema)} OWNER TO {PgConnection.Quote(owner)}");
        PgConnection.Execute(_connection, "COMMIT");
        // The server gathers its statistics by itself within a minute, unless somebody switched that off.
        if (PgConnection.Scalar(_connection, "SHOW autovacuum") is not "on") PgConnection.Execute(_connection, "ANALYZE");
        if (owner is not null && _copied is null) PgConnection.Execute(_connection,
            $"ALTER DATABASE {PgConnection.Quote(_address.Path)} OWNER TO {PgConnection.Quote(owner)}");
    }

    // Settings and rights of the database itself name it, whatever it is called now.
    private string ForThis(string statement)
    {
        int at = statement.IndexOf(PgThings.Database, StringComparison.Ordinal);
        return at < 0 || !(statement.StartsWith("ALTER DATABASE", StringComparison.Ordinal)
            || statement.StartsWith("ALTER ROLE", StringComparison.Ordinal) || statement.StartsWith("GRANT", StringComparison.Ordinal))
            ? statement : statement[..at] + PgConnection.Quote(_address.Path) + statement[(at + PgThings.Database.Length)..];
    }

    private void BuildKey(TableShape shape)
    {
        try
        {
            PgConnection.Execute(_connection, $"ALTER TABLE {Place(shape.Name).Quoted} ADD PRIMARY KEY ({Names(shape.Key)})");
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.UniqueViolation)
        {
            throw new KeyConflictException(shape.Name, error.MessageText);
        }
        catch (NpgsqlException error)
        {
            throw PgConnection.Stopped($"the key of {shape.Name} cannot be built", error);
        }
    }

    private void Guard(string what, Action action)
    {
        try
        {
            action();
        }
        catch (Exception error) when (error is NpgsqlException or IOException)
        {
            throw PgConnection.Stopped($"{_address.Shown}: {what}", error);
        }
    }

    public void Dispose()
    {
        if (_complete) return;
        _complete = true;
        try { _copy?.Cancel(); }
        catch (Exception error) when (error is NpgsqlException or OperationCanceledException
            or IOException)
        { /* it is thrown away with its database */ }
        _connection.Dispose();
        if (_isMarked) return;
        HalfMade.Remove(() => new PgServer(_address.Server!).Remove(_address.Path));
    }
}
