// Finding.cs: one thing a check turned up, and the list of all of a company. The kinds: FindingKinds.cs.
using System.Text.Json.Serialization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>What a finding does to the upgrade.</summary>
[JsonConverter(typeof(InWords<Grade>))]
public enum Grade
{
    /// <summary>The company may not change over while it stands.</summary>
    Fault,
    /// <summary>The company may go on; somebody should look.</summary>
    Warning,
    /// <summary>Good to know.</summary>
    Note,
}

/// <summary>One thing a check turned up.</summary>
/// <param name="Kind">A word of docs/findings.md, such as "orphan".</param>
/// <param name="Grade">What it does to the upgrade.</param>
/// <param name="Table">The table; "" when the store as a whole is meant.</param>
/// <param name="Count">Records, or groups of records, concerned.</param>
/// <param name="What">What it is, one sentence without full stop.</param>
/// <param name="Examples">The first keys, at most five, with the value where one is to blame.</param>
/// <param name="Next">What to do.</param>
/// <param name="IsMendable">Whether a declared rule puts it right: on the way, or by a mend.</param>
public sealed record Finding(string Kind, Grade Grade, string Table, long Count, string What, IReadOnlyList<string> Examples, string Next,
    bool IsMendable)
{
    /// <summary>What of the table it is about: columns, a rule's name, a relation; "" for the table as a whole. With kind and table it
    /// says whether two checks found the same.</summary>
    public string Subject { get => field ?? ""; init; }

    /// <summary>Name of the file that lists every record concerned; "" when the examples are all, or nothing was listed.</summary>
    public string List { get => field ?? ""; init; }

    /// <summary>The mend that puts it right, as kits spell it; "" when none is allowed.</summary>
    public string Mend { get => field ?? ""; init; }
}

/// <summary>What a check read and what it turned up.</summary>
/// <param name="Version">Data version it was checked as.</param>
/// <param name="Tables">Records by table; of a damaged store those that can be read.</param>
/// <param name="Findings">Faults first.</param>
public sealed record CheckResult(string Version, IReadOnlyDictionary<string, long> Tables, IReadOnlyList<Finding> Findings)
{
    /// <summary>What cannot be read of a damaged store.</summary>
    public IReadOnlyList<LostPart> Lost { get => field ?? []; init; }

    /// <summary>What became of the findings of an earlier check; null when there is none to compare with.</summary>
    public FindingComparison? Compared { get; init; }

    /// <summary>Findings that stop the company.</summary>
    public int Faults => Findings.Count(finding => finding.Grade == Grade.Fault);

    /// <summary>Whether the store can be read and has the tables the kit expects.</summary>
    public bool IsReadable => !Findings.Any(finding => finding.Grade == Grade.Fault && FindingKinds.StopsReading(finding.Kind));
}
