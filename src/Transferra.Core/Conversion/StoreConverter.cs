// StoreConverter.cs: runs one hop: reads every old table, converts it and writes the new store, on both cores.
// One thread reads and computes, another writes; lanes travel between them, so memory is bounded by the number of lanes whatever
// the table's size. Holds: (1) the old store is only read; (2) every table's account is balanced, or the conversion fails;
// (3) exceptions go to the sink as they are found, none is kept in memory; (4) a stop leaves a file that nobody takes for a store.
using System.Collections.Concurrent;
using Transferra.Core.Expressions;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>What a conversion did.</summary>
/// <param name="Accounts">One for each old table that is carried, in the order of the hop.</param>
/// <param name="TablesLeftOut">Old tables left out: name, records, reason.</param>
/// <param name="RecordsAdded">Records that the new version needs and no old one stands for, by new table.</param>
public sealed record ConversionResult(IReadOnlyList<TableAccount> Accounts, IReadOnlyList<TableLeftOut> TablesLeftOut,
    IReadOnlyDictionary<string, long> RecordsAdded)
{
    /// <summary>Records that could not be converted.</summary>
    public long Exceptions => Accounts.Sum(account => account.Exceptions);
}

/// <summary>An old table left out by declared rule.</summary>
public sealed record TableLeftOut(string Table, long Records, string Because);

/// <summary>Converts stores.</summary>
public static class StoreConverter
{
    private const int Lanes = 4;

    /// <summary>Runs a hop from an opened old store into a new one, and completes the new one.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="into">The new store, empty.</param>
    /// <param name="hop">The hop.</param>
    /// <param name="settings">Answers to the hop's new settings.</param>
    /// <param name="onException">Receives each exception, in order, from one thread.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    /// <exception cref="TransferraException">The store fails, or an account does not balance.</exception>
    public static ConversionResult Run(IStore old, IStoreBuilder into, Hop hop, IReadOnlyDictionary<string, string> settings,
        Action<ExceptionRow> onException, IProgressObserver observer, CancellationToken cancel)
    {
        foreach (TableShape table in hop.To.Tables) into.CreateTable(table);
        var accounts = new List<TableAccount>();
        foreach (TableMap map in hop.Tables)
        {
            TableAccount account = ConvertTable(old, into, map, settings, onException, observer, cancel);
            long counted = old.CountRows(map.From.Name);
            if (!account.IsBalanced || account.Read != counted)
                throw new TransferraException($"the account of {map.From.Name} does not balance: the engine counts {counted} records, "
                    + $"{account.Read} were read, "
                    + $"{account.Carried} carried, {account.Changed} changed, {account.Combined} combined, {account.LeftOut} left out, "
                    + $"{account.Exceptions} exceptions",
                    "This is a defect of Transferra or of the disk. Nothing was changed; keep the run's folder and report it.");
            accounts.Add(account);
        }
        Dictionary<string, long> added = AddNewRecords(into, hop, settings);
        into.Complete(hop.To.HeaderFields);
        return new ConversionResult(accounts,
            [.. hop.TablesLeftOut.Select(entry => new TableLeftOut(entry.Key, old.CountRows(entry.Key), entry.Value))], added);
    }

    private static TableAccount ConvertTable(IStore old, IStoreBuilder into, TableMap map, IReadOnlyDictionary<string, string> settings,
        Action<ExceptionRow> onException, IProgressObserver observer, CancellationToken cancel)
    {
        long total = old.CountRows(map.From.Name);
        observer.Progress(map.From.Name, 0, total);
        IReadOnlyList<LookupTable> lookups = LookupLoader.Load(old, map);
        using BlockingCollection<TableTransform> free = [], full = [];
        for (int lane = 0; lane < Lanes; lane++) free.Add(new TableTransform(map, lookups, settings), cancel);
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        Task reading = Task.Factory.StartNew(() => ReadAndTransform(old, map, free, full, stop.Token),
            CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        var tally = new TableTally(map.From.Name);
        try
        {
            WriteAll(into, full, free, tally, total, onException, observer, stop.Token);
        }
        catch
        {
            // Whichever side failed, the other must have ended before the store is closed under it; the first error is the one to tell.
            bool readingFailedFirst = reading.IsFaulted;
            stop.Cancel();
            if (readingFailedFirst) reading.GetAwaiter().GetResult();
            try { reading.Wait(CancellationToken.None); }
            catch (AggregateException error) when (error.InnerException is not OperationCanceledException)
            {
                reading.GetAwaiter()
                .GetResult();
            }
            catch (AggregateException) { }
            throw;
        }
        reading.GetAwaiter().GetResult();
        return tally.Account();
    }

    private static void ReadAndTransform(IStore old, TableMap map, BlockingCollection<TableTransform> free,
        BlockingCollection<TableTransform> full, CancellationToken stop)
    {
        try
        {
            using KeyGroupedReader reader = TableTransform.Read(old, map);
            while (true)
            {
                TableTransform lane = free.Take(stop);
                if (!reader.Fill(lane.Source)) break;
                lane.Apply();
                full.Add(lane, stop);
            }
        }
        finally
        {
            // also after an error, so that the writer does not wait for ever; the error is told when reading is waited for
            full.CompleteAdding();
        }
    }

    private static void WriteAll(IStoreBuilder into, BlockingCollection<TableTransform> full, BlockingCollection<TableTransform> free,
        TableTally tally, long total,
        Action<ExceptionRow> onException, IProgressObserver observer, CancellationToken stop)
    {
        int[] rows = [];
        var rejects = new List<RowReject>();
        foreach (TableTransform lane in full.GetConsumingEnumerable(stop))
        {
            stop.ThrowIfCancellationRequested();
            if (rows.Length < lane.RowCount) rows = new int[lane.RowCount];
            rejects.Clear();
            into.Write(lane.Outputs, rows.AsSpan(0, lane.CarriedRows(rows)), rejects);
            lane.Refuse(rejects);
            foreach (ExceptionRow exception in lane.Exceptions()) onException(exception);
            tally.Add(lane);
            observer.Progress(tally.Account().Table, tally.Read, total);
            free.Add(lane, stop);
        }
    }

    private static Dictionary<string, long> AddNewRecords(IStoreBuilder into, Hop hop, IReadOnlyDictionary<string, string> settings)
    {
        var added = new Dictionary<string, long>();
        foreach (NewRecord record in hop.NewRecords)
        {
            var rejects = new List<RowReject>();
            into.Write([Evaluate(record, settings)], [0], rejects);
            if (rejects.Count > 0)
                throw new TransferraException($"the new record for {record.Into.Name} ({record.Because}) was refused: {rejects[0].Reason}",
                    $"The old data has a record with the same key already, or the hop {hop.File} adds it twice. "
                        + "Correct new-records there.");
            added[record.Into.Name] = added.GetValueOrDefault(record.Into.Name) + 1;
        }
        return added;
    }

    /// <summary>The one row of a new record.</summary>
    internal static TableOutput Evaluate(NewRecord record, IReadOnlyDictionary<string, string> settings)
    {
        var compiler = new ExpressionCompiler(new ExpressionScope("a new record", [], [], settings));
        var one = new RecordBatch([new ColumnShape("one", FieldType.Integer)]);
        ((LongVector)one.Vectors[0]).Append(1);
        var context = new EvaluationContext(one, []) { Active = [true] };
        Vector[] values = [.. record.Columns.Select(column => compiler.CompileFor(column.Value, column.Column).Evaluate(context))];
        if (context.Faults.Count > 0)
            throw new TransferraException($"the new record for {record.Into.Name} ({record.Because}): {context.Faults[0].Reason}",
                "Correct the answer in office.yaml or new-records in the hop.");
        return new TableOutput(record.Into, values);
    }
}
