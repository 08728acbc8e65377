// CompanyMatch.cs: the proof that the records of the new store are those of the old one.
// Three independent looks: (a) every record, through the map, by fingerprint and key; (b) counts; (c) control totals that each engine
// computes with its own SQL, which share no code with the map. Definition of fingerprints: docs/fingerprints.md.
// Holds: (1) both stores are read anew, nothing is taken from the conversion; (2) both ways: nothing missing, nothing added;
//        (3) memory is bounded: only buckets that differ are read again, in portions.
using System.Globalization;
using System.IO.Hashing;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Matches two stores.</summary>
public sealed class CompanyMatch(Hop hop, IReadOnlyDictionary<string, string> settings, IProgressObserver observer, CancellationToken cancel)
{
    private const int MaxListed = 1000;

    /// <summary>Records of one table held in memory while its differing buckets are read again.</summary>
    internal int PortionRows { get; init; } = 50_000;

    private readonly List<Difference> _differences = [];
    private long _differenceCount;
    private bool _countExact = true;

    /// <summary>Matches; the stores may be large, the result is small.</summary>
    public MatchResult Run(IStore old, IStore renewed)
    {
        Dictionary<string, BucketedFingerprint> expected = hop.To.Tables.ToDictionary(table => table.Name, _ => new BucketedFingerprint());
        var accounts = new List<TableAccount>();
        var found = new Dictionary<string, BucketedFingerprint>();
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        Task reading = Task.Factory.StartNew(() =>
        {
            foreach (TableShape table in hop.To.Tables) found[table.Name] = Scan(renewed, table, stop.Token);
        }, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        try
        {
            foreach (TableMap map in hop.Tables) accounts.Add(ScanExpected(old, map, expected, stop.Token));
            foreach (NewRecord record in hop.NewRecords)
            {
                TableOutput output = StoreConverter.Evaluate(record, settings);
                Add(expected[output.Table.Name], new RowEncoder(output.Table, output.Vectors), 0);
            }
        }
        catch
        {
            stop.Cancel();
            try { reading.Wait(CancellationToken.None); } catch (AggregateException) { /* the first error is the one to tell */ }
            throw;
        }
        reading.GetAwaiter().GetResult();
        foreach (TableShape table in hop.To.Tables)
        {
            IReadOnlyList<int> differing = expected[table.Name].DifferingFrom(found[table.Name]);
            if (differing.Count > 0) Explain(old, renewed, table, differing, expected[table.Name], found[table.Name]);
        }
        TableMatch[] tables = [.. hop.To.Tables.Select(table =>
        {
            Fingerprint a = expected[table.Name].Total(), b = found[table.Name].Total();
            return new TableMatch(table.Name, a.Rows, b.Rows, a.ToString(), b.ToString());
        })];
        return new MatchResult(hop.From.Name, hop.To.Name, accounts, tables, CompareTotals(old, renewed), _differences, _differenceCount, _countExact);
    }

    private static void Add(BucketedFingerprint fingerprint, RowEncoder encoder, int row) => fingerprint.Add(encoder.Key(row), encoder.Row(row));

    private BucketedFingerprint Scan(IStore store, TableShape table, CancellationToken stop)
    {
        var fingerprint = new BucketedFingerprint();
        foreach (RecordBatch batch in store.Batches(table, [], stop))
        {
            foreach (RowFault fault in batch.Faults)
                Note(new Difference(table.Name, ShowKey(table, batch, fault.Row), fault.Column, DifferenceKind.Value, "",
                    $"{(table.MayShow(fault.Column) ? fault.Value : TableShape.Private)}: {fault.Reason}"));
            var encoder = new RowEncoder(table, batch.Vectors);
            for (int row = 0; row < batch.RowCount; row++) Add(fingerprint, encoder, row);
        }
        return fingerprint;
    }

    private TableAccount ScanExpected(IStore old, TableMap map, Dictionary<string, BucketedFingerprint> expected, CancellationToken stop)
    {
        long total = old.CountRows(map.From.Name);
        var tally = new TableTally(map.From.Name);
        int[] rows = [];
        foreach (TableTransform lane in Transformed(old, map, stop))
        {
            if (rows.Length < lane.RowCount) rows = new int[lane.RowCount];
            int carried = lane.CarriedRows(rows);
            foreach (TableOutput output in lane.Outputs)
            {
                var encoder = new RowEncoder(output.Table, output.Vectors);
                BucketedFingerprint fingerprint = expected[output.Table.Name];
                for (int i = 0; i < carried; i++) Add(fingerprint, encoder, rows[i]);
            }
            tally.Add(lane);
            observer.Progress(map.From.Name, tally.Read, total);
        }
        return tally.Account();
    }

    private IEnumerable<TableTransform> Transformed(IStore old, TableMap map, CancellationToken stop)
    {
        var lane = new TableTransform(map, LookupLoader.Load(old, map), settings);
        using KeyGroupedReader reader = TableTransform.Read(old, map);
        while (reader.Fill(lane.Source))
        {
            stop.ThrowIfCancellationRequested();
            lane.Apply();
            yield return lane;
        }
    }

    private void Note(Difference difference)
    {
        lock (_differences)
        {
            _differenceCount++;
            if (_differences.Count < MaxListed) _differences.Add(difference);
        }
    }

    // Reads the differing buckets of a table again, as many at a time as memory is promised for, and names each difference.
    private void Explain(IStore old, IStore renewed, TableShape table, IReadOnlyList<int> differing, BucketedFingerprint expected, BucketedFingerprint found)
    {
        for (int next = 0; next < differing.Count;)
        {
            if (_differenceCount >= MaxListed)
            {
                _countExact = false;
                break;
            }
            var portion = new HashSet<int>();
            long rows = 0;
            while (next < differing.Count && (portion.Count == 0 || rows + expected.Buckets[differing[next]].Rows <= PortionRows))
            {
                rows += expected.Buckets[differing[next]].Rows;
                portion.Add(differing[next++]);
            }
            ExplainPortion(old, renewed, table, portion);
        }
    }

    private void ExplainPortion(IStore old, IStore renewed, TableShape table, HashSet<int> buckets)
    {
        var wanted = new RecordBatch(table.Columns, new BatchLimits(int.MaxValue, long.MaxValue));
        var waiting = new Dictionary<UInt128, Queue<int>>();
        foreach (TableMap map in hop.Tables.Where(map => map.Into.Any(target => target.Table.Name == table.Name)))
        {
            int[] rows = [];
            foreach (TableTransform lane in Transformed(old, map, cancel))
            {
                if (rows.Length < lane.RowCount) rows = new int[lane.RowCount];
                int carried = lane.CarriedRows(rows);
                TableOutput output = lane.Outputs.First(output => output.Table.Name == table.Name);
                Keep(output, rows.AsSpan(0, carried));
            }
        }
        foreach (NewRecord record in hop.NewRecords.Where(record => record.Into.Name == table.Name)) Keep(StoreConverter.Evaluate(record, settings), [0]);
        foreach (RecordBatch batch in renewed.Batches(table, [], cancel))
        {
            var encoder = new RowEncoder(table, batch.Vectors);
            for (int row = 0; row < batch.RowCount; row++)
            {
                ReadOnlySpan<byte> key = encoder.Key(row);
                if (!buckets.Contains(BucketedFingerprint.BucketOf(key))) continue;
                if (waiting.TryGetValue(XxHash128.HashToUInt128(key), out Queue<int>? queue) && queue.TryDequeue(out int twin)) CompareRow(table, wanted, twin, batch, row);
                else Note(new Difference(table.Name, ShowKey(table, batch, row), "", DifferenceKind.Extra, "", ShowRow(batch, row)));
            }
        }
        foreach (int missing in waiting.Values.SelectMany(queue => queue).Order())
            Note(new Difference(table.Name, ShowKey(table, wanted, missing), "", DifferenceKind.Missing, ShowRow(wanted, missing), ""));

        void Keep(TableOutput output, ReadOnlySpan<int> rows)
        {
            var encoder = new RowEncoder(table, output.Vectors);
            foreach (int row in rows)
            {
                ReadOnlySpan<byte> key = encoder.Key(row);
                if (!buckets.Contains(BucketedFingerprint.BucketOf(key))) continue;
                UInt128 digest = XxHash128.HashToUInt128(key);
                if (!waiting.TryGetValue(digest, out Queue<int>? queue)) waiting[digest] = queue = new Queue<int>();
                queue.Enqueue(wanted.RowCount);
                for (int column = 0; column < output.Vectors.Count; column++) wanted.Vectors[column].AppendFrom(output.Vectors[column], row);
            }
        }
    }

    private void CompareRow(TableShape table, RecordBatch wanted, int twin, RecordBatch batch, int row)
    {
        for (int column = 0; column < table.Columns.Count; column++)
        {
            // An unreadable cell was noted as such when the table was scanned.
            if (batch.Faults.Any(fault => fault.Row == row && fault.Column == table.Columns[column].Name)) continue;
            if (!wanted.Vectors[column].SameAt(twin, batch.Vectors[column], row))
                Note(new Difference(table.Name, ShowKey(table, wanted, twin), table.Columns[column].Name, DifferenceKind.Value,
                    Shown(wanted, twin, column), Shown(batch, row, column)));
        }
    }

    private static string Shown(RecordBatch batch, int row, int column) => batch.Vectors[column].IsNull(row) ? "(no value)" : batch.Show(row, column);

    private static string ShowKey(TableShape table, RecordBatch batch, int row) =>
        table.Key.Count > 0 ? batch.ShowKey(row, [.. table.Key.Select(table.OrdinalOf)]) : ShowRow(batch, row);

    private static string ShowRow(RecordBatch batch, int row) => string.Join(" | ", Enumerable.Range(0, batch.Vectors.Length).Select(column => batch.Show(row, column)));

    private List<TotalMatch> CompareTotals(IStore old, IStore renewed)
    {
        var totals = new List<TotalMatch>();
        foreach (ControlTotal before in hop.From.ControlTotals)
        {
            ControlTotal? after = hop.To.ControlTotals.FirstOrDefault(total => total.Name == before.Name);
            if (after is null) continue;
            Dictionary<string, string> a = Ask(old, before), b = Ask(renewed, after);
            totals.Add(new TotalMatch(before.Name, HasSql(old, before) && HasSql(renewed, after), [.. a.Keys.Union(b.Keys).Order(StringComparer.Ordinal)
                .Select(label => new TotalLine(label, a.GetValueOrDefault(label), b.GetValueOrDefault(label)))]));
        }
        return totals;
    }

    private static bool HasSql(IStore store, ControlTotal total) => total.SqlByEngine.ContainsKey(store.Identity.Engine.ToLowerInvariant());

    private Dictionary<string, string> Ask(IStore store, ControlTotal total)
    {
        string? sql = total.SqlByEngine.GetValueOrDefault(store.Identity.Engine.ToLowerInvariant());
        if (sql is null && total.Sum is not null)
            return GroupSums.Of(store, total.Sum, cancel).ToDictionary(line => line.Key, line => DecimalText.Format(line.Value, total.Scale));
        if (sql is null)
            throw new TransferraException($"the control total \"{total.Name}\" has no query for {store.Identity.Engine}",
                "Add it under sql in the kit's version file; for stores that answer no SQL, give table, by and sum.");
        var lines = new Dictionary<string, string>();
        foreach (IReadOnlyList<string?> row in store.Ask(sql).Rows)
        {
            string label = string.Join(" / ", row.Take(row.Count - 1).Select(cell => cell ?? TotalLine.NoLabel));
            string value = row[^1] ?? "0";
            // A total adds up whole units (pence, cents), so that the engine's sum is exact. Anything else got in behind our back, or the
            // query is wrong; either way it agrees with nothing.
            string shown = Int128.TryParse(value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out Int128 units)
                ? DecimalText.Format(units, total.Scale) : $"{ValueText.Quote(value)} {TotalLine.NoWholeNumber}";
            if (!lines.TryAdd(label, shown))
                throw new TransferraException($"the control total \"{total.Name}\" gave the line {ValueText.Quote(label)} twice", "Group the query by its label columns.");
        }
        return lines;
    }
}
