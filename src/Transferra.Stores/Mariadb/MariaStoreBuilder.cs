// MariaStoreBuilder.cs: a new MariaDB database, loaded by LOAD DATA from memory. Records lie in the order of their key there, so the key
// is made first; other indexes and relations after the load.
// Holds: (1) a row goes to all its tables or to none; (2) nothing cut or rounded stays: a load with any warning is taken back and its
// rows are tried in
// halves; (3) nothing is left of a database whose Complete did not return and of which no mark was taken; (4) when Complete returns, the
// server has counted what was sent.
using System.Globalization;
using System.Text.RegularExpressions;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal sealed partial class MariaStoreBuilder : IStoreBuilder
{
    private readonly StoreAddress _address;
    private readonly MySqlConnection _connection;
    private readonly Dictionary<string, LoadedTable> _tables = [];
    private readonly bool _made;
    private readonly MariaLoader _loader;
    private bool _complete, _isMarked;

    private readonly StoreScript? _script;
    private readonly MariaKeys[] _scripted = []; // the tables of the script
    private readonly CopyRest? _copy; // null unless the database began as a copy
    private readonly List<string> _remarks = [];

    private MariaStoreBuilder(StoreAddress address, MySqlConnection connection, bool made, StoreScript? script, CopyRest? copy = null)
    {
        (_address, _connection, _made, _script, _copy) = (address, connection, made, script, copy);
        _loader = new MariaLoader(connection);
        if (script is not null) _scripted = [.. script.Before.Select(MariaKeys.Of)];
    }

    public static MariaStoreBuilder Create(StoreAddress address) => Make(address, null);

    /// <summary>Makes a database again as a script tells; values are written to it as the server once wrote them out.</summary>
    public static MariaStoreBuilder Rebuild(StoreAddress address, StoreScript script) => Make(address, script);

    /// <inheritdoc/>
    public bool TakesWritten => _script is not null;

    /// <inheritdoc/>
    public IReadOnlyList<string> Remarks => _remarks;

    private static MariaStoreBuilder Make(StoreAddress address, StoreScript? script)
    {
        var server = new MariaServer(address.Server!);
        if (server.Exists(address.Path))
            throw new TransferraException($"the database {address.Shown} is there already; a new store is never written over another",
                "Find out what it is; rename it or name another one.");
        bool made = !server.HasDatabase(address.Path);
        try
        {
            using (MySqlConnection connection = MariaConnection.Open(address.Server!, ""))
            {
                bool isMaria = MariaConnection.VersionOf(connection).Contains("MariaDB", StringComparison.OrdinalIgnoreCase);
                // Two texts are the same key only when they are the same text, in case, accents and blanks.
                string collation = address.Options.GetValueOrDefault("collation") ?? (isMaria ? "utf8mb4_nopad_bin" : "utf8mb4_0900_bin");
                if (made)
                    MariaConnection.Execute(connection,
                        $"CREATE DATABASE {MariaConnection.Quote(address.Path)}"
                            + $"{script?.Database ?? $" CHARACTER SET utf8mb4 COLLATE {collation}"}");
                if (MariaConnection.Scalar(connection, "SELECT @@local_infile") != "1")
                    throw new TransferraException($"the server of {address.Shown} takes no rows from clients (local_infile is off)",
                        "Switch it on for the time of the upgrade: SET GLOBAL local_infile = 1");
            }
            MySqlConnection loading = MariaConnection.Open(address.Server!, address.Path, loads: true);
            MariaConnection.Execute(loading, ForLoading);
            var builder = new MariaStoreBuilder(address, loading, made, script);
            if (script is null) return builder;
            // What the old records hold, they held: also a date of zeros.
            MariaConnection.Execute(loading, WrittenMode);
            builder.RunScript([.. builder._scripted.Select(table => table.Made)]);
            builder._loader.LookAtColumns();
            return builder;
        }
        catch (Exception error) when (error is MySqlException or TransferraException)
        {
            if (made) server.Remove(address.Path);
            if (error is TransferraException) throw;
            throw new TransferraException($"the database {address.Shown} cannot be made: {error.Message}",
                "The user needs the right to make databases (CREATE), and to load into them.", error);
        }
    }

    /// <summary>Goes on with a database that was begun. Tables that were made after the mark are dropped; one that was there and got more
    /// rows since cannot be brought back.</summary>
    public static MariaStoreBuilder Continue(StoreAddress address, IReadOnlyList<TableShape> tables, BuildMark mark)
    {
        if (!new MariaServer(address.Server!).HasDatabase(address.Path)) throw BegunStore.Unfit(address.Shown, "it is not there");
        MySqlConnection loading = MariaConnection.Open(address.Server!, address.Path, loads: true);
        var builder = new MariaStoreBuilder(address, loading, made: false, script: null, mark.Copy) { _isMarked = true };
        try
        {
            MariaConnection.Execute(loading, ForLoading);
            foreach (string table in builder.TablesThere().Where(table => !mark.Tables.ContainsKey(table)
                && mark.Copy?.Stays.Contains(table) != true))
                MariaConnection.Execute(loading, $"DROP TABLE {MariaConnection.Quote(table)}");
            foreach ((TableShape shape, BuiltTable built) in BegunStore.Tables(address.Shown, tables, mark))
            {
                BegunStore.ProveRows(address.Shown, shape.Name, builder.CountOf(shape.Name), built);
                builder._tables.Add(shape.Name, new LoadedTable(AnyValue.OneKind(shape)) { Rows = built.Rows });
            }
            if (mark.Copy is not null) builder._loader.LookAtColumns();
            return builder;
        }
        catch (MySqlException error)
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

    private List<string> TablesThere()
    {
        using var command = new MySqlCommand("SELECT table_name FROM information_schema.tables WHERE "
            + "table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') AND table_schema = " + MariaConnection.Literal(_address.Path), _connection);
        using MySqlDataReader reader = command.ExecuteReader();
        var tables = new List<string>();
        while (reader.Read()) tables.Add(reader.GetString(0));
        return tables;
    }

    private long CountOf(string table) => long.Parse(MariaConnection.Scalar(_connection,
        $"SELECT count(*) FROM {MariaConnection.Quote(table)}")!, CultureInfo.InvariantCulture);

    /// <inheritdoc/>
    public BuildMark Mark()
    {
        if (_script is not null) throw new InvalidOperationException("a database that is made again as it was is made in one go");
        Guard("what was loaded so far could not be made final", _loader.Commit);
        _isMarked = true;
        return new BuildMark(_tables.ToDictionary(table => table.Key, table => new BuiltTable(table.Value.Rows, []))) { Copy = _copy };
    }

    private const string WrittenMode = "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION,ALLOW_INVALID_DATES'";

    private void RunScript(IReadOnlyList<string> statements)
    {
        RunScript(_connection, statements, _remarks);
        MariaConnection.Execute(_connection, WrittenMode);
    }

    private void RunScript(MySqlConnection connection, IReadOnlyList<string> statements, List<string> remarks)
    {
        if (MariaScript.Run(connection, statements, remarks) is [var failed, ..])
            throw new TransferraException($"{_address.Shown} cannot be made again as it was: "
                + $"{Rounds.Shown(failed.Statement)}: {failed.Why}",
                "What the server lacks has to be put there first; or restore into a folder and look at the rows.");
    }

    // Of all tables first, as links want them on both sides.
    private void AddKeysAndLinks()
    {
        string[] keys = [.. _scripted.Select(table => table.Keys).OfType<string>()];
        if (_second is not { } second) RunScript(keys);
        else Together.Do(() => RunScript(second.Connection, keys[..(keys.Length / 2)], []), () => RunScript(keys[(keys.Length / 2)..]));
        RunScript([.. _scripted.Select(table => table.Links).OfType<string>()]);
    }

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(MariaConnection.Quote));

    public void CreateTable(TableShape table) => Guard($"the table {table.Name} cannot be made", () =>
    {
        table = AnyValue.OneKind(table);
        if (_script is not null)
        {
            _tables.Add(table.Name, new LoadedTable(table));
            return;
        }
        IReadOnlyList<string> types = MariaTypes.Declare(table);
        List<string> lines = [.. table.Columns.Select((column, i) =>
        {
            bool isKey = LoadedTable.IsKey(table, column), isNumbered = LoadedTable.IsNumbered(table, column);
            return $"{MariaConnection.Quote(column.Name)} "
                + $"{column.DeclaredAs ?? types[i]}{(column.Required || isKey ? " NOT NULL" : "")}"
                    + $"{(isNumbered ? " AUTO_INCREMENT" : column.Default is { } value ? " DEFAULT " + value : "")}";
        })];
        if (table.Key.Count > 0) lines.Add($"PRIMARY KEY ({Names(table.Key)})");
        // The server counts up only what an index begins with.
        if (table.NumberedColumn is { } numbered
            && !(table.Key.Count > 0 && string.Equals(table.Key[0], numbered, StringComparison.OrdinalIgnoreCase)))
            lines.Add($"KEY ({MariaConnection.Quote(numbered)})");
        MariaConnection.Execute(_connection,
            $"CREATE TABLE {MariaConnection.Quote(table.Name)} (\n  {string.Join(",\n  ", lines)}\n) ENGINE = InnoDB");
        _tables.Add(table.Name, new LoadedTable(table));
    });

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        outputs = AnyValue.OneKind(outputs, ref rows, rejects, "MariaDB");
        int[] all = Specials.Hold(outputs, rows, rejects, "MariaDB").ToArray();
        if (all.Length == 0) return;
        Guard("loading stopped", () =>
        {
            LoadOrRefuse(outputs, all, rejects);
            _loader.CommitMuch();
            _second?.Loader.CommitMuch();
        });
    }

    // All rows at once; when one of them is refused, halves, down to the row.
    private void LoadOrRefuse(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        if (_script is not null)
        {
            // Not every engine of the server knows savepoints, and a set whose rows do not fit as they were is not made again at all.
            LoadAsItWas(outputs, rows, rejects);
            return;
        }
        MariaConnection.Execute(_connection, "SAVEPOINT load_rows");
        MariaRefusal? refused = null;
        string table = "";
        foreach (TableOutput output in outputs)
        {
            table = output.Table.Name;
            refused = _loader.Load(output, rows);
            if (refused is not null) break;
        }
        if (refused is null)
        {
            foreach (TableOutput output in outputs) _tables[output.Table.Name].Rows += rows.Length;
            return;
        }
        MariaConnection.Execute(_connection, "ROLLBACK TO SAVEPOINT load_rows");
        if (rows.Length == 1)
        {
            rejects.Add(new RowReject(rows[0], refused.Code, $"the new table {table} refused the record: {refused.Reason}"));
            return;
        }
        LoadOrRefuse(outputs, rows[..(rows.Length / 2)], rejects);
        LoadOrRefuse(outputs, rows[(rows.Length / 2)..], rejects);
    }

    // What is in a set was in a database, so that no two of its records have the same key, and none waits for one of another connection.
    private void LoadAsItWas(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        foreach (TableOutput output in outputs)
        {
            MariaRefusal? refused = rows.Length < LeastForTwo ? _loader.Load(output, rows) : LoadByTwo(output, rows);
            if (refused is not null)
                rejects.Add(new RowReject(rows[0], refused.Code,
                    $"the table {output.Table.Name}, made again as it was, refused this record or one behind it: {refused.Reason}"));
            else _tables[output.Table.Name].Rows += rows.Length;
        }
    }

    // Of fewer rows each journey to the server costs more than it saves.
    private const int LeastForTwo = 512;

    // The server works for one connection on one core, and this is most of what the proof of a backup takes.
    private MariaRefusal? LoadByTwo(TableOutput output, ReadOnlySpan<int> rows)
    {
        MariaLoader second = (_second ??= OpenSecond()).Loader;
        int[] begin = rows[..(rows.Length / 2)].ToArray(), end = rows[(rows.Length / 2)..].ToArray();
        (MariaRefusal? one, MariaRefusal? other) = Together.Do(() => _loader.Load(output, begin), () => second.Load(output, end));
        return one ?? other;
    }

    private (MySqlConnection Connection, MariaLoader Loader)? _second;

    private (MySqlConnection Connection, MariaLoader Loader) OpenSecond()
    {
        MySqlConnection connection = MariaConnection.Open(_address.Server!, _address.Path, loads: true);
        MariaConnection.Execute(connection, ForLoading);
        MariaConnection.Execute(connection, WrittenMode);
        return (connection, _loader.Beside(connection));
    }

    private const string ForLoading = "SET SESSION foreign_key_checks = 0, autocommit = 0";

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        Guard("the load could not be made final", () =>
        {
            _loader.Commit();
            _second?.Loader.Commit();
        });
        if (_script is not null) Guard("what belongs to the tables cannot be made", AddKeysAndLinks);
        _second?.Connection.Dispose();
        Guard("the load could not be made final", () => MariaConnection.Execute(_connection,
            "SET SESSION foreign_key_checks = 1, autocommit = 1"));
        if (_script is not null) Guard("what belongs to the tables cannot be made", FinishScript);
        else BuildDeclared();
        if (_copy is not null) Guard("what belongs to the tables cannot be put back", PutBack);
        foreach (LoadedTable table in _tables.Values)
        {
            table.ProveCount(CountOf(table.Shape.Name));
        }
        _complete = true;
        _connection.Dispose();
    }

    private void PutBack()
    {
        _remarks.AddRange(MariaScript.Run(_connection, _copy!.TakenAway, _remarks)
            .Select(failed => $"{Rounds.Shown(failed.Statement)}: {failed.Why}"));
        // They could not be made again behind the tables.
        foreach (string view in new MariaParts(_connection, _address.Path).BrokenViews())
        {
            MariaConnection.Execute(_connection, $"DROP VIEW {MariaConnection.Quote(view)}");
            _remarks.Add($"the view {view}: it shows what the new version does not have");
        }
    }

    // What the new version has; of a copy, beyond what is there.
    private void BuildDeclared()
    {
        IReadOnlyList<TableShape> there = [];
        if (_copy is not null)
            using (var store = MariaStore.Open(_address)) there = store.ReadShape();
        TableShape? Has(TableShape shape) => there.FirstOrDefault(known => string.Equals(known.Name, shape.Name,
            StringComparison.OrdinalIgnoreCase));
        TableShape[] shapes = [.. _tables.Values.Select(table => table.Shape)];
        foreach (TableShape shape in shapes)
            foreach (IndexShape index in shape.Indexes.Where(index => Has(shape)?.Indexes.Any(known => known.IsUnique == index.IsUnique
                && known.Columns.SequenceEqual(index.Columns, StringComparer.OrdinalIgnoreCase)) != true)) BuildIndex(shape, index);
        foreach (TableShape shape in shapes)
            foreach (RelationShape relation in shape.Relations.Where(relation => Has(shape)?.Relations.Any(known =>
                known.Columns.SequenceEqual(relation.Columns, StringComparer.OrdinalIgnoreCase)) != true)) BuildRelation(shape, relation);
    }

    private UndescribedParts Undescribed => new(statement => MariaScript.TryRun(_connection, statement), _remarks);

    private void BuildIndex(TableShape shape, IndexShape index)
    {
        string Made(string name) => $"ALTER TABLE {MariaConnection.Quote(shape.Name)} ADD {(index.IsUnique ? "UNIQUE " : "")}INDEX "
            + $"{(name.Length > 0 ? MariaConnection.Quote(name) : "")} ({Names(index.Columns)})";
        if (shape.IsUndescribed) Undescribed.Make(shape, index, Made);
        else Guard($"an index of {shape.Name} cannot be built", () => MariaConnection.Execute(_connection, Made(index.Name)));
    }

    private void BuildRelation(TableShape shape, RelationShape relation)
    {
        string made = $"ALTER TABLE {MariaConnection.Quote(shape.Name)} ADD FOREIGN KEY ({Names(relation.Columns)}) REFERENCES "
            + $"{MariaConnection.Quote(relation.To)} ({Names(relation.On)}){relation.Rules}";
        if (shape.IsUndescribed) Undescribed.Make(shape, relation, made);
        else Guard($"the relation from {shape.Name} ({string.Join(", ", relation.Columns)}) to {relation.To} cannot be built",
            () => MariaConnection.Execute(_connection, made));
    }

    // Rights go with the name of the database, and one that a run named is to be another's.
    private void FinishScript()
    {
        RunScript([.. _script!.After.Select(statement => MariaParts.For(statement, MadeEvent().IsMatch(statement) ? "event" : "",
            _address.Path))]);
        if (!_address.Name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal))
            _remarks.AddRange(Give(_connection, _address.Path, _script));
    }

    [GeneratedRegex(@"; CREATE (DEFINER\s*=\s*\S+ )?EVENT ", RegexOptions.CultureInvariant)]
    private static partial Regex MadeEvent();

    private static IEnumerable<string> Give(MySqlConnection connection, string database, StoreScript script) =>
        MariaScript.Run(connection, [.. script.Rights.Select(right =>
            right.Replace(MariaScript.Database, MariaConnection.Quote(database), StringComparison.Ordinal))], [])
            .Select(failed => $"{Rounds.Shown(failed.Statement)}: {failed.Why}");

    /// <summary>Adds rights.</summary>
    public static IReadOnlyList<string> AddRights(StoreAddress address, StoreScript script)
    {
        using MySqlConnection connection = MariaConnection.Open(address.Server!, address.Path, loads: true);
        return [.. Give(connection, address.Path, script)];
    }

    private void Guard(string what, Action action)
    {
        try
        {
            action();
        }
        catch (MySqlException error)
        {
            throw MariaConnection.Stopped($"{_address.Shown}: {what}", error);
        }
    }

    public void Dispose()
    {
        if (_complete) return;
        _complete = true;
        _second?.Connection.Dispose();
        _connection.Dispose();
        if (_isMarked) return;
        HalfMade.Remove(() =>
        {
            if (_made)
            {
                new MariaServer(_address.Server!).Remove(_address.Path);
                return;
            }
            // The database was there before us, empty, and stays so.
            using MySqlConnection connection = MariaConnection.Open(_address.Server!, _address.Path);
            MariaConnection.Execute(connection, "SET SESSION foreign_key_checks = 0");
            foreach (string table in _tables.Keys) MariaConnection.Execute(connection,
                $"DROP TABLE IF EXISTS {MariaConnection.Quote(table)}");
        });
    }
}
