// RunContext.cs: what every stage works with.
using Transferra.Core.Backup;
using Transferra.Core.Closing;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>What every stage works with.</summary>
/// <param name="Office">The office.</param>
/// <param name="Stores">Opens stores.</param>
/// <param name="Volume">Renames and writes.</param>
/// <param name="Observer">Hears what happens.</param>
/// <param name="Tool">Version of this program.</param>
/// <param name="Cancel">Ctrl-C.</param>
public sealed record RunContext(OfficeDescription Office, IStoreOpener Stores, IVolume Volume, IRunObserver Observer, string Tool,
    CancellationToken Cancel) : BackupContext(Office, Stores, Volume, Observer, Tool, Cancel)
{
    /// <summary>Keeps the office closed while a run changes what is in it; null when nothing does.</summary>
    public OfficeClosing? Closing { get; init; }

    /// <summary>The stores that the office works with, which nothing of a run may write to: those of office.yaml when nothing else is
    /// said.</summary>
    public IReadOnlyList<StoreAddress> Originals
    {
        get => field ??= [.. Office.Companies.SelectMany(company => (StoreAddress?[])[company.OldStore, company.MovesTo,
            company.VendorMade]).OfType<StoreAddress>()];
        init;
    }

    /// <summary>Whether all is done on copies, and the places where the office works are out of reach.</summary>
    public bool IsRehearsal { get; init; }

    /// <summary>Tells the version of the program that is installed for a company; null when nothing does.</summary>
    public Func<Company, string?> ProgramVersion { get; init; } = _ => null;

    /// <summary>Asks the person who is there; null when nobody is.</summary>
    public IPersonAsked? Asked { get; init; }

    /// <summary>How many records are converted before what is converted is made final, so that a stop loses no more than these and one
    /// table. Each mark costs a few flushes of the disk.</summary>
    public long RowsBetweenMarks { get; init; } = UsualRowsBetweenMarks;

    /// <summary>How long a match goes on before what it has come to is kept: a stop loses no more than that and one table.</summary>
    public TimeSpan BetweenMatchMarks { get; init; } = UsualBetweenMatchMarks;

    /// <summary>That time when nothing else is said.</summary>
    public static readonly TimeSpan UsualBetweenMatchMarks = TimeSpan.FromSeconds(3);

    /// <summary>The number of those when nothing else is said.</summary>
    public const long UsualRowsBetweenMarks = 200_000;
}
