// RunContext.cs: what every stage works with.
using Transferra.Core.Backup;
using Transferra.Core.Closing;
using Transferra.Core.Conversion;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>Hears what a run does; words are made of it in the command line only.</summary>
public interface IRunObserver : IProgressObserver
{
    /// <summary>Something a person should know before it goes on.</summary>
    void Told(string words) { }

    /// <summary>Something went wrong that nobody foresaw; it stopped the company, and is for the diagnostic log.</summary>
    /// <param name="company">The company; "" for none.</param>
    /// <param name="stage">What was being done.</param>
    /// <param name="error">What it was.</param>
    void Defect(string company, string stage, Exception error) { }

    /// <summary>A stage of a company begins.</summary>
    void StageBegins(string company, string stage);

    /// <summary>A stage of a company ended.</summary>
    /// <param name="company">The company.</param>
    /// <param name="stage">The stage.</param>
    /// <param name="state">done, stopped or taken-back.</param>
    /// <param name="summary">One line.</param>
    /// <param name="result">The stage's result, such as a CheckResult; null when it has none.</param>
    void StageEnds(string company, string stage, string state, string summary, object? result);
}

/// <summary>What every stage works with.</summary>
/// <param name="Office">The office.</param>
/// <param name="Stores">Opens stores.</param>
/// <param name="Volume">Renames and writes.</param>
/// <param name="Observer">Hears what happens.</param>
/// <param name="Tool">Version of this program.</param>
/// <param name="Cancel">Ctrl-C.</param>
public sealed record RunContext(OfficeDescription Office, IStoreOpener Stores, IVolume Volume, IRunObserver Observer, string Tool,
    CancellationToken Cancel)
{
    /// <summary>Keeps the office closed while a run changes what is in it; null when nothing does.</summary>
    public OfficeClosing? Closing { get; init; }

    /// <summary>The places sets are kept in; those in folders of this machine when nothing else is said.</summary>
    public SetPlaces Sets { get => field ??= SetPlaces.Local(Office.Backup.Folders, Volume); init; }

    /// <summary>By what the office is told apart from others; drawn when it has no identity yet.</summary>
    public OfficeIdentity Identity => OfficeIdentity.Of(Office.Folder, Volume);

    /// <summary>The places sets are kept in, as they are known again.</summary>
    public PlaceBook PlaceBook => new(Office.Folder, Volume);

    /// <summary>Stores as wholes.</summary>
    public StorePlaces Places => new(Stores, Volume);
}
