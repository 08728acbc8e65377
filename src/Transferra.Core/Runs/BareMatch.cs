// BareMatch.cs: two stores against each other of which nobody has described anything: tables and columns of the same name answer to each
// other, every value of every record is compared, and what only one of them has is named.
// Holds: (1) both are only read; (2) they count as the same only when neither has a record, value, table, column
// or, on one engine, declaration that the other has not.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Means;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One of two stores.</summary>
/// <param name="Address">Where it is.</param>
/// <param name="Tables">What is known of its tables, as a set tells it; none where the store itself tells.</param>
/// <param name="TextEncoding">Code page of its texts; null for UTF-8, and where it tells by itself.</param>
/// <param name="Private">Tables, and columns as TABLE.COLUMN, whose values are not shown.</param>
public sealed record BareSide(StoreAddress Address, IReadOnlyList<TableShape> Tables, string? TextEncoding, IReadOnlyList<string> Private);

/// <summary>Matches without a kit.</summary>
public static class BareMatch
{
    /// <summary>Matches two stores.</summary>
    /// <param name="stores">Opens them.</param>
    /// <param name="old">What is taken for right.</param>
    /// <param name="renewed">What is held against it.</param>
    /// <param name="observer">Hears the progress.</param>
    /// <param name="cancel">Stops.</param>
    /// <param name="every">Hears of every difference; null where nobody wants them all.</param>
    /// <param name="sample">How many records of a large table are compared, drawn at random; null for all.</param>
    public static WayMatched Run(IStoreOpener stores, BareSide old, BareSide renewed, IProgressObserver observer, CancellationToken cancel,
        Action<string, Difference>? every = null, long? sample = null)
    {
        (old, renewed) = (Typed(stores, old, renewed), Typed(stores, renewed, old));
        KitVersion from = Version("old", old), to = Version("new", renewed);
        var correspondence = new Correspondence(from, to, [], new Dictionary<string, string>(), [], "no kit")
        {
            IsByOthers = true,
            IsOnCopy = old.Address.Engine == renewed.Address.Engine && old.Tables.Count + renewed.Tables.Count == 0
        };
        var hop = new Hop(KnownKinds.All.Beginnings[0], KnownKinds.All.Means.First(means => !means.GoesByMaps), correspondence, [],
            "no kit")
        {
            ByNames = new HopByNames(DescribedMap.Nothing("no kit"), KnownKinds.All, [])
        };
        BareSide[] sides = [old, renewed];
        IStore open(int at) => stores.Open(sides[at].Address, sides[at].TextEncoding);
        SampleDraw? draw = sample is { } records ? Draw(open, records, cancel) : null;
        WayMatched matched = WayMatch.Run(new Way(from, [hop]), at => draw is null ? open(at) : at == 0 ? draw.Old(open(at))
            : draw.New(open(at)), _ => RefusedRecords.None, new Dictionary<string, string>(), observer,
            new BesideStores { Every = every }, cancel);
        return draw?.Told(matched) ?? matched;
    }

    private static SampleDraw Draw(Func<int, IStore> open, long records, CancellationToken cancel)
    {
        using IStore old = open(0), renewed = open(1);
        return new SampleDraw(old, renewed, records, Random.Shared, cancel);
    }

    // Files that say nothing of types are read as what the other side has under the same names.
    private static BareSide Typed(IStoreOpener stores, BareSide side, BareSide other)
    {
        if (side.Tables.Count > 0 || side.Address.Engine is not ("json-lines" or "delimited")) return side;
        if (other.Tables.Count > 0) return side with { Tables = other.Tables };
        using IStore store = stores.Open(other.Address, other.TextEncoding);
        return side with { Tables = store.ReadShape() };
    }

    /// <summary>Whether both hold the same, whichever is taken for right.</summary>
    public static bool IsSame(WayMatched matched) => matched.Verdict == Verdict.Proved && matched.OnOneSide.Count == 0
        && !DeclaredOtherwise(matched.Hops[0]).Any();

    /// <summary>What one declares and the other does not, or otherwise; none where they are of two engines.</summary>
    public static IEnumerable<DeclarationDifference> DeclaredOtherwise(MatchResult match) => match.Declarations?.Differences
        .Where(difference => !difference.IsOtherWriting) ?? [];

    private static KitVersion Version(string name, BareSide side)
    {
        var version = new KitVersion(name, [], side.TextEncoding, [], new Dictionary<string, string>(), [], [], [])
        {
            Private = side.Private
        };
        return version with
        {
            Tables = [.. side.Tables.Select(table => table with
            {
                Columns = [.. table.Columns.Select(column => column with { IsPrivate = version.IsPrivate(table.Name, column.Name) })]
            })]
        };
    }
}
