// FindingComparison.cs: what became of the findings of one check in a later one: gone, still there, new.
// Why by kind, table and subject: after an upgrade tables and columns have other names; the hops say which, and rules keep theirs.
using Transferra.Core.Kits;

namespace Transferra.Core.Checks;

/// <summary>What became of a finding.</summary>
/// <param name="State">gone, stayed or new.</param>
/// <param name="Kind">Its kind.</param>
/// <param name="Table">The table, as the later check names it when it stayed or is new.</param>
/// <param name="What">What it is.</param>
/// <param name="Before">Count in the earlier check.</param>
/// <param name="After">Count in the later one.</param>
public sealed record ComparedFinding(string State, string Kind, string Table, string What, long Before, long After);

/// <summary>Compares checks.</summary>
/// <param name="Since">What the earlier check was: a time, or a stage.</param>
/// <param name="Findings">New ones first, then those that stayed, then those that are gone.</param>
public sealed record FindingComparison(string Since, IReadOnlyList<ComparedFinding> Findings)
{
    /// <summary>How many findings have a state.</summary>
    public int Count(string state) => Findings.Count(finding => finding.State == state);

    /// <summary>Compares two checks of a company.</summary>
    /// <param name="since">What the earlier one was.</param>
    /// <param name="before">The earlier one.</param>
    /// <param name="after">The later one.</param>
    /// <param name="way">What answers to what, for the hops that were gone between the two; none when the version is the same.</param>
    public static FindingComparison Of(string since, CheckResult before, CheckResult after, IReadOnlyList<Correspondence> way)
    {
        var left = new List<Finding>(after.Findings);
        var compared = new List<ComparedFinding>();
        foreach (Finding old in before.Findings)
        {
            Finding? still = left.FirstOrDefault(finding => IsSame(old, finding, way));
            if (still is not null) left.Remove(still);
            compared.Add(still is null ? new ComparedFinding("gone", old.Kind, old.Table, old.What, old.Count, 0)
                : new ComparedFinding("stayed", still.Kind, still.Table, still.What, old.Count, still.Count));
        }
        string[] order = ["new", "stayed", "gone"];
        compared.AddRange(left.Select(finding => new ComparedFinding("new", finding.Kind, finding.Table, finding.What, 0, finding.Count)));
        return new FindingComparison(since, [.. compared.OrderBy(finding => Array.IndexOf(order, finding.State))]);
    }

    private static bool IsSame(Finding old, Finding now, IReadOnlyList<Correspondence> way)
    {
        if (old.Kind != now.Kind) return false;
        var names = new List<(string Table, string Subject)> { (old.Table, old.Subject) };
        foreach (Correspondence hop in way) names = [.. names.SelectMany(name => hop.NamesOf(name.Table, name.Subject))];
        return names.Exists(name => Same(name.Table, now.Table) && Same(name.Subject, now.Subject));
    }

    private static bool Same(string a, string b) => string.Equals(a, b, StringComparison.OrdinalIgnoreCase);
}
