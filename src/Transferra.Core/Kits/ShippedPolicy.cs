// ShippedPolicy.cs: what becomes of the records that the vendor's new program ships in a table into which ours go.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Kits;

/// <summary>What becomes of shipped records.</summary>
[JsonConverter(typeof(InWords<ShippedPolicy>))]
public enum ShippedPolicy
{
    /// <summary>They go, and ours take their place.</summary>
    Replace,
    /// <summary>They stay; of ours those with the same key are left out.</summary>
    Keep,
    /// <summary>Those with a key that ours have go; the others stay.</summary>
    Merge,
    /// <summary>They stay, and ours get higher numbers, also where others point to them.</summary>
    Renumber,
    /// <summary>There must be none.</summary>
    Refuse,
}

/// <summary>What became of the shipped records of a table.</summary>
/// <param name="Table">The new table.</param>
/// <param name="Policy">What the kit says.</param>
/// <param name="Shipped">How many there were.</param>
/// <param name="Overwritten">How many of them are not in the new store any more.</param>
/// <param name="Offset">By how much our numbers were raised; 0 where they were not.</param>
public sealed record ShippedAccount(string Table, ShippedPolicy Policy, long Shipped, long Overwritten, long Offset)
{
    /// <summary>Columns that point to ours and were raised with them, as TABLE.COLUMN; what nobody declared to point there does not
    /// follow.</summary>
    public IReadOnlyList<string> Following { get => field ?? []; init; }

    /// <summary>What became of ours, in words; "" when nothing did.</summary>
    public string Raised => Offset == 0 ? "" : FormattableString.Invariant($"our records in {Table} get numbers above {Offset}, ")
        + (Following.Count > 0 ? $"and {string.Join(", ", Following)} with them" : "and nothing is declared to point to them");
}
