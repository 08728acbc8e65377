// ConversionPass.cs: takes the records of one source after the other through a correspondence into one new store, on both cores.
// One thread reads and computes, another writes; lanes travel between them, so memory is bounded by the number of lanes whatever
// the table's size. Holds: (1) a source is only read; (2) every table's account is balanced, or the conversion fails;
// (3) exceptions go to the keeper as they are found, none is kept in memory; (4) a table that the keeper knows from before an
// interruption is not converted again; (5) a table that a copy keeps is not touched.
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
    /// <summary>What of the old store's declarations could not be put back behind the tables that were filled anew, one line
    /// each.</summary>
    public IReadOnlyList<string> Remarks { get => field ?? []; init; }

    /// <summary>The vendor's scripts that converted, in order; none where our maps did.</summary>
    public IReadOnlyList<ScriptRun> Scripts { get => field ?? []; init; }

    /// <summary>The steps by which a person converted; none where nobody did.</summary>
    public IReadOnlyList<string> Steps { get => field ?? []; init; }

    /// <summary>The vendor's program that converted; null where none did.</summary>
    public ProgramRun? Program { get; init; }

    /// <summary>What the vendor's old program wrote out for its new one; null where nothing was.</summary>
    public ExportRun? Export { get; init; }

    /// <summary>What became of the records that the vendor ships.</summary>
    public IReadOnlyList<ShippedAccount> Shipped { get => field ?? []; init; }

    /// <summary>Records that could not be converted.</summary>
    public long Exceptions => Accounts.Sum(account => account.Exceptions);
}

/// <summary>A vendor's script that was run.</summary>
/// <param name="Name">Its path below the kit.</param>
/// <param name="Statements">Statements it has.</param>
/// <param name="Rows">Records that they wrote or removed, as far as the engine tells.</param>
/// <param name="Seconds">How long it took.</param>
/// <param name="Meant">Errors that the kit expects, one line each with the line of the script.</param>
public sealed record ScriptRun(string Name, long Statements, long Rows, double Seconds, IReadOnlyList<string> Meant);

/// <summary>A vendor's program that was run.</summary>
/// <param name="Command">As the kit has it.</param>
/// <param name="ExitCode">Its exit code; null for a service, which was stopped when it was through.</param>
/// <param name="Seconds">How long it took.</param>
/// <param name="Output">File with all that it said.</param>
/// <param name="Log">Its own log; "" when none is named.</param>
public sealed record ProgramRun(string Command, int? ExitCode, double Seconds, string Output, string Log);

/// <summary>A file that the vendor's old program wrote out, as it was proved.</summary>
public sealed record ExportedFile(string Name, long Bytes, string Sha256);

/// <summary>What the vendor's old program wrote out.</summary>
/// <param name="Folder">Where it came to.</param>
/// <param name="Files">Its files.</param>
/// <param name="Counted">What was counted of them, one line each.</param>
/// <param name="Sets">The backup sets that hold it.</param>
public sealed record ExportRun(string Folder, IReadOnlyList<ExportedFile> Files, IReadOnlyList<string> Counted, IReadOnlyList<string> Sets)
{
    /// <summary>The program that wrote it; null where a person had it written.</summary>
    public ProgramRun? Program { get; init; }

    /// <summary>The steps by which a person had it written; none where a program ran.</summary>
    public IReadOnlyList<string> Steps { get => field ?? []; init; }
}

/// <summary>An old table left out by declared rule.</summary>
public sealed record TableLeftOut(string Table, long Records, string Because);

/// <summary>Keeps what a conversion comes to, as it comes. Called from one thread.</summary>
public interface IConversionKeeper
{
    /// <summary>Takes an exception, in the order in which they are found.</summary>
    void Take(ExceptionRow exception);

    /// <summary>The account of a table that is in the new store already, from before an interruption; null when it is to be
    /// converted.</summary>
    /// <param name="source">Number of the source, from 0.</param>
    /// <param name="table">The old table.</param>
    TableAccount? Known(int source, string table);

    /// <summary>A table is through.</summary>
    /// <param name="source">Number of its source, from 0.</param>
    /// <param name="account">What became of its records.</param>
    /// <param name="mark">Has all that was written so far on the disk, and says how far that is; call it or not.</param>
    void TableDone(int source, TableAccount account, Func<BuildMark> mark);

    /// <summary>The store is about to be completed: from here on it cannot be brought back to a mark, as not every engine builds keys and
    /// indexes all or none.</summary>
    void Completing();
}

/// <summary>Converts sources into a store. Used by one thread; takes sources, then completes.</summary>
/// <param name="into">The new store, begun or continued.</param>
/// <param name="to">Its version.</param>
/// <param name="settings">Answers to the new settings.</param>
/// <param name="keeper">Keeps what comes of it.</param>
/// <param name="observer">Hears the progress.</param>
/// <param name="cancel">Stops between two batches.</param>
public sealed class ConversionPass(IStoreBuilder into, KitVersion to, IReadOnlyDictionary<string, string> settings,
    IConversionKeeper keeper, IProgressObserver observer, CancellationToken cancel)
{
    private const int Lanes = 4;

    private readonly HashSet<string> _made = new(StringComparer.Ordinal);
    private readonly List<TableAccount> _accounts = [];
    private readonly List<TableLeftOut> _leftOut = [];
    private readonly Dictionary<string, long> _added = [];
    private int _sources;

    /// <summary>Takes one source into a store that was just begun, in one go, and completes it.</summary>
    /// <param name="source">The source.</param>
    /// <param name="into">The new store, empty.</param>
    /// <param name="correspondence">Where its records go.</param>
    /// <param name="settings">Answers to the new settings.</param>
    /// <param name="onException">Receives each exception, in order, from one thread.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public static ConversionResult Run(IStore source, IStoreBuilder into, Correspondence correspondence,
        IReadOnlyDictionary<string, string> settings, Action<ExceptionRow> onException, IProgressObserver observer,
        CancellationToken cancel)
    {
        var pass = new ConversionPass(into, correspondence.To, settings, new ExceptionsOnly(onException), observer, cancel);
        pass.Take(source, correspondence);
        return pass.Complete(correspondence);
    }

    private sealed class ExceptionsOnly(Action<ExceptionRow> onException) : IConversionKeeper
    {
        public void Take(ExceptionRow exception) => onException(exception);

        public TableAccount? Known(int source, string table) => null;

        public void TableDone(int source, TableAccount account, Func<BuildMark> mark) { }

        public void Completing() { }
    }

    /// <summary>Goes on with a store in which some tables are made already.</summary>
    public IEnumerable<string> Made
    {
        init => _made.UnionWith(value);
    }

    /// <summary>Takes all records of a source.</summary>
    /// <param name="source">The source.</param>
    /// <param name="correspondence">Where its records go; ends with the pass's version.</param>
    /// <exception cref="TransferraException">A store fails, or an account does not balance.</exception>
    public void Take(IStore source, Correspondence correspondence)
    {
        int number = _sources++;
        foreach (TableMap map in correspondence.Tables)
        {
            if (keeper.Known(number, map.From.Name) is { } known)
            {
                _accounts.Add(known);
                continue;
            }
            if (correspondence.Keeps(map))
            {
                // It is there already, as the copy has it; the match looks whether that is so.
                long kept = source.CountRows(map.From.Name);
                _made.Add(map.Into[0].Table.Name);
                _accounts.Add(new TableAccount(map.From.Name, kept, kept, 0, 0, 0, 0, new Dictionary<string, long>(),
                    new Dictionary<string, long> { [map.Into[0].Table.Name] = kept }));
                continue;
            }
            // Made when it is filled: some engines load a table faster in the transaction that made it.
            foreach (TargetMap target in map.Into) Make(target.Table);
            TableAccount account = ConvertTable(source, map);
            long counted = source.CountRows(map.From.Name);
            if (!account.IsBalanced || account.Read != counted)
                throw new TransferraException($"the account of {map.From.Name} does not balance: the engine counts {counted} records, "
                    + $"{account.Read} were read, "
                    + $"{account.Carried} carried, {account.Changed} changed, {account.Combined} combined, {account.LeftOut} left out, "
                    + $"{account.Exceptions} exceptions",
                    "This is a defect of Transferra or of the disk. Nothing was changed; keep the run's folder and report it.");
            _accounts.Add(account);
            keeper.TableDone(number, account, into.Mark);
        }
        _leftOut.AddRange(correspondence.TablesLeftOut.Select(entry => new TableLeftOut(entry.Key, source.CountRows(entry.Key),
            entry.Value)));
    }

    /// <summary>Makes the tables that nothing went to, adds the records that are new, and completes the store.</summary>
    /// <param name="correspondence">Says which records are new; with several sources, any one of theirs.</param>
    public ConversionResult Complete(Correspondence correspondence)
    {
        keeper.Completing();
        foreach (TableShape table in to.Tables) Make(table);
        foreach (NewRecord record in correspondence.NewRecords) AddNewRecord(record, correspondence.File);
        into.Complete(to.HeaderFields);
        return new ConversionResult(_accounts, _leftOut, _added) { Remarks = into.Remarks };
    }

    private void Make(TableShape table)
    {
        if (_made.Add(table.Name)) into.CreateTable(to.Table(table.Name) ?? table);
    }

    private TableAccount ConvertTable(IStore old, TableMap map)
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
            WriteAll(full, free, tally, total, stop.Token);
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
                reading.GetAwaiter().GetResult();
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

    private void WriteAll(BlockingCollection<TableTransform> full, BlockingCollection<TableTransform> free, TableTally tally, long total,
        CancellationToken stop)
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
            foreach (ExceptionRow exception in lane.Exceptions()) keeper.Take(exception);
            tally.Add(lane);
            observer.Progress(tally.Account().Table, tally.Read, total);
            free.Add(lane, stop);
        }
    }

    private void AddNewRecord(NewRecord record, string file)
    {
        var rejects = new List<RowReject>();
        into.Write([NewRecords.Evaluate(record, settings)], [0], rejects);
        if (rejects.Count > 0)
            throw new TransferraException($"the new record for {record.Into.Name} ({record.Because}) was refused: {rejects[0].Reason}",
                $"The old data has a record with the same key already, or {file} adds it twice. Correct new-records there.");
        _added[record.Into.Name] = _added.GetValueOrDefault(record.Into.Name) + 1;
    }
}
