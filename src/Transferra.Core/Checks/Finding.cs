// Finding.cs: one thing a check turned up, and the list of all of a company. The kinds are explained in docs/findings.md.
namespace Transferra.Core.Checks;

/// <summary>What a finding does to the upgrade.</summary>
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
/// <param name="IsMendable">Whether a declared rule puts it right on the way.</param>
public sealed record Finding(string Kind, Grade Grade, string Table, long Count, string What, IReadOnlyList<string> Examples, string Next, bool IsMendable);

/// <summary>What a check read and what it turned up.</summary>
/// <param name="Version">Data version it was checked as.</param>
/// <param name="Tables">Records by table.</param>
/// <param name="Findings">Faults first.</param>
public sealed record CheckResult(string Version, IReadOnlyDictionary<string, long> Tables, IReadOnlyList<Finding> Findings)
{
    /// <summary>Findings that stop the company.</summary>
    public int Faults => Findings.Count(finding => finding.Grade == Grade.Fault);

    /// <summary>Whether the store can be read and has the tables the kit expects.</summary>
    public bool IsReadable => !Findings.Any(finding => finding is { Grade: Grade.Fault, Kind: FindingKinds.Damaged or FindingKinds.TableMissing or FindingKinds.ColumnMissing or FindingKinds.TableUnknown or FindingKinds.ColumnUnknown });
}

/// <summary>The kinds of finding.</summary>
public static class FindingKinds
{
    /// <summary>The engine itself complains.</summary>
    public const string Damaged = "damaged";
    /// <summary>A table of the kit is not there.</summary>
    public const string TableMissing = "table-missing";
    /// <summary>A column of the kit is not there.</summary>
    public const string ColumnMissing = "column-missing";
    /// <summary>A table that the kit does not know.</summary>
    public const string TableUnknown = "table-unknown";
    /// <summary>A column that the kit does not know.</summary>
    public const string ColumnUnknown = "column-unknown";
    /// <summary>Records that are there twice, the same in every column.</summary>
    public const string ExactCopies = "exact-copies";
    /// <summary>Records with the same key that differ.</summary>
    public const string ConflictingKey = "conflicting-key";
    /// <summary>Records that point to one that is not there.</summary>
    public const string Orphan = "orphan";
    /// <summary>Records with a value that cannot be converted.</summary>
    public const string NotConvertible = "not-convertible";
    /// <summary>A rule of the books that does not hold.</summary>
    public const string RuleBroken = "rule-broken";
}
