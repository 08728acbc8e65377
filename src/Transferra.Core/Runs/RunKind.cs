// RunKind.cs: the kinds of runs: which stages a company goes through, and where it is to arrive. UpgradeRun.cs runs any of them.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>A kind of run.</summary>
/// <param name="Name">As journals and people call it.</param>
/// <param name="Stages">The stages of a company, in order.</param>
public sealed record RunKind(string Name, Func<CompanyRun, IReadOnlyList<Stage>> Stages)
{
    /// <summary>All of it.</summary>
    public static readonly RunKind Upgrade = new("upgrade", on => [new CheckStage(on), new BackupStage(on), new ConvertStage(on),
        new MatchStage(on), new ChangeOverStage(on), new CheckAgainStage(on),
        .. CarryFilesStage.IsOf(on) ? [new CarryFilesStage(on)] : Array.Empty<Stage>()])
    { Converts = true, PutsInPlace = true };

    /// <summary>A new store beside the old one.</summary>
    public static readonly RunKind Convert = new("convert", on => [new ConvertStage(on)]) { Converts = true };

    /// <summary>What the kit allows is put right, on a copy that takes the old store's place.</summary>
    public static readonly RunKind Mend = new("mend", on => [new CheckStage(on), new BackupStage(on), new MendStage(on),
        new ChangeOverStage(on), new CheckMendedStage(on)])
    { IsOfStoreNow = true };

    /// <summary>A company comes back from a set.</summary>
    public static readonly RunKind Restore = new("restore", on => [new PutBackStage(on)]);

    private static readonly RunKind[] All = [Upgrade, Convert, Mend, Restore];

    /// <summary>Whether the company goes to the wanted version; otherwise it stays in the one it has.</summary>
    public bool Converts { get; private init; }

    /// <summary>Whether a store of ours takes the place of the old one without being a copy of all that is in it, so that whatever of
    /// the old one is not carried would be gone.</summary>
    public bool PutsInPlace { get; private init; }

    /// <summary>Whether it is about the store where it is now, which may be the new place of an engine that was changed.</summary>
    public bool IsOfStoreNow { get; private init; }

    /// <summary>The version that a company is to arrive at.</summary>
    public string Target(Company company, KitVersion from) => Converts ? company.WantedVersion : from.Name;

    /// <summary>The kind of a run; null when it is of one that this version does not know.</summary>
    public static RunKind? Find(Run run) => All.FirstOrDefault(kind => kind.Name == run.Kind);

    /// <summary>The kind of a run.</summary>
    /// <exception cref="TransferraException">It is of a kind that this version does not know.</exception>
    public static RunKind Of(Run run) => Find(run)
        ?? throw new TransferraException($"the run {run.Id} is of a kind that this version does not know: {ValueText.Quote(run.Kind)}",
            "Use the version of Transferra that began it.");
}
