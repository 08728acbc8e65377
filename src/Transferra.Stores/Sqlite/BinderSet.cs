// BinderSet.cs: binds rows of a batch to insert statements without a copy: the engine reads texts where the batch keeps them.
// Why that is safe: the batch's buffers are held in place, and every value bound is read by the step that follows at once.
// Holds: (1) a null row is bound as NULL, an empty text as an empty text; (2) nothing bound is read after Dispose.
using System.Buffers;
using System.Runtime.InteropServices;
using Transferra.Core.Records;

namespace Transferra.Stores.Sqlite;

/// <summary>How a column keeps decimals.</summary>
internal enum DecimalForm
{
    /// <summary>As their text, or as what the engine makes of it.</summary>
    Text,
    /// <summary>As whole units of 10^-scale.</summary>
    Units,
    /// <summary>As the numbers that the engine makes of their text.</summary>
    Numbers
}

/// <summary>Binds the rows of a batch's outputs.</summary>
internal sealed unsafe class BinderSet : IDisposable
{
    private enum How { Whole, Date, Scaled, Amount, Text, Blob, Any, Real, Shown }

    private sealed class Column(Vector vector, How how, MemoryHandle held)
    {
        public readonly Vector Vector = vector;
        public readonly How How = how;
        public MemoryHandle Held = held;
    }

    private const int DateBytes = 10, ShownBytes = 64;

    private readonly Column[][] _outputs;

    // Dates and the rarer kinds are written out here, a slot for each value of a group, and are read at the step.
    private readonly byte* _written;
    private int _slot;

    /// <param name="outputs">What is written; nothing may be appended to its vectors until this is disposed.</param>
    /// <param name="rowsInGroup">Most rows of one <see cref="InsertGroup"/>.</param>
    /// <param name="written">Of a table, which columns are written.</param>
    /// <param name="forms">Of a table, how each column keeps decimals.</param>
    public BinderSet(IReadOnlyList<TableOutput> outputs, int rowsInGroup, Func<string, bool[]> written, Func<string, DecimalForm[]> forms)
    {
        _outputs = [.. outputs.Select(output => output.Vectors.Where((_, i) => written(output.Table.Name)[i])
            .Zip(forms(output.Table.Name).Where((_, i) => written(output.Table.Name)[i]), Of).ToArray())];
        int slots = rowsInGroup * _outputs.Max(columns => columns.Count(column => column.How is How.Date or How.Amount or How.Shown)) + 1;
        _written = (byte*)NativeMemory.Alloc((nuint)slots, ShownBytes);
    }

    private static Column Of(Vector vector, DecimalForm form) => vector switch
    {
        LongVector { Type.Kind: FieldKind.Integer or FieldKind.Boolean } => new Column(vector, How.Whole, default),
        LongVector { Type.Kind: FieldKind.Date } => new Column(vector, How.Date, default),
        WideVector when form == DecimalForm.Units => new Column(vector, How.Scaled, default),
        WideVector { Type.Kind: FieldKind.Decimal } when form == DecimalForm.Numbers => new Column(vector, How.Amount, default),
        BytesVector bytes => new Column(vector, vector.Type.Kind switch
        {
            FieldKind.Text => How.Text,
            FieldKind.Any => How.Any,
            _ => How.Blob
        }, bytes.Pin()),
        DoubleVector => new Column(vector, How.Real, default),
        _ => new Column(vector, How.Shown, default),
    };

    /// <summary>Inserts one row of one output.</summary>
    /// <returns>The engine's result code.</returns>
    public int Insert(int output, nint statement, int row)
    {
        _slot = 0;
        int index = 1;
        foreach (Column column in _outputs[output]) Bind(statement, index++, column, row);
        return Step(statement);
    }

    /// <summary>Inserts a group of rows of the only output.</summary>
    /// <returns>The engine's result code; on any but Done, none of them is there.</returns>
    public int InsertGroup(nint statement, ReadOnlySpan<int> rows)
    {
        _slot = 0;
        int index = 1;
        Column[] columns = _outputs[0];
        foreach (int row in rows)
            foreach (Column column in columns) Bind(statement, index++, column, row);
        return Step(statement);
    }

    private static int Step(nint statement)
    {
        int result = SqliteNative.Step(statement);
        _ = SqliteNative.Reset(statement);
        return result;
    }

    private void Bind(nint statement, int index, Column column, int row)
    {
        Vector vector = column.Vector;
        if (vector.IsNull(row))
        {
            _ = SqliteNative.BindNull(statement, index);
            return;
        }
        switch (column.How)
        {
            case How.Whole:
                _ = SqliteNative.BindInt64(statement, index, ((LongVector)vector).Values[row]);
                break;
            case How.Scaled:
                _ = SqliteNative.BindInt64(statement, index, (long)((WideVector)vector).Values[row]);
                break;
            case How.Any:
                BindAny(statement, index, column, row);
                break;
            case How.Text or How.Blob:
                ReadOnlySpan<int> ends = ((BytesVector)vector).Ends;
                int start = row == 0 ? 0 : ends[row - 1], length = ends[row] - start;
                byte* from = (byte*)column.Held.Pointer + start;
                if (column.How == How.Text) _ = SqliteNative.BindText(statement, index, from, length, Static);
                else _ = SqliteNative.BindBlob(statement, index, from, length, Static);
                break;
            case How.Date:
                byte* date = NextSlot();
                ValueText.WriteDate(((LongVector)vector).Values[row], new Span<byte>(date, DateBytes));
                _ = SqliteNative.BindText(statement, index, date, DateBytes, Static);
                break;
            case How.Real:
                _ = SqliteNative.BindDouble(statement, index, ((DoubleVector)vector).Values[row]);
                break;
            case How.Amount when RealAmount.TryDouble(((WideVector)vector).Values[row], vector.Type.Scale, out double amount):
                _ = SqliteNative.BindDouble(statement, index, amount);
                break;
            default:
                byte* shown = NextSlot();
                int bytes = System.Text.Encoding.ASCII.GetBytes(vector.Show(row), new Span<byte>(shown, ShownBytes));
                _ = SqliteNative.BindText(statement, index, shown, bytes, Static);
                break;
        }
    }

    private static void BindAny(nint statement, int index, Column column, int row)
    {
        var values = (BytesVector)column.Vector;
        ReadOnlySpan<byte> value = values[row];
        byte* from = (byte*)column.Held.Pointer + (row == 0 ? 0 : values.Ends[row - 1]) + 1;
        _ = value[0] switch
        {
            AnyValue.Whole => SqliteNative.BindInt64(statement, index, AnyValue.WholeOf(value)),
            AnyValue.Real => SqliteNative.BindDouble(statement, index, AnyValue.RealOf(value)),
            AnyValue.Text => SqliteNative.BindText(statement, index, from, value.Length - 1, Static),
            _ => SqliteNative.BindBlob(statement, index, from, value.Length - 1, Static),
        };
    }

    private byte* NextSlot() => _written + ShownBytes * (nint)_slot++;

    // SQLITE_STATIC: the bytes stay where they are until the step has read them.
    private const nint Static = 0;

    public void Dispose()
    {
        foreach (Column[] columns in _outputs)
            foreach (Column column in columns) column.Held.Dispose();
        NativeMemory.Free(_written);
    }
}
