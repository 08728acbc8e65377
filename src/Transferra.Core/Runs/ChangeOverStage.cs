// ChangeOverStage.cs: the new store takes the old one's place by two renames; the old one is set aside under another name.
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>The point where users come to see the new data; can be taken back at any time after.</summary>
internal sealed class ChangeOverStage(CompanyRun on) : Stage(on)
{
    private const string AsideDigest = "aside-sha256";

    private Swap Swap => new(On.Context.Places, [new Move(On.Company.OldStore, On.Aside), new Move(On.FinalStaged, On.Company.NewStore)]);

    private string OldDigest => On.Run.BegunFact(On.Company.Code, "sha256") ?? "";

    private string MadeDigest => On.FactsOf(IsMending ? Stages.Mend : Stages.Convert)?.GetValueOrDefault("sha256") ?? "";

    private bool IsMending => On.Way.Hops.Count == 0;

    /// <inheritdoc/>
    public override string Name => Stages.ChangeOver;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <inheritdoc/>
    public override IReadOnlyList<string> Obstacles()
    {
        // Broken off between its two renames, it must be finished or taken back; what stood before it was weighed then.
        if (On.Run.Journal.Last(On.Company.Code, Name)?.State == "announced" && Swap.DoneMoves() > 0) return [];
        var obstacles = new List<string>();
        if (On.Fact(Stages.Backup, "proved") is not > 0) obstacles.Add("there is no proved backup set");
        if (IsMending)
        {
            if (!On.Run.IsDone(On.Company.Code, Stages.Mend)) obstacles.Add("the mended copy was not proved");
        }
        else
        {
            if (On.Fact(Stages.Check, "faults") is not 0 and { } faults) obstacles.Add($"the check found {faults} faults in the old data");
            if (On.Fact(Stages.Convert, "exceptions") is not 0 and { } exceptions) obstacles.Add($"{exceptions} "
                + "records could not be converted");
            // That exceptions are not in the new store is said already; that all else is, the match has to prove.
            string verdict = On.FactsOf(Stages.Match)?.GetValueOrDefault("verdict") ?? "";
            bool isForExceptions = On.Fact(Stages.Convert, "exceptions") is > 0 && verdict == nameof(Matching.Verdict.ProvedInPart);
            if (On.Fact(Stages.Match, "proved") is not 1 && verdict != nameof(Matching.Verdict.AnsweredFor) && !isForExceptions)
                obstacles.Add("the match did not prove the new store");
        }
        if (On.Company.MovesTo is { } newPlace
            && On.Context.Places.Exists(newPlace)) obstacles.Add($"{newPlace.Shown} is there already, where the new store is to go");
        if (obstacles.Count > 0) return obstacles;
        IReadOnlyList<string> holders = On.Context.Places.OpenedBy(On.Company.OldStore);
        if (holders.Count > 0) obstacles.Add($"the store is open: {holders[0]}");
        // In their new places both are read again, to the last byte.
        (bool isOld, bool isMade) = Together.Do(On.IsOldUntouched, () => On.IsStaged(On.FinalStaged, MadeDigest));
        if (!isOld) obstacles.Add("the old store was changed since the run began");
        if (!isMade) obstacles.Add("the new store is not the one that was "
            + $"{(IsMending ? "proved" : "matched")}");
        return obstacles;
    }

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, string> Plan() =>
        Facts(("old-from", On.Company.OldStore.Shown), ("old-to", On.Aside.Shown), ("new-from", On.FinalStaged.Shown),
            ("new-to", On.Company.NewStore.Shown));

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        if (On.Context.Places.Exists(On.FinalStaged))
        {
            GiveRights();
            // In place it would let people in before the office is open.
            On.Context.Closing?.CoverAlso(On.FinalStaged, On.Company.NewStore, On.Company.OldStore, On.Context.Office.Folder);
        }
        Swap.Forward();
        var reading = new MarkedReading(On.Company.NewStore, On.Context.Stores);
        (string old, string made) = On.DigestsOf(On.Aside, On.Company.NewStore);
        if (made == MadeDigest) On.InPlace.AsMade = reading.Undisturbed();
        return new StageOutcome(true, $"the new store is in place{(On.Company.MovesTo is { } moved ? ", " + moved.Shown : "")}; the old "
            + $"one is kept as {On.Aside.Shown}", Facts(("aside", On.Aside.Shown), (AsideDigest, old),
            ("new-sha256", made)));
    }

    // Who could work with the old store can work with the new one: owner, group and permissions, also of the files in a folder.
    private void GiveRights()
    {
        StoreAddress old = On.Company.OldStore, made = On.FinalStaged;
        if (old.IsOnServer || made.IsOnServer || !Path.Exists(old.Path)) return;
        const UnixFileMode enter = UnixFileMode.UserExecute | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute;
        bool oldIsFolder = Directory.Exists(old.Path), newIsFolder = Directory.Exists(made.Path);
        UnixFileMode mode = On.Context.Closing?.ModeBefore(old.Path) ?? File.GetUnixFileMode(old.Path);
        string? oldFile = oldIsFolder ? Directory.EnumerateFiles(old.Path).Order(StringComparer.Ordinal).FirstOrDefault() : old.Path;
        UnixFileMode fileMode = oldIsFolder && oldFile is not null ? File.GetUnixFileMode(oldFile) : mode & ~enter;
        foreach (string file in newIsFolder ? Directory.EnumerateFiles(made.Path) : [made.Path])
        {
            On.Context.Volume.SetOwner(file, oldFile ?? old.Path);
            On.Context.Volume.SetMode(file, fileMode);
        }
        if (!newIsFolder) return;
        On.Context.Volume.SetOwner(made.Path, oldIsFolder ? old.Path : old.Folder);
        On.Context.Volume.SetMode(made.Path, oldIsFolder ? mode : File.GetUnixFileMode(old.Folder));
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        if (done.Facts[AsideDigest] != OldDigest)
            return done with { IsGood = false, Summary = "the old store was written to during the change-over" };
        return done.Facts["new-sha256"] == MadeDigest ? done
            : done with { IsGood = false, Summary = $"the new store is not the one that was {(IsMending ? "proved" : "matched")}" };
    }

    /// <inheritdoc/>
    public override string? Disagreement()
    {
        StorePlaces places = On.Context.Places;
        JournalEntry? last = On.Run.Journal.Last(On.Company.Code, Name);
        // A journal that was cut short tells of no change-over where there was one.
        if (last is null or { State: "taken-back" } || (last.State == "stopped" && !IsAnnounced))
            return places.Exists(On.Aside) ? $"the journal records no change-over, but an original stands aside as {On.Aside.Shown}"
                : places.Exists(On.Company.OldStore) || HopOffice.IsLent(On) ? null
                    : $"the store {On.Company.OldStore.Shown} is gone, and the journal does not say where";
        if (Swap.DoneMoves() == 0) return null;
        return On.DigestOfOld(On.Aside) == OldDigest ? null
            : $"the original that was set aside, {On.Aside.Shown}, is not as it was when the run began: somebody wrote to it there";
    }

    private bool IsAnnounced => On.Run.Journal.Entries.Any(entry => entry.Company == On.Company.Code && entry.Stage == Name
        && entry.State == "announced");

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        bool hadBegun = Swap.DoneMoves() > 0;
        Swap.Back();
        if (!hadBegun) return null;
        if (On.DigestOfOld(On.Company.OldStore) != OldDigest)
            throw new TransferraException($"the old store {On.Company.OldStore.Shown} is back, but is not as it was when the run began",
                "Somebody wrote to it while it was set aside. Compare it with the backup set before anybody works with it.");
        return new TakenBack("the old store is back in its place, as it was when the run began");
    }
}
