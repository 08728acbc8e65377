using System.Text;
using FsCheck;
using FsCheck.Fluent;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class JsonLinesTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();

    public void Dispose() => _folder.Dispose();

    private IStore Open(string text)
    {
        _folder.Write("books/T.jsonl", text);
        return _stores.Open(new StoreAddress("json-lines", _folder["books"]));
    }

    [Theory]
    [InlineData("1250", "INTEGER", "1250")]
    [InlineData("12.50", "DECIMAL(14,2)", "12.50")]
    [InlineData("\"12.50\"", "DECIMAL(14,2)", "12.50")]
    [InlineData("0.1", "DOUBLE PRECISION", "0.1")]
    [InlineData("1e300", "DOUBLE PRECISION", "1E+300")]
    [InlineData("true", "BOOLEAN", "true")]
    [InlineData("0", "BOOLEAN", "false")]
    [InlineData("\"2024-02-29\"", "DATE", "2024-02-29")]
    [InlineData("\"10:20\"", "TIME", "10:20:00")]
    [InlineData("\"2024-02-29T10:20:30\"", "TIMESTAMP", "2024-02-29 10:20:30")]
    [InlineData("\"a\\u00e9\\ud83c\\udfbb\\n\"", "TEXT", "a\u00e9\U0001F3BB\n")]
    [InlineData("12.50", "TEXT", "12.50")]
    [InlineData("{\"a\": [1, 2]}", "TEXT", "{\"a\": [1, 2]}")]
    [InlineData("\"AP8=\"", "BLOB", "00FF")]
    [InlineData("\"123e4567-e89b-12d3-a456-426655440000\"", "UUID", "123e4567-e89b-12d3-a456-426655440000")]
    [InlineData("\"\"", "TEXT", "")]
    [InlineData("null", "TEXT", null)]
    public void Values_are_read_as_the_kits_types(string json, string type, string? shown)
    {
        Assert.True(FieldType.TryParse(type, out FieldType wanted));
        using IStore store = Open($"{{\"V\": {json}}}\n");
        Assert.Equal([shown], Cells.Of(store, "T", "v", wanted, out RowFault[] faults));
        Assert.Empty(faults);
    }

    [Theory]
    [InlineData("12.505", "DECIMAL(14,2)", FaultCode.NeedsRounding)]
    [InlineData("1e30", "INTEGER", FaultCode.NotANumber)]
    [InlineData("[1]", "INTEGER", FaultCode.WrongKind)]
    [InlineData("\"31.12.2024\"", "DATE", FaultCode.NotADate)]
    [InlineData("\"?\"", "BLOB", FaultCode.WrongKind)]
    [InlineData("7", "BLOB", FaultCode.WrongKind)]
    [InlineData("2", "BOOLEAN", FaultCode.NotABoolean)]
    public void What_is_no_value_of_its_column_is_a_fault_with_its_line(string json, string type, FaultCode code)
    {
        Assert.True(FieldType.TryParse(type, out FieldType wanted));
        using IStore store = Open($"{{\"V\": null}}\n\n{{\"V\": {json}}}\n");
        Assert.Equal([null, null], Cells.Of(store, "T", "V", wanted, out RowFault[] faults));
        Assert.Equal((1, code, "V"), (Assert.Single(faults).Row, faults[0].Code, faults[0].Column));
        Assert.Contains("line 3", faults[0].Reason, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("[1, 2]")]
    [InlineData("{\"V\": 1")]
    [InlineData("{\"V\": 1} trailing")]
    [InlineData("{'V': 1}")]
    [InlineData("nonsense")]
    public void A_line_that_is_no_object_is_a_fault_and_none_is_passed_over(string line)
    {
        using IStore store = Open($"{{\"V\": 1}}\r\n{line}\r\n{{\"V\": 3}}");
        Assert.Equal(3, store.CountRows("T"));
        Assert.Equal(["1", null, "3"], Cells.Of(store, "T", "V", FieldType.Integer, out RowFault[] faults));
        Assert.Contains("line 2 of T.jsonl", Assert.Single(faults).Reason, StringComparison.Ordinal);
        Assert.Contains("line 2", Assert.Single(store.CheckPhysically()), StringComparison.Ordinal);
    }

    [Fact]
    public void Columns_are_those_that_any_line_names()
    {
        using IStore store = Open("\uFEFF{\"A\": 1}\n{\"b\": {\"inner\": 1}, \"A\": 2}\n{\"B\": 3}\n");
        Assert.Equal(["A", "b"], store.ReadShape().Single().Columns.Select(column => column.Name));
        Assert.Equal(["1", "2", null], Cells.Of(store, "T", "A", FieldType.Integer, out _));
        Assert.Equal([null, "{\"inner\": 1}", "3"], Cells.Of(store, "T", "B", FieldType.Text, out _));
    }

    [Fact]
    public void A_line_that_names_a_column_twice_is_a_fault()
    {
        using IStore store = Open("{\"A\": 1, \"A\": 2}\n");
        Cells.Of(store, "T", "A", FieldType.Integer, out RowFault[] faults);
        Assert.Contains("twice", Assert.Single(faults).Reason, StringComparison.Ordinal);
    }

    [Fact]
    public void A_file_changed_while_it_is_read_is_refused()
    {
        using IStore store = Open("{\"A\": 1}\n");
        _ = store.ReadShape();
        _folder.Write("books/T.jsonl", "{\"A\": 1}\n{\"A\": 2}\n");
        Assert.Contains("was changed while it was read",
            Assert.Throws<TransferraException>(() => Cells.Of(store, "T", "A", FieldType.Integer, out _)).Message,
            StringComparison.Ordinal);
    }

    [Fact]
    public void Damaged_bytes_lose_no_line_and_stop_nothing()
    {
        byte[] sound = Encoding.UTF8.GetBytes(string.Concat(Enumerable.Range(1, 40)
            .Select(i => $"{{\"NR\": {i}, \"TXT\": \"text \u00e9 {i}\"}}\n")));
        Prop.ForAll(Gen.Choose(0, sound.Length - 1).Zip(Gen.Choose(0, 255)).ToArbitrary(), damage =>
        {
            byte[] bytes = [.. sound];
            bytes[damage.Item1] = (byte)damage.Item2;
            Directory.CreateDirectory(_folder["damaged"]);
            File.WriteAllBytes(_folder["damaged/T.jsonl"], bytes);
            using IStore store = _stores.Open(new StoreAddress("json-lines", _folder["damaged"]));
            if (!store.ReadShape()[0].Columns.Any(column => column.Name == "NR")) return true;
            // One line more or less where a line end was damaged or made; each of the others is there, or a fault of its row. Empty ones
            // are none.
            int lines = Encoding.Latin1.GetString(bytes).Split('\n').Count(line => line.Trim(' ', '\t', '\r').Length > 0);
            return Cells.Of(store, "T", "NR", FieldType.Integer, out _).Count == lines && store.CountRows("T") == lines;
        }).Check(Config.QuickThrowOnFailure.WithMaxTest(300));
    }

    [Fact]
    public void A_number_that_json_cannot_hold_is_refused_alone()
    {
        var table = new TableShape("T", [new("D", new(FieldKind.Double))], [], []);
        using IStoreBuilder builder = _stores.Create(new StoreAddress("json-lines", _folder["new"]));
        builder.CreateTable(table);
        var batch = new RecordBatch(table.Columns);
        foreach (double value in (double[])[1, double.NaN, 2]) ((DoubleVector)batch.Vectors[0]).Append(value);
        var rejects = new List<RowReject>();
        builder.Write([new TableOutput(table, batch.Vectors)], [0, 1, 2], rejects);
        builder.Complete(new Dictionary<string, string>());
        Assert.Equal(1, Assert.Single(rejects).Row);
        Assert.Equal("{\"D\":1}\n{\"D\":2}\n", File.ReadAllText(_folder["new/T.jsonl"]));
    }
}
