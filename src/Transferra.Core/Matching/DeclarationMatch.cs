// DeclarationMatch.cs: whether what the old store declares (keys, defaults, indexes, views, triggers, rights) stands in the new one.
// Both lists are read from the engines anew. What the hop itself changes is told apart from what nobody spoke of.
// Between releases of an engine, what is only written otherwise is told and is no loss (ReleaseWriting.cs).
// Holds: (1) a declaration that is gone or is another one, and that the hop does not account for, leaves less than "proved".
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>A declaration that is not the same in both stores.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Name">Its name.</param>
/// <param name="Old">What the old store says; null when it has none.</param>
/// <param name="New">What the new store says; null when it has none.</param>
/// <param name="ByHop">Whether the hop accounts for it: it is of a table or column that the hop changes.</param>
public sealed record DeclarationDifference(string Kind, string Name, string? Old, string? New, bool ByHop)
{
    /// <summary>Whether the servers are of different releases and write it differently: the same but for blanks and for the tables before
    /// the columns.</summary>
    public bool IsOtherWriting { get; init; }
}

/// <summary>How many there are of a kind.</summary>
public sealed record DeclarationCount(string Kind, int Old, int New);

/// <summary>The declarations of two stores, compared.</summary>
/// <param name="Counts">How many of each kind, by kind.</param>
/// <param name="Differences">All that differ.</param>
public sealed record DeclarationsMatched(IReadOnlyList<DeclarationCount> Counts, IReadOnlyList<DeclarationDifference> Differences)
{
    /// <summary>Those that nothing accounts for, and that the old store had.</summary>
    public IReadOnlyList<DeclarationDifference> Lost =>
        [.. Differences.Where(difference => difference is { ByHop: false, IsOtherWriting: false, Old: not null })];
}

/// <summary>Compares declarations.</summary>
internal static class DeclarationMatch
{
    /// <summary>Compares those of a store with those of one that began as its copy.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="renewed">The new one.</param>
    /// <param name="hop">What answers to what.</param>
    public static DeclarationsMatched Run(IStore old, IStore renewed, Correspondence hop)
    {
        (StoreDeclaration[] was, StoreDeclaration[] now) = Compared(old, renewed);
        var names = new SpokenOf(hop);
        List<DeclarationDifference> differences = WithWhatWasTheirs(Differences(was, now, names.AccountFor));
        if (old.Identity.EngineVersion != renewed.Identity.EngineVersion)
            differences = [.. differences.Select(difference => difference with
            {
                IsOtherWriting = difference is { ByHop: false, Old: { } was, New: { } now } && ReleaseWriting.IsSame(was, now)
            })];
        return new DeclarationsMatched(Counts(was, now), differences);
    }

    /// <summary>Compares those of a converted store with those of one that the new program made when it was first started. An old store
    /// after many conversions is rarely what a new one is; nothing follows from it, but it should be seen.</summary>
    /// <param name="fresh">The one that the new program made.</param>
    /// <param name="converted">The converted one.</param>
    public static DeclarationsMatched WithFresh(IStore fresh, IStore converted)
    {
        (StoreDeclaration[] was, StoreDeclaration[] now) = Compared(fresh, converted);
        return new DeclarationsMatched(Counts(was, now), Differences(was, now, (_, _) => false));
    }

    private static DeclarationCount[] Counts(StoreDeclaration[] was, StoreDeclaration[] now) => [.. was.Concat(now)
        .Select(thing => thing.Kind).Distinct().Order(StringComparer.Ordinal).Select(kind => new DeclarationCount(kind,
            was.Count(thing => thing.Kind == kind), now.Count(thing => thing.Kind == kind)))];

    private static List<DeclarationDifference> Differences(StoreDeclaration[] was, StoreDeclaration[] now,
        Func<StoreDeclaration, bool, bool> isAccountedFor)
    {
        var differences = new List<DeclarationDifference>();
        Dictionary<(string, string), StoreDeclaration[]> left = now.GroupBy(thing => (thing.Kind, thing.Name))
            .ToDictionary(same => same.Key, same => same.ToArray());
        foreach (IGrouping<(string Kind, string Name), StoreDeclaration> same in was.GroupBy(thing => (thing.Kind, thing.Name)))
        {
            StoreDeclaration[] other = left.GetValueOrDefault(same.Key) ?? [];
            left.Remove(same.Key);
            if (other.Select(thing => thing.Text).Order(StringComparer.Ordinal)
                .SequenceEqual(same.Select(thing => thing.Text).Order(StringComparer.Ordinal))) continue;
            differences.Add(new DeclarationDifference(same.Key.Kind, same.Key.Name, Texts(same), other.Length == 0 ? null : Texts(other),
                isAccountedFor(same.First(), other.Length > 0)));
        }
        differences.AddRange(left.Values.Select(added => new DeclarationDifference(added[0].Kind, added[0].Name, null, Texts(added),
            isAccountedFor(added[0], true))));
        return differences;
    }

    // Rights, columns and comments of what the hop takes away go with it.
    private static List<DeclarationDifference> WithWhatWasTheirs(List<DeclarationDifference> differences)
    {
        string[] gone = [.. differences.Where(difference => difference is { ByHop: true, New: null, Kind: "view" or "materialized view"
            or "table" or "function" or "procedure" }).Select(difference => difference.Name.Split('(')[0])];
        return gone.Length == 0 ? differences : [.. differences.Select(difference => difference.New is null
            && gone.Any(name => SpokenOf.Mentions(difference.Name, name)) ? difference with { ByHop = true } : difference)];
    }

    // What belongs to the place is not in a store that was set aside, and says nothing then; where both have it, it is compared.
    private static (StoreDeclaration[] Was, StoreDeclaration[] Now) Compared(IStore old, IStore renewed)
    {
        IReadOnlyList<StoreDeclaration> was = old.Declarations(), now = renewed.Declarations();
        return (Moving(was, now), Moving(now, was));
    }

    private static StoreDeclaration[] Moving(IReadOnlyList<StoreDeclaration> things, IReadOnlyList<StoreDeclaration> others)
    {
        HashSet<(string, string)> there = [.. others.Select(thing => (thing.Kind, thing.Name))];
        return [.. things.Where(thing => !thing.IsOfPlace || there.Contains((thing.Kind, thing.Name)))];
    }

    private static string Texts(IEnumerable<StoreDeclaration> things) => string.Join('\n', things.Select(thing => thing.Text));
}
