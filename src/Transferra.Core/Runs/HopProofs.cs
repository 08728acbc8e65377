// HopProofs.cs: proves the hops of a long way as they are gone, and lets the stores between them go, so that thirty hops need the room of
// two: hop-proofs.json in the run's folder.
// Holds: (1) a store between two hops goes only when both are proved, and no total over the way needs it; (2) what a proved hop ended with
// is still that, by digest, when the next one is proved, so that the chain has no gap; (3) the last one between stays, so that a match of
// later compares record by record; all stay where that was asked for, or the way has two hops.
using System.Text.Json;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>A hop that was proved on the way.</summary>
/// <param name="Number">Which, from 0.</param>
/// <param name="At">When.</param>
/// <param name="NewSha256">Digest of the store it ended with.</param>
/// <param name="Matched">What the match came to.</param>
/// <param name="IsOldGone">Whether the store it began with was let go since.</param>
internal sealed record HopProof(int Number, DateTimeOffset At, string NewSha256, HopMatched Matched, bool IsOldGone);

/// <summary>The hops of a company that were proved on the way.</summary>
internal sealed class HopProofs(CompanyRun on)
{
    /// <summary>Fact of a run in which all stores between are to stay.</summary>
    public const string KeepBetween = "keep-between";

    private const int FewHops = 2;

    private List<HopProof>? _proofs;

    private List<HopProof> Proofs => _proofs ??= ResultJson.Load(PathOf, RunsJson.Form.ListHopProof) ?? [];

    private string PathOf => Path.Combine(on.ResultFolder, "hop-proofs.json");

    private bool IsWanted => on.Way.Hops.Count > FewHops && on.Run.BegunWith(KeepBetween) != "yes";

    /// <summary>The stores of the way: the old one first.</summary>
    private StoreAddress Store(int number) => number == 0 ? on.Company.OldStore : on.Staged(on.Way.Hops[number - 1].To.Name);

    /// <summary>Whether the store that a hop ended with was let go.</summary>
    public bool IsLetGo(int hop) => Proofs.Any(proof => proof.Number == hop + 1 && proof.IsOldGone);

    /// <summary>Whether a conversion that has come so far finds what it needs to go on.</summary>
    /// <param name="done">How many hops are through.</param>
    public bool CanGoOn(int done)
    {
        for (int i = 0; i < done; i++)
            if (!on.Context.Places.Exists(Store(i + 1)) && !IsLetGo(i)) return on.Context.Places.Exists(Store(i));
        return true;
    }

    /// <summary>Forgets all of them.</summary>
    public void Forget()
    {
        _proofs = [];
        on.Context.Volume.Remove(PathOf);
    }

    /// <summary>A hop is through: it is proved, and what is not needed any more is let go.</summary>
    /// <param name="number">Which, from 0.</param>
    public void Through(int number)
    {
        if (!IsWanted || number >= on.Way.Hops.Count - 1) return;
        HopProof? before = Proofs.FirstOrDefault(proof => proof.Number == number - 1);
        if (number > 0 && before is null) return; // one that is not proved keeps its stores, and so do all behind it
        HopProof? proof = Proofs.FirstOrDefault(known => known.Number == number) ?? Prove(number, before);
        if (proof is null || number == 0 || WayMatch.OverTheWay(on.Way.Versions).Any(total => total.From == number
            || total.To == number)) return;
        // First it is said that it goes, then it goes; interrupted between the two, when the run goes on.
        if (!proof.IsOldGone) Save(proof with { IsOldGone = true });
        on.RemoveMade(Store(number));
    }

    private HopProof? Prove(int number, HopProof? before)
    {
        Hop hop = on.Way.Hops[number];
        HopMatched matched;
        using (IStore old = on.Context.Stores.Open(Store(number), hop.From.TextEncoding),
            renewed = on.Context.Stores.Open(Store(number + 1), hop.To.TextEncoding))
            matched = WayMatch.Hop(on.Way, number, old, renewed, ConvertStage.Refused(on, hop), on.Company.Answers, on.Context.Observer,
                new BesideStores(), soFar: null, on.Context.Cancel);
        if (!matched.IsProved) return null;
        // Others were at work since that was proved, and nobody holds them to their copy.
        if (before is not null && Digest(number) != before.NewSha256)
            throw new TransferraException($"the store of version {hop.From.Name} is not what it was when it was proved: whoever converted "
                + $"it to version {hop.To.Name} wrote to it, though it was given a copy", "Everything is taken back. Tell the vendor.");
        var proof = new HopProof(number, DateTimeOffset.UtcNow, Digest(number + 1), matched, IsOldGone: false);
        Save(proof);
        return proof;
    }

    private string Digest(int store) => on.Context.Places.DigestOf(Store(store), on.Way.Versions[store].TextEncoding, on.Context.Cancel);

    private void Save(HopProof proof)
    {
        _proofs = [.. Proofs.Where(known => known.Number != proof.Number), proof];
        on.Context.Volume.Replace(PathOf, JsonSerializer.SerializeToUtf8Bytes(_proofs, RunsJson.Form.ListHopProof));
    }

    /// <summary>What a hop came to of which a store is gone; null where it can be matched anew.</summary>
    /// <param name="number">Which, from 0.</param>
    /// <param name="old">Where the old store is now.</param>
    /// <exception cref="TransferraException">What is left is not what was proved, so that nothing follows from it.</exception>
    public HopMatched? Kept(int number, StoreAddress old)
    {
        if (Proofs.FirstOrDefault(proof => proof.Number == number) is not { } proof
            || !(proof.IsOldGone || IsLetGo(number))) return null;
        if (number == 0 && on.DigestOfOld(old) != on.Run.BegunFact(on.Company.Code, "sha256"))
            throw Broken($"the old store {old.Shown} is not what it was when the hop to version {on.Way.Hops[0].To.Name} was proved");
        // The end of what was proved, from which the last hop is matched anew.
        if (!IsLetGo(number) && proof.NewSha256 != Digest(number + 1))
            throw Broken($"the store of version {on.Way.Hops[number].To.Name} is not what it was when the hop to it was proved");
        return proof.Matched with { Match = proof.Matched.Match with { MatchedAt = proof.At } };
    }

    private static TransferraException Broken(string what) => new($"{what}, and the stores between were let go",
        "Bring it back from the backup set, or upgrade once more with --keep-between.");
}
