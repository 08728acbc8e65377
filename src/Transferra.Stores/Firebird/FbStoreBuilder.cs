// FbStoreBuilder.cs: a new Firebird database, loaded in one transaction, or in one for each mark; keys, indexes and relations are built
// after the load.
// Holds: (1) a row goes to all its tables or to none; (2) nothing is left of a database whose Complete did not return and of which no
// mark was taken; (3) when Complete returns,
//        the server has counted what was sent.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using FirebirdSql.Data.Services;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal sealed class FbStoreBuilder : IStoreBuilder
{
    private const int PageBytes = 16_384; // a key may take a quarter of a page

    // The engine's numbers for a value that a unique index has already.
    private const int UniqueKeyViolation = 335544665, NoDuplicates = 335544349, NotNullViolation = 335544347,
        ForeignKeyViolation = 335544466, CheckViolation = 335544558, NoRoom = 335544321, ConversionError = 335544334;

    private sealed class Table(TableShape shape, FbInsert insert) : LoadedTable(shape)
    {
        public FbInsert Insert { get; } = insert;
    }

    private readonly StoreAddress _address;
    private readonly FbConnection _connection;
    private readonly bool _keysFirst, _hasInt128;
    private readonly StoreScript? _script;
    private readonly CopyRest? _copy; // null unless the database began as a copy
    private readonly string? _ofNoSetEncoding; // code page of texts that the engine knows no character set of
    private readonly List<string> _remarks = [];
    private readonly Dictionary<string, Table> _tables = [];
    private Table[] _writing = [];
    private FbTransaction? _transaction;
    private bool _complete, _isMarked;

    private FbStoreBuilder(StoreAddress address, FbConnection connection, bool keysFirst, StoreScript? script = null,
        CopyRest? copy = null, string? textEncoding = null)
    {
        (_address, _connection, _keysFirst, _script, _copy) = (address, connection, keysFirst, script, copy);
        _ofNoSetEncoding = script?.TextEncoding ?? (copy is null ? null : textEncoding);
        string version = (string)FbLink.Scalar(connection, null, "SELECT RDB$GET_CONTEXT('SYSTEM', 'ENGINE_VERSION') FROM RDB$DATABASE")!;
        _hasInt128 = int.Parse(version.Split('.')[0], CultureInfo.InvariantCulture) >= 4;
    }

    public static FbStoreBuilder Create(StoreAddress address, bool keysFirst)
    {
        FbServer.RefuseIfThere(address);
        try
        {
            // Without forced writes while loading: a load that stops half-way is thrown away as a whole. They are switched on before it
            // counts.
            FbConnection.CreateDatabase(FbLink.Describe(address), PageBytes, forcedWrites: false, overwrite: false);
        }
        catch (FbException error)
        {
            throw new TransferraException($"the database {address.Shown} cannot be made: {FbLink.FirstLine(error)}",
                "The server's own user must be allowed to write there, and yours to make databases.", error);
        }
        try
        {
            return new FbStoreBuilder(address, FbLink.Open(address), keysFirst);
        }
        catch
        {
            new FbServer(address.Server!).Remove(address.Path);
            throw;
        }
    }

    /// <summary>Goes on with a database that was begun. Tables that were made after the mark are dropped.</summary>
    public static FbStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark, bool keysFirst,
        string? textEncoding)
    {
        if (!new FbServer(address.Server!).Exists(address.Path)) throw BegunStore.Unfit(address.Shown, "it is not there");
        var builder = new FbStoreBuilder(address, FbLink.OpenInDialect(address, out int _), keysFirst, null, mark.Copy, textEncoding)
        {
            _isMarked = true
        };
        try
        {
            foreach (string table in builder.TablesThere().Where(table => !mark.Tables.ContainsKey(table)
                && mark.Copy?.Stays.Contains(table) != true))
                FbLink.Execute(builder._connection, null, $"DROP TABLE {FbLink.Quote(table)}");
            if (mark.Copy is not null) builder.ReadNatives();
            foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(address.Shown, tables, mark))
            {
                BegunStore.ProveRows(address.Shown, shape.Name, builder.CountOf(shape.Name), built);
                builder.Know(AnyValue.OneKind(shape)).Rows = built.Rows;
            }
            return builder;
        }
        catch (FbException error)
        {
            builder.Dispose();
            throw BegunStore.Unfit(address.Shown, FbLink.FirstLine(error), error);
        }
        catch
        {
            builder.Dispose();
            throw;
        }
    }

    private List<string> TablesThere()
    {
        using var command = new FbCommand("SELECT TRIM(RDB$RELATION_NAME) FROM RDB$RELATIONS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 "
            + "AND RDB$VIEW_BLR IS NULL", _connection);
        using FbDataReader reader = command.ExecuteReader();
        var tables = new List<string>();
        while (reader.Read()) tables.Add(reader.GetString(0));
        return tables;
    }

    private long CountOf(string table) => Convert.ToInt64(FbLink.Scalar(_connection, null,
        $"SELECT COUNT(*) FROM {FbLink.Quote(table)}"), CultureInfo.InvariantCulture);

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        if (_script is not null) throw new InvalidOperationException("a database that is made again as it was is made in one go");
        Guard("what was loaded so far could not be made final", Commit);
        // A server elsewhere is trusted with it; what it lost by then shows when its records are counted on going on.
        if (File.Exists(_address.Path)) new DiskVolume().FlushFile(_address.Path);
        _isMarked = true;
        return new BuildMark(_tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows, []))) { Copy = _copy };
    }

    // A table that is there already, in its own words.
    private Table Know(TableShape table)
    {
        TableShape native = Native(table);
        string[] declared = [.. FbTypes.Declare(native, _hasInt128)
            .Select((type, i) => _ofNoSet.GetValueOrDefault((table.Name, native.Columns[i].Name)) is > 0 and var length
            ? FormattableString.Invariant($"VARCHAR({length}) CHARACTER SET OCTETS") : type)];
        return _tables[table.Name] = new Table(native, new FbInsert(_connection, native, declared));
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Remarks => _remarks;

    /// <summary>Makes a database again from the engine's own backup of its declarations, with indexes and triggers asleep until the rows
    /// are there.</summary>
    public static FbStoreBuilder Rebuild(StoreAddress address, StoreScript script, string folder)
    {
        try
        {
            using FileStream file = File.OpenRead(Path.Combine(folder, script.File!));
            FbOwnBackup.Restore(file, address, FbRestoreFlags.DeactivateIndexes | FbRestoreFlags.MetaDataOnly);
        }
        catch (FbException error)
        {
            throw NotMade(address, error);
        }
        FbStoreBuilder? builder = null;
        try
        {
            int dialect = Convert.ToInt32(Dialect(address), CultureInfo.InvariantCulture);
            builder = new FbStoreBuilder(address, FbLink.Open(address, dialect), keysFirst: false, script);
            foreach (string statement in script.Before) FbLink.Execute(builder._connection, null, statement);
            builder.ReadNatives();
            return builder;
        }
        catch (Exception error) when (error is FbException or TransferraException)
        {
            if (builder is not null) builder.Dispose();
            else HalfMade.Remove(() => new FbServer(address.Server!).Remove(address.Path));
            if (error is TransferraException) throw;
            throw NotMade(address, error);
        }
    }

    private static TransferraException NotMade(StoreAddress address, Exception error) =>
        new($"the database {address.Shown} cannot be made again as it was: {FbLink.FirstLine(error)}",
            "The user has to be SYSDBA, or one who may restore databases; or restore into a folder and look at the rows.", error);

    private static object Dialect(StoreAddress address)
    {
        using FbConnection connection = FbLink.Open(address);
        return FbLink.Scalar(connection, null, "SELECT MON$SQL_DIALECT FROM MON$DATABASE")!;
    }

    // Columns of a database that is made again: those the engine works out by itself, and texts whose code page it knows nothing of, by
    // their most bytes (0: a BLOB).
    private readonly HashSet<(string Table, string Column)> _computed = [];
    private readonly Dictionary<(string Table, string Column), int> _ofNoSet = [];

    private void ReadNatives()
    {
        using var command = new FbCommand("SELECT TRIM(r.RDB$RELATION_NAME), TRIM(f.RDB$FIELD_NAME), IIF(t.RDB$COMPUTED_BLR IS NULL, 0, "
            + "1), t.RDB$FIELD_TYPE, COALESCE(t.RDB$CHARACTER_SET_ID, 0), COALESCE(t.RDB$FIELD_LENGTH, 0), "
            + "COALESCE(t.RDB$FIELD_SUB_TYPE, 0) "
            + "FROM RDB$RELATIONS r JOIN RDB$RELATION_FIELDS f ON f.RDB$RELATION_NAME = r.RDB$RELATION_NAME JOIN RDB$FIELDS t ON "
            + "t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE COALESCE(r.RDB$SYSTEM_FLAG, 0) = 0", _connection);
        using FbDataReader reader = command.ExecuteReader();
        while (reader.Read())
        {
            (string, string) column = (reader.GetString(0), reader.GetString(1));
            int type = reader.GetInt32(3);
            if (reader.GetInt32(2) == 1) _computed.Add(column);
            else if (_ofNoSetEncoding is not null && reader.GetInt32(4) == FbTypes.None
                && (type is FbTypes.Char or FbTypes.Varchar || (type == FbTypes.Blob && reader.GetInt32(6) == 1)))
                _ofNoSet[column] = type == FbTypes.Blob ? 0 : reader.GetInt32(5);
        }
    }

    // The shape that is written to: without computed columns, and texts without a character set as the bytes they are.
    private TableShape Native(TableShape table) => _script is null && _copy is null ? table : table with
    {
        Columns = [.. table.Columns.Where(column => !_computed.Contains((table.Name, column.Name)))
            .Select(column => _ofNoSet.ContainsKey((table.Name, column.Name)) ? column with { Type = new FieldType(FieldKind.Binary) }
                : column)],
    };

    private TableOutput Native(TableOutput output)
    {
        if (_script is null && _copy is null) return output;
        string name = output.Table.Name;
        var vectors = new List<Vector>();
        for (int i = 0; i < output.Vectors.Count; i++)
        {
            (string, string) column = (name, output.Table.Columns[i].Name);
            if (!_computed.Contains(column)) vectors.Add(_ofNoSet.ContainsKey(column) ? Encoded(name, (BytesVector)output.Vectors[i])
                : output.Vectors[i]);
        }
        return new TableOutput(_tables[name].Shape, vectors);
    }

    private BytesVector Encoded(string table, BytesVector texts)
    {
        System.Text.Encoding encoding = TextPages.EncodingOf(_ofNoSetEncoding, table) ?? System.Text.Encoding.UTF8;
        var bytes = new BytesVector(new FieldType(FieldKind.Binary));
        for (int row = 0; row < texts.Count; row++)
            if (texts.IsNull(row)) bytes.AppendNull();
            else bytes.Append(encoding.GetBytes(System.Text.Encoding.UTF8.GetString(texts[row])));
        return bytes;
    }

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(FbLink.Quote));

    public void CreateTable(TableShape table) => Guard($"the table {table.Name} cannot be made", () =>
    {
        table = AnyValue.OneKind(table);
        Commit();
        if (_script is not null)
        {
            Know(table);
            return;
        }
        IReadOnlyList<string> types = FbTypes.Declare(table, _hasInt128);
        List<string> lines = [.. table.Columns.Select((column, i) =>
        {
            bool isKey = LoadedTable.IsKey(table, column), isNumbered = LoadedTable.IsNumbered(table, column);
            return $"{FbLink.Quote(column.Name)} "
                + (column.DeclaredAs ?? types[i]) + (isNumbered ? " GENERATED BY DEFAULT "
                + "AS IDENTITY" : column.Default is { } value ? " DEFAULT " + value : "")
                + (column.Required || isKey ? " NOT NULL" : "");
        })];
        if (_keysFirst && table.Key.Count > 0) lines.Add($"PRIMARY KEY ({Names(table.Key)})");
        FbLink.Execute(_connection, null, $"CREATE TABLE {FbLink.Quote(table.Name)} (\n  {string.Join(",\n  ", lines)}\n)");
        _tables.Add(table.Name, new Table(table, new FbInsert(_connection, table, types)));
    });

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "Firebird");
        int[] all = Specials.Hold(outputs, rows, rejects, "Firebird").ToArray();
        outputs = [.. outputs.Select(Native)];
        Guard("loading stopped", () =>
        {
            _transaction ??= _connection.BeginTransaction();
            Table[] tables = Writing(outputs);
            int inGroup = tables.Min(table => table.Insert.RowsInGroup);
            // Rows of several tables stand or fall together, so only tables that take groups of the same size go in groups.
            bool grouped = inGroup > 1 && tables.All(table => table.Insert.RowsInGroup == inGroup);
            var group = new List<int>(inGroup);
            foreach (int row in all)
            {
                if (outputs.Select(output => FbInsert.Unfit(output, row)).FirstOrDefault(reason => reason is not null) is { } unfit)
                    rejects.Add(new RowReject(row, FaultCode.NeedsRounding, unfit));
                else if (!grouped || Enumerable.Range(0, tables.Length)
                    .Any(i => !tables[i].Insert.FitsGroup(outputs[i], row))) Single(tables, outputs, row, rejects);
                else
                {
                    group.Add(row);
                    if (group.Count < inGroup) continue;
                    Group(tables, outputs, group, rejects);
                    group.Clear();
                }
            }
            foreach (int row in group) Single(tables, outputs, row, rejects);
        });
    }

    // The tables that rows go into from now on. A block has some hundred kilobytes here and on the server, and there may be a thousand
    // tables.
    private Table[] Writing(IReadOnlyList<TableOutput> outputs)
    {
        Table[] tables = [.. outputs.Select(output => _tables[output.Table.Name])];
        foreach (Table before in _writing.Except(tables)) before.Insert.LetGo();
        return _writing = tables;
    }

    private void Group(Table[] tables, IReadOnlyList<TableOutput> outputs, List<int> group, List<RowReject> rejects)
    {
        ReadOnlySpan<int> rows = System.Runtime.InteropServices.CollectionsMarshal.AsSpan(group);
        bool several = tables.Length > 1;
        if (several) _transaction!.Save("rows");
        try
        {
            for (int i = 0; i < tables.Length; i++) tables[i].Insert.Group(_transaction!, outputs[i], rows);
            foreach (Table table in tables) table.Rows += rows.Length;
        }
        catch (FbException error) when (IsRefusal(error))
        {
            // One of them is refused, and with it the engine took back the block.
            if (several) _transaction!.Rollback("rows");
            foreach (int row in group) Single(tables, outputs, row, rejects);
        }
    }

    private void Single(Table[] tables, IReadOnlyList<TableOutput> outputs, int row, List<RowReject> rejects)
    {
        bool several = tables.Length > 1;
        if (several) _transaction!.Save("one");
        int at = 0;
        try
        {
            for (; at < tables.Length; at++) tables[at].Insert.Single(_transaction!, outputs[at], row);
            foreach (Table table in tables) table.Rows++;
        }
        catch (FbException error) when (IsRefusal(error))
        {
            if (several) _transaction!.Rollback("one");
            rejects.Add(new RowReject(row, FaultCode.DuplicateKey,
                $"the new table {outputs[at].Table.Name} refused the record: {FbLink.FirstLine(error)}"));
        }
    }

    // The columns of a copy are the old database's, which may be narrower than the kit says; so are its checks.
    private bool HasOthersTypes => _copy is not null
        || _tables.Values.Any(table => table.Shape.Columns.Any(column => column.DeclaredAs is not null));

    private bool IsRefusal(FbException error) =>
        error.Errors.Any(entry => entry.Number is UniqueKeyViolation or NoDuplicates or NotNullViolation or ForeignKeyViolation
            || (HasOthersTypes && entry.Number is CheckViolation or NoRoom or ConversionError));

    private void Commit()
    {
        _transaction?.Commit();
        _transaction?.Dispose();
        _transaction = null;
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        Guard("the load could not be made final", Commit);
        foreach (string statement in _script?.After ?? [])
            Guard(Rounds.Shown(statement), () => FbLink.Execute(_connection, null, statement));
        if (_script is null) BuildDeclared();
        if (_copy is not null) PutBack();
        foreach (Table table in _tables.Values)
        {
            table.ProveCount(CountOf(table.Shape.Name));
            table.Insert.LetGo();
        }
        _connection.Dispose();
        Guard("forced writes cannot be switched on", () => new FbConfiguration(FbLink.Describe(_address)).SetForcedWrites(true));
        // What the server wrote so far may still be in the system's memory.
        if (File.Exists(_address.Path)) new DiskVolume().FlushFile(_address.Path);
        _complete = true;
    }

    // What the new version has; of a copy, beyond what is there.
    private void BuildDeclared()
    {
        IReadOnlyList<TableShape> there = [];
        if (_copy is not null)
            using (var store = FbStore.Open(_address, null)) there = store.ReadShape();
        TableShape? Has(TableShape shape) => there.FirstOrDefault(known => string.Equals(known.Name, shape.Name,
            StringComparison.OrdinalIgnoreCase));
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            if (shape.Key.Count > 0 && !_keysFirst && (_copy is null || Has(shape)?.Key.Count == 0)) BuildKey(shape);
            for (int i = 0; i < shape.Indexes.Count; i++)
                if (Has(shape)?.Indexes.Any(known => known.IsUnique == shape.Indexes[i].IsUnique
                    && known.Columns.SequenceEqual(shape.Indexes[i].Columns, StringComparer.OrdinalIgnoreCase)) != true)
                    BuildIndex(shape, i);
        }
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            foreach (RelationShape relation in shape.Relations.Where(relation => Has(shape)?.Relations.Any(known =>
                known.Columns.SequenceEqual(relation.Columns, StringComparer.OrdinalIgnoreCase)) != true)) BuildRelation(shape, relation);
            if (_copy is null && shape.NumberedColumn is { } numbered)
                Guard($"the numbering of {shape.Name} cannot be set", () =>
                {
                    // What the engine gives out next is one more than where the counter stands; RESTART sets where it stands.
                    object highest = FbLink.Scalar(_connection, null,
                        $"SELECT MAX({FbLink.Quote(numbered)}) FROM {FbLink.Quote(shape.Name)}") ?? 0L;
                    FbLink.Execute(_connection, null, string.Create(CultureInfo.InvariantCulture,
                        $"ALTER TABLE {FbLink.Quote(shape.Name)} ALTER COLUMN {FbLink.Quote(numbered)} RESTART WITH {highest}"));
                });
            if (_address.Server!.Owner is { } owner)
                Guard($"{owner} cannot be given rights", () => FbLink.Execute(_connection, null,
                    $"GRANT ALL ON {FbLink.Quote(shape.Name)} TO USER {FbLink.Quote(owner)} WITH GRANT OPTION"));
        }
    }

    private void BuildIndex(TableShape shape, int number)
    {
        IndexShape index = shape.Indexes[number];
        string ours = string.Create(CultureInfo.InvariantCulture, $"{shape.Name[..Math.Min(shape.Name.Length, 24)]}_X{number + 1}");
        string Made(string name) => $"CREATE {(index.IsUnique ? "UNIQUE " : "")}INDEX {FbLink.Quote(name.Length > 0 ? name : ours)} ON "
            + $"{FbLink.Quote(shape.Name)} ({Names(index.Columns)})";
        if (shape.IsUndescribed) Undescribed.Make(shape, index, Made);
        else Guard($"an index of {shape.Name} cannot be built", () => FbLink.Execute(_connection, null, Made(index.Name)));
    }

    private void BuildRelation(TableShape shape, RelationShape relation)
    {
        string made = $"ALTER TABLE {FbLink.Quote(shape.Name)} ADD FOREIGN KEY ({Names(relation.Columns)}) REFERENCES "
            + $"{FbLink.Quote(relation.To)} ({Names(relation.On)}){relation.Rules}";
        if (shape.IsUndescribed) Undescribed.Make(shape, relation, made);
        else Guard($"the relation from {shape.Name} ({string.Join(", ", relation.Columns)}) to {relation.To} cannot be built",
            () => FbLink.Execute(_connection, null, made));
    }

    private UndescribedParts Undescribed => new(TryRun, _remarks);

    private string? TryRun(string statement)
    {
        try
        {
            FbLink.Execute(_connection, null, statement);
            return null;
        }
        catch (FbException error) { return FbLink.FirstLine(error); }
    }

    private void PutBack() =>
        _remarks.AddRange(Rounds.Run(_copy!.TakenAway, TryRun).Select(failed => $"{Rounds.Shown(failed.Statement)}: {failed.Why}"));

    private void BuildKey(TableShape shape)
    {
        try
        {
            FbLink.Execute(_connection, null, $"ALTER TABLE {FbLink.Quote(shape.Name)} ADD PRIMARY KEY ({Names(shape.Key)})");
        }
        catch (FbException error) when (error.Errors.Any(entry => entry.Number is UniqueKeyViolation or NoDuplicates))
        {
            throw new KeyConflictException(shape.Name, FbLink.FirstLine(error));
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"the key of {shape.Name} cannot be built", error);
        }
    }

    private void Guard(string what, Action action)
    {
        try
        {
            action();
        }
        catch (Exception error) when (error is FbException or IOException)
        {
            throw FbLink.Stopped($"{_address.Shown}: {what}", error);
        }
    }

    public void Dispose()
    {
        if (_complete) return;
        _complete = true;
        HalfMade.Remove(() =>
        {
            foreach (Table table in _tables.Values) table.Insert.LetGo();
            _transaction?.Dispose();
            _connection.Dispose();
        });
        if (!_isMarked) HalfMade.Remove(() => new FbServer(_address.Server!).Remove(_address.Path));
    }
}
