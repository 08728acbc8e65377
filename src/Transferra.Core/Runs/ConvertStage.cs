// ConvertStage.cs: goes the way hop by hop, from the old store to staged new ones beside it. The old store is only read.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>What converting a company came to.</summary>
/// <param name="Hops">One for each hop of the way.</param>
/// <param name="ExceptionList">File that lists the exceptions; "" when there are none.</param>
/// <param name="FirstExceptions">The first of them, at most twenty.</param>
/// <param name="NewStore">The new store, staged.</param>
public sealed record ConvertResult(IReadOnlyList<HopResult> Hops, string ExceptionList, IReadOnlyList<ExceptionRow> FirstExceptions, string NewStore)
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
    public override IReadOnlyDictionary<string, string> Plan() => Facts(("folder", On.WorkFolder));

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        RunContext context = On.Context;
        context.Volume.Remove(On.WorkFolder); // of an earlier try that was broken off; it holds nothing but staged copies
        context.Volume.CreateFolder(On.ResultFolder);
        string list = Path.Combine(On.ResultFolder, "exceptions.csv");
        context.Volume.Remove(list);
        var hops = new List<HopResult>();
        var first = new List<ExceptionRow>();
        using (var exceptions = new ExceptionList(list))
        {
            StoreAddress source = On.Company.OldStore;
            foreach (Hop hop in On.Way)
            {
                StoreAddress target = On.Staged(hop.To.Name);
                context.Volume.CreateFolder(Path.GetDirectoryName(target.Path)!);
                var clock = System.Diagnostics.Stopwatch.StartNew();
                using IStore old = context.Stores.Open(source, hop.From.TextEncoding);
                using IStoreBuilder builder = context.Stores.Create(target, hop.To.TextEncoding);
                ConversionResult result = StoreConverter.Run(old, builder, hop, On.Company.Answers, exception =>
                {
                    exceptions.Add(exception);
                    if (first.Count < FirstExceptions) first.Add(exception);
                }, context.Observer, context.Cancel);
                hops.Add(new HopResult(hop.From.Name, hop.To.Name, result, clock.Elapsed.TotalSeconds));
                context.Volume.FlushFolder(Path.GetDirectoryName(target.Path)!);
                context.Volume.FlushFolder(On.WorkFolder);
                source = target;
            }
        }
        var converted = new ConvertResult(hops, first.Count > 0 ? list : "", first, On.FinalStaged.Path);
        if (first.Count == 0) context.Volume.Remove(list);
        On.SaveResult(Name, converted);
        TableAccount total = TableAccount.Total(hops.SelectMany(hop => hop.Conversion.Accounts));
        return new StageOutcome(true, FormattableString.Invariant($"{total.Read} records read, {total.Exceptions} exceptions"),
            Facts(("read", total.Read), ("exceptions", converted.Exceptions), ("sha256", StoreDigest.Of(On.FinalStaged.Path))), converted);
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        using IStore store = On.Context.Stores.Open(On.FinalStaged, On.Way[^1].To.TextEncoding);
        IReadOnlyList<string> complaints = store.CheckPhysically();
        return complaints.Count == 0 ? done : done with { IsGood = false, Summary = $"the engine complains about the new store: {complaints[0]}" };
    }

    /// <inheritdoc/>
    public override string? TakeBack()
    {
        if (!On.Context.Volume.Exists(On.WorkFolder)) return null;
        // A new store that the office has worked with holds records that are nowhere else; it is kept, not removed.
        string? changedOver = On.Run.Journal.Entries.LastOrDefault(entry => entry.Company == On.Company.Code && entry is { Stage: Stages.ChangeOver, State: "done" })?.Facts.GetValueOrDefault("new-sha256");
        if (changedOver is not null && Path.Exists(On.FinalStaged.Path) && StoreDigest.Of(On.FinalStaged.Path) != changedOver)
            return $"the new store was worked with after the change-over and is kept: {On.FinalStaged.Path}";
        On.Context.Volume.Remove(On.WorkFolder);
        On.Context.Volume.FlushFolder(Path.GetDirectoryName(On.WorkFolder)!);
        return "the staged new store is removed";
    }
}
