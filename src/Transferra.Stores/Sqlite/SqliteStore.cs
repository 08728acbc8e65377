// SqliteStore.cs: a SQLite file opened for reading only.
// Holds: (1) nothing is written, not even a side file: a store that would need one to be read is refused with what to do;
//        (2) one read transaction for the whole life: one snapshot, and in rollback mode nobody can commit meanwhile.
using System.Buffers.Binary;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Sqlite;

internal sealed class SqliteStore : IStore
{
    private const string CutOff = "cut_off";
    private const string Magic = "SQLite format 3\0";

    private readonly string _path;
    private readonly SqliteConnection _connection;
    private readonly string? _textPages; // see TextPages.cs

    private readonly FileWatch? _watch;

    // Null where only the engine knows what belongs to the store.
    private readonly SqlitePageFile? _pages;
    private readonly SqliteLayouts _layouts;

    private readonly KnownOfFiles<long> _counted;
    private readonly MarkedReading _reading;

    private SqliteStore(string path, SqliteConnection connection, string? textPages, FileWatch? watch, StoreIdentity identity,
        KnownOfFiles<long> counted, MarkedReading reading)
    {
        (_path, _connection, _textPages, _watch, Identity) = (path, connection, textPages, watch, identity);
        (_counted, _reading) = (counted, reading);
        _pages = identity.HeaderFields.ContainsKey(StoreIdentity.WaitingChanges) || identity.HeaderFields.ContainsKey(CutOff) ? null
            : SqlitePageFile.Of(connection);
        _layouts = new SqliteLayouts(Inquire);
    }

    public StoreIdentity Identity { get; }

    public static SqliteStore Open(string path, string? textEncoding, KnownOfFiles<long> counted)
    {
        for (long end = Environment.TickCount64 + (long)SqliteEngine.Patience.TotalMilliseconds; ;)
        {
            try { return TryOpen(path, textEncoding, counted); }
            catch (SqliteException error) when (IsRollbackWanted(path, error))
            {
                // Whoever wrote it may be about to remove it, or gone.
                if (Environment.TickCount64 < end && OpenFiles.HoldersOf([path, path + "-journal"]).Count > 0) Thread.Sleep(Beat);
                else
                    throw new TransferraException($"an unfinished transaction is left beside the store: {path}-journal",
                        "The old program, or the machine, stopped in the middle of a change. Open the company once in the old program "
                            + "and close it again; the file then goes away.", error);
            }
            catch (SqliteException error) { throw Refused(path, error); }
        }
    }

    private const int ReadOnly = 8, CannotOpen = 14;

    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(5);

    // The engine says so when the journal beside the file is one that nobody is writing any more, and this connection may not undo it.
    private static bool IsRollbackWanted(string path, SqliteException error) => error.SqliteErrorCode is ReadOnly or CannotOpen
        && new FileInfo(path + "-journal") is { Exists: true, Length: > 0 };

    private static SqliteStore TryOpen(string path, string? textEncoding, KnownOfFiles<long> counted)
    {
        MarkedReading reading = KnownOfFiles<long>.Begin(SqliteOpener.Engine, path);
        Dictionary<string, string> header = ReadHeader(path);
        // Closed by everybody, a store in write-ahead mode is read without the side files that the engine would make for it; nothing but
        // a watch on the file then tells that somebody came back. With changes waiting, the engine's own side files are joined, as
        // another user of it.
        FileWatch? watch = HowToRead(path, header) ? new FileWatch(path) : null;
        SqliteConnection connection = SqliteEngine.Open(Source(path, watch is not null), SqliteOpenMode.ReadOnly);
        try
        {
            SqliteEngine.Execute(connection, "PRAGMA query_only = 1");
            SqliteEngine.Execute(connection, "PRAGMA cell_size_check = 1");
            // The engine opens no file that is cut off, unless its schema may be written; this connection may write nothing at all.
            if (IsCutOff(path, header)) SqliteEngine.Execute(connection, "PRAGMA writable_schema = ON");
            SqliteEngine.ExecuteAtOnce(connection, "BEGIN");
            // the read that fixes the snapshot
            SqliteEngine.InAMoment(() => SqliteEngine.ExecuteAtOnce(connection, "SELECT count(*) FROM sqlite_schema"));
        }
        catch (SqliteException)
        {
            connection.Dispose();
            throw;
        }
        var identity = new StoreIdentity("SQLite", SqliteEngine.Version, new FileInfo(path).Length, header);
        return new SqliteStore(path, connection, textEncoding, watch, identity, counted, reading);
    }

    private static string Source(string path, bool withoutSideFiles) =>
        withoutSideFiles ? $"file:{Uri.EscapeDataString(path).Replace("%2F", "/", StringComparison.Ordinal)}?immutable=1" : path;

    // Offsets: "The SQLite Database File Format", section 1.3.
    private static Dictionary<string, string> ReadHeader(string path)
    {
        if (Directory.Exists(path)) throw new TransferraException($"{path} is a folder, not a SQLite file",
            "Correct the path of the store in office.yaml.");
        if (!File.Exists(path))
            throw new TransferraException($"the store {path} is not there",
                "Correct the path of the store in office.yaml, or look where the old program keeps its data.");
        var header = new byte[100];
        int read;
        try
        {
            // Sharing everything: a handle that locks the file would break the program that works with it.
            using FileStream file = PlainFile.Open(path, 0);
            read = file.ReadAtLeast(header, header.Length, throwOnEndOfStream: false);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new TransferraException($"the store {path} cannot be read: {error.Message}", "Run as a user who may read it.", error);
        }
        if (read == 0) throw new TransferraException($"the store {path} is empty: 0 bytes",
            "Restore it from the office's own backup; there is nothing to upgrade in it.");
        if (read < header.Length || System.Text.Encoding.ASCII.GetString(header, 0, 16) != Magic)
            throw new TransferraException($"{path} is not a SQLite file, or its first page is damaged",
                "Check the path in office.yaml. If it is the right file, restore it from the office's own backup.");
        return new Dictionary<string, string>
        {
            ["user_version"] = BinaryPrimitives.ReadInt32BigEndian(header.AsSpan(60)).ToString(CultureInfo.InvariantCulture),
            ["application_id"] = BinaryPrimitives.ReadInt32BigEndian(header.AsSpan(68)).ToString(CultureInfo.InvariantCulture),
            ["page_size"] = BinaryPrimitives.ReadUInt16BigEndian(header.AsSpan(16)).ToString(CultureInfo.InvariantCulture),
            ["file_format"] = header[18].ToString(CultureInfo.InvariantCulture),
            ["journal"] = header[18] == 2 ? "write-ahead" : "rollback",
            ["pages"] = BinaryPrimitives.ReadUInt32BigEndian(header.AsSpan(28)).ToString(CultureInfo.InvariantCulture),
        };
    }

    // Whether the file has fewer pages than its header counts. A page size of 1 stands for 65,536.
    private static bool IsCutOff(string path, Dictionary<string, string> header)
    {
        long pageBytes = long.Parse(header["page_size"], CultureInfo.InvariantCulture) is 1
            ? 65_536 : long.Parse(header["page_size"], CultureInfo.InvariantCulture),
                pages = long.Parse(header["pages"], CultureInfo.InvariantCulture);
        long there = pageBytes == 0 ? pages : new FileInfo(path).Length / pageBytes;
        if (there >= pages) return false;
        header[CutOff] = FormattableString.Invariant($"the file is cut off: its header counts {pages} pages, and {there} are there");
        return true;
    }

    // True for a store that must be read without its side files.
    private static bool HowToRead(string path, Dictionary<string, string> header)
    {
        if (header["journal"] != "write-ahead") return false;
        if (new FileInfo(path + "-wal") is not { Exists: true, Length: > 0 } waiting) return true;
        if (!File.Exists(path + "-shm"))
            throw new TransferraException($"changes are waiting beside the store: {path}-wal",
                "The old program, or the machine, stopped before it had written them into the store. Open the company once in the old "
                    + "program and close it again.");
        header[StoreIdentity.WaitingChanges] = string.Create(CultureInfo.InvariantCulture, $"{waiting.Length} bytes in {path}-wal");
        return false;
    }

    private static TransferraException Refused(string path, SqliteException error) => error.SqliteErrorCode switch
    {
        5 or 6 => new TransferraException($"the store {path} is locked by another program",
            "Close the old program on all workstations and stop its services, then try again.", error),
        11 or 26 => new TransferraException($"the store {path} is damaged so that the engine cannot open it: {error.Message}",
            "Restore it from the office's own backup, or send it to the vendor.", error),
        _ => new TransferraException($"the store {path} cannot be opened: {error.Message}", "Run as a user who may read it.", error),
    };

    // Shadow tables are what a full-text or spatial table keeps its records in; they are read by way of it.
    public IReadOnlyList<TableShape> ReadShape()
    {
        QueryAnswer names = Inquire("SELECT name, type FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'virtual') AND "
            + "name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name");
        TableShape[] tables = [.. names.Rows.Where(row => row[1] == "table" || IsReadable(row[0]!)).Select(row => ReadTable(row[0]!))];
        // The engine folds the letters of ASCII only, and takes Ä and ä for two.
        NameTwins.Refuse($"{_path} has two tables", tables.Select(table => table.Name), NameTwins.InDatabase);
        foreach (TableShape table in tables)
            NameTwins.Refuse($"the table {table.Name} in {_path} has two columns", table.Columns.Select(column => column.Name),
                NameTwins.InDatabase);
        return tables;
    }

    // Of a virtual table whose module this engine has not, only its shadows can be read; those are tables to it.
    private bool IsReadable(string name)
    {
        try
        {
            Inquire($"SELECT count(*) FROM {SqliteEngine.Quote(name)}");
            return true;
        }
        catch (TransferraException) { return false; }
    }

    /// <inheritdoc/>
    public IReadOnlyList<StoreDeclaration> Declarations() => new SqliteThings(Inquire).All();

    public IReadOnlyList<StoreObject> ListObjects() =>
        [.. Ask("SELECT type, name, CASE type WHEN 'trigger' THEN tbl_name ELSE '' END FROM sqlite_schema WHERE type IN ('view', "
            + "'trigger') UNION ALL SELECT 'search structure', name, '' FROM pragma_table_list WHERE schema = 'main' AND type = "
            + "'virtual' ORDER BY 1, 2")
            .Rows.Select(row => new StoreObject(row[0]!, row[1]!, row[2]!))];

    public TableShape? ReadStoredShape(string table) => _layouts.StoredShape(table);

    private readonly Dictionary<string, TableShape> _shapes = [];

    // The store is of one state as long as it is open, so each table is looked at once.
    private TableShape ReadTable(string name) => _shapes.TryGetValue(name, out TableShape? known) ? known : _shapes[name] = LookAt(name);

    // The storage classes of the values of columns whose declarations say nothing.
    private Dictionary<string, string[]> ClassesOf(string table, IEnumerable<string> columns)
    {
        string[] asked = [.. columns];
        if (asked.Length == 0) return [];
        try
        {
            IReadOnlyList<string?> row = Inquire(
                $"SELECT {string.Join(", ", asked.Select(column => $"group_concat(DISTINCT typeof({SqliteEngine.Quote(column)}))"))} FROM "
                + $"{SqliteEngine.Quote(table)}").Rows[0];
            return asked.Zip(row).ToDictionary(pair => pair.First, pair => pair.Second?.Split(',') ?? []);
        }
        catch (TransferraException)
        {
            // damaged: whatever can be read of them is told by each value
            return asked.ToDictionary(column => column, _ => (string[])["several", "kinds"]);
        }
    }

    private TableShape LookAt(string name)
    {
        QueryAnswer info = Inquire($"SELECT name, type, \"notnull\", pk, dflt_value FROM pragma_table_info({SqliteEngine.Literal(name)}) "
            + "ORDER BY cid");
        Dictionary<string, string[]> classes = ClassesOf(name, info.Rows.Where(row => SqliteTypes.Of(row[1] ?? "") is null)
            .Select(row => row[0]!));
        ColumnShape[] columns = [.. info.Rows.Select(row => new ColumnShape(row[0]!, SqliteTypes.Of(row[1] ?? "")
            ?? SqliteTypes.Of(row[1] ?? "", classes[row[0]!]), row[2] == "1",
            Default: SqliteTypes.Meant(row[1] ?? "", row[4])))];
        string[] key = [.. info.Rows.Where(row => row[3] != "0").OrderBy(row => int.Parse(row[3]!, CultureInfo.InvariantCulture))
            .Select(row => row[0]!)];
        // The engine lets records without a value in their key be, as many as one likes, except where the key is the record's number;
        // those have no key, and no other is theirs.
        string[] open = [.. info.Rows.Where(row => row[3] != "0" && row[2] == "0").Select(row => row[0]!)];
        bool isKept = open.Length == 0 || IsNumbered(name, info) || !HasNulls(name, open);
        IndexShape[] insteadOfKey = isKept ? [] : [new IndexShape("", key, true)];
        // A relation that names no columns of the other table means its key.
        QueryAnswer links = Inquire("SELECT f.id, f.\"table\", f.\"from\", coalesce(f.\"to\", (SELECT t.name FROM "
            + "pragma_table_info(f.\"table\") t WHERE t.pk = f.seq + 1), f.\"from\"), f.on_delete, f.on_update FROM "
            + $"pragma_foreign_key_list({SqliteEngine.Literal(name)}) f ORDER BY f.id, f.seq");
        RelationShape[] relations = [.. links.Rows.GroupBy(row => row[0]).Select(group =>
            new RelationShape([.. group.Select(row => row[2]!)], group.First()[1]!, [.. group.Select(row => row[3]!)])
            {
                Rules = RelationShape.RulesOf(group.First()[4], group.First()[5])
            })];
        QueryAnswer indexes = Inquire($"SELECT l.name, l.\"unique\", i.name, l.partial FROM "
            + $"pragma_index_list({SqliteEngine.Literal(name)}) l JOIN "
            + "pragma_index_info(l.name) i WHERE l.origin <> 'pk' ORDER BY l.name, i.seqno");
        return new TableShape(name, columns, isKept ? key : [], relations)
        {
            Indexes = [.. insteadOfKey, .. indexes.Rows.GroupBy(row => row[0]!)
                .Select(index => new IndexShape(index.Key, [.. index.Select(row => row[2]).OfType<string>()], index.First()[1] == "1")
                {
                    IsSpecial = index.Any(row => row[2] is null || row[3] != "0")
                })],
            NumberedColumn = IsNumbered(name, info) ? key[0] : null,
        };
    }

    // A key of one whole number is the engine's own record number, which it counts up by itself; not where the table has no such numbers,
    // or the key is declared descending.
    private bool IsNumbered(string name, QueryAnswer info) => info.Rows.Count(row => row[3] != "0") == 1
        && info.Rows.Any(row => row[3] == "1" && string.Equals(row[1], "INTEGER", StringComparison.OrdinalIgnoreCase))
        && Inquire($"SELECT 1 FROM pragma_index_list({SqliteEngine.Literal(name)}) WHERE origin = 'pk'").Rows.Count == 0;

    private bool HasNulls(string table, string[] columns)
    {
        try
        {
            return Ask($"SELECT EXISTS (SELECT 1 FROM {SqliteEngine.Quote(table)} WHERE "
            + $"{string.Join(" OR ", columns.Select(column => $"{SqliteEngine.Quote(column)} IS NULL"))})").Rows[0][0] == "1";
        }
        catch (TransferraException) { return false; } // damaged
    }

    public bool KeepsKey(string table, IReadOnlyList<string> key) => key.Count == 1
        && string.Equals(_layouts.NumberOf(table), key[0], StringComparison.OrdinalIgnoreCase);

    private readonly Dictionary<string, long> _counts = [];

    // Counting reads every page of the table, and many ask.
    public long CountRows(string table)
    {
        lock (_counts) return _counts.TryGetValue(table, out long known) ? known
            : _counts[table] = _counted.Of(_reading, _path, table, Count);
    }

    /// <inheritdoc/>
    public long AboutRows(string table)
    {
        lock (_counts)
            if (_counts.TryGetValue(table, out long known)) return known;
        // Numbers are given one after the other, and the last is found at once; where they are not, it is larger than a file of this size
        // could hold records.
        if (_layouts.Of(new TableShape(table, [], [], [])) is null) return CountRows(table);
        string? last = Inquire($"SELECT max(_rowid_) FROM {SqliteEngine.Quote(table)}").Rows[0][0];
        return last is null ? 0 : long.TryParse(last, CultureInfo.InvariantCulture, out long number) && number >= 0
            && number <= Identity.Bytes / SmallestRecord ? number : CountRows(table);
    }

    // Bytes of a record in its page: its length, its number, the length of its header, and where it stands.
    private const int SmallestRecord = 5;

    private long Count(string table) =>
        _pages is not null && _layouts.Of(new TableShape(table, [], [], [])) is { } layout && new SqliteTableScan(_pages!.Again(),
            layout.RootPage).Count() is { } counted
            ? counted : long.Parse(Inquire($"SELECT count(*) FROM {SqliteEngine.Quote(table)}").Rows[0][0]!, CultureInfo.InvariantCulture);

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        // The order of the records in the file is that of their numbers.
        if (within is null && _pages is not null && _layouts.Of(table) is { } layout
            && (orderBy.Count == 0 || (layout.NumberedColumn >= 0
                && table.OrdinalOf(orderBy[0]) == layout.Columns[layout.NumberedColumn].Position)))
            return new SqlitePageReader(_pages!.Again(), layout, table, Cells(table), _watch, done => Engine(table, " NOT INDEXED")
                .Without(done));
        string order = orderBy.Count == 0 ? "" : " ORDER BY " + string.Join(", ", orderBy.Select(SqliteEngine.Quote));
        // A cell may hold anything there, so a range is only asked for where a text, which is larger than any number, is passed over
        // afterwards anyway.
        string where = RangeCondition.Of(within, table, SqliteEngine.Quote, _ => true);
        return RangeCondition.Hold(Engine(table, where + order), table, within);
    }

    /// <inheritdoc/>
    public IStoredTable? Stored(TableShape table)
    {
        return _pages is null || _layouts.Of(table) is not { } layout || _layouts.DeclarationOf(table.Name) is not { } declared ? null
            : new SqliteStoredTable(_pages, layout, table, Cells(table), _watch,
                $"SQLite\n{TextPages.OfTable(_textPages, table.Name)}\n{declared}");
    }

    private bool[] ScaledOf(TableShape table)
    {
        QueryAnswer declared = Inquire($"SELECT name, type FROM pragma_table_info({SqliteEngine.Literal(table.Name)})");
        return [.. table.Columns.Select(column =>
            declared.Rows.Any(row => string.Equals(row[0], column.Name, StringComparison.OrdinalIgnoreCase)
                && SqliteTypes.IsScaled(row[1] ?? "")))];
    }

    private SqliteCells Cells(TableShape table) => new(ScaledOf(table), TextPages.DecoderOf(_textPages, table.Name));

    /// <summary>A table as the engine reads it.</summary>
    internal SqliteRecordReader Engine(TableShape table, string rest) => Engine(table, Cells(table), rest);

    private SqliteRecordReader Engine(TableShape table, SqliteCells cells, string rest) => new(_connection.Handle!.DangerousGetHandle(),
        $"SELECT {string.Join(", ", table.Columns.Select(column => SqliteEngine.Quote(column.Name)))} FROM "
            + $"{SqliteEngine.Quote(table.Name)}{rest}",
        $"{_path}, table {table.Name}", cells, _watch);

    private SqliteSalvage? _salvage;

    // Of changes that wait beside the file only the engine knows.
    private SqliteSalvage? Salvage()
    {
        if (_salvage is not null || Identity.HeaderFields.ContainsKey(StoreIdentity.WaitingChanges)
            || SqlitePageFile.Of(_connection) is not { } pages) return _salvage;
        IReadOnlyList<IReadOnlyList<string?>> roots = Inquire("SELECT type, name, rootpage FROM sqlite_schema WHERE rootpage > 0").Rows;
        var trees = new List<SqliteTree>();
        var others = new List<long>();
        foreach (IReadOnlyList<string?> row in roots)
        {
            if (row[0] == "table" && _layouts.Of(new TableShape(row[1]!, [], [], [])) is { } layout) trees.Add(new SqliteTree(row[1]!,
                layout));
            else others.Add(long.Parse(row[2]!, CultureInfo.InvariantCulture));
        }
        return _salvage = new SqliteSalvage(pages, trees, others);
    }

    public IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost)
    {
        if (Salvage()?.Tables.FirstOrDefault(tree => string.Equals(tree.Name, table.Name, StringComparison.OrdinalIgnoreCase)) is { } tree
            && _layouts.Of(table) is { } layout)
            return new SqliteSalvageReader(SqlitePageFile.Of(_connection)!, tree with { Layout = layout }, table, Cells(table), lost);
        string name = SqliteEngine.Quote(table.Name);
        // Tables without record numbers of their own, and those that call a column so, are read to the damage only.
        bool isNumbered = !table.Columns.Any(column => string.Equals(column.Name, "_rowid_", StringComparison.OrdinalIgnoreCase))
            && Inquire($"SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = {SqliteEngine.Literal(table.Name)} AND "
                + "upper(sql) LIKE '%WITHOUT%ROWID%'").Rows[0][0] == "0";
        if (!isNumbered) return new ReadToDamage(() => Read(table, []), table.Name, lost);
        if (End("min") is not { } first || End("max") is not { } last) return new ReadToDamage(() => Read(table, []), table.Name, lost);
        SqliteCells cells = Cells(table);
        return new SkippingReader(table, (from, before) =>
            Engine(table, cells, FormattableString.Invariant($" WHERE _rowid_ >= {from} AND _rowid_ <= {before - 1}")), first, last,
                "record", lost);

        // The least or the greatest record number. When the page it stands on is damaged, the next one that the engine finds on that side.
        long? End(string which)
        {
            string? limit = null;
            for (int bit = 62; ; bit--)
            {
                try
                {
                    string? found = Inquire($"SELECT {which}(_rowid_) FROM {name}{limit}").Rows[0][0];
                    if (limit is not null && which == "max" && found is not null)
                        lost.Add(new LostPart(table.Name, $"everything after record {found}",
                            "the page with the last records is damaged"));
                    return found is null ? (limit is null ? 0 : null) : long.Parse(found, CultureInfo.InvariantCulture);
                }
                catch (TransferraException) when (bit > 0)
                {
                    long border = 1L << bit;
                    limit = which == "min" ? FormattableString.Invariant($" WHERE _rowid_ >= {(1L << (62 - bit)) - 1}")
                        : FormattableString.Invariant($" WHERE _rowid_ < {border}");
                }
                catch (TransferraException) { return null; }
            }
        }
    }

    public QueryAnswer Ask(string sql, TimeSpan? limit = null)
    {
        string question = KitQuestion.Of(sql);
        TimeSpan wait = limit ?? KitQuestion.TimeLimit;
        try
        {
            using SqliteConnection asking = SqliteEngine.Open(Source(_path, _watch is not null), SqliteOpenMode.ReadOnly);
            SqliteEngine.Execute(asking, "PRAGMA query_only = 1");
            if (Identity.HeaderFields.ContainsKey(CutOff)) SqliteEngine.Execute(asking, "PRAGMA writable_schema = ON");
            using var timer = new Timer(_ => SQLitePCL.raw.sqlite3_interrupt(asking.Handle), null, wait, Timeout.InfiniteTimeSpan);
            return Answer(asking, question);
        }
        catch (SqliteException error)
        {
            throw error.SqliteErrorCode == SQLitePCL.raw.SQLITE_INTERRUPT ? KitQuestion.TookTooLong(_path, sql, wait, error)
                : KitQuestion.Refused(_path, sql, error.Message, error);
        }
    }

    // What this class itself wants to know, in the store's own snapshot.
    private QueryAnswer Inquire(string sql)
    {
        try { return Answer(_connection, sql); }
        catch (SqliteException error) { throw KitQuestion.Refused(_path, sql, error.Message, error); }
    }

    private static QueryAnswer Answer(SqliteConnection connection, string sql)
    {
        using SqliteCommand command = connection.CreateCommand();
        command.CommandText = sql;
        using SqliteDataReader reader = command.ExecuteReader();
        string[] columns = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, columns.Length).Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i),
                CultureInfo.InvariantCulture))]);
        return new QueryAnswer(columns, rows);
    }

    public IReadOnlyList<string> CheckPhysically() => CheckPhysicallyUntil(CancellationToken.None);

    public IReadOnlyList<string> CheckPhysicallyUntil(CancellationToken cancel)
    {
        string[] cutOff = Identity.HeaderFields.TryGetValue(CutOff, out string? told) ? [told] : [];
        return [.. cutOff, .. new SqliteSoundness(_connection, _pages, _layouts, Inquire, _watch).Complaints(cancel)];
    }

    /// <inheritdoc/>
    public IStore? Again()
    {
        // What the engine cannot open as usual is left to the one connection that did.
        if (Identity.HeaderFields.ContainsKey(CutOff)) return null;
        try { return Open(_path, _textPages, _counted); }
        catch (TransferraException) { return null; }
    }

    /// <summary>Copies the file without the records that a revision takes out, where they are most of it.</summary>
    /// <param name="to">The new file; on the disk when this returns true.</param>
    /// <param name="revision">What is to be done to it.</param>
    /// <returns>False when the file is to be copied as a whole; nothing is there then.</returns>
    internal bool TryCopyThin(string to, StoreRevision revision)
    {
        if (_pages is null || !new SqliteTrees(_pages.Again(), _connection, Inquire).TryDivide(revision, out IReadOnlyList<long> kept,
            out IReadOnlyList<long> emptied) || !SqliteThinCopy.TryMake(_pages.Again(), kept, emptied, to)) return false;
        _watch?.RefuseIfChanged();
        new DiskVolume().FlushFile(to);
        return true;
    }

    public void Dispose() => _connection.Dispose();
}
