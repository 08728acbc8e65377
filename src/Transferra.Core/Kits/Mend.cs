// Mend.cs: what a kit allows to be put right in old data, on a copy. Format: docs/kits.md.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>What is put right.</summary>
[JsonConverter(typeof(InWords<MendKind>))]
public enum MendKind
{
    /// <summary>Exact copies of a record are taken out but one.</summary>
    DropCopies,
    /// <summary>Records that point to none are taken out and kept in a list.</summary>
    SetOrphansAside,
    /// <summary>A stored total becomes what it is the total of.</summary>
    Recompute,
    /// <summary>Text that was decoded twice is decoded once.</summary>
    DecodeAgain,
    /// <summary>Blanks and control characters at the ends of a text are taken off.</summary>
    Trim,
    /// <summary>Indexes are built anew.</summary>
    RebuildIndexes,
    /// <summary>Counting goes on behind the highest number that is there.</summary>
    SetPositions,
}

/// <summary>A mend that the kit allows.</summary>
/// <param name="Kind">What is put right.</param>
/// <param name="Table">Where; null when the whole store is meant.</param>
/// <param name="Columns">Which columns; for a stored total, that one.</param>
/// <param name="Rule">The rule that a stored total breaks; null otherwise.</param>
/// <param name="Because">Why it is safe.</param>
public sealed record Mend(MendKind Kind, TableShape? Table, IReadOnlyList<string> Columns, GroupRule? Rule, string Because)
{
    /// <summary>How kits spell the kinds.</summary>
    public static readonly IReadOnlyDictionary<string, MendKind> Names = new Dictionary<string, MendKind>
    {
        ["drop-copies"] = MendKind.DropCopies,
        ["set-orphans-aside"] = MendKind.SetOrphansAside,
        ["recompute"] = MendKind.Recompute,
        ["decode-again"] = MendKind.DecodeAgain,
        ["trim"] = MendKind.Trim,
        ["rebuild-indexes"] = MendKind.RebuildIndexes,
        ["set-positions"] = MendKind.SetPositions,
    };

    /// <summary>How kits spell this one.</summary>
    public string Name => Names.First(entry => entry.Value == Kind).Key;
}
