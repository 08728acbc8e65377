// ConvertStage.cs: goes the way hop by hop, from the old store to staged new ones beside it. The old store is only read.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
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
public sealed class ConvertStage(CompanyRun on) : Stage(on)
{
    private const int FirstExceptions = 20;

    /// <inheritdoc/>
    public override string Name => Stages.Convert;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Plan() => Facts(("folder", On.Work.FullPath),
        ("made", string.Join('\n', StagedOnes.Select(staged => staged.Shown))));

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        RunContext context = On.Context;
        RemoveStaged(); // of an earlier try that was broken off
        context.Volume.CreateFolder(On.ResultFolder);
        string list = Path.Combine(On.ResultFolder, "exceptions.csv");
        context.Volume.Remove(list);
        foreach (Hop hop in On.Way) context.Volume.Remove(RefusedPath(On, hop));
        var hops = new List<HopResult>();
        List<ExceptionRow> first;
        using (var exceptions = new ExceptionList(list))
        {
            var taken = new Taken(exceptions);
            StoreAddress source = On.Company.OldStore;
            foreach (Hop hop in On.Way)
            {
                StoreAddress target = On.Staged(hop.To.Name);
                var clock = System.Diagnostics.Stopwatch.StartNew();
                ConversionResult result = ConvertHop(source, target, hop, taken, list);
                hops.Add(new HopResult(hop.From.Name, hop.To.Name, result, clock.Elapsed.TotalSeconds));
                if (!target.IsOnServer)
                {
                    context.Volume.FlushFolder(target.Folder);
                    context.Volume.FlushFolder(On.Work.FullPath);
                }
                source = target;
            }
            first = taken.First;
        }
        var converted = new ConvertResult(hops, first.Count > 0 ? list : "", first, On.FinalStaged.Shown);
        if (first.Count == 0) context.Volume.Remove(list);
        On.SaveResult(Name, converted);
        TableAccount total = TableAccount.Total(hops.SelectMany(hop => hop.Conversion.Accounts));
        return new StageOutcome(true, FormattableString.Invariant($"{total.Read} records read, {total.Exceptions} exceptions"),
            Facts(("read", total.Read), ("exceptions", converted.Exceptions), ("sha256", On.DigestOfNew(On.FinalStaged))), converted);
    }

    /// <summary>The exceptions of a conversion as they come: all in the list, the first ones at hand.</summary>
    private sealed class Taken(ExceptionList list)
    {
        private int _known;
        private long _mark;

        public List<ExceptionRow> First { get; } = [];

        /// <summary>Old records of the present hop that the new store refused.</summary>
        public List<string> Refused { get; } = [];

        /// <summary>The first exception of the present hop; null when there is none.</summary>
        public ExceptionRow? OfHop => First.Count > _known ? First[_known] : null;

        public void BeginHop()
        {
            (_known, _mark) = (First.Count, list.Mark());
            Refused.Clear();
        }

        /// <summary>As it was when the hop began.</summary>
        public void Back()
        {
            list.BackTo(_mark);
            First.RemoveRange(_known, First.Count - _known);
            Refused.Clear();
        }

        public void Take(ExceptionRow exception)
        {
            list.Add(exception);
            if (exception.IsRefused) Refused.Add(RefusedRecords.Line(exception));
            if (First.Count < FirstExceptions) First.Add(exception);
        }
    }

    private ConversionResult ConvertHop(StoreAddress source, StoreAddress target, Hop hop, Taken taken, string list)
    {
        taken.BeginHop();
        try
        {
            ConversionResult result;
            try
            {
                if (!target.IsOnServer) On.Work.MakeInside(target.Folder);
                result = Convert(source, target, hop, keysFirst: false, taken.Take);
            }
            catch (KeyConflictException)
            {
                // Built at the end, the keys say only that there are records with the same key. Once more, so that each of them is named.
                On.RemoveMade(target);
                if (!target.IsOnServer) On.Work.MakeInside(target.Folder);
                taken.Back();
                result = Convert(source, target, hop, keysFirst: true, taken.Take);
            }
            byte[] refused = System.Text.Encoding.UTF8.GetBytes(string.Join('\n', taken.Refused));
            if (refused.Length > 0) On.Context.Volume.Replace(RefusedPath(On, hop), refused);
            return result;
        }
        catch (TransferraException error) when (taken.OfHop is { } first)
        {
            throw AfterExceptions(error, first, list);
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

    private ConversionResult Convert(StoreAddress source, StoreAddress target, Hop hop, bool keysFirst, Action<ExceptionRow> take)
    {
        using IStore old = On.Context.Stores.Open(source, hop.From.TextEncoding);
        StoreDoubts.Refuse(old, On.Company.Code);
        using IStoreBuilder builder = On.Context.Stores.Create(target, hop.To.TextEncoding, keysFirst);
        return StoreConverter.Run(old, builder, hop, On.Company.Answers, take, On.Context.Observer, On.Context.Cancel);
    }

    private static string RefusedPath(CompanyRun on, Hop hop) => Path.Combine(on.ResultFolder,
        $"refused-{hop.From.Name}-{hop.To.Name}.txt");

    /// <summary>Which old records of a hop the new store refused when it was made; lines for <see cref="RefusedRecords.Read"/>.</summary>
    public static IEnumerable<string> Refused(CompanyRun on, Hop hop) => File.Exists(RefusedPath(on, hop))
        ? File.ReadLines(RefusedPath(on, hop)) : [];

    private StoreAddress[] StagedOnes => [.. On.Way.Select(hop => On.Staged(hop.To.Name))];

    private void RemoveStaged()
    {
        foreach (StoreAddress staged in StagedOnes) On.RemoveMade(staged);
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        using IStore store = On.Context.Stores.Open(On.FinalStaged, On.Way[^1].To.TextEncoding);
        IReadOnlyList<string> complaints = store.CheckPhysically();
        if (complaints.Count > 0) return done with
        {
            IsGood = false,
            Summary = $"the engine complains about the new store: {complaints[0]}"
        };
        // By this the program, and the next survey, will know it; after the change-over it would be too late.
        string to = On.Way[^1].To.Name;
        IReadOnlyList<VersionSign> signs = Survey.SignsOf(On.Company.Kit, store);
        if (signs.Count > 0 && signs.All(sign => sign.Version == to)) return done;
        return done with
        {
            IsGood = false,
            Summary = signs.FirstOrDefault(sign => sign.Version != to) is { } other
                ? $"the new store does not tell that it is of version {to}: {other.Where} says {ValueText.Quote(other.Says)}"
                : $"the new store does not tell that it is of version {to}: nothing of what tells it is there",
        };
    }

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        // A new store that the office has worked with holds records that are nowhere else; it is kept, not removed.
        if (!On.IsAsMade(On.FinalStaged, Name))
            return new TakenBack($"the new store was worked with since it was made, and is kept: {On.FinalStaged.Shown}", IsWhole: false);
        bool hadStaged = StagedOnes.Any(On.Context.Places.Exists);
        RemoveStaged(); // also a database that was made and has no table yet
        if (!On.Work.RemoveIfEmpty())
            return new TakenBack($"the staged new store is removed; something else lies in {On.Work.FullPath} and is left there",
                IsWhole: false);
        return hadStaged ? new TakenBack("the staged new store is removed") : null;
    }
}
