// FbMender.cs: changes records of a copied Firebird database, by their places (RDB$DB_KEY) in the copy. The copy is made by the engine's
// own backup and restore, streamed through this machine, so it holds everything that is declared, and its indexes are new.
using System.Data.Common;
using System.Globalization;
using System.Text;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Servers;

namespace Transferra.Stores.Firebird;

internal sealed class FbMender : SqlMender
{
    /// <summary>The engine's name for where a record lies.</summary>
    public const string PlaceColumn = "RDB$DB_KEY";

    private readonly string? _pages;
    private readonly List<string> _silenced = [];
    private readonly int _dialect;

    public FbMender(StoreAddress address, string? textEncoding) : base(FbLink.OpenInDialect(address, out int dialect), address.Shown)
    {
        _dialect = dialect;
        _pages = textEncoding;
        Transaction = ((FbConnection)Connection).BeginTransaction();
    }

    public override bool HasPlacesOfOriginal => false;

    public override ColumnShape Prepare(TableShape table)
    {
        foreach (string?[] trigger in Rows("SELECT TRIM(RDB$TRIGGER_NAME) FROM RDB$TRIGGERS WHERE UPPER(RDB$RELATION_NAME) = "
            + $"UPPER({FbLink.Literal(table.Name)}) AND COALESCE(RDB$SYSTEM_FLAG, 0) = 0 AND COALESCE(RDB$TRIGGER_INACTIVE, 0) = 0"))
        {
            _silenced.Add(trigger[0]!);
            Execute($"ALTER TRIGGER {Quote(trigger[0]!)} INACTIVE");
        }
        Renew();
        return new ColumnShape(PlaceColumn, new FieldType(FieldKind.Binary));
    }

    // What is declared counts from the next transaction on.
    private void Renew()
    {
        Transaction!.Commit();
        Transaction.Dispose();
        Transaction = ((FbConnection)Connection).BeginTransaction();
    }

    private string Quote(string name) => _dialect == 1 ? name : FbLink.Quote(name);

    private readonly Dictionary<(string, string), (string Name, int CharacterSet, int Length)> _columns = [];

    private (string Name, int CharacterSet, int Length) Column(string table, string column)
    {
        if (_columns.TryGetValue((table, column), out (string, int, int) known)) return known;
        string?[] row = Rows("SELECT FIRST 1 TRIM(f.RDB$FIELD_NAME), COALESCE(t.RDB$CHARACTER_SET_ID, 0), COALESCE(t.RDB$FIELD_LENGTH, "
            + "0) FROM RDB$RELATION_FIELDS f JOIN RDB$FIELDS t ON t.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE "
            + $"WHERE UPPER(f.RDB$RELATION_NAME) = UPPER({FbLink.Literal(table)}) AND UPPER(f.RDB$FIELD_NAME) = "
            + $"UPPER({FbLink.Literal(column)})")[0];
        return _columns[(table, column)] = (row[0]!, (int)Whole(row[1]), (int)Whole(row[2]));
    }

    protected override string Name(string table, string? column = null) => Quote(column is not null ? Column(table, column).Name
        : Rows("SELECT FIRST 1 TRIM(RDB$RELATION_NAME) FROM RDB$RELATIONS WHERE UPPER(RDB$RELATION_NAME) = "
            + $"UPPER({FbLink.Literal(table)})")[0][0]!);

    protected override string AtPlace(string table) => "RDB$DB_KEY = @place";

    protected override object Place(Vector places, int row) => ((BytesVector)places)[row].ToArray();

    // The bytes of a text whose code page the engine knows nothing of; null when it is another kind of value, or has no bytes there.
    private byte[]? OwnBytes(string table, ColumnShape column, string value, out bool fits)
    {
        fits = true;
        (string _, int characterSet, int length) = Column(table, column.Name);
        if (column.Type.Kind != FieldKind.Text || characterSet != FbTypes.None || TextPages.EncodingOf(_pages, table) is not
            { } encoding) return null;
        try
        {
            byte[] bytes = encoding.GetBytes(value);
            fits = bytes.Length <= length;
            return bytes;
        }
        catch (EncoderFallbackException)
        {
            fits = false;
            return null;
        }
    }

    public override bool CanHold(TableShape table, ColumnShape column, string value)
    {
        OwnBytes(table.Name, column, value, out bool fits);
        return fits;
    }

    protected override string Setting(string table, ColumnShape column, string value, string parameter, DbCommand command)
    {
        if (OwnBytes(table, column, value, out _) is { } bytes)
            return string.Create(CultureInfo.InvariantCulture,
                $"CAST(x'{Convert.ToHexString(bytes)}' AS VARCHAR({Math.Max(1, Column(table, column.Name).Length)}) CHARACTER SET "
                    + $"NONE)");
        Add(command, parameter[1..], value);
        return parameter;
    }

    protected override bool IsOfEngine(Exception error) => error is FbException;

    public override string RebuildIndexes() => "all indexes were built anew with the copy";

    public override IReadOnlyList<PositionChange> SetPositions()
    {
        var changes = new List<PositionChange>();
        foreach (string?[] row in Rows("SELECT TRIM(RDB$RELATION_NAME), TRIM(RDB$FIELD_NAME), TRIM(RDB$GENERATOR_NAME) FROM "
            + "RDB$RELATION_FIELDS WHERE RDB$GENERATOR_NAME IS NOT NULL ORDER BY 1"))
        {
            long before = Whole(Rows($"SELECT GEN_ID({Quote(row[2]!)}, 0) FROM RDB$DATABASE")[0][0]), most =
                Whole(Rows($"SELECT COALESCE(MAX({Quote(row[1]!)}), 0) FROM {Quote(row[0]!)}")[0][0]);
            if (before >= most) continue;
            Execute(FormattableString.Invariant($"ALTER TABLE {Quote(row[0]!)} ALTER COLUMN {Quote(row[1]!)} RESTART WITH {most}"));
            Renew();
            // The engine's versions do not agree whether the next number is that one or the one behind it; behind is right either way.
            changes.Add(new PositionChange(row[0]!, before, Whole(Rows($"SELECT GEN_ID({Quote(row[2]!)}, 0) FROM RDB$DATABASE")[0][0])));
        }
        return changes;
    }

    public override void Complete()
    {
        foreach (string trigger in _silenced) Execute($"ALTER TRIGGER {Quote(trigger)} ACTIVE");
        Transaction!.Commit();
        Transaction.Dispose();
        Transaction = null;
    }

    /// <summary>Copies a database by the engine's own backup and restore.</summary>
    public static void Copy(StoreAddress from, StoreAddress to)
    {
        using FileStream between = SpillFile.Create(1 << 16);
        try
        {
            FbOwnBackup.Write(from, between);
            between.Position = 0;
            FbOwnBackup.Restore(between, to);
        }
        catch (FbException error)
        {
            throw FbLink.Stopped($"the database {from.Shown} cannot be copied", error);
        }
    }
}
