// MariaStoreBuilder.cs: a new MariaDB database, loaded by LOAD DATA from memory. Records lie in the order of their key there, so the key is made
// first; other indexes and relations after the load.
// Why warnings are counted: rows that come from the client are loaded as if IGNORE were said, and what is refused or cut is a warning only.
// Holds: (1) a row goes to all its tables or to none; (2) nothing cut or rounded stays: a load with any warning is taken back and its rows are tried in
//        halves; (3) nothing is left of a database whose Complete did not return; (4) when Complete returns, the server has counted what was sent.
using System.Globalization;
using System.Text;
using MySqlConnector;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaStoreBuilder : IStoreBuilder
{
    // Bytes between commits: long transactions cost the server undo space, short ones a flush each.
    private const long CommitBytes = 64 << 20;

    private readonly StoreAddress _address;
    private readonly MySqlConnection _connection;
    private readonly Dictionary<string, LoadedTable> _tables = [];
    private readonly bool _made;
    private readonly LoadText _text = new();
    private long _uncommitted;
    private bool _complete;

    private MariaStoreBuilder(StoreAddress address, MySqlConnection connection, bool made) => (_address, _connection, _made) = (address, connection, made);

    public static MariaStoreBuilder Create(StoreAddress address)
    {
        var server = new MariaServer(address.Server!);
        if (server.Exists(address.Path)) throw new TransferraException($"the database {address.Shown} is there already; a new store is never written over another", "Find out what it is; rename it or name another one.");
        bool made = !server.HasDatabase(address.Path);
        try
        {
            using (MySqlConnection connection = MariaConnection.Open(address.Server!, ""))
            {
                bool isMaria = MariaConnection.VersionOf(connection).Contains("MariaDB", StringComparison.OrdinalIgnoreCase);
                // Two texts are the same key only when they are the same text, in case, accents and blanks.
                string collation = address.Options.GetValueOrDefault("collation") ?? (isMaria ? "utf8mb4_nopad_bin" : "utf8mb4_0900_bin");
                if (made) MariaConnection.Execute(connection, $"CREATE DATABASE {MariaConnection.Quote(address.Path)} CHARACTER SET utf8mb4 COLLATE {collation}");
                if (MariaConnection.Scalar(connection, "SELECT @@local_infile") != "1")
                    throw new TransferraException($"the server of {address.Shown} takes no rows from clients (local_infile is off)", "Switch it on for the time of the upgrade: SET GLOBAL local_infile = 1");
            }
            MySqlConnection loading = MariaConnection.Open(address.Server!, address.Path, loads: true);
            MariaConnection.Execute(loading, "SET SESSION foreign_key_checks = 0, autocommit = 0");
            return new MariaStoreBuilder(address, loading, made);
        }
        catch (Exception error) when (error is MySqlException or TransferraException)
        {
            if (made) server.Remove(address.Path);
            if (error is TransferraException) throw;
            throw new TransferraException($"the database {address.Shown} cannot be made: {error.Message}", "The user needs the right to make databases (CREATE), and to load into them.", error);
        }
    }

    private static string Names(IEnumerable<string> columns) => string.Join(", ", columns.Select(MariaConnection.Quote));

    public void CreateTable(TableShape table) => Guard($"the table {table.Name} cannot be made", () =>
    {
        IReadOnlyList<string> types = MariaTypes.Declare(table);
        List<string> lines = [.. table.Columns.Select((column, i) =>
        {
            bool isKey = LoadedTable.IsKey(table, column), isNumbered = LoadedTable.IsNumbered(table, column);
            return $"{MariaConnection.Quote(column.Name)} {types[i]}{(column.Required || isKey ? " NOT NULL" : "")}{(isNumbered ? " AUTO_INCREMENT" : column.Default is { } value ? " DEFAULT " + value : "")}";
        })];
        if (table.Key.Count > 0) lines.Add($"PRIMARY KEY ({Names(table.Key)})");
        // The server counts up only what an index begins with.
        if (table.NumberedColumn is { } numbered && !(table.Key.Count > 0 && string.Equals(table.Key[0], numbered, StringComparison.OrdinalIgnoreCase))) lines.Add($"KEY ({MariaConnection.Quote(numbered)})");
        MariaConnection.Execute(_connection, $"CREATE TABLE {MariaConnection.Quote(table.Name)} (\n  {string.Join(",\n  ", lines)}\n) ENGINE = InnoDB");
        _tables.Add(table.Name, new LoadedTable(table));
    });

    public void Write(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        int[] all = rows.ToArray();
        if (all.Length == 0) return;
        Guard("loading stopped", () =>
        {
            LoadOrRefuse(outputs, all, rejects);
            if (_uncommitted < CommitBytes) return;
            MariaConnection.Execute(_connection, "COMMIT");
            _uncommitted = 0;
        });
    }

    // All rows at once; when one of them is refused, halves, down to the row.
    private void LoadOrRefuse(IReadOnlyList<TableOutput> outputs, ReadOnlySpan<int> rows, List<RowReject> rejects)
    {
        MariaConnection.Execute(_connection, "SAVEPOINT load_rows");
        (FaultCode Code, string Reason)? refused = null;
        string table = "";
        foreach (TableOutput output in outputs)
        {
            table = output.Table.Name;
            refused = Load(output, rows);
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
            rejects.Add(new RowReject(rows[0], refused.Value.Code, $"the new table {table} refused the record: {refused.Value.Reason}"));
            return;
        }
        LoadOrRefuse(outputs, rows[..(rows.Length / 2)], rejects);
        LoadOrRefuse(outputs, rows[(rows.Length / 2)..], rejects);
    }

    /// <summary>Loads rows into one table.</summary>
    /// <returns>What the server would not take, in its words; null when it took everything as it was sent.</returns>
    private (FaultCode Code, string Reason)? Load(TableOutput output, ReadOnlySpan<int> rows)
    {
        _text.Write(output.Vectors, rows);
        _uncommitted += _text.Length;
        var loader = new MySqlBulkLoader(_connection)
        {
            TableName = MariaConnection.Quote(output.Table.Name),
            CharacterSet = "utf8mb4",
            FieldTerminator = "\t",
            LineTerminator = "\n",
            EscapeCharacter = '\\',
            Local = true,
            SourceStream = _text.Read(),
            Timeout = 0,
        };
        foreach (ColumnShape column in output.Table.Columns)
        {
            // Bytes that are no text travel as hexadecimal digits.
            bool isBinary = column.Type.Kind == FieldKind.Binary;
            string variable = FormattableString.Invariant($"@b{loader.Columns.Count}");
            loader.Columns.Add(isBinary ? variable : MariaConnection.Quote(column.Name));
            if (isBinary) loader.Expressions.Add($"{MariaConnection.Quote(column.Name)} = UNHEX({variable})");
        }
        int loaded = loader.Load();
        if (loaded == rows.Length && MariaConnection.Scalar(_connection, "SELECT @@warning_count") == "0") return null;
        using var command = new MySqlCommand("SHOW WARNINGS LIMIT 1", _connection);
        using MySqlDataReader reader = command.ExecuteReader();
        if (!reader.Read()) return (FaultCode.WrongKind, string.Create(CultureInfo.InvariantCulture, $"it took {loaded} of {rows.Length}"));
        if (reader.GetInt32(1) == (int)MySqlErrorCode.DuplicateKeyEntry) return (FaultCode.DuplicateKey, "a record with the same key is there already");
        // The server's words hold the value.
        return (FaultCode.WrongKind, output.Table.Columns.Any(column => column.IsPrivate) ? "it would cut or change one of its values" : reader.GetString(2));
    }

    public void Complete(IReadOnlyDictionary<string, string> headerFields)
    {
        Guard("the load could not be made final", () => MariaConnection.Execute(_connection, "COMMIT; SET SESSION foreign_key_checks = 1, autocommit = 1"));
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            foreach (IndexShape index in shape.Indexes)
                Guard($"an index of {shape.Name} cannot be built", () => MariaConnection.Execute(_connection, $"ALTER TABLE {MariaConnection.Quote(shape.Name)} ADD {(index.IsUnique ? "UNIQUE " : "")}INDEX {(index.Name.Length > 0 ? MariaConnection.Quote(index.Name) : "")} ({Names(index.Columns)})"));
        }
        foreach (TableShape shape in _tables.Values.Select(table => table.Shape))
        {
            foreach (RelationShape relation in shape.Relations)
                Guard($"the relation from {shape.Name} ({string.Join(", ", relation.Columns)}) to {relation.To} cannot be built", () => MariaConnection.Execute(_connection,
                    $"ALTER TABLE {MariaConnection.Quote(shape.Name)} ADD FOREIGN KEY ({Names(relation.Columns)}) REFERENCES {MariaConnection.Quote(relation.To)} ({Names(relation.On)})"));
        }
        foreach (LoadedTable table in _tables.Values)
        {
            table.ProveCount(long.Parse(MariaConnection.Scalar(_connection, $"SELECT count(*) FROM {MariaConnection.Quote(table.Shape.Name)}")!, CultureInfo.InvariantCulture));
        }
        _complete = true;
        _connection.Dispose();
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
        _connection.Dispose();
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
            foreach (string table in _tables.Keys) MariaConnection.Execute(connection, $"DROP TABLE IF EXISTS {MariaConnection.Quote(table)}");
        });
    }
}

/// <summary>Rows as LOAD DATA reads them: fields parted by tabs, lines by line feeds, \N for no value.</summary>
internal sealed class LoadText
{
    private byte[] _bytes = new byte[1 << 20];

    public int Length { get; private set; }

    public Stream Read() => new MemoryStream(_bytes, 0, Length, writable: false);

    public void Write(IReadOnlyList<Vector> vectors, ReadOnlySpan<int> rows)
    {
        Length = 0;
        foreach (int row in rows)
        {
            for (int column = 0; column < vectors.Count; column++)
            {
                if (column > 0) One((byte)'\t');
                Write(vectors[column], row);
            }
            One((byte)'\n');
        }
    }

    private void Write(Vector vector, int row)
    {
        Room(64);
        Span<byte> room = _bytes.AsSpan(Length);
        if (vector.IsNull(row))
        {
            "\\N"u8.CopyTo(room);
            Length += 2;
            return;
        }
        switch (vector)
        {
            case LongVector { Type.Kind: FieldKind.Integer or FieldKind.Boolean } longs:
                longs.Values[row].TryFormat(room, out int digits, default, CultureInfo.InvariantCulture);
                Length += digits;
                break;
            case LongVector { Type.Kind: FieldKind.Date } dates:
                ValueText.WriteDate(dates.Values[row], room);
                Length += 10;
                break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                Length += DecimalText.Format(wides.Values[row], wides.Type.Scale, room);
                break;
            case DoubleVector doubles:
                doubles.Values[row].TryFormat(room, out int written, "R", CultureInfo.InvariantCulture);
                Length += written;
                break;
            case BytesVector { Type.Kind: FieldKind.Binary } bytes:
                ReadOnlySpan<byte> value = bytes[row];
                Room(2 * value.Length);
                Convert.TryToHexString(value, _bytes.AsSpan(Length), out int hex);
                Length += hex;
                break;
            case BytesVector texts: Escaped(texts[row]); break;
            default: Length += Encoding.ASCII.GetBytes(vector.Show(row), room); break;
        }
    }

    private void Escaped(ReadOnlySpan<byte> text)
    {
        Room(2 * text.Length);
        while (true)
        {
            int at = text.IndexOfAny("\\\t\n\r\0"u8);
            ReadOnlySpan<byte> plain = at < 0 ? text : text[..at];
            plain.CopyTo(_bytes.AsSpan(Length));
            Length += plain.Length;
            if (at < 0) return;
            _bytes[Length++] = (byte)'\\';
            _bytes[Length++] = text[at] switch { (byte)'\t' => (byte)'t', (byte)'\n' => (byte)'n', (byte)'\r' => (byte)'r', 0 => (byte)'0', _ => (byte)'\\' };
            text = text[(at + 1)..];
        }
    }

    private void One(byte value)
    {
        Room(1);
        _bytes[Length++] = value;
    }

    private void Room(int bytes)
    {
        if (_bytes.Length - Length < bytes) Array.Resize(ref _bytes, (int)Math.Min(Array.MaxLength, Math.Max(Length + (long)bytes, 2L * _bytes.Length)));
    }
}
