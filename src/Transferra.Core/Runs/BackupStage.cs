// BackupStage.cs: no proof of the backup, no upgrade.
using Transferra.Core.Backup;

namespace Transferra.Core.Runs;

/// <summary>Backs a company up before anything is done to it.</summary>
internal sealed class BackupStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Backup;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        IReadOnlyList<BackupResult> results = CompanyBackup.Run(On.Context, On.Company, On.From, On.Run.Id);
        On.SaveResult(Name, results);
        BackupResult[] proved = [.. results.Where(result => result.IsProved)], unproved = [.. results.Where(result => !result.IsProved)];
        string failed = string.Join("; ", unproved.Select(result => $"{result.Path}: {result.Faults[0].What}"));
        bool isEnough = proved.Length >= On.Context.Office.Backup.Wanted;
        return new StageOutcome(isEnough, isEnough
            ? $"{proved.Length} proved: {string.Join(", ", proved.Select(result => result.Path))}"
                + (failed.Length > 0 ? "; not proved: " + failed : "")
            : FormattableString.Invariant($"{proved.Length} of {On.Context.Office.Backup.Wanted} wanted sets proved; not proved: {failed}"),
            Facts(("sets", results.Count), ("proved", proved.Length), ("path", proved.Length > 0 ? proved[0].Path : "")), results);
    }
}
