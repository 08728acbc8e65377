// FbInsert.cs: puts rows of one table in: groups of them as one EXECUTE BLOCK with parameters, single ones as a prepared INSERT.
// Why groups: every statement costs a journey to the server and back, which takes longer than the insert itself. In a group, texts and
// bytes that the table keeps as BLOBs travel as strings; those that are too long for that go singly.
using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using FirebirdSql.Data.FirebirdClient;
using Transferra.Core.Records;

namespace Transferra.Stores.Firebird;

internal sealed class FbInsert
{
    // A statement's parameters may take 64 KB together, and a block may not have more than 255 statements.
    private const int MessageBytes = 60_000, MostRowsInGroup = 200, ShortCharacters = 120, BytesPerCharacter = 4;

    // The engine counts in units of 100 microseconds.
    private const long TimeUnit = 100;

    private readonly FbConnection _connection;
    private readonly TableShape _table;
    private readonly string[] _parameterTypes;
    private readonly bool[] _isBlob;
    private FbCommand? _group, _single;
    private FbTransaction? _transaction;

    /// <param name="connection">Of the new database.</param>
    /// <param name="table">The table.</param>
    /// <param name="declared">Its columns' declarations.</param>
    public FbInsert(FbConnection connection, TableShape table, IReadOnlyList<string> declared)
    {
        (_connection, _table) = (connection, table);
        _isBlob = [.. declared.Select(type => type.StartsWith("BLOB", StringComparison.Ordinal))];
        _parameterTypes = [.. table.Columns.Select((column, i) => !_isBlob[i] ? declared[i] : column.Type.Kind == FieldKind.Text
            ? FormattableString.Invariant($"VARCHAR({ShortCharacters}) CHARACTER SET UTF8")
                : FormattableString.Invariant($"VARCHAR({ShortCharacters * BytesPerCharacter}) CHARACTER SET OCTETS"))];
        int bytes = table.Columns.Select((column, i) => _isBlob[i] ? ShortCharacters * BytesPerCharacter + 8
            : column.Type.Kind == FieldKind.Text
            ? column.Type.Length * BytesPerCharacter + 8 : 48).Sum();
        RowsInGroup = Math.Clamp(MessageBytes / Math.Max(1, bytes), 1, MostRowsInGroup);
    }

    /// <summary>Rows that one block takes.</summary>
    public int RowsInGroup { get; }

    /// <summary>Why the engine cannot hold a row of an output exactly; null when it can.</summary>
    public static string? Unfit(TableOutput output, int row)
    {
        for (int i = 0; i < output.Vectors.Count; i++)
        {
            if (output.Vectors[i] is LongVector { Type.Kind: FieldKind.Time or FieldKind.Timestamp } times && !times.IsNull(row)
                && times.Values[row] % TimeUnit != 0)
                return $"{output.Table.Columns[i].Name} is {times.Show(row)}, and Firebird keeps times to a ten-thousandth of a second";
            if (output.Vectors[i] is WideVector { Type: { Kind: FieldKind.Decimal, Precision: FbTypes.WholePrecision } } wides
                && !wides.IsNull(row) && (wides.Values[row] > long.MaxValue || wides.Values[row] <= long.MinValue))
                return $"{output.Table.Columns[i].Name} is {wides.Show(row)}, and Firebird keeps amounts in 64 bits";
        }
        return null;
    }

    /// <summary>Whether a row can travel in a group.</summary>
    public bool FitsGroup(TableOutput output, int row)
    {
        for (int i = 0; i < _isBlob.Length; i++)
            if (_isBlob[i] && ((BytesVector)output.Vectors[i])[row].Length > ShortCharacters) return false;
        return true;
    }

    /// <summary>Inserts exactly <see cref="RowsInGroup"/> rows.</summary>
    public void Group(FbTransaction transaction, TableOutput output, ReadOnlySpan<int> rows)
    {
        _group ??= Prepare(BlockText(), RowsInGroup);
        Use(_group, transaction);
        int next = 0;
        foreach (int row in rows)
            for (int column = 0; column < output.Vectors.Count; column++) _group.Parameters[next++].Value =
                ValueOf(output.Vectors[column], row);
        _group.ExecuteNonQuery();
    }

    /// <summary>Inserts one row.</summary>
    public void Single(FbTransaction transaction, TableOutput output, int row)
    {
        _single ??= Prepare($"INSERT INTO {FbLink.Quote(_table.Name)} ({Columns}) VALUES "
            + $"({string.Join(", ", _table.Columns.Select((_, i) => Parameter(i)))})", 1);
        Use(_single, transaction);
        for (int column = 0; column < output.Vectors.Count; column++) _single.Parameters[column].Value = ValueOf(output.Vectors[column],
            row);
        _single.ExecuteNonQuery();
    }

    // Bytes for a text without a character set would otherwise be taken for a text by the driver.
    private string Parameter(int column) => _table.Columns[column].Type.Kind == FieldKind.Binary && !_isBlob[column]
        ? $"CAST(? AS {_parameterTypes[column]})" : "?";

    private string Columns => string.Join(", ", _table.Columns.Select(column => FbLink.Quote(column.Name)));

    private string BlockText()
    {
        var block = new StringBuilder("EXECUTE BLOCK (");
        for (int row = 0; row < RowsInGroup; row++)
            for (int column = 0; column < _parameterTypes.Length; column++)
                block.Append(CultureInfo.InvariantCulture,
                    $"{(row + column == 0 ? "" : ", ")}p{row}_{column} {_parameterTypes[column]} = ?");
        block.Append(") AS BEGIN\n");
        string columns = Columns;
        for (int row = 0; row < RowsInGroup; row++)
        {
            block.Append(CultureInfo.InvariantCulture, $"INSERT INTO {FbLink.Quote(_table.Name)} ({columns}) VALUES (");
            for (int column = 0; column < _parameterTypes.Length; column++) block.Append(CultureInfo.InvariantCulture,
                $"{(column == 0 ? "" : ", ")}:p{row}_{column}");
            block.Append(");\n");
        }
        return block.Append("END").ToString();
    }

    private FbCommand Prepare(string sql, int rows)
    {
        var command = new FbCommand(sql, _connection, _transaction);
        for (int row = 0; row < rows; row++)
            foreach (ColumnShape column in _table.Columns) command.Parameters.Add(new FbParameter { FbDbType = DriverType(column.Type) });
        return command;
    }

    private void Use(FbCommand command, FbTransaction transaction)
    {
        if (command.Transaction == transaction) return;
        _transaction = command.Transaction = transaction;
        command.Prepare();
    }

    private static FbDbType DriverType(FieldType type) => type.Kind switch
    {
        FieldKind.Integer => FbDbType.BigInt,
        FieldKind.Decimal when type.Precision <= 18 => FbDbType.Decimal,
        FieldKind.Date => FbDbType.Date,
        FieldKind.Time => FbDbType.Time,
        FieldKind.Timestamp => FbDbType.TimeStamp,
        FieldKind.Boolean => FbDbType.Boolean,
        FieldKind.Binary => FbDbType.Binary,
        FieldKind.Uuid => FbDbType.Guid,
        FieldKind.Double => FbDbType.Double,
        _ => FbDbType.VarChar,
    };

    private static object ValueOf(Vector vector, int row)
    {
        if (vector.IsNull(row)) return DBNull.Value;
        switch (vector)
        {
            case LongVector longs:
                long value = longs.Values[row];
                return longs.Type.Kind switch
                {
                    FieldKind.Date => DateOnly.FromDayNumber((int)value).ToDateTime(TimeOnly.MinValue),
                    FieldKind.Time => TimeSpan.FromTicks(value * 10),
                    FieldKind.Timestamp => new DateTime(value * 10),
                    FieldKind.Boolean => value != 0,
                    _ => value,
                };
            case WideVector { Type.Kind: FieldKind.Uuid } uuids:
                Span<byte> bytes = stackalloc byte[16];
                BinaryPrimitives.WriteInt128BigEndian(bytes, uuids.Values[row]);
                return new Guid(bytes, bigEndian: true);
            case WideVector { Type.Precision: <= FbTypes.WholePrecision } wides:
                long units = (long)wides.Values[row];
                ulong size = (ulong)Math.Abs(units);
                return new decimal((int)(uint)size, (int)(uint)(size >> 32), 0, units < 0, (byte)wides.Type.Scale);
            case BytesVector { Type.Kind: FieldKind.Binary } binary: return binary[row].ToArray();
            case DoubleVector doubles: return doubles.Values[row];
            default: return vector.Show(row);
        }
    }

    /// <summary>Frees the statements, here and on the server; they are made again when rows come after all.</summary>
    public void LetGo()
    {
        _group?.Dispose();
        _single?.Dispose();
        _group = _single = null;
    }
}
