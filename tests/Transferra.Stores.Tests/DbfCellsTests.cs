using System.Text;
using Transferra.Core.Records;
using Transferra.Stores.Dbf;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class DbfCellsTests : IDisposable
{
    private static readonly (string Name, char Kind, int Length, int Decimals, byte Flags)[] Fields =
    [
        ("TXT", 'C', 7, 0, 0), ("AMOUNT", 'N', 9, 2, 0), ("WHOLE", 'N', 6, 0, 0), ("WIDE", 'N', 20, 0, 0), ("FLOAT", 'F', 21, 5, 0),
        ("TIGHT", 'N', 3, 2, 0), ("DAY", 'D', 8, 0, 0), ("MARK", 'L', 1, 0, 0),
    ];

    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // Mostly as programs write it, often a little wrong, sometimes anything.
    private static byte[] Cell(Random random, char kind, int length, int decimals)
    {
        string usual = kind switch
        {
            'C' => new string('x', random.Next(length + 1)) + (random.Next(8) == 0 ? "\0" : ""),
            'D' => random.Next(9) == 0 ? "" : $"{random.Next(1890, 2110)}{random.Next(0, 14):00}{random.Next(0, 33):00}",
            'L' => "TtFfYyNn? x"[random.Next(11)].ToString(),
            _ => ((random.NextInt64(-9_000_000, 9_000_000) >> random.Next(24)) / (decimal)Math.Pow(10, random.Next(decimals + 2)))
                .ToString(random.Next(9) == 0 ? "E4" : $"F{decimals}", System.Globalization.CultureInfo.InvariantCulture),
        };
        bool isRight = kind is 'N' or 'F' && random.Next(5) > 0;
        byte[] cell = Encoding.Latin1.GetBytes(isRight ? usual.PadLeft(length) : usual.PadRight(length))[..length];
        for (int wrong = random.Next(6) == 0 ? random.Next(1, 3) : 0; wrong > 0; wrong--)
            cell[random.Next(length)] = (byte)" 0159.-+eE*\0é\u00ff/"[random.Next(15)];
        return cell;
    }

    private static List<string> Rows(DbfRecordReader reader, RecordBatch batch)
    {
        var rows = new List<string>();
        using (reader)
            for (bool more = true; more;)
            {
                batch.Reset();
                more = reader.Fill(batch);
                int first = rows.Count;
                for (int row = 0; row < batch.RowCount; row++)
                    rows.Add(string.Join('|', batch.Vectors.Select(vector => vector.IsNull(row) ? "-" : vector.Show(row))));
                Assert.Equal(batch.Faults.Select(fault => fault.Row).Order(), batch.Faults.Select(fault => fault.Row)); // in their order
                foreach (RowFault fault in batch.Faults)
                    rows[first + fault.Row] += $" {fault.Column} {fault.Code} {fault.Value} {fault.Reason}";
            }
        return rows;
    }

    [Fact]
    public void What_is_read_quickly_is_what_is_read_cell_by_cell_whatever_stands_there()
    {
        int seed = Seeds.Given, quick = 0;
        var random = new Random(seed);
        for (int trial = 0; trial < 40; trial++)
        {
            byte[][] records = [.. Enumerable.Range(0, random.Next(1, 400)).Select(_ => (byte[])[(byte)" *"[random.Next(5) / 4],
                .. Fields.SelectMany(field => Cell(random, field.Kind, field.Length, field.Decimals))])];
            File.WriteAllBytes(_folder["t.dbf"], DbfTests.Table(0x03, Fields, records));
            var table = new DbfTable(_folder["t.dbf"], random.Next(2) == 0 ? null : "windows-1252");
            // As the store has them, or as a kit declares them: narrower, wider, of another scale.
            TableShape shape = random.Next(2) == 0 ? table.Shape : table.Shape with
            {
                Columns = [new("TXT", new(FieldKind.Text)), new("AMOUNT", FieldType.Decimal(random.Next(5, 12), random.Next(1, 4))),
                    new("WHOLE", FieldType.Integer), new("WIDE", FieldType.Integer), new("FLOAT", FieldType.Decimal(20, 5)),
                    new("TIGHT", FieldType.Decimal(2, 2)), new("DAY", FieldType.Date), new("MARK", FieldType.Boolean)],
            };
            RecordBatch batch() => new(shape.Columns, new BatchLimits(random.Next(3) == 0 ? 1 : 100, random.Next(3) == 0 ? 40 : 1 << 20));
            List<string> alone = Rows(new DbfRecordReader(table, shape, table.Header.Records) { ReadsCellsAlone = true }, batch());
            Assert.Equal(records.Count(record => record[0] == ' '), alone.Count);
            List<string> usual = Rows(new DbfRecordReader(table, shape, table.Header.Records), batch());
            for (int row = 0; row < alone.Count; row++)
                Assert.True(alone[row] == usual[row], $"seed {seed}, trial {trial}, record {row}:\n{alone[row]}\n{usual[row]}");
            quick += alone.Count(row => !row.Contains(' ', StringComparison.Ordinal));
        }
        Assert.True(quick > 100, $"seed {seed}: only {quick} records without a fault"); // so that both sides were at work
    }
}
