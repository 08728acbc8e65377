// CompanyMatch.cs: the proof that the records of a hop's new store are those of its old one.
// Every record is looked at, through the correspondence, by fingerprint and key, and with that the counts. Where the kit has control
// totals, they are a second opinion: each engine computes them with its own SQL, which shares no code with the correspondence
// (ControlTotals.cs). Definition of fingerprints: docs/fingerprints.md.
// Holds: (1) both stores are read anew; of the conversion only the records that the engine refused are taken, which are exceptions;
//        (2) both ways: nothing missing, nothing added; (3) memory is bounded: only buckets that differ are read again, and sorted on disk.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>Matches two stores.</summary>
internal sealed class CompanyMatch(Correspondence correspondence, IReadOnlyDictionary<string, string> settings, IProgressObserver observer,
    CancellationToken cancel)
{
    /// <summary>Most differences that are listed; all are counted.</summary>
    public const int MostListed = 1000;

    /// <summary>Old records that the new store refused when it was made.</summary>
    public RefusedRecords Refused { get; init; } = RefusedRecords.None;

    /// <summary>Hears of every difference; null where nobody wants them all.</summary>
    public Action<Difference>? Every { get; init; }

    // Tables that the new store has as the old one had them, by their new name: as both keep them, every column. Their records are
    // compared with each other, whatever the kit says of them.
    private readonly Dictionary<string, TableShape> _kept = [];
    private readonly Dictionary<string, (IStore Store, string Name)> _keptFrom = [];

    /// <summary>The store that the vendor's new program made, where the new store began as that.</summary>
    public IStore? VendorMade { get; init; }

    /// <summary>What an interrupted match of the same two stores came to, and where this one's progress is kept; null for neither.
    /// </summary>
    public MatchSoFar? SoFar { get; init; }

    // By the new name, also by the thread that reads the new store.
    private readonly System.Collections.Concurrent.ConcurrentDictionary<string, RecordedTable> _recorded = [];

    // New tables of which both sides are known before all others are read.
    private readonly HashSet<string> _done = [];
    private int _takenOver;

    private void Keep(IStore old, string name, IStore renewed, TableShape known)
    {
        _kept[known.Name] = Stored(old, name, renewed, known);
        _keptFrom[known.Name] = (old, name);
    }

    private TableShape Stored(IStore old, string name, IStore renewed, TableShape known)
    {
        TableShape was = old.ReadStoredShape(name) ?? throw Gone(known.Name, "old"),
            now = renewed.ReadStoredShape(known.Name) ?? throw Gone(known.Name, "new");
        if (correspondence.IsByOthers)
        {
            // What the vendor added to it is new, and told apart.
            was = was with { Columns = [.. was.Columns.Where(column => known.OrdinalOf(column.Name) >= 0)] };
            now = now with { Columns = [.. now.Columns.Where(column => known.OrdinalOf(column.Name) >= 0)] };
        }
        if (!was.Columns.Select(column => column.Name).SequenceEqual(now.Columns.Select(column => column.Name),
            StringComparer.OrdinalIgnoreCase))
            throw new TransferraException($"the table {known.Name} has other columns in the new store, though nothing was to change in it",
                "Somebody or something else changed the new store. Convert again.");
        bool anyPrivate = known.Columns.Any(column => column.IsPrivate);
        return was with
        {
            Name = known.Name,
            Columns = [.. was.Columns.Select(column => column with
            {
                IsPrivate = known.OrdinalOf(column.Name) is >= 0 and int at ? known.Columns[at].IsPrivate : anyPrivate
            })],
            Key = known.Key.All(column => was.OrdinalOf(column) >= 0) ? known.Key : [],
            Relations = [],
        };
    }

    private static TransferraException Gone(string table, string side) => new($"the table {table} is not in the {side} store",
        "Somebody or something else changed it. Convert again.");

    /// <summary>Matches; the stores may be large, the result is small.</summary>
    public MatchResult Run(IStore old, IStore renewed)
    {
        foreach (TableMap map in correspondence.Tables.Where(correspondence.Keeps))
            Keep(old, map.From.Name, renewed, map.Into[0].Table);
        TableShape[] shipped = VendorMade is null ? [] : [.. correspondence.To.Tables.Where(table => !correspondence.IsFed(table.Name)
            && VendorMade.ReadStoredShape(table.Name) is not null)];
        foreach (TableShape table in shipped) Keep(VendorMade!, table.Name, renewed, table);
        (ReadSides sides, IReadOnlyList<TableAccount> accounts) = ReadBoth(old, renewed, shipped);
        TableShape[] differing = [.. correspondence.To.Tables.Where(table => sides.Of(table.Name).Differing.Count > 0)];
        int most = ListedOfATable(differing.Length);
        long count(string name) => correspondence.To.Table(name) is { } table ? sides.Of(table.Name).Found.Rows : 0;
        Dictionary<string, TableDifferences> differences = [];
        var children = new Dictionary<string, ChildrenMatched[]>();
        foreach (TableShape table in differing)
        {
            TableDifferences of = Explain(old, renewed, table, sides.Of(table.Name), most);
            differences.Add(table.Name, of);
            children.Add(table.Name, Told(of.Children, table, count));
        }
        TableMatch[] tables = [.. correspondence.To.Tables.Select(table =>
        {
            (Fingerprint a, Fingerprint b, _) = sides.Of(table.Name);
            TableDifferences? of = differences.GetValueOrDefault(table.Name);
            return new TableMatch(table.Name, a.Rows, b.Rows, a.ToString(), b.ToString(), of?.Missing ?? 0, of?.Extra ?? 0,
                of?.Changed ?? 0)
            { ChangedColumns = of?.ChangedColumns ?? [], Changes = of?.Changes ?? [] };
        })];
        return new MatchResult(correspondence.From.Name, correspondence.To.Name, accounts, tables,
            ControlTotals.Compare(old, correspondence.From, renewed, correspondence.To, settings, cancel),
            FairShare([.. differences.Values.Select(of => of.Listed)]), differences.Values.Sum(of => of.Count))
        {
            IsByOthers = correspondence.IsByOthers,
            Shipped = correspondence.ShippedAccounts,
            Recorded = [.. correspondence.To.Tables.Select(table => _recorded[table.Name])],
            // Where nothing differs in a table, each record that it points to has as many as it should have.
            Children = [.. correspondence.To.Tables.SelectMany(table => children.GetValueOrDefault(table.Name)
                ?? Told(ChildrenChange.Of(ToRead(table, table.Name), table, correspondence.To), table, count))],
            TakenOver = _takenOver,
            Declarations = correspondence.IsOnCopy ? DeclarationMatch.Run(old, renewed, correspondence)
                : VendorMade is not null ? DeclarationMatch.Run(VendorMade, renewed, correspondence) : null
        };
    }

    private static ChildrenMatched[] Told(IReadOnlyList<ChildrenChange> links, TableShape table, Func<string, long> count)
    {
        ChildrenMatched[] told = [.. links.Select(link => link.Matched(table.Name, count))];
        foreach (ChildrenChange link in links) link.Dispose();
        return told;
    }

    // Both sides at the same time, in one order of the tables as far as they have one.
    private (ReadSides Sides, IReadOnlyList<TableAccount> Accounts) ReadBoth(IStore old, IStore renewed, IReadOnlyList<TableShape> shipped)
    {
        string[] fed = [.. correspondence.Tables.SelectMany(map => map.Into.Select(target => target.Table.Name).Distinct())
            .Concat(shipped.Select(table => table.Name))];
        Dictionary<string, int> feeders = fed.CountBy(table => table).ToDictionary();
        // One more each, for records that nothing old stands for; so a table that nothing feeds is done with, too.
        var parts = new MatchParts(correspondence, SoFar);
        var sides = new ReadSides(correspondence.To.Tables.Select(table => (table.Name, feeders.GetValueOrDefault(table.Name) + 1)),
            parts.Compared);
        Dictionary<string, int> places = fed.Distinct().Select((table, at) => (table, at)).ToDictionary();
        TableShape[] inOrder = [.. correspondence.To.Tables.OrderBy(table => places.GetValueOrDefault(table.Name))];
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var accounts = new Dictionary<TableMap, TableAccount>(ReferenceEqualityComparer.Instance);
        TakeOver(parts, sides, accounts);
        ReadStored(old, renewed, correspondence.Tables.Where(map => correspondence.Keeps(map) && feeders[map.Into[0].Table.Name] == 1
            && !_done.Contains(map.Into[0].Table.Name)), sides, parts, accounts, stop.Token);
        Task reading = Task.Factory.StartNew(() =>
        {
            foreach (TableShape table in inOrder.Where(table => !_done.Contains(table.Name)))
            {
                parts.Begin(table.Name);
                var found = new BucketedFingerprint();
                TableReading scan = Scan(renewed, table, table.Name, found, stop.Token);
                Record(parts, RecordedTable.Of(ToRead(table, table.Name), _kept.ContainsKey(table.Name), found, scan.Last));
                sides.Found(table.Name, found, scan.Unreadable);
            }
        }, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        try
        {
            ReadExpected(old, shipped, sides, parts, accounts, stop.Token);
            reading.GetAwaiter().GetResult();
            SoFar?.End();
            return (sides, [.. correspondence.Tables.Select(map => accounts[map])]);
        }
        catch
        {
            stop.Cancel();
            try { reading.Wait(CancellationToken.None); } catch (AggregateException) { /* the first error is the one to tell */ }
            throw;
        }
    }

    // Of tables that both stores keep in the same form, by the new name: what reads their differences; null when nothing was found.
    private readonly Dictionary<string, StoredDifferences?> _stored = [];

    private void TakeOver(MatchParts parts, ReadSides sides, Dictionary<TableMap, TableAccount> accounts)
    {
        foreach ((IReadOnlyList<RecordedTable> tables, IEnumerable<(TableMap, TableAccount)> known) in parts.TakenOver())
        {
            foreach (RecordedTable table in tables)
            {
                string name = table.Table.Name;
                _recorded[name] = table;
                sides.TakenOver(name, table.Total());
                _done.Add(name);
                _takenOver++;
            }
            foreach ((TableMap map, TableAccount account) in known) accounts.Add(map, account);
        }
    }

    private void Record(MatchParts parts, RecordedTable table)
    {
        _recorded[table.Table.Name] = table;
        parts.Recorded(table);
    }

    private void ReadStored(IStore old, IStore renewed, IEnumerable<TableMap> kept, ReadSides sides, MatchParts parts,
        Dictionary<TableMap, TableAccount> accounts, CancellationToken stop)
    {
        foreach (TableMap map in kept)
        {
            TableShape table = map.Into[0].Table;
            parts.Begin(table.Name);
            long read = 0, about = old.AboutRows(map.From.Name);
            if (StoredSides.Read(old, ToRead(table, map.From.Name), renewed, ToRead(table, table.Name),
                rows => observer.Progress(map.From.Name, (read += rows) / 2, about), stop) is not { } both) continue;
            _stored.Add(table.Name, both.Differing);
            _done.Add(table.Name);
            Record(parts, RecordedTable.Of(ToRead(table, table.Name), true, both.Found, both.Last));
            TableAccount account = AccountOf(map, both.Expected.Total().Rows);
            accounts.Add(map, account);
            parts.Account(map, account);
            sides.Both(table.Name, both.Expected, both.Found);
        }
    }

    private static TableAccount AccountOf(TableMap kept, long rows) => new(kept.From.Name, rows, rows, 0, 0, 0, 0,
        new Dictionary<string, long>(), new Dictionary<string, long> { [kept.Into[0].Table.Name] = rows });

    private void ReadExpected(IStore old, IReadOnlyList<TableShape> shipped, ReadSides sides, MatchParts parts,
        Dictionary<TableMap, TableAccount> accounts, CancellationToken stop)
    {
        foreach (NewRecord record in correspondence.NewRecords.Where(record => !_done.Contains(record.Into.Name)))
        {
            TableOutput output = NewRecords.Evaluate(record, settings);
            new RowDigests(output.Table, output.Vectors).Add(sides.Expected(output.Table.Name), [0]);
        }
        foreach (TableShape table in correspondence.To.Tables.Where(table => !_done.Contains(table.Name))) sides.Fed(table.Name);
        foreach (TableMap map in correspondence.Tables.Where(map => !_done.Contains(map.Into[0].Table.Name)))
        {
            string[] into = [.. map.Into.Select(target => target.Table.Name).Distinct()];
            foreach (string table in into) parts.Begin(table);
            TableAccount account = correspondence.Keeps(map) ? ScanKept(old, map, sides, stop) : ScanExpected(old, map, sides, stop);
            accounts.Add(map, account);
            parts.Account(map, account);
            foreach (string table in into) sides.Fed(table);
        }
        foreach (TableShape table in shipped.Where(table => !_done.Contains(table.Name)))
        {
            parts.Begin(table.Name);
            Scan(VendorMade!, table, table.Name, sides.Expected(table.Name), stop);
            sides.Fed(table.Name);
        }
    }

    // So many of each table are kept that no memory is lost to thousands of tables, and a few tables alone can fill the list.
    private static int ListedOfATable(int tables) => Math.Clamp(10 * MostListed / Math.Max(1, tables), 10, MostListed);

    // The list has a limit; tables with few differences are listed whole, and those with many share what is left.
    private static Difference[] FairShare(List<Difference>[] listed)
    {
        int room = MostListed, tables = listed.Length;
        var kept = new int[listed.Length];
        foreach (int i in Enumerable.Range(0, listed.Length).OrderBy(i => listed[i].Count))
        {
            kept[i] = Math.Min(listed[i].Count, Math.Max(1, room / tables--));
            room = Math.Max(0, room - kept[i]);
        }
        return [.. listed.SelectMany((of, i) => of.Take(kept[i]))];
    }

    private TableAccount ScanKept(IStore old, TableMap map, ReadSides sides, CancellationToken stop)
    {
        string name = map.Into[0].Table.Name;
        observer.Progress(map.From.Name, 0, old.AboutRows(map.From.Name));
        BucketedFingerprint expected = sides.Expected(name);
        Scan(old, map.Into[0].Table, map.From.Name, expected, stop);
        long rows = expected.Total().Rows;
        observer.Progress(map.From.Name, rows, rows);
        return AccountOf(map, rows);
    }

    // As the store it is read from calls it.
    private TableShape ToRead(TableShape table, string name) => (_kept.GetValueOrDefault(table.Name) ?? table) with { Name = name };

    private TableReading Scan(IStore store, TableShape table, string name, BucketedFingerprint into, CancellationToken stop)
    {
        var scan = new TableReading(ToRead(table, name), _kept.ContainsKey(table.Name));
        scan.Into(into, store, border: null, observer: null, stop);
        return scan;
    }

    private TableAccount ScanExpected(IStore old, TableMap map, ReadSides sides, CancellationToken stop)
    {
        long total = old.AboutRows(map.From.Name);
        var tally = new TableTally(map.From.Name);
        int[] rows = [];
        var digests = new Dictionary<TableOutput, RowDigests>(ReferenceEqualityComparer.Instance);
        foreach (TableTransform lane in Transformed(old, map, stop))
        {
            if (rows.Length < lane.RowCount) rows = new int[lane.RowCount];
            int carried = lane.CarriedRows(rows);
            foreach (TableOutput output in lane.Outputs)
            {
                if (!digests.TryGetValue(output, out RowDigests? of))
                    digests.Add(output, of = new RowDigests(output.Table, output.Vectors));
                of.Add(sides.Expected(output.Table.Name), rows.AsSpan(0, carried));
            }
            tally.Add(lane);
            observer.Progress(map.From.Name, tally.Read, total);
        }
        return tally.Account();
    }

    private IEnumerable<TableTransform> Transformed(IStore old, TableMap map, CancellationToken stop)
    {
        var lane = new TableTransform(map, LookupLoader.Load(old, map), settings);
        Dictionary<UInt128, int>? refused = Refused.Of(map.From.Name);
        var scratch = new CanonicalWriter();
        using KeyGroupedReader reader = TableTransform.Read(old, map);
        // What should be there costs more than what is: it is read in one thread and computed in another.
        using var ahead = new ReadAhead(reader.Fill, lane.Source.Columns, lane.Source.Limits, stop);
        while (ahead.Next(lane.Source))
        {
            stop.ThrowIfCancellationRequested();
            lane.Apply();
            if (refused is not null) lane.Refuse(RefusedRecords.In(lane, refused, scratch));
            yield return lane;
        }
    }

    // Reads the differing buckets of a table again and names each difference.
    private TableDifferences Explain(IStore old, IStore renewed, TableShape table, ReadTable seen, int most)
    {
        (BucketSet buckets, long rows) = (seen.Differing, seen.Found.Rows);
        bool isKept = _keptFrom.TryGetValue(table.Name, out (IStore Store, string Name) kept);
        table = ToRead(table, table.Name);
        var last = new LastNumbers(table);
        using DifferenceSpill? every = Every is null ? null : new DifferenceSpill(Every);
        var differences = new TableDifferences(table, most, cancel)
        {
            MayHaveFaults = isKept,
            Last = last,
            Every = every,
            Children = ChildrenChange.Of(table, correspondence.To.Tables.First(known => known.Name == table.Name), correspondence.To)
        };
        if (_stored.GetValueOrDefault(table.Name) is { } stored) differences.Compare(stored.Old(last), stored.New());
        else differences.Compare(isKept ? Read(kept.Store, kept.Name, last) : Wanted(), Read(renewed, table.Name, null));
        return differences;

        IEnumerable<PickedRows> Wanted()
        {
            int[] places = [];
            foreach (TableMap map in correspondence.Tables.Where(map => map.Into.Any(target => target.Table.Name == table.Name)))
                foreach (TableTransform lane in Transformed(old, map, cancel))
                {
                    if (places.Length < lane.RowCount) places = new int[lane.RowCount];
                    int carried = lane.CarriedRows(places);
                    foreach (TableOutput output in lane.Outputs)
                        if (output.Table.Name == table.Name) yield return Picked(output.Vectors, i => places[i], carried, [], last);
                }
            foreach (NewRecord record in correspondence.NewRecords.Where(record => record.Into.Name == table.Name))
                yield return Picked(NewRecords.Evaluate(record, settings).Vectors, i => i, 1, [], last);
        }

        IEnumerable<PickedRows> Read(IStore store, string name, LastNumbers? noting)
        {
            long read = 0;
            foreach (RecordBatch batch in store.Batches(table with { Name = name }, [], cancel))
            {
                yield return Picked(batch.Vectors, i => i, batch.RowCount, batch.Faults, noting);
                // Of both sides, which are read at the same time, one is told.
                read += batch.RowCount;
                if (noting is null) observer.Progress("what differs in " + table.Name, read, Math.Max(read, rows));
            }
        }

        PickedRows Picked(IReadOnlyList<Vector> vectors, Func<int, int> rowAt, int count, IReadOnlyList<RowFault> faults,
            LastNumbers? noting)
        {
            var encoder = new RowEncoder(table, vectors);
            var picked = new List<int>();
            for (int i = 0; i < count; i++)
            {
                noting?.Add(vectors, rowAt(i));
                if (buckets.Contains(encoder.Key(rowAt(i)))) picked.Add(rowAt(i));
            }
            return new PickedRows(vectors, picked, faults);
        }
    }
}
