// MariaRecordReader.cs: one table of a MariaDB store as record batches, streamed row by row.
// Why most values come in as text: that is how the server sends them anyway, and only the text tells a zero date, a time of 30 hours or
// an unsigned number from what they are taken for otherwise.
// Holds: (1) a value that does not fit its column is a fault of its row; (2) memory is bounded by one row and the batch's caps.
using System.Text;
using MySqlConnector;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Stores.Text;

namespace Transferra.Stores.Mariadb;

internal sealed class MariaRecordReader : RowReader
{
    /// <summary>How a field comes in: as a whole number, as text in bytes, as text of any size, or as bytes.</summary>
    internal enum How { Whole, Written, LongText, Bytes }

    private readonly MySqlConnection _connection;
    private readonly Action _interrupt;
    private readonly MySqlCommand _command;
    private readonly MySqlDataReader _reader;
    private readonly How[] _how;
    private readonly string _where;
    private byte[] _field = new byte[1 << 12];

    /// <summary>Starts to read.</summary>
    /// <param name="connection">Used by nobody else until this is disposed of.</param>
    /// <param name="interrupt">Ends the statement that runs on the connection, when not all of its rows are wanted.</param>
    /// <param name="select">What to read.</param>
    /// <param name="how">How each field of it comes in.</param>
    /// <param name="where">For messages.</param>
    /// <exception cref="TransferraException">The server does not begin.</exception>
    public MariaRecordReader(MySqlConnection connection, Action interrupt, string select, How[] how, string where)
    {
        (_connection, _interrupt, _how, _where) = (connection, interrupt, how, where);
        _command = new MySqlCommand(select, connection);
        try
        {
            _reader = _command.ExecuteReader(System.Data.CommandBehavior.SequentialAccess);
        }
        catch (MySqlException error)
        {
            _command.Dispose();
            throw MariaConnection.Stopped($"{where}: reading cannot begin", error);
        }
    }

    protected override bool Next() => _reader.Read();

    protected override void ReadRow(RecordBatch batch, int row)
    {
        for (int column = 0; column < _how.Length; column++) ReadField(batch, batch.Vectors[column], row, column);
    }

    protected override TransferraException? Stopped(Exception error) => error is MySqlException
        ? MariaConnection.Stopped($"{_where}: reading stopped", error) : null;

    private void ReadField(RecordBatch batch, Vector vector, int row, int column)
    {
        if (_reader.IsDBNull(column))
        {
            vector.AppendNull();
            return;
        }
        FaultCode? fault;
        if (_how[column] == How.Whole)
        {
            long value = _reader.GetInt64(column);
            if (vector is LongVector longs)
            {
                fault = vector.Type.Kind == FieldKind.Boolean && value is not (0 or 1) ? FaultCode.NotABoolean : null;
                if (fault is null) longs.Append(value);
            }
            else
            {
                fault = DecimalText.TryRescale(value, 0, vector.Type.Scale, vector.Type.Precision, out Int128 units);
                if (fault is null) ((WideVector)vector).Append(units);
            }
            if (fault is { } wrong) Fault(batch, vector, row, column, wrong,
                Encoding.ASCII.GetBytes(value.ToString(System.Globalization.CultureInfo.InvariantCulture)));
            return;
        }
        ReadOnlySpan<byte> field = Field(column);
        fault = _how[column] == How.Bytes ? Bytes((BytesVector)vector, field) : CellText.TryAppend(vector, field);
        if (fault is { } code) Fault(batch, vector, row, column, code, field);
    }

    private static FaultCode? Bytes(BytesVector vector, ReadOnlySpan<byte> field)
    {
        vector.Append(field);
        return null;
    }

    private ReadOnlySpan<byte> Field(int column)
    {
        if (_how[column] == How.LongText)
        {
            string text = _reader.GetString(column);
            Room(Encoding.UTF8.GetMaxByteCount(text.Length));
            return _field.AsSpan(0, Encoding.UTF8.GetBytes(text, _field));
        }
        int bytes = (int)_reader.GetBytes(column, 0, null, 0, 0);
        Room(bytes);
        if (bytes > 0) _reader.GetBytes(column, 0, _field, 0, bytes);
        return _field.AsSpan(0, bytes);
    }

    private void Room(int bytes)
    {
        if (_field.Length < bytes) _field = new byte[Math.Max(bytes, (int)Math.Min(Array.MaxLength, 2L * _field.Length))];
    }

    private static void Fault(RecordBatch batch, Vector vector, int row, int column, FaultCode fault, ReadOnlySpan<byte> field)
    {
        vector.AppendNull();
        batch.Faults.Add(new RowFault(row, fault, batch.Columns[column].Name, CellText.Shown(field), CellText.Reason(fault, vector.Type)));
    }

    public override void Dispose()
    {
        try
        {
            if (!HasEnded) _interrupt(); // the server would send the rest of the table otherwise
            _reader.Dispose();
        }
        catch (Exception error) when (error is MySqlException or TransferraException)
        {
            /* interrupted; or gone, and nothing is to be read */
        }
        _command.Dispose();
        if (!HasEnded && _connection.State == System.Data.ConnectionState.Open) MariaConnection.SettleInterrupt(_connection);
    }
}
