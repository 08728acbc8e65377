// PutBackStage.cs: a restore to the original place: what is there now is set aside, the set's files take its place.
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Puts a company's store and documents back from a set.</summary>
internal sealed class PutBackStage(CompanyRun on) : Stage(on)
{
    private string SetPath => On.Run.BegunFact(On.Company.Code, "set") ?? "";

    private string Restored => Path.Combine(On.Work.FullPath, "restored");

    // What was there when the run began decides what is set aside, also when a resumed run or an undo looks again.
    private bool WasThere(string what) => On.Run.BegunFact(On.Company.Code, what) == "1";

    // What the set calls it, which the office may call otherwise by now; never more than a name.
    private string NameInSet => Path.GetFileName(On.Run.BegunFact(On.Company.Code, "set-store") is { Length: > 0 } name ? name
        : On.Company.OldStore.Name);

    private StoreAddress Target => On.Company.StoreNamed(NameInSet);

    private Move SetAside(StoreAddress store) => new(store, store.IsOnServer ? store.Beside(On.Work.FullPath, On.Run.Id, "present")
        : store with { Path = Path.Combine(Present, "store", store.Name) });

    private string Present => Path.Combine(On.Work.FullPath, CompanyRun.PresentFolder);

    // A database is loaded under a name of its own on the server first, from what was unpacked.
    private StoreAddress RestoredStore => Target.IsOnServer ? Target.Beside(On.Work.FullPath, On.Run.Id, "restored")
        : Target with { Path = UnpackedStore };

    private string UnpackedStore => Path.Combine(Restored, "store", NameInSet);

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
    public override string Name => Stages.PutBack;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        if (!HasBegun)
        {
            RemoveRestored();
            On.Work.Make();
            using ISetFile file = On.Context.Sets.OpenWhole(SetPath, CompanyBackup.Scratch(On.Context.Office), (done, total) =>
                On.Context.Observer.Bytes("fetching", done, total), On.Context.Cancel);
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(file, Restored, null, (done, total) =>
                On.Context.Observer.Bytes("unpacking", done, total),
                remark: remark => On.Context.Observer.Told("not brought back: " + remark), cancel: On.Context.Cancel);
            if (faults.Count > 0) return new StageOutcome(false, $"the set is damaged: {faults[0].Member}: {faults[0].What}", Facts());
            if (Target.IsOnServer)
            {
                foreach (string remark in StoreExport.Load(UnpackedStore, On.Context.Stores, RestoredStore, On.Context.Observer,
                    On.Context.Cancel))
                    On.Context.Observer.Told("not brought back: " + remark);
                On.Work.Remove(UnpackedStore); // it is in the set, and on the server; a third copy in plain text is nobody's wish
            }
        }
        foreach (Move move in Swap.Moves.Where(move => !move.To.IsOnServer && move.To.Path.StartsWith(Present + "/",
            StringComparison.Ordinal))) On.Work.MakeInside(move.To.Folder);
        Swap.Forward();
        if (Target.IsOnServer && ScriptInSet() is { } script)
            foreach (string remark in On.Context.Stores.AddRights(Target, script)) On.Context.Observer.Told("not brought back: " + remark);
        return new StageOutcome(true, "the company is as in the set; what was there is "
            + $"kept{(Target.IsOnServer ? $" as {SetAside(Target).To.Shown}" : $" in {Present}")}", DoneFacts());
    }

    private Dictionary<string, string> DoneFacts()
    {
        Dictionary<string, string> facts = Facts(("set", SetPath), ("new-sha256", On.DigestOfOld(Target)));
        foreach ((string folder, _, int i) in DocumentFolders()) facts[string.Create(CultureInfo.InvariantCulture,
            $"documents-{i}")] = TreeListing.Of(folder);
        return facts;
    }

    private StoreScript? ScriptInSet()
    {
        string folder = Path.Combine(On.Work.FullPath, "told"), description = $"store/{NameInSet}/{StoreExport.DescriptionName}";
        On.Work.Make();
        On.Work.Remove(folder);
        using ISetFile file = On.Context.Sets.Open(SetPath);
        StoreScript? script = BackupSets.Unpack(file, folder, name => name == description).Count > 0
            ? null : StoreExport.Describe(Path.Combine(folder, "store", NameInSet)).Script;
        On.Work.Remove(folder);
        return script;
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        SetManifest manifest = On.Context.Sets.Read(SetPath).Manifest;
        using IStore store = On.Context.Stores.Open(Target, On.From.TextEncoding);
        IReadOnlyList<SetFault> faults = BackupSets.CompareRecords(manifest,
            Baseline.Of(store, manifest.ShapesOf(store, On.From), On.Context.Observer, On.Context.Cancel));
        return faults.Count == 0 ? done : done with { IsGood = false, Summary = faults[0].What };
    }

    // Whether the first rename is done: what was there is set aside, or, when nothing was, the restored store stands in its place.
    private bool HasBegun => WasThere("had-store") ? On.Context.Places.Exists(SetAside(On.Company.OldStore).To)
        : WasThere("had-new-store") ? On.Context.Places.Exists(SetAside(On.Company.NewStore).To)
        : On.Context.Places.Exists(Target) && !On.Context.Places.Exists(RestoredStore);

    private void RemoveRestored()
    {
        On.RemoveMade(RestoredStore);
        On.Work.Remove(Restored);
    }

    // What people did with a restored company since is nowhere else. Where what was there before is back in its place already, what is
    // left of the restored one lies staged again or is gone.
    private string? WorkedWith(bool isInPlace)
    {
        if (On.FactsOf(Name) is not { } known) return null;
        StoreAddress store = isInPlace && !On.Context.Places.Exists(RestoredStore) ? Target : RestoredStore;
        if (known.TryGetValue("new-sha256", out string? digest) && On.Context.Places.Exists(store)
            && On.DigestOfOld(store) != digest) return store.Shown;
        foreach ((string folder, string staged, int i) in DocumentFolders())
        {
            string now = isInPlace && !On.Context.Volume.Exists(staged) ? folder : staged;
            if (known.TryGetValue(FormattableString.Invariant($"documents-{i}"), out string? listing) && Directory.Exists(now)
                && TreeListing.Of(now) != listing) return now;
        }
        return null;
    }

    private IEnumerable<(string Folder, string Staged, int Index)> DocumentFolders() =>
        Enumerable.Range(0, On.Company.DocumentFolders.Count)
        .Where(i => WasThere(FormattableString.Invariant($"has-documents-{i}")))
        .Select(i => (On.Company.DocumentFolders[i],
            Path.Combine(Restored, "documents", i.ToString(System.Globalization.CultureInfo.InvariantCulture)), i));

    /// <inheritdoc/>
    public override string? Disagreement() => On.Run.Journal.Last(On.Company.Code, Name) is null or { State: "taken-back" } && HasSetAside
        ? $"the journal records no restore, but what was there before stands aside in {Present}" : null;

    private bool HasSetAside => Swap.Moves.Any(move => !move.To.IsOnServer && move.To.Path.StartsWith(Present + "/",
        StringComparison.Ordinal) && On.Context.Places.Exists(move.To));

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        bool begun = HasBegun;
        if (!begun && !On.Work.IsThere && !On.Context.Places.Exists(RestoredStore)) return null;
        string? worked = WorkedWith(isInPlace: begun);
        if (begun) Swap.Back();
        else Swap.ClearEmptyPlaces();
        if (worked is not null)
            return new TakenBack("what was there before the restore is back in its place; the restored data has been used since, and "
                + "is kept: "
                + (Target.IsOnServer ? RestoredStore.Shown : Restored), IsWhole: false);
        RemoveRestored();
        const string back = "what was there before the restore is back in its place";
        return On.Work.RemoveIfEmpty() ? new TakenBack(back)
            : new TakenBack($"{back}; something else lies in {On.Work.FullPath} and is left there", IsWhole: false);
    }
}
