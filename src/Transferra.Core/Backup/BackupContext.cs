// BackupContext.cs: what backups work with: the office, its stores, the disk, and the places that sets are kept in.
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>What backups work with.</summary>
/// <param name="Office">The office.</param>
/// <param name="Stores">Opens stores.</param>
/// <param name="Volume">Renames and writes.</param>
/// <param name="Observer">Hears what happens.</param>
/// <param name="Tool">Version of this program.</param>
/// <param name="Cancel">Ctrl-C.</param>
public record BackupContext(OfficeDescription Office, IStoreOpener Stores, IVolume Volume, IRunObserver Observer, string Tool,
    CancellationToken Cancel)
{
    /// <summary>The places sets are kept in; those in folders of this machine when nothing else is said.</summary>
    public SetPlaces Sets { get => field ??= SetPlaces.Local(Office.Backup.Folders, Volume); init; }

    /// <summary>By what the office is told apart from others; drawn when it has no identity yet.</summary>
    public OfficeIdentity Identity => OfficeIdentity.Of(Office.Folder, Volume);

    /// <summary>The places sets are kept in, as they are known again.</summary>
    public PlaceBook PlaceBook => new(Office.Folder, Volume);

    /// <summary>When sets were proved; always the same one, which remembers what it has read.</summary>
    public ProofLog Proofs => field ??= new ProofLog(Office.Folder, Volume);

    /// <summary>The baselines that were taken of stores that nobody wrote to since.</summary>
    internal KnownBaselines Baselines => field ??= new KnownBaselines(Stores);

    /// <summary>Stores as wholes; always the same one, which remembers what it has looked at.</summary>
    public StorePlaces Places => field ??= new StorePlaces(Stores, Volume);
}
