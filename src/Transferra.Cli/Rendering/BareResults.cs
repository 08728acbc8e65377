// BareResults.cs: how a match of two places is told of which nobody has described anything: what is not the same, and one line for the
// rest.
using Transferra.Core.Matching;
using Transferra.Core.Runs;

namespace Transferra.Cli.Rendering;

/// <summary>Tells it.</summary>
internal static class BareResults
{
    private const int MostPlaces = 40, MostDeclared = 20;

    public static void Match(Screen screen, WayMatched matched)
    {
        MatchResult match = matched.Hops[0];
        TableMatch[] same = [.. match.Tables.Where(table => table.IsSame)], others = [.. match.Tables.Where(table => !table.IsSame)];
        bool hasColumns = matched.OnOneSide.Any(part => part.What.StartsWith("the column", StringComparison.Ordinal));
        screen.Line((matched.Sampled.Count > 0 ? "The same in both, as far as they were compared: " : "The same in both: ")
            + $"{Results.Count(same.Length, "table")}, {Results.Number(same.Sum(table => table.Found))} records"
            + (hasColumns ? ", in the columns that both have." : "."));
        if (others.Length > 0)
        {
            screen.Bad($"Not the same: {Results.Count(others.Length, "table")}");
            screen.Table(["Table", ">Old", ">New", ">Missing", ">Extra", ">Changed", "Changed in"], others.Take(MostPlaces).Select(table =>
                (IReadOnlyList<string>)[table.Table, Results.Number(table.Expected), Results.Number(table.Found),
                    Results.Number(table.Missing), Results.Number(table.Extra), Results.Number(table.Changed),
                    string.Join(", ", table.ChangedColumns.OrderByDescending(column => column.Value).Select(column =>
                        $"{column.Key} ({Results.Number(column.Value)})"))]));
            if (others.Length > MostPlaces) screen.Line("All of them: transferra match --json");
            Results.Changes(screen, others);
            Results.Listed(screen, match, others);
        }
        ChildrenText.Tell(screen, match);
        foreach (IGrouping<bool, OnOneSide> side in matched.OnOneSide.GroupBy(part => part.IsGone))
        {
            screen.Bad($"Only in the {(side.Key ? "old" : "new")} place:");
            foreach (OnOneSide part in side.Take(MostPlaces)) screen.Line("  - " + Bare(part.What));
            if (side.Count() > MostPlaces) screen.Line($"  and {Results.Number(side.Count() - MostPlaces)} more: transferra match --json");
        }
        // What is left out is said above; what has another name, or other codes, is seen here.
        foreach (Proposal proposal in matched.Proposals.Where(proposal => !proposal.Line.Contains("left-out", StringComparison.Ordinal)))
            screen.Line($"Perhaps renamed or recoded: {proposal.Line.TrimStart('-', ' ')} ({proposal.Evidence})");
        Declarations(screen, match);
        Results.Share(screen, matched);
        foreach (NotLookedAt left in matched.NotLookedAt)
        {
            string line = $"Not looked at, in the {left.Side} place: {left.What}"
                + (left.Records > 0 ? $" ({Results.Count(left.Records, "record")})" : "");
            if (left.Allows == Verdict.Proved) screen.Line(line);
            else screen.Look(line);
        }
        Conclude(screen, matched, same.Sum(table => table.Found));
    }

    private static void Declarations(Screen screen, MatchResult match)
    {
        if (match.Declarations is not { } matched)
        {
            screen.Line("Not looked at: what each declares beside its records, which takes two stores of one engine.");
            return;
        }
        DeclarationDifference[] others = [.. BareMatch.DeclaredOtherwise(match)];
        screen.Line($"Declarations: {Results.Number(matched.Counts.Sum(count => count.Old))} of {Results.Number(matched.Counts.Count)} "
            + "kinds in the old place, " + (others.Length switch
            {
                0 => "the same in the new one.",
                1 => "of which one is not the same.",
                _ => $"and {Results.Number(others.Length)} that are not the same."
            }));
        // Tables and columns that only one has are named above, and all that belongs to them goes with them.
        var named = new HashSet<string>(others.Where(IsPart).Select(other => other.Name), StringComparer.OrdinalIgnoreCase);
        others = [.. others.Where(other => !IsPart(other) && !named.Contains(other.Name) && !named.Contains(other.Name.Split('.')[0]))];
        if (others.Length == 0) return;
        screen.Line("Of those, beside what belongs to the tables and columns above:");
        screen.Table(["What", "Name", "Old", "New"], others.Take(MostDeclared).Select(other => (IReadOnlyList<string>)
            [other.Kind, other.Name, other.Old ?? "(none)", other.New ?? "(none)"]));
        if (others.Length > MostDeclared) screen.Line("All of them: transferra match --json");
    }

    private static bool IsPart(DeclarationDifference other) => other.Kind is "table" or "column"
        && (other.Old is null || other.New is null);

    // There is no kit that could say anything.
    private static string Bare(string what) => what.Replace("; the kit does not say why", "", StringComparison.Ordinal)
        .Replace(", and the hop does not say how one becomes the other", "", StringComparison.Ordinal);

    // A sample is never called proved, and what it says is said with it.
    private static void Sampled(Screen screen, WayMatched matched)
    {
        foreach (SampledTable table in matched.Sampled) screen.Line(table.Words);
        if (matched.Differences == 0 && matched.Verdict != Verdict.NotProved)
            screen.Look("No difference in the sample. That is no proof: leave out --sample to compare all.");
        else screen.Bad("NOT the same.");
    }

    private static void Conclude(Screen screen, WayMatched matched, long records)
    {
        if (matched.Sampled.Count > 0) Sampled(screen, matched);
        else if (BareMatch.IsSame(matched))
            screen.Good($"Proved: both hold the same {Results.Number(records)} records, every value compared"
                + (matched.Hops[0].Declarations is null || matched.NotLookedAt.Count > 0 ? "; what was not looked at is named above."
                    : "."));
        else if (matched.Verdict is Verdict.Proved or Verdict.ProvedInPart)
            screen.Look($"Every record of the old place is in the new one, {Results.Number(records)}, every value compared; what else is "
                + "not the same, or was not looked at, is named above.");
        else screen.Bad("NOT the same.");
    }
}
