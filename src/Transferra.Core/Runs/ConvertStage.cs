// ConvertStage.cs: goes the way hop by hop, from the old store to staged new ones beside it. The old store is only read.
using Transferra.Core.Backup;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>What converting a company came to.</summary>
/// <param name="Hops">One for each hop of the way.</param>
/// <param name="ExceptionList">File that lists the exceptions; "" when there are none.</param>
/// <param name="FirstExceptions">The first of them, at most twenty.</param>
/// <param name="NewStore">The new store, staged.</param>
public sealed record ConvertResult(IReadOnlyList<HopResult> Hops, string ExceptionList, IReadOnlyList<ExceptionRow> FirstExceptions,
    string NewStore)
{
    /// <summary>Records that could not be converted.</summary>
    public long Exceptions => Hops.Sum(hop => hop.Conversion.Exceptions);
}

/// <summary>One hop as it was gone.</summary>
public sealed record HopResult(string From, string To, ConversionResult Conversion, double Seconds);

/// <summary>Converts a company.</summary>
internal sealed class ConvertStage(CompanyRun on) : Stage(on)
{
    private const int FirstExceptions = 20;

    /// <inheritdoc/>
    public override string Name => Stages.Convert;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    // In the night, in a closed office, and only there, a converter has the store's own place.
    private bool IsNight => On.Run.Kind == RunKind.Upgrade.Name && !On.Context.IsRehearsal;

    /// <inheritdoc/>
    public override IReadOnlyList<string> Obstacles() => IsNight ? []
        : [.. On.Way.Hops.Where(hop => hop.Surroundings.IsForTheNight).Select(hop => $"the hop from version {hop.From.Name} to "
            + $"{hop.To.Name} works on the store's own place, or needs services to be off; it is left for the night")];

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Plan() => Facts(("folder", On.Work.FullPath),
        ("made", string.Join('\n', StagedOnes.Select(staged => staged.Shown))));

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        HopOffice.Of(On)?.Restore(); // interrupted, or waiting for a person, a copy may stand in the original's place
        On.Context.Volume.CreateFolder(On.ResultFolder);
        string list = Path.Combine(On.ResultFolder, "exceptions.csv");
        On.Context.Volume.Remove(list);
        var proofs = new HopProofs(On);
        ConvertProgress progress = ConvertProgress.Load(On);
        if (!proofs.CanGoOn(progress.Hops.TakeWhile(hop => hop.Result is not null).Count())) progress = progress with { Hops = [] };
        if (progress.Hops.Count == 0)
        {
            RemoveStaged(); // of an earlier try that cannot be continued
            proofs.Forget();
        }
        var hops = new List<HopResult>();
        bool hasList;
        using (var log = new ExceptionLog(LogPath(On), progress.Hops.LastOrDefault()?.ExceptionsEnd ?? 0))
        {
            try
            {
                StoreAddress source = On.Company.OldStore;
                for (int i = 0; i < On.Way.Hops.Count; i++)
                {
                    StoreAddress target = On.Staged(On.Way.Hops[i].To.Name);
                    if (!proofs.IsLetGo(i)) progress = Go(Actual(i, source), source, target, progress, log, list);
                    hops.Add(progress.Hops.First(known => known.Name == NameOf(On.Way.Hops[i])).Result!);
                    proofs.Through(i);
                    source = target;
                }
            }
            finally
            {
                hasList = log.WriteList(list);
            }
        }
        ExceptionRow[] first = [.. ExceptionLog.Read(LogPath(On)).Take(FirstExceptions).Select(logged => logged.Exception)];
        var converted = new ConvertResult(hops, hasList ? list : "", first, On.FinalStaged.Shown);
        On.SaveResult(Name, converted);
        ConvertProgress.Forget(On);
        TableAccount total = TableAccount.Total(hops.SelectMany(hop => hop.Conversion.Accounts));
        bool byOthers = On.Way.Hops.All(hop => !hop.Means.GoesByMaps);
        // The engine's own check belongs to the proof; both read the whole store.
        var reading = new MarkedReading(On.FinalStaged, On.Context.Stores);
        (_complaints, string digest) = Together.Do(EngineComplaints, () => On.DigestOfNew(On.FinalStaged));
        return new StageOutcome(true, byOthers ? "converted by others, on a copy"
            : FormattableString.Invariant($"{total.Read} records read, {total.Exceptions} exceptions"),
            Facts(("read", total.Read), ("exceptions", converted.Exceptions), ("sha256", digest),
                (CheckedAsDigested, reading.Undisturbed() is null ? 0 : 1)), converted);
    }

    /// <summary>The fact that the engine's check and the digest looked at the same bytes.</summary>
    public const string CheckedAsDigested = "checked-as-digested";

    // Of the new store, as soon as it is known.
    private IReadOnlyList<string>? _complaints;

    private IReadOnlyList<string> EngineComplaints()
    {
        using IStore store = On.Context.Stores.Open(On.FinalStaged, On.Way.To.TextEncoding);
        return store.CheckPhysically();
    }

    // Goes a hop, or continues it; one that is through already is not gone again.
    private ConvertProgress Go(Hop hop, StoreAddress source, StoreAddress target, ConvertProgress progress, ExceptionLog log, string list)
    {
        RunContext context = On.Context;
        HopProgress? known = progress.Hops.FirstOrDefault(known => known.Name == NameOf(hop));
        // What is known of those behind it stays: one of them may be waiting for a person, with what that person has done.
        if (known?.Result is not null && context.Places.Exists(target)) return progress;
        if (known?.Result is not null) progress = progress with { Hops = [.. progress.Hops.TakeWhile(other => other != known)] };
        var keeper = new HopKeeper(On, target, progress, NameOf(hop), log);
        if (keeper.Reached is null) keeper.StartOver(keysFirst: false);
        var clock = System.Diagnostics.Stopwatch.StartNew();
        try
        {
            ConversionResult result = new HopWork(hop, context.Stores, source, () => OpenSource(source, hop), target,
                On.Company.Answers, keeper, context.Observer, context.Cancel)
            {
                VendorMade = On.Company.VendorMade,
                Company = On.Company.Code,
                OutputFolder = On.ResultFolder,
                Originals = context.Originals,
                Office = new HopOffice(On, target),
                ToldVersions = at => Told(at, hop),
                OpenedBy = context.Places.OpenedBy,
                ExportCopy = On.ForExport(hop),
                OfficeAround = copy => new HopOffice(On, copy),
                RemoveCopy = RemoveExport,
                KeepElsewhere = KeepElsewhere,
                Begun = On.Run.BegunAt ?? DateTimeOffset.UtcNow
            }.Run();
            if (!target.IsOnServer)
            {
                context.Volume.FlushFolder(target.Folder);
                context.Volume.FlushFolder(On.Work.FullPath);
            }
            result = result with { Shipped = hop.Correspondence.ShippedAccounts };
            keeper.Done(new HopResult(hop.From.Name, hop.To.Name, result, clock.Elapsed.TotalSeconds));
            return keeper.Progress;
        }
        catch (TransferraException error) when (keeper.First is { } first)
        {
            throw AfterExceptions(error, first, list);
        }
    }

    // Behind a hop in which others converted, what is carried beyond the kit is known only now.
    private Hop Actual(int number, StoreAddress source)
    {
        Hop hop = On.Way.Hops[number];
        if (hop.ByNames is not null) return hop; // known behind the conversion
        if (hop.Correspondence.IsOnVendorMade && On.Company.VendorMade is { } vendors)
        {
            using IStore made = On.Context.Stores.Open(vendors, hop.To.TextEncoding),
                old = On.Context.Stores.Open(source, hop.From.TextEncoding);
            return hop with
            {
                Correspondence = new ShippedRecords(ActualHop.Of(On.Way, number, old, () => throw new InvalidOperationException()), made,
                    old, On.Company.Answers, On.Context.Cancel).Resolved()
            };
        }
        if (number < On.Way.Foreseen.Count) return hop;
        using IStore store = On.Context.Stores.Open(source, hop.From.TextEncoding);
        return hop with { Correspondence = ActualHop.Of(On.Way, number, store, () => throw new InvalidOperationException()) };
    }

    private void RemoveExport(StoreAddress copy)
    {
        On.RemoveMade(copy);
        if (!copy.IsOnServer) On.Work.MakeInside(copy.Folder);
    }

    // With the company's records, in every place and locked as its sets are.
    private IReadOnlyList<string> KeepElsewhere(string folder)
    {
        Company with_ = On.Company with { DocumentFolders = [.. On.Company.DocumentFolders, folder] };
        IReadOnlyList<BackupResult> sets = CompanyBackup.Run(On.Context, with_, On.From, On.Run.Id);
        if (sets.FirstOrDefault(set => !set.IsProved) is { } bad)
            throw new TransferraException($"the export could not be kept in {bad.Path}: {bad.Faults[0].What}",
                "Make room there, or correct the places in office.yaml, then go on.");
        return [.. sets.Select(set => set.Path)];
    }

    private IReadOnlyList<string> Told(StoreAddress at, Hop hop)
    {
        using IStore store = On.Context.Stores.Open(at, hop.To.TextEncoding);
        return [.. Survey.SignsOf(On.Company.Kit, store).Select(sign => sign.Version ?? "")];
    }

    private IStore OpenSource(StoreAddress source, Hop hop)
    {
        IStore store = On.Context.Stores.Open(source, hop.From.TextEncoding);
        try
        {
            StoreDoubts.Refuse(store, On.Company.Code);
            return store;
        }
        catch
        {
            store.Dispose();
            throw;
        }
    }

    // What could not be converted is often why the new store cannot be completed: others point to it.
    private static TransferraException AfterExceptions(TransferraException error, ExceptionRow first, string list)
    {
        ExceptionCause cause = first.Causes[0];
        string column = cause.Column.Length > 0 ? cause.Column + ": " : "", value = cause.Value.Length > 0
            ? ": " + ValueText.Quote(cause.Value) : "";
        return new TransferraException(error.Message,
            $"{error.Next} Before that some records could not be converted, the first of them {first.Table} {ValueText.Quote(first.Key)} "
            + $"({column}{cause.Reason}{value}); what points to them has nothing to point to. All of them: {list}", error);
    }

    private static string NameOf(Hop hop) => $"{hop.From.Name}-{hop.To.Name}";

    private static string LogPath(CompanyRun on) => Path.Combine(on.ResultFolder, "exceptions.jsonl");

    /// <summary>Which old records of a hop the new store refused when it was made.</summary>
    public static RefusedRecords Refused(CompanyRun on, Hop hop) => RefusedRecords.Of(ExceptionLog.Read(LogPath(on))
        .Where(logged => logged.Hop == NameOf(hop)).Select(logged => logged.Exception));

    private StoreAddress[] StagedOnes => [.. On.Way.Hops.Select(hop => On.Staged(hop.To.Name)), .. On.ExportCopies];

    private void RemoveStaged()
    {
        foreach (StoreAddress staged in StagedOnes) On.RemoveMade(staged);
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        // What the match compares with has to be what was there before they came.
        if (ByOthers && !(IsNight ? On.IsOldUntouched() : IsOldAsBegun))
        {
            string altered = $"the old store {On.Company.OldStore.Shown} was written to while others converted";
            if (IsNight) return done with { IsGood = false, Summary = altered };
            On.Context.Observer.Told($"{altered}: people may have worked with it, or the conversion wrote to it though it was given a "
                + $"copy.");
        }
        using IStore store = On.Context.Stores.Open(On.FinalStaged, On.Way.To.TextEncoding);
        IReadOnlyList<string> complaints = _complaints ?? store.CheckPhysically();
        if (complaints.Count > 0) return done with
        {
            IsGood = false,
            Summary = $"the engine complains about the new store: {complaints[0]}"
        };
        // By this the program, and the next survey, will know it; after the change-over it would be too late.
        string to = On.Way.To.Name;
        IReadOnlyList<VersionSign> signs = Survey.SignsOf(On.Company.Kit, store);
        if (signs.Count > 0 && signs.All(sign => sign.Version == to)) return done;
        return done with
        {
            IsGood = false,
            Summary = signs.FirstOrDefault(sign => sign.Version != to) is { } other
                ? $"the new store does not identify itself as version {to}: {other.Where} says {ValueText.Quote(other.Says)}"
                : $"the new store does not identify itself as version {to}: nothing of what tells it is there",
        };
    }

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        HopOffice.Of(On)?.Restore();
        (string old, bool isOldAsBegun) = OldStoreNow();
        // A new store that the office has worked with holds records that are nowhere else; it is kept, not removed.
        if (!On.IsAsMade(On.FinalStaged, Name))
            return new TakenBack($"the new store has been used since it was made, and is kept: {On.FinalStaged.Shown}", IsWhole: false);
        bool hadStaged = StagedOnes.Any(On.Context.Places.Exists);
        ConvertProgress.Forget(On);
        RemoveStaged(); // also a database that was made and has no table yet
        if (!On.Work.RemoveIfEmpty())
            return new TakenBack($"the staged new store is removed; something else lies in {On.Work.FullPath} and is left there",
                IsWhole: false);
        return hadStaged || old.Length > 0 ? new TakenBack("the staged new store is removed" + old, isOldAsBegun) : null;
    }

    private bool ByOthers => On.Way.Hops.Any(hop => !hop.Means.GoesByMaps);

    private bool IsOldAsBegun => On.DigestOfOld(On.Company.OldStore) == On.Run.BegunFact(CompanyCode, "sha256");

    // Others converted, and nobody holds them to the copy they were given. In a closed office nobody else can have been at the original;
    // it stays closed, so that nobody works on with it. In one that was opened meanwhile it may have been people.
    private (string Words, bool IsAsBegun) OldStoreNow()
    {
        if (!IsNight || !ByOthers) return ("", true);
        string store = On.Company.OldStore.Shown;
        if (IsOldAsBegun) return ("; the old one is as it was when the run began", true);
        if (On.Context.Closing is { IsClosed: true })
            throw new TransferraException($"the old store {store} is not as it was when the run began, though the office was closed",
                "The vendor's conversion may have written to it. Look at it; then leave everything where it lies, and bring the company "
                    + $"back from its backup set: transferra undo --run {On.Run.Id} --give-up, then transferra restore {CompanyCode}");
        return ($"; the old one, {store}, is not as it was when the run began: somebody has worked with it since, or the vendor's "
            + "conversion wrote to it. Compare it with the backup set", false);
    }
}
