// WorkbookRecordReader.cs: the rows of one sheet as record batches. A spreadsheet keeps every number as a double; its shortest digits are
// what somebody typed in, and an exact column takes them as such, but never rounds them.
// Holds: (1) a cell that is not what its column is declared for is a fault of its row, with the sheet's row number; (2) a changed file is
// refused at its end.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Stores.Files;
using Transferra.Stores.Text;

namespace Transferra.Stores.Workbook;

internal sealed class WorkbookRecordReader(SheetReader rows, int[] places, FileWatch watch) : RowReader
{
    protected override bool Next()
    {
        if (rows.Next()) return true;
        watch.RefuseIfChanged();
        return false;
    }

    protected override void ReadRow(RecordBatch batch, int row)
    {
        for (int column = 0; column < places.Length; column++) Add(batch, row, column, places[column] < rows.Cells.Count
            ? rows.Cells[places[column]] : SheetCell.Empty);
    }

    private void Add(RecordBatch batch, int row, int column, SheetCell cell)
    {
        Vector vector = batch.Vectors[column];
        if (cell.Kind == CellKind.Nothing)
        {
            vector.AppendNull();
            return;
        }
        FaultCode? fault = cell.Kind == CellKind.Error || vector.Type.Kind == FieldKind.Binary
            ? FaultCode.WrongKind : CellText.TryAppend(vector, Encoding.UTF8.GetBytes(TextFor(cell, vector.Type)));
        if (fault is not { } code) return;
        vector.AppendNull();
        string what = cell.Kind == CellKind.Error ? "the cell shows an error" : CellText.Reason(code, vector.Type);
        batch.Faults.Add(new RowFault(row, code, batch.Columns[column].Name, cell.Text,
            FormattableString.Invariant($"{what} (row {rows.Row})")));
    }

    private static string TextFor(SheetCell cell, FieldType type)
    {
        // 1E-3 and 0.1 + 0.2 as it is stored: the shortest digits of the double, written out.
        if (cell.Kind == CellKind.Number && double.TryParse(cell.Text, NumberStyles.Float, CultureInfo.InvariantCulture, out double number)
            && Math.Abs(number) < 1e15 && type.Kind != FieldKind.Double)
        {
            string shortest = number.ToString("R", CultureInfo.InvariantCulture);
            return shortest.Contains('E', StringComparison.Ordinal)
                && decimal.TryParse(shortest, NumberStyles.Float, CultureInfo.InvariantCulture, out decimal exact)
                ? exact.ToString(CultureInfo.InvariantCulture) : shortest;
        }
        // A day is also a moment, at midnight; the other way only when it is midnight.
        return cell.Kind == CellKind.Moment && type.Kind == FieldKind.Date && cell.Text.EndsWith(" 00:00:00", StringComparison.Ordinal)
            ? cell.Text[..10] : cell.Text;
    }

    public override void Dispose() => rows.Dispose();
}
