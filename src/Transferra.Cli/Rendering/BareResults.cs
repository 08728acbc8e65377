// BareResults.cs: how a match of two places is told of which nobody has described anything: what is not the same, and one line for the
// rest.
using Transferra.Core.Matching;
using Transferra.Core.Runs;

namespace Transferra.Cli.Rendering;

/// <summary>Tells it.</summary>
internal static class BareResults
{
    private const int MostPlaces = 40;

    public static void Match(Screen screen, WayMatched matched)
    {
        MatchResult match = matched.Hops[0];
        TableMatch[] same = [.. match.Tables.Where(table => table.IsSame)], others = [.. match.Tables.Where(table => !table.IsSame)];
        screen.Line($"The same in both: {Results.Count(same.Length, "table")}, {Results.Number(same.Sum(table => table.Found))} records.");
        if (others.Length > 0)
        {
            screen.Bad($"Not the same: {Results.Count(others.Length, "table")}");
            screen.Table(["Table", ">Old", ">New", ">Missing", ">Extra", ">Changed", "Changed in"], others.Take(MostPlaces).Select(table =>
                (IReadOnlyList<string>)[table.Table, Results.Number(table.Expected), Results.Number(table.Found),
                    Results.Number(table.Missing), Results.Number(table.Extra), Results.Number(table.Changed),
                    string.Join(", ", table.ChangedColumns.OrderByDescending(column => column.Value).Select(column =>
                        $"{column.Key} ({Results.Number(column.Value)})"))]));
            if (others.Length > MostPlaces) screen.Line("All of them: transferra match --json");
            Results.Listed(screen, match, others);
        }
        foreach (IGrouping<bool, OnOneSide> side in matched.OnOneSide.GroupBy(part => part.IsGone))
        {
            screen.Bad($"Only in the {(side.Key ? "old" : "new")} place:");
            foreach (OnOneSide part in side.Take(MostPlaces)) screen.Line("  - " + Bare(part.What));
            if (side.Count() > MostPlaces) screen.Line($"  and {Results.Number(side.Count() - MostPlaces)} more: transferra match --json");
        }
        // What is left out is said above; what has another name, or other codes, is seen here.
        foreach (Proposal proposal in matched.Proposals.Where(proposal => !proposal.Line.Contains("left-out", StringComparison.Ordinal)))
            screen.Line($"It looks like this: {proposal.Line.Trim()}  ({proposal.Evidence})");
        if (match.Declarations is { } declarations) Results.Declarations(screen, declarations, byOthers: false);
        foreach (NotLookedAt left in matched.NotLookedAt.Where(left => left.Allows != Verdict.Proved))
            screen.Look($"Not looked at, in the {left.Side} place: {left.What}"
                + (left.Records > 0 ? $" ({Results.Count(left.Records, "record")})" : ""));
        Conclude(screen, matched, same.Sum(table => table.Found));
    }

    // There is no kit that could say anything.
    private static string Bare(string what) => what.Replace("; the kit does not say why", "", StringComparison.Ordinal)
        .Replace(", and the hop does not say how one becomes the other", "", StringComparison.Ordinal);

    private static void Conclude(Screen screen, WayMatched matched, long records)
    {
        if (BareMatch.IsSame(matched)) screen.Good($"Proved: both hold the same {Results.Number(records)} records, every value compared.");
        else if (matched.Verdict is Verdict.Proved or Verdict.ProvedInPart)
            screen.Look($"Every record of the old place is in the new one, {Results.Number(records)}, every value compared; what else is "
                + "not the same, or was not looked at, is named above.");
        else screen.Bad("NOT the same.");
    }
}
