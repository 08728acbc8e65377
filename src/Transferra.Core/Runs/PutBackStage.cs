// PutBackStage.cs: a restore to the original place: what is there now is set aside, the set's files take its place.
using Transferra.Core.Backup;
using Transferra.Core.Conversion;
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

    private Move SetAside(StoreAddress store) => new(store, store.IsOnServer ? store.Beside(On.WorkFolder, On.Run.Id, "present")
        : store with { Path = Path.Combine(Present, "store", store.Name) });

    private string Present => Path.Combine(On.WorkFolder, "present");

    // A database is loaded under a name of its own on the server first, from what was unpacked.
    private StoreAddress RestoredStore => Target.IsOnServer ? Target.Beside(On.WorkFolder, On.Run.Id, "restored") : Target with { Path = UnpackedStore };

    private string UnpackedStore => Path.Combine(Restored, "store", Target.Name);

    private Swap Swap
    {
        get
        {
            var moves = new List<Move>();
            if (WasThere("had-store")) moves.Add(SetAside(On.Company.OldStore));
            if (WasThere("had-new-store")) moves.Add(SetAside(On.Company.NewStore));
            moves.Add(new Move(RestoredStore, Target));
            for (int i = 0; i < On.Company.DocumentFolders.Count; i++)
            {
                if (!WasThere(FormattableString.Invariant($"has-documents-{i}"))) continue;
                string folder = On.Company.DocumentFolders[i], name = i.ToString(System.Globalization.CultureInfo.InvariantCulture);
                if (WasThere(FormattableString.Invariant($"had-documents-{i}")))
                    moves.Add(new Move(StoreAddress.OfFiles(folder), StoreAddress.OfFiles(Path.Combine(Present, "documents", name))));
                moves.Add(new Move(StoreAddress.OfFiles(Path.Combine(Restored, "documents", name)), StoreAddress.OfFiles(folder)));
            }
            return new Swap(On.Context.Places, moves);
        }
    }

    /// <inheritdoc/>
    public override string Name => "put-back";

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        if (!HasBegun)
        {
            RemoveRestored();
            using ISetFile file = On.Context.Sets.OpenWhole(SetPath, CompanyBackup.Scratch(On.Context.Office), (done, total) =>
                On.Context.Observer.Bytes("fetching", done, total), On.Context.Cancel);
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(file, Restored, null, (done, total) => On.Context.Observer.Bytes("unpacking", done, total),
                cancel: On.Context.Cancel);
            if (faults.Count > 0) return new StageOutcome(false, $"the set is damaged: {faults[0].Member}: {faults[0].What}", Facts());
            if (Target.IsOnServer)
            {
                foreach (string remark in StoreExport.Load(UnpackedStore, On.Context.Stores, RestoredStore, On.Context.Observer, On.Context.Cancel))
                    On.Context.Observer.Told("not brought back: " + remark);
                On.Context.Volume.Remove(UnpackedStore); // it is in the set, and on the server; a third copy in plain text is nobody's wish
            }
        }
        Swap.Forward();
        if (Target.IsOnServer && ScriptInSet() is { } script)
            foreach (string remark in On.Context.Stores.AddUnmoved(Target, script)) On.Context.Observer.Told("not brought back: " + remark);
        return new StageOutcome(true, $"the company is as in the set; what was there is kept{(Target.IsOnServer ? $" as {SetAside(Target).To.Shown}" : $" in {Present}")}", Facts(("set", SetPath)));
    }

    private StoreScript? ScriptInSet()
    {
        string folder = Path.Combine(On.WorkFolder, "told"), description = $"store/{Target.Name}/{StoreExport.DescriptionName}";
        On.Context.Volume.Remove(folder);
        using ISetFile file = On.Context.Sets.Open(SetPath);
        StoreScript? script = BackupSets.Unpack(file, folder, name => name == description).Count > 0
            ? null : StoreExport.Describe(Path.Combine(folder, "store", Target.Name)).Script;
        On.Context.Volume.Remove(folder);
        return script;
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        SetManifest manifest = On.Context.Sets.Read(SetPath).Manifest;
        using IStore store = On.Context.Stores.Open(Target, On.From.TextEncoding);
        IReadOnlyList<SetFault> faults = BackupSets.CompareRecords(manifest,
            Baseline.Of(store, CustomFields.Of(store, On.From).In(On.From).Tables, On.Context.Observer, On.Context.Cancel));
        return faults.Count == 0 ? done : done with { IsGood = false, Summary = faults[0].What };
    }

    // Whether the first rename is done: what was there is set aside, or, when nothing was, the restored store stands in its place.
    private bool HasBegun => WasThere("had-store") ? On.Context.Places.Exists(SetAside(On.Company.OldStore).To)
        : WasThere("had-new-store") ? On.Context.Places.Exists(SetAside(On.Company.NewStore).To)
        : On.Context.Places.Exists(Target) && !On.Context.Places.Exists(RestoredStore);

    private void RemoveRestored()
    {
        if (Target.IsOnServer) On.Context.Places.Remove(RestoredStore);
        On.Context.Volume.Remove(On.WorkFolder);
    }

    /// <inheritdoc/>
    public override string? TakeBack()
    {
        if (!On.Context.Volume.Exists(On.WorkFolder)) return null;
        if (HasBegun) Swap.Back();
        else Swap.ClearEmptyPlaces();
        RemoveRestored();
        On.Context.Volume.FlushFolder(Path.GetDirectoryName(On.WorkFolder)!);
        return "what was there before the restore is back in its place";
    }
}
