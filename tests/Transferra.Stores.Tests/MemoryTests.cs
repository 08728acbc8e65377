using System.Text;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

/// <summary>What is measured of the whole process is measured while no other test runs.</summary>
[CollectionDefinition("alone", DisableParallelization = true)]
public sealed class AloneDefinition;

[Collection("alone")]
public sealed class MemoryTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly StoreOpener _stores = new();
    private readonly TestServers _servers = new();

    public void Dispose()
    {
        _servers.Dispose();
        _folder.Dispose();
    }

    [Theory]
    [MemberData(nameof(ConformanceTests.EachEngine), MemberType = typeof(ConformanceTests))]
    public void A_million_records_go_through_in_bounded_memory(string engine)
    {
        StoreAddress address = StoreAddress.ServerEngines.Contains(engine)
            ? _servers.Database(engine, "big") : new(engine, _folder["big"], engine == "delimited" ? new Dictionary<string,
                string>
            { ["separator"] = ";" }
            : null);
        const int rows = 1_000_000, portion = 10_000;
        const long mostBytes = 100 << 20;
        var table = new TableShape("MILLION", [new("NR", FieldType.Integer, true), new("AMOUNT", FieldType.Decimal(14, 2)),
            new("TXT", new(FieldKind.Text, Length: 24))], ["NR"], []);
        long before = GC.GetTotalMemory(forceFullCollection: true), most = 0;
        var sent = new BucketedFingerprint();
        var bytes = new CanonicalWriter();
        var batch = new RecordBatch(table.Columns, new BatchLimits(portion, 1 << 26));
        int[] all = [.. Enumerable.Range(0, portion)];
        var rejects = new List<RowReject>();
        using (IStoreBuilder builder = _stores.Create(address))
        {
            builder.CreateTable(table);
            for (int first = 0; first < rows; first += portion)
            {
                batch.Reset();
                for (int row = first; row < first + portion; row++)
                {
                    ((LongVector)batch.Vectors[0]).Append(row);
                    ((WideVector)batch.Vectors[1]).Append((row * 7919L) % 1_000_003);
                    ((BytesVector)batch.Vectors[2]).Append(Encoding.UTF8.GetBytes("ent\u00e9 " + row % 1000));
                }
                Count();
                builder.Write([new TableOutput(table, batch.Vectors)], all, rejects);
            }
            builder.Complete(new Dictionary<string, string>());
        }
        Assert.Empty(rejects);
        Fingerprint written = sent.Total();
        sent = new BucketedFingerprint();
        using IStore store = _stores.Open(address);
        Assert.Equal(rows, store.CountRows("MILLION"));
        foreach (RecordBatch _ in store.Batches(table, ["NR"], CancellationToken.None, batch)) Count();
        Assert.Equal(written, sent.Total());
        Assert.InRange(most - before, 0, mostBytes);

        void Count()
        {
            for (int row = 0; row < batch.RowCount; row++)
            {
                bytes.Clear();
                foreach (Vector vector in batch.Vectors) vector.Encode(row, bytes);
                sent.Add([], bytes.Written);
            }
            most = Math.Max(most, GC.GetTotalMemory(forceFullCollection: false));
        }
    }

    [Fact]
    public void An_index_of_a_large_table_is_sorted_on_disk_not_in_the_engines_memory()
    {
        const int rows = 600_000, portion = 10_000;
        const long mostBytes = 40 << 20; // texts and record numbers alone are 50 MB
        var table = new TableShape("INDEXED", [new("NR", FieldType.Integer, true), new("TXT", new(FieldKind.Text, Length: 80))], ["NR"], [])
        {
            Indexes = [new IndexShape("by_text", ["TXT"], IsUnique: false)],
        };
        var batch = new RecordBatch(table.Columns, new BatchLimits(portion, 1 << 26));
        int[] all = [.. Enumerable.Range(0, portion)];
        using IStoreBuilder builder = _stores.Create(new StoreAddress("sqlite", _folder["indexed.db"]));
        builder.CreateTable(table);
        for (int first = 0; first < rows; first += portion)
        {
            batch.Reset();
            for (int row = first; row < first + portion; row++)
            {
                ((LongVector)batch.Vectors[0]).Append(row);
                ((BytesVector)batch.Vectors[1]).Append(Encoding.UTF8.GetBytes($"{row * 7919L % 1_000_003:00000000}{new string('x', 72)}"));
            }
            builder.Write([new TableOutput(table, batch.Vectors)], all, []);
        }
        // What the whole process takes at most from here on; the kernel counts it from anew.
        File.WriteAllText("/proc/self/clear_refs", "5");
        long before = MostResident();
        builder.Complete(new Dictionary<string, string>());
        Assert.InRange(MostResident() - before, 0, mostBytes);
    }

    private static long MostResident() => File.ReadLines("/proc/self/status")
        .Where(line => line.StartsWith("VmHWM:", StringComparison.Ordinal))
        .Select(line => long.Parse(line.AsSpan(6).Trim().ToString().Split(' ')[0], System.Globalization.CultureInfo.InvariantCulture) << 10)
        .Single();

    /// <summary>A table of any number of records that nobody has to write first.</summary>
    private sealed class EndlessStore(TableShape table, long rows) : IStore
    {
        public StoreIdentity Identity => new("Memory", "1", 0, new Dictionary<string, string>());

        public IReadOnlyList<TableShape> ReadShape() => [table];

        public IReadOnlyList<StoreObject> ListObjects() => [];

        public long CountRows(string name) => rows;

        public QueryAnswer Ask(string sql, TimeSpan? limit = null) => throw new NotSupportedException();

        public IReadOnlyList<string> CheckPhysically() => [];

        public IRecordReader Read(TableShape shape, IReadOnlyList<string> orderBy, KeyRange? within = null) => new Reader(rows);

        public void Dispose() { }

        // Each number once, but in no order: every key is new to the check, and no two neighbours make a run.
        private sealed class Reader(long rows) : IRecordReader
        {
            private long _next;

            public bool Fill(RecordBatch batch)
            {
                while (!batch.IsFull)
                {
                    if (_next == rows) return false;
                    long number = _next++ * 1_000_003 % rows;
                    ((LongVector)batch.Vectors[0]).Append(number + 1);
                    ((LongVector)batch.Vectors[1]).Append(number / 2);
                    ((WideVector)batch.Vectors[2]).Append(number % 2 == 0 ? 5 : -5);
                }
                return true;
            }

            public void Dispose() { }
        }
    }

    [Fact]
    public void A_check_of_millions_of_records_in_no_order_takes_bounded_memory()
    {
        _folder.Write("kit.yaml", "kit: endless\ntitle: Endless\nversions: [\"1\"]\n");
        _folder.Write("versions/1.yaml", """
            version: "1"
            told-by: [{header: user_version, is: "1"}]
            tables:
              T:
                columns: {NR: INTEGER NOT NULL, VNO: INTEGER, AMOUNT: "DECIMAL(9,2)"}
                key: [NR]
                no-two: [{columns: [VNO, AMOUNT], because: it would be the same}]
                series: [{name: numbers, number: NR}]
                relations: [{columns: [NR], to: T, on: [NR]}]
            rules:
              - {name: in balance, table: T, by: [VNO], sum: AMOUNT, must-be: "0"}
            """);
        var errors = new DescriptionErrors();
        KitVersion version = KitLoader.Load(_folder.Path, "kit", KnownKinds.All, errors)!.Versions[0];
        errors.ThrowIfAny();
        const long mostBytes = 120 << 20;
        long before = GC.GetTotalMemory(forceFullCollection: true);
        var observer = new MemoryObserver();
        using var store = new EndlessStore(version.Tables[0], 2_000_000);
        CheckResult result = new CompanyCheck(version, null, new Dictionary<string, string>(), observer, CancellationToken.None).Run(store);
        Assert.Empty(result.Findings);
        Assert.InRange(observer.Most - before, 1, mostBytes);
    }

    private sealed class MemoryObserver : IProgressObserver
    {
        public long Most { get; private set; }

        public void Progress(string table, long rows, long ofRows) =>
            Most = Math.Max(Most, GC.GetTotalMemory(forceFullCollection: rows % 200_000 < 4096));
    }
}
