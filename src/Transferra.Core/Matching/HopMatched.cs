// HopMatched.cs: what the match of one hop came to, kept so that the store between two hops can be let go once both are proved.
using System.Text.Json.Serialization;
using Transferra.Core.Kits;

namespace Transferra.Core.Matching;

/// <summary>A hop that was matched.</summary>
/// <param name="Match">Its records, totals and declarations.</param>
/// <param name="OnOneSide">Where others converted, what only one of its stores has.</param>
/// <param name="Proposals">What would explain what does not come out even.</param>
/// <param name="LeftOfOld">Of the first hop: what of the old store nothing looks at.</param>
public sealed record HopMatched(MatchResult Match, IReadOnlyList<OnOneSide> OnOneSide, IReadOnlyList<Proposal> Proposals,
    IReadOnlyList<NotLookedAt> LeftOfOld)
{
    /// <summary>What answered to what; null of one that was kept.</summary>
    [JsonIgnore]
    internal Correspondence? Actual { get; init; }

    /// <summary>Whether nothing of it is in need of an answer, so that nobody has to look at its stores again.</summary>
    public bool IsProved => Match.IsSame && OnOneSide.All(part => !part.IsGone);
}
