using System.Text;
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
        StoreAddress address = StoreAddress.ServerEngines.Contains(engine) ? _servers.Database(engine, "big") : new(engine, _folder["big"], engine == "delimited" ? new Dictionary<string, string> { ["separator"] = ";" } : null);
        const int rows = 1_000_000, portion = 10_000;
        const long mostBytes = 100 << 20;
        var table = new TableShape("MILLION", [new("NR", FieldType.Integer, true), new("AMOUNT", FieldType.Decimal(14, 2)), new("TXT", new(FieldKind.Text, Length: 24))], ["NR"], []);
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
}
