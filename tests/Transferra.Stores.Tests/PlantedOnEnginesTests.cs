// PlantedOnEnginesTests.cs: the same company with a fault of each kind in every engine: each finds what is found in memory, and nothing
// in the sound twin.
using Transferra.Core.Checks;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class PlantedOnEnginesTests : IDisposable
{
    // All that can stand beside each other.
    private static readonly string[] Faults =
    [
        "copy", "conflict", "business key", "orphan", "circle of two", "gap", "gap in a group", "repeat", "twice", "control", "too long",
            "code", "date",
            "blank", "record rule", "closed period", "control account", "opening", "voucher",
        "file gone", "file in capitals", "file of nobody",
    ];

    private readonly TempFolder _folder = new();
    private readonly TestServers _servers = new();
    private readonly StoreOpener _stores = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    public static TheoryData<string> Engines => [.. ConformanceTests.Engines];

    private StoreAddress Written(string engine, PlantedCompany company, string name)
    {
        StoreAddress address = StoreAddress.ServerEngines.Contains(engine)
            ? _servers.Database(engine, name) : new(engine, _folder[name], engine == "delimited" ? new Dictionary<string,
                string>
            { ["separator"] = ";" }
            : null);
        using IStoreBuilder builder = _stores.Create(address);
        foreach (TableShape table in company.Version.Tables)
        {
            // Without keys and lengths, as old programs keep their tables.
            TableShape loose = table with
            {
                Columns = [.. table.Columns.Select(column =>
                column with { Required = false, Type = column.Name == "NOTE" ? FieldType.Text : column.Type })],
                Key = [],
                Relations = []
            };
            builder.CreateTable(loose);
            foreach (RecordBatch batch in company.Store.Batches(table, [], CancellationToken.None))
                builder.Write([new TableOutput(loose, batch.Vectors)], [.. Enumerable.Range(0, batch.RowCount)], []);
        }
        builder.Complete(new Dictionary<string, string>());
        return address;
    }

    private static string[] Words(IEnumerable<Finding> findings) =>
        [.. findings.Select(finding =>
        $"{finding.Grade} {finding.Kind} {finding.Table} {finding.Subject} {finding.Count}: "
            + $"{string.Join("; ", finding.Examples.Order(StringComparer.Ordinal))}").Order(StringComparer.Ordinal)];

    [Theory]
    [MemberData(nameof(Engines))]
    public void Every_engine_finds_what_is_found_in_memory(string engine)
    {
        using var company = new PlantedCompany();
        foreach (string fault in Faults) company.Plant(fault);
        string[] expected = Words(company.Check());
        Assert.InRange(expected.Length, 19, 40);
        using IStore store = _stores.Open(Written(engine, company, "planted"));
        Assert.Equal(expected, Words(company.Check(store)));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void The_sound_twin_gives_no_finding_in_any_engine(string engine)
    {
        using var company = new PlantedCompany();
        using IStore store = _stores.Open(Written(engine, company, "sound"));
        Assert.Empty(Words(company.Check(store)));
    }

    [Theory]
    [MemberData(nameof(Engines))]
    public void What_is_missing_or_was_added_is_told_in_every_engine(string engine)
    {
        using var company = new PlantedCompany();
        StoreAddress address = StoreAddress.ServerEngines.Contains(engine)
            ? _servers.Database(engine, "shape") : new(engine, _folder["shape"], engine == "delimited" ? new Dictionary<string,
                string>
            { ["separator"] = ";" }
            : null);
        using (IStoreBuilder builder = _stores.Create(address))
        {
            // No table VOUCHER, no column PARENT; a column MINE and a table OURS that nobody knows.
            foreach (TableShape table in company.Version.Tables.Where(table => table.Name != "VOUCHER"))
            {
                int parent = table.OrdinalOf("PARENT");
                ColumnShape[] columns = [.. table.Columns.Where((_, i) => i != parent)
                    .Select(column => column with { Required = false, Type = column.Type.Kind == FieldKind.Text ? FieldType.Text
                        : column.Type })];
                if (table.Name == "PERIOD") columns = [.. columns, new ColumnShape("MINE", FieldType.Integer)];
                TableShape changed = table with { Columns = columns, Key = [], Relations = [] };
                builder.CreateTable(changed);
                foreach (RecordBatch batch in company.Store.Batches(table, [], CancellationToken.None))
                {
                    var mine = new LongVector(FieldType.Integer);
                    for (int row = 0; row < batch.RowCount; row++) mine.Append(7);
                    Vector[] vectors = [.. batch.Vectors.Where((_, i) => i != parent), .. table.Name == "PERIOD" ? [mine]
                        : Array.Empty<Vector>()];
                    builder.Write([new TableOutput(changed, vectors)], [.. Enumerable.Range(0, batch.RowCount)], []);
                }
            }
            var ours = new TableShape("OURS", [new("A", FieldType.Integer)], [], []);
            builder.CreateTable(ours);
            var one = new LongVector(FieldType.Integer);
            one.Append(1);
            builder.Write([new TableOutput(ours, [one])], [0], []);
            builder.Complete(new Dictionary<string, string>());
        }
        using IStore store = _stores.Open(address);
        string[] found = [.. company.Check(store).Select(finding =>
            $"{finding.Grade} {finding.Kind} {finding.Table.ToUpperInvariant()} {finding.Subject.ToUpperInvariant()}".TrimEnd())
                .Order(StringComparer.Ordinal)];
        Assert.Equal(["Fault column-missing SUPPLIER PARENT", "Fault table-missing VOUCHER", "Warning column-unknown PERIOD MINE",
            "Warning table-unknown OURS"], found);
    }

    [Fact]
    public void What_is_no_text_no_number_and_no_date_in_a_dbf_table_is_told_as_that()
    {
        using var company = new PlantedCompany();
        StoreAddress address = Written("dbf", company, "bytes");
        string path = Path.Combine(address.Path, Directory.EnumerateFiles(address.Path).Select(Path.GetFileName)
            .Single(name => string.Equals(name, "INVOICE.dbf", StringComparison.OrdinalIgnoreCase))!);
        byte[] bytes = File.ReadAllBytes(path);
        int header = BitConverter.ToUInt16(bytes, 8), record = BitConverter.ToUInt16(bytes, 10);
        // The entries of the header, 32 bytes each, tell where each field stands in the record.
        Dictionary<string, (int Offset, char Kind, int Length)> fields = Enumerable.Range(1, (header - 32) / 32)
            .Where(i => bytes[i * 32] is not (0 or 0x0D)).ToDictionary(
            i => System.Text.Encoding.ASCII.GetString(bytes, i * 32, 11).Split('\0')[0], i =>
                (BitConverter.ToInt32(bytes, i * 32 + 12), (char)bytes[i * 32 + 11], (int)bytes[i * 32 + 16]));
        void Put(int row, string field, string text) => System.Text.Encoding.Latin1.GetBytes(text)
            .CopyTo(bytes, header + row * record + fields[field].Offset);
        Put(0, "ISSUED", "20240230");
        Put(1, "NET", "12,5O");
        Put(2, "REFNO", "\u00ff\u00fe");
        File.WriteAllBytes(path, bytes);
        using IStore store = _stores.Open(address);
        Finding[] findings = [.. company.Check(store)];
        Assert.Contains(findings, finding => finding is { Kind: FindingKinds.NotADate, Subject: "ISSUED", Count: 1 });
        Assert.Contains(findings, finding => finding is { Kind: FindingKinds.NotANumber, Subject: "NET", Count: 1 });
        Assert.Contains(findings, finding => finding is { Kind: FindingKinds.NotText, Subject: "REFNO", Count: 1 });
        // The rule over the unreadable amount is not judged as well.
        Assert.DoesNotContain(findings, finding => finding.Kind == FindingKinds.RuleBroken);
    }
}
