// MatchedSinceText.cs: a store against what a run recorded of it, in words.
using System.Globalization;
using Transferra.Core.Matching;
using static Transferra.Cli.Rendering.Results;

namespace Transferra.Cli.Rendering;

internal static class MatchedSinceText
{
    /// <summary>Tells it.</summary>
    public static void Tell(Screen screen, string company, SinceRecorded since)
    {
        screen.Line(string.Create(CultureInfo.InvariantCulture,
            $"So the new store is compared with what the run recorded when it matched it, {since.At.UtcDateTime:yyyy-MM-dd HH:mm} UTC: "
            + $"digests of its records, not the records themselves."));
        Tables(screen, since);
        if (since.NotRecorded.Count > 0)
            screen.Line("  Not compared, because they were not matched then: " + string.Join(", ", since.NotRecorded));
        string then = since.Verdict switch
        {
            Verdict.Proved => "they were proved to be those of the old store",
            Verdict.AnsweredFor => "somebody answered for what differed from the old store",
            Verdict.ProvedInPart => "they were only proved in part to be those of the old store",
            _ => "they were NOT proved to be those of the old store"
        };
        if (!since.IsSame)
        {
            screen.Bad($"NOT unaltered for {company}: in {Count(since.Tables.Count(table => !table.IsSame), "table")}, records from then "
                + "were altered or removed, or others were added among them. Only the old data can tell which: bring back a backup set and "
                + "match with it.");
            return;
        }
        Action<string> tell = since.Later > 0 || since.Verdict != Verdict.Proved ? screen.Look : screen.Good;
        tell($"Unaltered for {company}: all records from then are still there, {Added(since)}. At that match, {then}.");
    }

    /// <summary>Tells what came of holding a store against a set's baseline.</summary>
    /// <param name="screen">Where it is told.</param>
    /// <param name="since">What came of it.</param>
    /// <param name="bothSets">Whether both sides are sets, of which only the baselines were looked at.</param>
    public static void TellBaseline(Screen screen, SinceRecorded since, bool bothSets)
    {
        Tables(screen, since);
        if (since.NotRecorded.Count > 0)
            screen.Look("Only in the new one: " + string.Join(", ", since.NotRecorded));
        if (!since.IsSame)
            screen.Bad($"NOT the same: in {Count(since.Tables.Count(table => !table.IsSame), "table")}, records were altered or removed, "
                + "or others were added among them. To see which, match without --baseline.");
        else
            (since.Later > 0 || since.NotRecorded.Count > 0 ? (Action<string>)screen.Look : screen.Good)(
                $"The same: all records that the set tells of are there unaltered, {Added(since)}. Digests were compared; "
                + (bothSets ? "both are from when the sets were made. " : "those of the set are from when it was made. ")
                + "Whether a set is sound, transferra sets --prove tells.");
    }

    private static void Tables(Screen screen, SinceRecorded since) => screen.Table(["Table", ">Records then", ">Records now",
        ">Added at the end", "Unaltered"], since.Tables.Select(table => (IReadOnlyList<string>)[table.Table, Number(table.Then),
            Number(table.Now), Number(table.Later), Told(table)]));

    private static string Added(SinceRecorded since) => since.Later == 0 ? "and none was added"
        : $"and {Count(since.Later, "record")} {(since.Later == 1 ? "was" : "were")} added at the end";

    private static string Told(SinceTable table) => table switch
    {
        { NotCompared.Length: > 0 } => "NO: " + table.NotCompared,
        { IsSame: true } => "yes",
        { Groups: 1 } => "NO",
        _ => $"NO, in {Number(table.Differing)} of {table.Groups} groups"
    };
}
