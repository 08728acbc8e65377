// SqliteStoreBuilder.cs: a new SQLite store, loaded in one transaction, or in one for each mark.
// Why without safety of its own up to the first mark: the file is staged and counts only once Complete returned and it was flushed; a
// load that stops before a mark is thrown away as a whole. Behind a mark the engine's own journal takes back what was written since; it
// costs little, as new pages need no entry in it.
// Holds: (1) a row goes to all its tables or to none; (2) a row that the engine refuses is reported, the others go on;
//        (3) when Complete or Mark returns, the file is on the disk.
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Sqlite;

internal sealed unsafe class SqliteStoreBuilder : IStoreBuilder
{
    // Groups of 32 take nearly all there is to gain; the engine allows 32,766 values in one statement.
    private const int RowsInGroup = 32, MostValues = 32_766;

    /// <summary>Prepared statements: one row, and a group of rows (0 when the table is too wide for groups).</summary>
    private readonly record struct Inserts(nint Single, nint Grouped);

    private readonly string _path;
    private readonly SqliteConnection _connection;
    private readonly nint _database;
    private readonly Dictionary<string, Inserts> _inserts = [];
    private readonly List<TableShape> _tables = [];
    private readonly Dictionary<string, long> _rows = [];
    private readonly CopyRest? _copy; // null unless the file began as a copy
    private readonly Dictionary<string, bool[]> _written = []; // which columns of a table's shape values are written to
    private readonly Dictionary<string, DecimalForm[]> _decimals = []; // and how they keep decimals
    private readonly List<string> _remarks = [];
    private bool _open = true, _isSafe;

    private SqliteStoreBuilder(string path, SqliteConnection connection, CopyRest? copy = null)
    {
        (_path, _connection, _copy) = (path, connection, copy);
        _database = connection.Handle!.DangerousGetHandle();
    }

    public static SqliteStoreBuilder Create(string path)
    {
        if (File.Exists(path)) throw new TransferraException($"{path} is there already; a new store is never written over a file",
            "Move it away, then try again.");
        var builder = new SqliteStoreBuilder(path, SqliteEngine.Open(path, SqliteOpenMode.ReadWriteCreate));
        builder.Begin(isSafe: false);
        return builder;
    }

    /// <summary>Goes on with a file that was begun; a journal beside it is played back by the engine.</summary>
    public static SqliteStoreBuilder Continue(string path, IReadOnlyList<TableShape> tables, BuildMark mark)
    {
        if (!File.Exists(path)) throw BegunStore.Unfit(path, "it is not there");
        var builder = new SqliteStoreBuilder(path, SqliteEngine.Open(path, SqliteOpenMode.ReadWrite), mark.Copy);
        try
        {
            builder.Begin(isSafe: mark.Tables.Values.Any(built => built.Rows > 0));
            IReadOnlyList<(TableShape Shape, BuiltTable Built)> made = BegunStore.Tables(path, tables, mark);
            if (mark.Copy is null && Count(builder._connection, "sqlite_schema WHERE type = 'table'") != made.Count)
                throw BegunStore.Unfit(path, "it has other tables than it had");
            foreach ((TableShape shape, BuiltTable built) in made)
            {
                BegunStore.ProveRows(path, shape.Name, Count(builder._connection, SqliteEngine.Quote(shape.Name)), built);
                builder.Know(shape, built.Rows);
            }
            return builder;
        }
        catch (SqliteException error)
        {
            builder.Dispose();
            throw BegunStore.Unfit(path, error.Message, error);
        }
        catch
        {
            builder.Dispose();
            throw;
        }
    }

    private static long Count(SqliteConnection connection, string of)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = $"SELECT count(*) FROM {of}";
        return (long)command.ExecuteScalar()!;
    }

    private void Begin(bool isSafe)
    {
        _isSafe = isSafe;
        // Relations are looked at once, when all records are there; which comes first says nothing about them.
        SqliteEngine.Execute(_connection, "PRAGMA foreign_keys = OFF");
        // The journal in memory lets the engine take back one refused row; a crash loses the staged file, which is the intention.
        SqliteEngine.Execute(_connection, $"PRAGMA journal_mode = {(isSafe ? "DELETE" : "MEMORY")}");
        SqliteEngine.Execute(_connection, $"PRAGMA synchronous = {(isSafe ? "NORMAL" : "OFF")}");
        // What indexes are sorted by goes to nameless files of the engine's; kept in memory it would grow with the table, and take longer.
        SqliteEngine.Execute(_connection, "PRAGMA temp_store = FILE");
        SqliteEngine.Execute(_connection, "PRAGMA locking_mode = EXCLUSIVE");
        const long usualCache = 16 << 20, leastCache = 2 << 20, mostCache = 256 << 20;
        SqliteEngine.Execute(_connection, FormattableString.Invariant(
            $"PRAGMA cache_size = -{MemoryBudget.OfProcess.Suiting(usualCache, leastCache, mostCache) >> 10}")); // KiB
        SqliteEngine.Execute(_connection, "BEGIN");
    }

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        try
        {
            SqliteEngine.Execute(_connection, "COMMIT");
            FlushFile();
            new DiskVolume().FlushFolder(Path.GetDirectoryName(_path)!);
            if (_isSafe) SqliteEngine.Execute(_connection, "BEGIN");
            else Begin(isSafe: true);
        }
        catch (Exception error) when (error is SqliteException or IOException)
        {
            throw Stopped(error.Message);
        }
        return new BuildMark(_rows.ToDictionary(table => table.Key, table => new BuiltTable(table.Value, []))) { Copy = _copy };
    }

    private void FlushFile() => new DiskVolume().FlushFile(_path);

    private void Know(TableShape table, long rows)
    {
        _tables.Add(table);
        _rows[table.Name] = rows;
        Dictionary<string, (string Type, bool IsGenerated)> declared = DeclaredIn(table.Name);
        _written[table.Name] = [.. table.Columns.Select(column => !declared[column.Name].IsGenerated)];
        _decimals[table.Name] = [.. table.Columns.Select(column => declared[column.Name].Type).Select(type => SqliteTypes.IsScaled(type)
            ? DecimalForm.Units : SqliteTypes.MakesNumbers(type) ? DecimalForm.Numbers : DecimalForm.Text)];
        int width = _written[table.Name].Count(isWritten => isWritten);
        _inserts[table.Name] = new Inserts(PrepareInsert(table, 1), width * RowsInGroup <= MostValues ? PrepareInsert(table, RowsInGroup)
            : 0);
    }

    public void CreateTable(TableShape table)
    {
        bool rowIdKey = table.Key is [var only] && table.Columns[table.OrdinalOf(only)].Type.Kind == FieldKind.Integer;
        List<string> lines = [.. table.Columns.Select(column =>
        {
            bool isKey = table.Key.Contains(column.Name, StringComparer.OrdinalIgnoreCase);
            string rest = (rowIdKey && isKey ? " PRIMARY KEY" : column.Required || isKey ? " NOT NULL" : "")
                + (column.Default is { } value ? $" DEFAULT {SqliteTypes.Kept(column, value)}" : "");
            return $"{SqliteEngine.Quote(column.Name)} {column.DeclaredAs ?? SqliteTypes.Declare(column.Type)}{rest}";
        })];
        if (table.Key.Count > 0 && !rowIdKey) lines.Add($"PRIMARY KEY ({Names(table.Key)})");
        lines.AddRange(table.Relations.Select(relation =>
            $"FOREIGN KEY ({Names(relation.Columns)}) REFERENCES {SqliteEngine.Quote(relation.To)} "
                + $"({Names(relation.On)}){relation.Rules}"));
        SqliteEngine.Execute(_connection, $"CREATE TABLE {SqliteEngine.Quote(table.Name)} (\n  {string.Join(",\n  ", lines)}\n)");
        Know(table, 0);
    }

    private Dictionary<string, (string Type, bool IsGenerated)> DeclaredIn(string table)
    {
        using SqliteCommand command = _connection.CreateCommand();
        command.CommandText = $"SELECT name, type, hidden > 1 FROM pragma_table_xinfo({SqliteEngine.Literal(table)})";
        using SqliteDataReader reader = command.ExecuteReader();
        var columns = new Dictionary<string, (string, bool)>(StringComparer.OrdinalIgnoreCase);
        while (reader.Read()) columns[reader.GetString(0)] = (reader.GetString(1), reader.GetBoolean(2));
        return columns;
    }

    private nint PrepareInsert(TableShape table, int rows)
    {
        string[] columns = [.. table.Columns.Select(column => column.Name).Where((_, i) => _written[table.Name][i])];
        string row = "(" + string.Join(", ", Enumerable.Repeat("?", columns.Length)) + ")";
        return SqliteNative.Prepare(_database, $"INSERT INTO {SqliteEngine.Quote(table.Name)} ({Names(columns)}) VALUES "
            + string.Join(", ", Enumerable.Repeat(row, rows)));
    }

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(SqliteEngine.Quote));

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        int refused = rejects.Count;
        foreach (TableOutput output in outputs) _rows[output.Table.Name] += rows.Length;
        WriteAll(outputs, Hold(outputs, rows, rejects), rejects);
        foreach (TableOutput output in outputs) _rows[output.Table.Name] -= rejects.Count - refused;
    }

    private void WriteAll(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        using var binders = new BinderSet(outputs, RowsInGroup, table => _written[table], table => _decimals[table]);
        int next = 0;
        // Rows of one table go in groups, which costs the engine less than half; rows of several tables must stand or fall together, one
        // by one.
        if (outputs.Count == 1 && _inserts[outputs[0].Table.Name] is { Grouped: not 0 } insert)
        {
            for (; next + RowsInGroup <= rows.Length; next += RowsInGroup)
            {
                ReadOnlySpan<int> group = rows.Slice(next, RowsInGroup);
                int result = binders.InsertGroup(insert.Grouped, group);
                if (result == SqliteNative.Done) continue;
                if (result != SqliteNative.Constraint) throw Stopped(SqliteNative.Message(_database));
                // One of them is refused, and with it the engine took back the group.
                WriteSingly(outputs, binders, group, rejects);
            }
        }
        WriteSingly(outputs, binders, rows[next..], rejects);
    }

    /// <summary>Refuses what the engine does not hold: a NaN would become NULL there, without a word.</summary>
    internal static ReadOnlySpan<int> Hold(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, ICollection<RowReject> rejects) =>
        Specials.Hold(outputs, rows, rejects, "SQLite", (vector, row) => vector is DoubleVector doubles
            && !double.IsNaN(doubles.Values[row]));

    private void WriteSingly(IReadOnlyList<TableOutput> outputs, BinderSet binders, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        nint[] inserts = [.. outputs.Select(output => _inserts[output.Table.Name].Single)];
        Span<long> written = stackalloc long[outputs.Count];
        foreach (int row in rows)
        {
            for (int i = 0; i < outputs.Count; i++)
            {
                int result = binders.Insert(i, inserts[i], row);
                if (result == SqliteNative.Done)
                {
                    if (outputs.Count > 1) written[i] = SqliteNative.LastInsertRowId(_database);
                    continue;
                }
                string message = SqliteNative.Message(_database);
                if (result != SqliteNative.Constraint) throw Stopped(message);
                for (int earlier = 0; earlier < i; earlier++) TakeBack(outputs[earlier].Table, written[earlier]);
                FaultCode code = SqliteNative.ExtendedCode(_database) is SqliteNative.ConstraintNotNull ? FaultCode.MissingValue
                    : FaultCode.DuplicateKey;
                rejects.Add(new RowReject(row, code, $"the new table {outputs[i].Table.Name} refused the record: {message}"));
                break;
            }
        }
    }

    private void TakeBack(TableShape table, long rowId)
    {
        using SqliteCommand command = _connection.CreateCommand();
        command.CommandText = $"DELETE FROM {SqliteEngine.Quote(table.Name)} WHERE rowid = $row";
        command.Parameters.AddWithValue("$row", rowId);
        command.ExecuteNonQuery();
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        try
        {
            foreach ((string field, string value) in headerFields)
            {
                if (field is not ("user_version" or "application_id") || !int.TryParse(value, NumberStyles.AllowLeadingSign,
                    CultureInfo.InvariantCulture, out int number))
                    throw new TransferraException($"a SQLite store has no header field {field} = {value}",
                        "The fields are user_version and application_id, whole numbers. Correct header-fields in the kit.");
                SqliteEngine.Execute(_connection, string.Create(CultureInfo.InvariantCulture, $"PRAGMA {field} = {number}"));
            }
            FinalizeInserts();
            if (_copy is not null)
                _remarks.AddRange(_tables.Select(new SqliteRecordNumbers(_connection).Give).OfType<string>());
            PutBack();
            foreach (TableShape table in _tables) BuildIndexes(table);
            foreach (TableShape table in _tables) ProveRelations(table);
            SqliteEngine.Execute(_connection, "COMMIT");
            foreach (string setting in _copy?.TakenAway.Where(IsSetting) ?? []) SqliteEngine.Execute(_connection,
                "PRAGMA locking_mode = NORMAL; " + setting);
        }
        catch (SqliteException error)
        {
            throw Stopped(error.Message);
        }
        Close();
        FlushFile();
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Remarks => _remarks;

    private static bool IsSetting(string statement) => statement.StartsWith(SqliteRevision.Setting, StringComparison.Ordinal);

    private void PutBack()
    {
        foreach (string statement in _copy?.TakenAway.Where(statement => !IsSetting(statement)) ?? [])
            if (TryRun(statement) is { } refused) _remarks.Add($"{Rounds.Shown(statement)}: {refused}");
    }

    // Of a copy, the old version's indexes are there already.
    private bool Has(TableShape table, IndexShape index)
    {
        using SqliteCommand command = _connection.CreateCommand();
        command.CommandText = "SELECT group_concat(name, char(0)) FROM (SELECT l.name AS list, i.name FROM pragma_index_list("
            + $"{SqliteEngine.Literal(table.Name)}) l JOIN pragma_index_info(l.name) i WHERE l.\"unique\" = {(index.IsUnique ? 1 : 0)} "
            + "AND l.partial = 0 ORDER BY l.name, i.seqno) GROUP BY list";
        using SqliteDataReader reader = command.ExecuteReader();
        while (reader.Read())
            if (!reader.IsDBNull(0) && reader.GetString(0).Split('\0').SequenceEqual(index.Columns, StringComparer.OrdinalIgnoreCase))
                return true;
        return false;
    }

    private void BuildIndexes(TableShape table)
    {
        for (int i = 0; i < table.Indexes.Count; i++)
        {
            IndexShape index = table.Indexes[i];
            if (_copy is not null && Has(table, index)) continue;
            string ours = string.Create(CultureInfo.InvariantCulture, $"{table.Name}_x{i + 1}");
            string Made(string name) => $"CREATE {(index.IsUnique ? "UNIQUE " : "")}INDEX "
                + $"{SqliteEngine.Quote(name.Length > 0 ? name : ours)} ON {SqliteEngine.Quote(table.Name)} ({Names(index.Columns)})";
            if (table.IsUndescribed)
            {
                new UndescribedParts(TryRun, _remarks).Make(table, index, Made);
                continue;
            }
            try { SqliteEngine.Execute(_connection, Made(index.Name)); }
            catch (SqliteException error) when (error.SqliteErrorCode == SqliteNative.Constraint)
            {
                throw new TransferraException($"an index of {table.Name} cannot be built: {error.Message}",
                    "Records of the old data have the same values in what the new version wants to be unique. Correct them in the old "
                        + "program, or the kit.",
                    error);
            }
        }
    }

    private string? TryRun(string statement)
    {
        try
        {
            SqliteEngine.Execute(_connection, statement);
            return null;
        }
        catch (SqliteException error) { return error.Message; }
    }

    // As the engines do that build relations at the end: one that does not hold is a stop, with the records that are to blame.
    private void ProveRelations(TableShape table)
    {
        foreach (RelationShape relation in table.Relations)
        {
            string on = string.Join(" AND ", relation.Columns.Zip(relation.On, (column, of) =>
                $"p.{SqliteEngine.Quote(of)} = c.{SqliteEngine.Quote(column)}"));
            string points = string.Join(" AND ", relation.Columns.Select(column => $"c.{SqliteEngine.Quote(column)} IS NOT NULL"));
            using SqliteCommand command = _connection.CreateCommand();
            command.CommandText = $"SELECT count(*) FROM {SqliteEngine.Quote(table.Name)} c LEFT JOIN {SqliteEngine.Quote(relation.To)} "
                + $"p ON {on} WHERE {points} AND p.{SqliteEngine.Quote(relation.On[0])} IS NULL";
            long lone = (long)command.ExecuteScalar()!;
            if (lone > 0 && table.IsUndescribed)
                _remarks.Add(string.Create(CultureInfo.InvariantCulture,
                    $"{UndescribedParts.Words(table, relation)} does not hold, as it did not before: {lone} records point to none"));
            else if (lone > 0)
                throw new TransferraException(string.Create(CultureInfo.InvariantCulture,
                    $"the relation from {table.Name} ({string.Join(", ", relation.Columns)}) to {relation.To} does not hold in the "
                        + $"new store: {lone} records point to none that is there"),
                    "Correct them in the old program; transferra check names records that point nowhere. Or the relation is wrong in the "
                        + "kit's new version.");
        }
    }

    private TransferraException Stopped(string message) => new($"writing {_path} stopped: {message}",
        "Look for room on the disk and for its health. The old data is untouched; the half-written new store is removed.");

    private void FinalizeInserts()
    {
        foreach (Inserts inserts in _inserts.Values)
        {
            _ = SqliteNative.FinalizeStatement(inserts.Single);
            _ = SqliteNative.FinalizeStatement(inserts.Grouped); // of nothing: harmless
        }
        _inserts.Clear();
    }

    private void Close()
    {
        if (!_open) return;
        _open = false;
        FinalizeInserts();
        _connection.Dispose();
    }

    public void Dispose() => Close();
}
