// MendStage.cs: makes a copy of the store, puts it right as the kit allows, and proves that nothing else of it is different. The old
// store is only read.
using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Core.Mending;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Mends a company's store on a copy, which then takes its place.</summary>
internal sealed class MendStage(CompanyRun on) : Stage(on)
{
    private StoreMending? _mending;

    /// <inheritdoc/>
    public override string Name => Stages.Mend;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Plan() => Facts(("copy", On.FinalStaged.Shown));

    /// <inheritdoc/>
    public override IReadOnlyList<string> Obstacles()
    {
        var obstacles = new List<string>();
        if (On.Fact(Stages.Backup, "proved") is not > 0) obstacles.Add("there is no proved backup set");
        IReadOnlyList<string> holders = On.Context.Places.OpenedBy(On.Company.OldStore);
        if (holders.Count > 0) obstacles.Add($"the store is open: {holders[0]}");
        if (!On.IsOldUntouched()) obstacles.Add("the old store was changed since the run began");
        return obstacles;
    }

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        RunContext context = On.Context;
        On.RemoveMade(On.FinalStaged); // of an earlier try that was interrupted
        context.Volume.CreateFolder(On.ResultFolder);
        if (!On.FinalStaged.IsOnServer) On.Work.MakeInside(On.FinalStaged.Folder);
        context.Observer.Progress("copying the store", 0, 0);
        context.Stores.Copy(On.Company.OldStore, On.FinalStaged);
        string list = Path.Combine(On.NewListFolder(Name), "changes.csv");
        MendResult result;
        using (var changes = new CsvFile(list, StoreMending.Headings))
        {
            _mending = new StoreMending(On.From, On.Company.Answers, changes.Add, context.Observer, context.Cancel);
            result = _mending.Run(context.Stores, On.Company.OldStore, On.FinalStaged) with { List = list };
        }
        if (!On.FinalStaged.IsOnServer)
        {
            context.Volume.FlushFolder(On.FinalStaged.Folder);
            context.Volume.FlushFolder(On.Work.FullPath);
        }
        On.SaveResult(Name, result);
        if (result.Changes == 0 && result.Counts.Count == 0) return new StageOutcome(false, "there is nothing to mend", Facts(), result);
        return new StageOutcome(true, FormattableString.Invariant($"{result.Changes} changes, each listed"),
            Facts(("changes", result.Changes), ("sha256", On.DigestOfNew(On.FinalStaged))), result);
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        IReadOnlyList<MendedTable> tables = _mending!.Prove(On.Context.Stores, On.Company.OldStore, On.FinalStaged);
        MendResult result = (MendResult)done.Result! with { Tables = tables };
        On.SaveResult(Name, result);
        MendedTable? wrong = tables.FirstOrDefault(table => !table.IsProved);
        using IStore store = On.Context.Stores.Open(On.FinalStaged, On.From.TextEncoding);
        IReadOnlyList<string> complaints = store.CheckPhysically();
        return wrong is not null ? done with
        {
            IsGood = false,
            Result = result,
            Summary = $"the copy of {wrong.Table} differs from the old table by more than the listed changes"
        }
            : complaints.Count > 0 ? done with
            {
                IsGood = false,
                Result = result,
                Summary = $"the engine complains about the mended copy: {complaints[0]}"
            }
            : done with { Result = result };
    }

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        // A mended store that the office has worked with holds records that are nowhere else; it is kept, not removed.
        if (!On.IsAsMade(On.FinalStaged, Name))
            return new TakenBack($"the mended store has been used since it was made, and is kept: {On.FinalStaged.Shown}",
                IsWhole: false);
        bool hadStaged = On.Context.Places.Exists(On.FinalStaged);
        On.RemoveMade(On.FinalStaged);
        if (!On.Work.RemoveIfEmpty())
            return new TakenBack($"the mended copy is removed; something else lies in {On.Work.FullPath} and is left there",
                IsWhole: false);
        return hadStaged ? new TakenBack("the mended copy is removed") : null;
    }
}

/// <summary>The same check on the mended store, in its place: nothing may be wrong that was not wrong before.</summary>
internal sealed class CheckMendedStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.CheckAgain;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        CheckResult result = On.Check(On.Company.NewStore, On.From, On.Ahead, Name);
        FindingComparison compared = FindingComparison.Of("the check before", On.LoadResult<CheckResult>(Stages.Check) ?? result, result,
            []);
        result = result with { Compared = compared };
        On.SaveResult(Name, result);
        // A note is no harm: records that a .dbf table has marked as deleted, say, are some of the mending's own.
        ComparedFinding? worse = compared.Findings.FirstOrDefault(finding => (finding.State == "new" || finding.After > finding.Before)
            && result.Findings.Any(found => found.Grade != Grade.Note && found.Kind == finding.Kind && found.Table == finding.Table
            && found.What == finding.What));
        return new StageOutcome(worse is null, worse is null
            ? FormattableString.Invariant($"{compared.Count("gone")} findings gone, {compared.Count("stayed")} still there")
            : $"the mending made it worse: {worse.Table} {worse.What}",
            Facts(("faults", result.Faults), ("gone", compared.Count("gone"))), result);
    }
}
