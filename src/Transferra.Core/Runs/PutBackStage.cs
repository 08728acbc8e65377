// PutBackStage.cs: a restore to the original place: what is there now is set aside, the set's files take its place.
using Transferra.Core.Backup;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Puts a company's store and documents back from a set.</summary>
public sealed class PutBackStage(CompanyRun on) : Stage(on)
{
    private string SetPath => On.Run.BegunFact(On.Company.Code, "set") ?? "";

    private string Restored => Path.Combine(On.WorkFolder, "restored");

    // What was there when the run began decides what is set aside, also when a resumed run or an undo looks again.
    private bool WasThere(string what) => On.Run.BegunFact(On.Company.Code, what) == "1";

    private StoreAddress Target => On.Company.StoreNamed(On.Run.BegunFact(On.Company.Code, "set-store") ?? "");

    private Move SetAside(StoreAddress store) => new(store.Path, Path.Combine(On.WorkFolder, "present", "store", Path.GetFileName(store.Path)));

    private Swap Swap
    {
        get
        {
            var moves = new List<Move>();
            if (WasThere("had-store")) moves.Add(SetAside(On.Company.OldStore));
            if (WasThere("had-new-store")) moves.Add(SetAside(On.Company.NewStore));
            moves.Add(new Move(Path.Combine(Restored, "store", Path.GetFileName(Target.Path)), Target.Path));
            for (int i = 0; i < On.Company.DocumentFolders.Count; i++)
            {
                if (!WasThere(FormattableString.Invariant($"has-documents-{i}"))) continue;
                string folder = On.Company.DocumentFolders[i], name = i.ToString(System.Globalization.CultureInfo.InvariantCulture);
                if (WasThere(FormattableString.Invariant($"had-documents-{i}"))) moves.Add(new Move(folder, Path.Combine(On.WorkFolder, "present", "documents", name)));
                moves.Add(new Move(Path.Combine(Restored, "documents", name), folder));
            }
            return new Swap(On.Context.Volume, moves);
        }
    }

    /// <inheritdoc/>
    public override string Name => "put-back";

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        if (!On.Context.Volume.Exists(Path.Combine(On.WorkFolder, "present")))
        {
            On.Context.Volume.Remove(On.WorkFolder);
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(SetPath, Restored);
            if (faults.Count > 0) return new StageOutcome(false, $"the set is damaged: {faults[0].Member}: {faults[0].What}", Facts());
        }
        Swap.Forward();
        return new StageOutcome(true, $"the company is as in the set; what was there is kept in {Path.Combine(On.WorkFolder, "present")}", Facts(("set", SetPath)));
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        SetManifest manifest = BackupSets.ReadInfo(SetPath).Manifest;
        using IStore store = On.Context.Stores.Open(Target, On.From.TextEncoding);
        IReadOnlyList<SetFault> faults = BackupSets.CompareRecords(manifest, Baseline.Of(store, On.From.Tables, On.Context.Observer, On.Context.Cancel));
        return faults.Count == 0 ? done : done with { IsGood = false, Summary = faults[0].What };
    }

    /// <inheritdoc/>
    public override string? TakeBack()
    {
        if (!On.Context.Volume.Exists(On.WorkFolder)) return null;
        if (On.Context.Volume.Exists(Path.Combine(On.WorkFolder, "present")) || !On.Context.Volume.Exists(Path.Combine(Restored, "store"))) Swap.Back();
        On.Context.Volume.Remove(On.WorkFolder);
        On.Context.Volume.FlushFolder(Path.GetDirectoryName(On.WorkFolder)!);
        return "what was there before the restore is back in its place";
    }
}
