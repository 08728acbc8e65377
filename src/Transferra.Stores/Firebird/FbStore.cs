// FbStore.cs: a Firebird database opened for reading, in one snapshot transaction.
// Holds: (1) nothing is written: the transaction is read only; (2) all reading sees the state of the moment it was opened, also while
// others write.
using System.Globalization;
using FirebirdSql.Data.FirebirdClient;
using FirebirdSql.Data.Services;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal sealed class FbStore : IStore
{
    private const int GuidBytes = 16, NoPermission = 335544352;

    private readonly StoreAddress _address;
    private FbLease _lease;
    private FbTransaction _transaction;
    private readonly Catalog<FbColumn> _catalog;
    private readonly KnownCounts _counts = new();
    private readonly KeptKeys _keys;
    private readonly string? _textEncoding;
    private readonly int _dialect;

    private FbStore(StoreAddress address, FbLease lease, int dialect, string? textEncoding)
    {
        (_address, _lease, _dialect, _textEncoding) = (address, lease, dialect, textEncoding);
        _transaction = BeginSnapshot(lease.Connection);
        _keys = new KeptKeys(ReadShape);
        _catalog = new Catalog<FbColumn>(address.Shown, LoadColumns(), column => column.Name);
        IReadOnlyList<string?> told = Rows("SELECT RDB$GET_CONTEXT('SYSTEM', 'ENGINE_VERSION'), MON$ODS_MAJOR || '.' || MON$ODS_MINOR, "
            + "MON$PAGE_SIZE, MON$PAGES * MON$PAGE_SIZE, MON$SQL_DIALECT, MON$FORCED_WRITES, "
            + "(SELECT TRIM(COALESCE(RDB$CHARACTER_SET_NAME, 'NONE')) "
            + "FROM RDB$DATABASE), TRIM(MON$OWNER), TRIM(CURRENT_USER) FROM MON$DATABASE").Single();
        Identity = new StoreIdentity("Firebird", told[0]!, long.Parse(told[3]!, CultureInfo.InvariantCulture), new Dictionary<string,
            string>
        {
            ["on_disk_structure"] = told[1]!,
            ["page_size"] = told[2]!,
            ["dialect"] = told[4]!,
            ["forced_writes"] = told[5] == "1" ? "on" : "off",
            ["character_set"] = told[6]!,
            ["owner"] = told[7]!,
            ["user"] = told[8]!,
            [ServerTls.Fact] = Encryption(),
        });
    }

    private FbConnection Connection => _lease.Connection;

    public StoreIdentity Identity { get; }

    // Its key comes from the password, so that nobody in between can know it; there is no certificate. Older servers do not tell.
    private string Encryption()
    {
        try
        {
            return Rows("SELECT RDB$GET_CONTEXT('SYSTEM', 'WIRE_ENCRYPTED') FROM RDB$DATABASE").Single()[0] == "TRUE"
            ? "encrypted (by a key from the password)" : ServerTls.Open(_address.Server!);
        }
        catch (FbException) { return "the server does not tell whether it is encrypted"; }
    }

    private static FbTransaction BeginSnapshot(FbConnection connection) =>
        connection.BeginTransaction(new FbTransactionOptions
        {
            TransactionBehavior =
            FbTransactionBehavior.Concurrency | FbTransactionBehavior.Read | FbTransactionBehavior.Wait
        });

    public static FbStore Open(StoreAddress address, string? textEncoding)
    {
        FbLease lease = FbKept.Open(address);
        try
        {
            // A database of dialect 1 knows no quoted names and no dates without a time; it is spoken to as it expects.
            int dialect = Convert.ToInt32(FbLink.Scalar(lease.Connection, null, "SELECT MON$SQL_DIALECT FROM MON$DATABASE"),
                CultureInfo.InvariantCulture);
            if (dialect != 3)
            {
                lease.Dispose();
                lease = FbKept.Open(address, dialect);
            }
            return new FbStore(address, lease, dialect, textEncoding);
        }
        catch (FbException error)
        {
            Spoil(lease);
            throw FbLink.Stopped($"the database {address.Shown} cannot be read", error);
        }
        catch
        {
            Spoil(lease);
            throw;
        }
    }

    // A transaction may be left on it.
    private static void Spoil(FbLease lease)
    {
        lease.IsSpoiled = true;
        lease.Dispose();
    }

    private string Quote(string name) => _dialect == 1 ? name : FbLink.Quote(name);

    private List<IReadOnlyList<string?>> Rows(string sql)
    {
        using var command = new FbCommand(sql, Connection, _transaction);
        using FbDataReader reader = command.ExecuteReader();
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount)
                .Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        return rows;
    }

    private const string IsTable = "COALESCE(r.RDB$SYSTEM_FLAG, 0) = 0 AND r.RDB$VIEW_BLR IS NULL "
        + "AND COALESCE(r.RDB$RELATION_TYPE, 0) IN (0, 2)";

    // Identity columns are known to engines from 3.0 (on-disk structure 12) on.
    private bool HasIdentity => Convert.ToInt32(FbLink.Scalar(Connection, _transaction, "SELECT MON$ODS_MAJOR FROM MON$DATABASE"),
        CultureInfo.InvariantCulture) >= 12;

    private Dictionary<string, FbColumn[]> LoadColumns()
    {
        var rows = Rows("SELECT TRIM(r.RDB$RELATION_NAME), TRIM(f.RDB$FIELD_NAME), t.RDB$FIELD_TYPE, COALESCE(t.RDB$FIELD_SUB_TYPE, 0), "
            + "COALESCE(t.RDB$FIELD_PRECISION, 0), -t.RDB$FIELD_SCALE, COALESCE(t.RDB$FIELD_LENGTH, 0), "
            + "COALESCE(t.RDB$CHARACTER_LENGTH, 0), COALESCE(t.RDB$CHARACTER_SET_ID, 0), COALESCE(f.RDB$NULL_FLAG, t.RDB$NULL_FLAG, 0), "
            + "COALESCE(f.RDB$DEFAULT_SOURCE, t.RDB$DEFAULT_SOURCE), "
            + (HasIdentity ? "f.RDB$IDENTITY_TYPE" : "NULL")
            + " FROM RDB$RELATIONS r JOIN RDB$RELATION_FIELDS f ON f.RDB$RELATION_NAME = r.RDB$RELATION_NAME JOIN RDB$FIELDS t ON "
            + $"t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE {IsTable} AND t.RDB$DIMENSIONS IS NULL ORDER BY 1, f.RDB$FIELD_POSITION");
        return rows.GroupBy(row => row[0]!).OrderBy(table => table.Key, StringComparer.Ordinal).ToDictionary(table => table.Key, table =>
            table.Select(row =>
            new FbColumn(row[1]!, Number(row[2]), Number(row[3]), Number(row[4]), Number(row[5]), Number(row[6]), Number(row[7]),
                Number(row[8]),
                row[9] == "1", Default(row[10]), row[11] is not null)).ToArray());

        static int Number(string? text) => text is null ? 0 : int.Parse(text, CultureInfo.InvariantCulture);

        static string? Default(string? clause) => clause?.Trim() is not { } text ? null : text.StartsWith("DEFAULT",
            StringComparison.OrdinalIgnoreCase)
            ? text[7..].Trim() : text.TrimStart('=').Trim();
    }

    private IReadOnlyList<TableShape>? _shape;

    // Asked of the server once: the store is seen as it was when it was opened, and a match asks for every table of hundreds.
    public IReadOnlyList<TableShape> ReadShape() => _shape ??= LoadShape();

    private IReadOnlyList<TableShape> LoadShape()
    {
        var segments = Rows("SELECT TRIM(i.RDB$RELATION_NAME), TRIM(i.RDB$INDEX_NAME), TRIM(s.RDB$FIELD_NAME), "
            + "COALESCE(i.RDB$UNIQUE_FLAG, 0), TRIM(c.RDB$CONSTRAINT_TYPE), TRIM(i.RDB$FOREIGN_KEY), TRIM(x.RDB$DELETE_RULE), "
            + "TRIM(x.RDB$UPDATE_RULE), COALESCE(i.RDB$INDEX_INACTIVE, 0) FROM RDB$INDICES i "
            + "JOIN RDB$INDEX_SEGMENTS s ON s.RDB$INDEX_NAME = i.RDB$INDEX_NAME LEFT JOIN RDB$RELATION_CONSTRAINTS c ON c.RDB$INDEX_NAME "
            + "= i.RDB$INDEX_NAME LEFT JOIN RDB$REF_CONSTRAINTS x ON x.RDB$CONSTRAINT_NAME = c.RDB$CONSTRAINT_NAME WHERE "
            + "COALESCE(i.RDB$SYSTEM_FLAG, 0) = 0 "
            + "ORDER BY 1, 2, s.RDB$FIELD_POSITION");
        ILookup<string, IReadOnlyList<string?>> byTable = segments.ToLookup(row => row[0]!), byIndex = segments.ToLookup(row => row[1]!);
        return [.. _catalog.Tables.Select(table => new TableShape(table.Key,
            [.. table.Value.Select(column => new ColumnShape(column.Name, FbTypes.Of(column), column.Required, Default: column.Default))],
            [.. byTable[table.Key].Where(row => row[4] == "PRIMARY KEY").Select(row => row[2]!)],
            [.. byTable[table.Key].Where(row => row[4] == "FOREIGN KEY").GroupBy(row => row[1]!).Select(relation =>
                new RelationShape([.. relation.Select(row => row[2]!)], byIndex[relation.First()[5]!].First()[0]!,
                    [.. byIndex[relation.First()[5]!].Select(row => row[2]!)])
                {
                    Rules = RelationShape.RulesOf(relation.First()[6], relation.First()[7])
                })])
        {
            Indexes = [.. byTable[table.Key].Where(row => row[4] is not ("PRIMARY KEY" or "FOREIGN KEY")).GroupBy(row => row[1]!)
                .Select(index => new IndexShape(index.Key, [.. index.Select(row => row[2]!)], index.First()[3] == "1")
                {
                    IsSpecial = index.First()[8] != "0"
                })],
            NumberedColumn = Array.Find(table.Value, column => column.IsNumbered)?.Name,
        })];
    }

    private string Position(string sequence) => Rows($"SELECT GEN_ID({Quote(sequence)}, 0) FROM RDB$DATABASE").Single()[0]!;

    public IReadOnlyList<StoreObject> ListObjects()
    {
        var objects = new List<StoreObject>();
        foreach (IReadOnlyList<string?> row in Rows("SELECT TRIM(RDB$GENERATOR_NAME) FROM RDB$GENERATORS WHERE COALESCE(RDB$SYSTEM_FLAG, "
            + "0) = 0 ORDER BY 1"))
            objects.Add(new StoreObject("sequence", row[0]!, Position(row[0]!)));
        foreach (IReadOnlyList<string?> row in HasIdentity
            ? Rows("SELECT TRIM(RDB$RELATION_NAME), TRIM(RDB$GENERATOR_NAME) FROM RDB$RELATION_FIELDS WHERE RDB$GENERATOR_NAME IS NOT "
                + "NULL ORDER BY 1") : [])
            objects.Add(new StoreObject("numbering", row[0]!, Position(row[1]!)));
        objects.AddRange(Rows("SELECT 'routine', TRIM(RDB$PROCEDURE_NAME), '' FROM RDB$PROCEDURES "
            + "WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 UNION ALL "
            + "SELECT 'trigger', TRIM(RDB$TRIGGER_NAME), TRIM(COALESCE(RDB$RELATION_NAME, '')) FROM RDB$TRIGGERS WHERE "
            + "COALESCE(RDB$SYSTEM_FLAG, 0) = 0 UNION ALL "
            + "SELECT 'view', TRIM(RDB$RELATION_NAME), '' FROM RDB$RELATIONS WHERE COALESCE(RDB$SYSTEM_FLAG, 0) = 0 AND RDB$VIEW_BLR IS "
            + "NOT NULL ORDER BY 1, 2")
            .Select(row => new StoreObject(row[0]!.Trim(), row[1]!, row[2]!)));
        return [.. objects.OrderBy(entry => entry.Kind, StringComparer.Ordinal).ThenBy(entry => entry.Name, StringComparer.Ordinal)];
    }

    public StoreScript? ReadScript(string folder) => FbScript.Read(_address, Rows, Quote, folder, out _) is { } script
        ? script with { TextEncoding = _textEncoding } : null;

    private IReadOnlyList<StoreDeclaration>? _declarations;

    /// <inheritdoc/>
    public IReadOnlyList<StoreDeclaration> Declarations() => _declarations ??= new FbThings(Rows).All();

    public IReadOnlyList<string> NotCarried() => [.. NotRead(), .. FbScript.Read(_address, Rows, Quote, null, out string why) is not null
        ? (string[])[]
        : [$"views, triggers, routines, rights and exact types: this user may not use the engine's own backup ({why}); tables, keys, "
            + "relations, indexes and records are carried"]];

    /// <summary>Columns that hold arrays, which no query delivers as a value: nothing of them is read.</summary>
    public IReadOnlyList<string> NotRead() =>
        [.. Rows("SELECT TRIM(r.RDB$RELATION_NAME), TRIM(f.RDB$FIELD_NAME) FROM RDB$RELATIONS r JOIN RDB$RELATION_FIELDS f ON "
            + "f.RDB$RELATION_NAME = r.RDB$RELATION_NAME JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE "
        + $"WHERE {IsTable} AND t.RDB$DIMENSIONS IS NOT NULL ORDER BY 1, f.RDB$FIELD_POSITION")
            .Select(row => $"the column {row[0]}.{row[1]}, which holds arrays")];

    /// <summary>Arrays that are too large to be compared, either.</summary>
    public IReadOnlyList<string> NotCompared() =>
        [.. Arrays.Where(array => array.Sql is null).Select(array => $"the column {array.Table}.{array.Column}, which holds arrays")];

    private IReadOnlyList<FbArray>? _arrays;

    private IReadOnlyList<FbArray> Arrays => _arrays ??= FbArray.In(Rows, Quote);

    /// <inheritdoc/>
    public TableShape? ReadStoredShape(string table)
    {
        IReadOnlyList<TableShape> tables = ReadShape();
        if ((tables.FirstOrDefault(known => known.Name == table) ?? tables.FirstOrDefault(known => string.Equals(known.Name, table,
            StringComparison.OrdinalIgnoreCase))) is not { } found) return null;
        return found with
        {
            Columns = [.. found.Columns, .. Arrays.Where(array => array.Table == found.Name && array.Sql is not null)
                .Select(array => new ColumnShape(array.Column, FieldType.Text))]
        };
    }

    public IReadOnlyList<StoreRemark> Remarks =>
        [.. NotRead().Select(what => new StoreRemark(StoreRemark.Odd, $"{what}, "
            + "is read only to be compared in a copy; a set does not hold it"))];

    public bool KeepsKey(string table, IReadOnlyList<string> key) => _keys.Keeps(_catalog.Table(table), key);

    public long CountRows(string table) => _counts.Of(_catalog.Table(table), name =>
        long.Parse(Rows($"SELECT COUNT(*) FROM {Quote(name)}").Single()[0]!, CultureInfo.InvariantCulture));

    public IRecordReader Read(TableShape table, IReadOnlyList<string> orderBy, KeyRange? within = null)
    {
        string name = _catalog.Table(table.Name);
        FbField[] fields = [.. table.Columns.Select(wanted => wanted.Name == FbMender.PlaceColumn
            ? new FbField(wanted.Name, false, null)
            : Arrays.FirstOrDefault(array => array.Table == name && array.Column == wanted.Name) is { Sql: { } elements }
            ? new FbField(elements, false, null) : FieldOf(name, _catalog.Column(name, wanted.Name)))];
        // The engine takes texts that differ in blanks at the end, and in some collations in case, for equal; those are put in order here.
        bool sortsHere = orderBy.Any(wanted => _catalog.Column(name, wanted).IsText);
        string order = orderBy.Count == 0 || sortsHere ? "" : " ORDER BY "
            + string.Join(", ", orderBy.Select(wanted => Quote(_catalog.Column(name, wanted).Name) + " NULLS FIRST"));
        string columns = fields.Length == 0 ? "1" : string.Join(", ", fields.Select(field => field.Sql));
        // Without a lower limit the engine's index passes over the least of all numbers, so it is not asked then.
        string where = RangeCondition.Of(within is { From: null } ? null : within, table, wanted =>
            Quote(_catalog.Column(name, wanted).Name), wanted =>
            _catalog.Column(name, wanted) is { IsExactNumber: true, Scale: 0 });
        IRecordReader reader = RangeCondition.Hold(new FbRecordReader(Connection, _transaction,
            $"SELECT {columns} FROM {Quote(name)}{where}{order}", fields,
            $"{_address.Shown}, table {name}"), table, within);
        return sortsHere ? new RecordSorter(reader, table.Columns, [.. orderBy.Select(table.OrdinalOf)]) : reader;
    }

    private FbField FieldOf(string table, FbColumn column)
    {
        string name = Quote(column.Name);
        // Texts in BLOBs come in the connection's UTF-8, except those without a character set, which come as they are.
        if (column.Type == FbTypes.Blob)
            return new FbField(column.SubType == 1 ? $"CAST({name} AS BLOB SUB_TYPE 0)" : name, false, column.CharacterSet == FbTypes.None
                ? DecoderOf(table, column) : null);
        // Bytes as they lie there, without the server's own conversion.
        // The driver takes sixteen of them for a GUID, whatever they are, and loses its place in the answer when there are fewer; so it
        // never gets just sixteen.
        if (column.IsString)
            return new FbField(string.Create(CultureInfo.InvariantCulture,
                $"CAST({name} AS VARCHAR({(column.Bytes == GuidBytes ? GuidBytes + 1 : Math.Max(1, column.Bytes))}) CHARACTER SET "
                    + $"OCTETS)"), column.Type == FbTypes.Char && !column.IsOctets, DecoderOf(table, column));
        // Numbers of 38 digits are more than the driver's decimals hold.
        if (column.Type == FbTypes.Int128) return new FbField($"CAST(CAST({name} AS VARCHAR(48)) AS VARCHAR(48) CHARACTER SET OCTETS)",
            false, null);
        return new FbField(name, false, null, column.Scale);
    }

    private TextDecoder? DecoderOf(string table, FbColumn column) => column.CharacterSet switch
    {
        FbTypes.Utf8 or FbTypes.Ascii or FbTypes.UnicodeFss or FbTypes.Octets => null,
        FbTypes.None => TextPages.DecoderOf(_textEncoding, table),
        var number when FbTypes.CodePageOf(number) is { } page => new TextDecoder(page),
        _ => throw new TransferraException(string.Create(CultureInfo.InvariantCulture,
            $"the column {column.Name} in {_address.Shown} is in character set {column.CharacterSet}, which is not known here"),
            "Report this; the table of character sets has to grow."),
    };

    public IRecordReader ReadWhatCanBe(TableShape table, ICollection<LostPart> lost) => KeyedSalvage.Read(this, table,
        _catalog.Table(table.Name), Quote, lost);

    public QueryAnswer Ask(string sql, TimeSpan? limit = null)
    {
        string question = KitQuestion.Of(sql);
        TimeSpan wait = limit ?? KitQuestion.TimeLimit;
        bool tookTooLong = false;
        try
        {
            using FbLease asking = FbKept.Open(_address, _dialect);
            using FbTransaction snapshot = BeginSnapshot(asking.Connection);
            using var command = new FbCommand(question, asking.Connection, snapshot);
            // Servers before version 4 know no limit of their own.
            using var timer = new Timer(_ =>
            {
                tookTooLong = asking.IsSpoiled = true;
                try { command.Cancel(); }
                catch (Exception error) when (error is FbException or InvalidOperationException
                    or ObjectDisposedException)
                { /* it has just ended */ }
            }, null, wait, Timeout.InfiniteTimeSpan);
            return Answer(command);
        }
        catch (Exception error) when (error is FbException or OperationCanceledException)
        {
            throw tookTooLong ? KitQuestion.TookTooLong(_address.Shown, sql, wait, error) : KitQuestion.Refused(_address.Shown, sql,
                FbLink.FirstLine(error), error);
        }
    }

    private static QueryAnswer Answer(FbCommand command)
    {
        using FbDataReader reader = command.ExecuteReader();
        string[] columns = [.. Enumerable.Range(0, reader.FieldCount).Select(reader.GetName)];
        var rows = new List<IReadOnlyList<string?>>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, columns.Length).Select(i => reader.IsDBNull(i) ? null
                : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture)?.TrimEnd(' '))]);
        return new QueryAnswer(columns, rows);
    }

    public IReadOnlyList<string> CheckPhysically()
    {
        List<string> complaints = Validate();
        if (complaints.Count > 0) return complaints;
        foreach ((string table, FbColumn[] columns) in _catalog.Tables)
        {
            try
            {
                // Reads every page of the table and of the values kept outside of its records.
                string lengths = string.Concat(columns.Where(column => column.Type == FbTypes.Blob)
                    .Select(column => $", SUM(OCTET_LENGTH({Quote(column.Name)}))"));
                Rows($"SELECT COUNT(*){lengths} FROM {Quote(table)}");
            }
            catch (FbException error)
            {
                complaints.Add($"{table}: {FbLink.FirstLine(error)}");
            }
        }
        return complaints;
    }

    // The server's own validation of every page, which goes on while the database is in use. It writes a line for each thing it looks at.
    private List<string> Validate()
    {
        var complaints = new List<string>();
        var validation = new FbValidation2(FbLink.Describe(_address));
        validation.ServiceOutput += (_, output) =>
        {
            string line = output.Message.Trim();
            if (line.Contains("Error", StringComparison.OrdinalIgnoreCase) || line.Contains("Warning", StringComparison.OrdinalIgnoreCase))
                complaints.Add(line.Length > 12 && line[2] == ':' ? line[11..].Trim() : line); // without the time of day
        };
        try
        {
            validation.Execute();
        }
        catch (FbException error) when (error.Errors.Any(entry => entry.Number == FbLink.Shutdown))
        {
            // In an office that is closed the database is shut down, and the server validates none such. It is online while its pages are
            // looked at; whoever comes in meanwhile is put out again, and what they changed is noticed by the digest before any
            // change-over.
            _transaction.Dispose();
            _lease.Dispose();
            new FbServer(_address.Server!).WhileOnline(_address.Path, validation.Execute);
            _lease = FbKept.Open(_address, _dialect);
            _transaction = BeginSnapshot(Connection);
        }
        catch (FbException error)
        {
            // Not every user may ask for it; what can be read is looked at below.
            if (!error.Errors.Any(entry =>
                entry.Number == NoPermission)) complaints.Add($"the validation was interrupted: {FbLink.FirstLine(error)}");
        }
        return complaints;
    }

    public void Dispose()
    {
        try
        {
            _transaction.Dispose();
            _lease.Dispose();
        }
        catch (Exception error) when (error is FbException or IOException or ArgumentException)
        {
            Spoil(_lease);
            // Nothing was written, so nothing is lost with a connection that cannot be closed in good order; what broke it was told before.
        }
    }
}
