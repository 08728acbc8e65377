// ChildrenText.cs: how many records point to each one that is pointed to, old against new, in words.
using Transferra.Core.Matching;

namespace Transferra.Cli.Rendering;

internal static class ChildrenText
{
    private const int MostLinks = 12, MostParents = 5;

    public static void Tell(Screen screen, MatchResult match)
    {
        IReadOnlyList<ChildrenMatched> links = match.Children;
        if (links.Count == 0) return;
        ChildrenMatched[] others = [.. links.Where(link => !link.IsSame).OrderByDescending(link => link.Differing)];
        if (others.Length == 0)
        {
            screen.Line($"  children per parent: {Results.Count(links.Count, "link")} between tables; each record pointed to has as many "
                + "pointing to it as it should" + (match.NotCarried == 0 ? "" : $", leaving aside the {Results.Count(match.NotCarried,
                    "old record")} not carried"));
            return;
        }
        screen.Bad($"  children per parent: not the same in {Results.Number(others.Length)} of {Results.Count(links.Count, "link")}:");
        screen.Table(["Link", ">Parents", ">Children", ">With another number", ">Fewer", ">More"], others.Take(MostLinks).Select(link =>
            (IReadOnlyList<string>)[Name(link), Results.Number(link.Parents), Results.Number(link.Records), Results.Number(link.Differing),
                Results.Number(link.Fewer), Results.Number(link.More)]));
        foreach (ChildrenMatched link in others.Take(MostLinks))
            screen.Line($"    {Name(link)}: " + string.Join("; ", link.First.Take(MostParents).Select(Said))
                + (link.Differing > MostParents ? "; ..." : ""));
        if (others.Length > MostLinks || others.Any(link => link.Differing > MostParents)) screen.Line("    More: transferra match --json");
    }

    private static string Name(ChildrenMatched link) => $"{link.Table}.{string.Join("+", link.Columns)} -> {link.Parent}";

    private static string Said(ParentChange one) => one.Change < 0 ? $"{one.Parent} has {Results.Number(-one.Change)} fewer"
        : $"{one.Parent} has {Results.Number(one.Change)} more";
}
