// CheckStage.cs: the check before, on the old store, and the check after, on the new one in its place.
using Transferra.Core.Checks;

namespace Transferra.Core.Runs;

/// <summary>The full scan before anything is done. A fault stops the company here, unless the run was asked to try it all the
/// same.</summary>
internal sealed class CheckStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Check;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        CheckResult result = On.Check(On.Company.OldStore, On.From, On.Way.Hops.Count > 0 ? On.Way : On.Ahead, Name,
            isBeforeBackup: true);
        On.SaveResult(Name, result);
        string summary = result.Findings.Count == 0 ? "nothing found"
            : $"{result.Faults} faults, {result.Findings.Count - result.Faults} others";
        bool mayGoOn = result.Faults == 0 || On.Run.Kind == RunKind.Mend.Name || On.Run.BegunWith(DespiteFaults) == "yes";
        if (result.IsReadable && !mayGoOn)
            summary = $"the check found {Count(result)} in the old data\nCorrect them in version {On.From.Name}"
                + (result.Findings.Any(finding => finding.Mend.Length > 0)
                    ? $", or have those mended that the kit allows: transferra check {On.Company.Code} --mend" : "")
                + "\nTo have backup, conversion and match tried all the same, without a change-over: transferra upgrade "
                + $"{On.Company.Code} --despite-faults";
        else if (!result.IsReadable) summary = "the store is damaged or of an unknown shape";
        return new StageOutcome(result.IsReadable && mayGoOn, summary,
            Facts(("faults", result.Faults), ("findings", result.Findings.Count)), result);
    }

    /// <summary>The fact of a run that continues a company whose check found faults; it is not changed over for that.</summary>
    public const string DespiteFaults = "despite-faults";

    private static string Count(CheckResult result) => result.Faults == 1 ? "1 fault" : $"{result.Faults} faults";
}

/// <summary>The same scan on the new store, in its place.</summary>
internal sealed class CheckAgainStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.CheckAgain;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        Kits.KitVersion version = On.Way.To;
        bool isKnownSound = On.IsKnownSound;
        CheckResult result = On.Check(On.Company.NewStore, version, new Kits.Way(version, []), Name, isKnownSound,
            isCarriedAsItWas: table => On.Way.Hops.Count > 0 && On.Way.Correspondences.All(hop => hop.KeepsTable(table)));
        if (On.LoadResult<CheckResult>(Stages.Check) is { } before) result = result with
        {
            Compared = FindingComparison.Of("the check before", before, result, On.Way.Correspondences)
        };
        On.SaveResult(Name, result);
        string? told = Surveys.Survey.VersionOf(On.Company, On.Context.Stores).DataVersion;
        bool good = result.Faults == 0 && told == version.Name;
        return new StageOutcome(good, good ? $"data version {told}, nothing found" : told != version.Name
            ? $"the store tells version {told ?? "(none)"} and not {version.Name}" : $"{result.Faults} faults",
            Facts(("faults", result.Faults), ("version", told ?? ""),
                ("engine", isKnownSound ? "found nothing when the store was made; these bytes are the same" : "looked again")), result);
    }
}
