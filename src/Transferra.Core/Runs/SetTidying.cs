// SetTidying.cs: which backup sets may go. Decides only; removing them is for who asked.
// Holds: a set stays that (1) another office made; (2) is among the newest sound ones to be kept of its company in its place; (3) is the
// last sound one of its
// company, wherever it is; (4) is the last sound one of its data version, while an upgrade from that version can still be undone, or
// while it is younger
//        than the office says; (5) a run which is not finished goes by; (6) is damaged: it may heal another, or be healed.
// What is sound was proved just now, and not at some time.
using System.Globalization;
using Transferra.Core.Backup;

namespace Transferra.Core.Runs;

/// <summary>What is to become of a set.</summary>
/// <param name="Set">The set.</param>
/// <param name="Goes">Whether it may be removed.</param>
/// <param name="Because">Why.</param>
public sealed record TidyDecision(ListedSet Set, bool Goes, string Because);

/// <summary>What the decision rests on.</summary>
/// <param name="OfficeId">The office that asks.</param>
/// <param name="Runs">The runs of the office.</param>
/// <param name="Keep">How many of a company stay in each place.</param>
/// <param name="KeepEachVersion">How long the last set of each data version stays.</param>
/// <param name="Now">The time.</param>
public sealed record TidyRules(string OfficeId, IReadOnlyList<Run> Runs, int Keep, TimeSpan KeepEachVersion, DateTimeOffset Now);

/// <summary>Decides which sets may go.</summary>
public static class SetTidying
{
    /// <summary>Decides.</summary>
    /// <param name="sets">All sets that can be reached.</param>
    /// <param name="isSound">Proves a set; asked only of sets that would stay for being sound, each once.</param>
    /// <param name="rules">What the decision rests on.</param>
    public static IReadOnlyList<TidyDecision> Decide(IReadOnlyList<ListedSet> sets, Func<ListedSet, bool> isSound, TidyRules rules)
    {
        var judged = new Dictionary<string, bool>(StringComparer.Ordinal);
        bool sound(ListedSet set) => judged.TryGetValue(set.Path, out bool known) ? known : judged[set.Path] = isSound(set);
        var because = new Dictionary<string, string>(StringComparer.Ordinal);
        HashSet<string> reliedOn = [.. rules.Runs.Where(run => run.IsUnfinished).SelectMany(run => run.Journal.Entries)
            .SelectMany(entry => entry.Facts.Values)];
        foreach (ListedSet set in sets)
            if (set.Label.OfficeId != rules.OfficeId) because[set.Path] = "of another office, or of an unknown one";
            else if (reliedOn.Contains(set.Path)) because[set.Path] = "an unfinished run needs it";
        ListedSet[] ours = [.. sets.Where(set => set.Label.OfficeId == rules.OfficeId)];
        foreach (var same in ours.GroupBy(set => (set.Label.Company, Path.GetDirectoryName(set.Path))))
            foreach (ListedSet set in same.OrderByDescending(set => set.Label.MadeAt).Where(sound).Take(rules.Keep))
                because.TryAdd(set.Path, rules.Keep == 1 ? "the newest sound one there"
                    : FormattableString.Invariant($"one of the newest {rules.Keep} sound ones there"));
        foreach (IGrouping<string, ListedSet> company in ours.GroupBy(set => set.Label.Company))
        {
            if (company.OrderByDescending(set => set.Label.MadeAt).FirstOrDefault(sound) is { } last) because.TryAdd(last.Path,
                "the last sound one of its company");
            foreach (IGrouping<string, ListedSet> version in company.GroupBy(set => set.Label.DataVersion))
                if (version.OrderByDescending(set => set.Label.MadeAt).FirstOrDefault(sound) is { } lastOfVersion
                    && WhyVersionStays(lastOfVersion, rules) is { } why)
                    because.TryAdd(lastOfVersion.Path, why);
        }
        return [.. sets.Select(set => because.TryGetValue(set.Path, out string? why) ? new TidyDecision(set, false, why)
            : judged.TryGetValue(set.Path, out bool isWhole) && !isWhole ? new TidyDecision(set, false,
                "damaged; heal it, or remove it by hand: transferra sets --heal")
            : new TidyDecision(set, true, FormattableString.Invariant($"older than the newest {rules.Keep}")))];
    }

    private static string? WhyVersionStays(ListedSet set, TidyRules rules)
    {
        SetLabel label = set.Label;
        if (rules.Runs.FirstOrDefault(run => !run.IsUndone && !run.IsGivenUp && !run.IsBroken
            && run.BegunFact(label.Company, "from") == label.DataVersion
            && run.IsDone(label.Company, Stages.ChangeOver)) is { } run)
            return $"the last sound one of version {label.DataVersion}, and the run {run.Id} from it can still be undone";
        return rules.Now - label.MadeAt < rules.KeepEachVersion
            ? string.Create(CultureInfo.InvariantCulture,
                $"the last sound one of version {label.DataVersion}, and younger than {rules.KeepEachVersion.TotalDays:0} days") : null;
    }
}
