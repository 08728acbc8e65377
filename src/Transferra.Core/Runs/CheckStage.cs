// CheckStage.cs: the check before, on the old store, and the check after, on the new one in its place.
using Transferra.Core.Checks;

namespace Transferra.Core.Runs;

/// <summary>The full scan before anything is done. Only damage stops here; what else is found is weighed before the change-over.</summary>
public sealed class CheckStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Check;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        CheckResult result = On.Check(On.Company.OldStore, On.From, On.Way.Count > 0 ? On.Way[0] : On.Ahead, Name);
        On.SaveResult(Name, result);
        string summary = result.Findings.Count == 0 ? "nothing found" : $"{result.Faults} faults, {result.Findings.Count - result.Faults} others";
        return new StageOutcome(result.IsReadable, result.IsReadable ? summary : "the store is damaged or of an unknown shape",
            Facts(("faults", result.Faults), ("findings", result.Findings.Count)), result);
    }
}

/// <summary>The same scan on the new store, in its place.</summary>
public sealed class CheckAgainStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.CheckAgain;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        Kits.KitVersion version = On.Way[^1].To;
        CheckResult result = On.Check(On.Company.NewStore, version, null, Name);
        if (On.LoadResult<CheckResult>(Stages.Check) is { } before) result = result with { Compared = FindingComparison.Of("the check before", before, result, On.Way) };
        On.SaveResult(Name, result);
        string? told = Office.Survey.VersionOf(On.Company, On.Context.Stores).DataVersion;
        bool good = result.Faults == 0 && told == version.Name;
        return new StageOutcome(good, good ? $"data version {told}, nothing found" : told != version.Name
            ? $"the store tells version {told ?? "(none)"} and not {version.Name}" : $"{result.Faults} faults",
            Facts(("faults", result.Faults), ("version", told ?? "")), result);
    }
}
