// SetTidying.cs: which backup sets may go. Decides only; removing them is for who asked.
// Holds: a set stays that is (1) among the newest to be kept of its company in its place; (2) the last one of its company that is proved, wherever it is;
//        (3) one that a run which is not finished goes by.
using Transferra.Core.Runs;

namespace Transferra.Core.Backup;

/// <summary>What is to become of a set.</summary>
/// <param name="Set">The set.</param>
/// <param name="Goes">Whether it may go.</param>
/// <param name="Because">Why it stays, or goes.</param>
public sealed record TidyDecision(ListedSet Set, bool Goes, string Because);

/// <summary>Decides which sets may go.</summary>
public static class SetTidying
{
    /// <summary>Decides.</summary>
    /// <param name="sets">All sets of all places.</param>
    /// <param name="proofs">The last proof of each.</param>
    /// <param name="runs">All runs of the office.</param>
    /// <param name="keep">How many of a company's newest sets are kept in each place, at least 1.</param>
    public static IReadOnlyList<TidyDecision> Decide(IReadOnlyList<ListedSet> sets, IReadOnlyDictionary<string, SetProof> proofs, IReadOnlyList<Run> runs, int keep)
    {
        HashSet<string> newest = [.. sets.GroupBy(set => (set.Label.Company, Path.GetDirectoryName(set.Path)))
            .SelectMany(same => same.OrderByDescending(set => set.Label.MadeAt).Take(keep)).Select(set => set.Path)];
        HashSet<string> lastProved = [.. sets.Where(IsProved).GroupBy(set => set.Label.Company).Select(same => same.MaxBy(set => set.Label.MadeAt)!.Path)];
        HashSet<string> reliedOn = [.. runs.Where(run => run.IsUnfinished).SelectMany(run => run.Journal.Entries).SelectMany(entry => entry.Facts.Values)];
        return [.. sets.Select(set =>
        {
            if (reliedOn.Contains(set.Path)) return new TidyDecision(set, false, "a run that is not finished goes by it");
            if (newest.Contains(set.Path)) return new TidyDecision(set, false, keep == 1 ? "the newest there" : FormattableString.Invariant($"one of the newest {keep} there"));
            if (lastProved.Contains(set.Path)) return new TidyDecision(set, false, "the last of its company that is proved");
            return new TidyDecision(set, true, FormattableString.Invariant($"older than the newest {keep}"));
        })];

        bool IsProved(ListedSet set) => proofs.TryGetValue(set.Path, out SetProof? proof) && proof.IsGood && proof.Bytes == set.Bytes;
    }
}
