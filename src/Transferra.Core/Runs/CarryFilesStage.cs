// CarryFilesStage.cs: files that are the office's own (settings, lists of jobs, pictures) go from the old place to the new one, while the
// office is closed and its services are stopped.
// Holds: (1) of every file that is overwritten a copy is kept before the first is written; (2) each is there as a whole or not at all, and
// is read anew and compared; (3) taking back restores what was overwritten and removes what was added, but keeps what somebody has changed
// since.
using System.Globalization;
using Transferra.Core.Office;

namespace Transferra.Core.Runs;

/// <summary>A file that is carried.</summary>
/// <param name="From">Full path of the office's own.</param>
/// <param name="To">Full path in the new place.</param>
/// <param name="Sha256">Digest of its content.</param>
/// <param name="Before">Full path of the copy of what was there; "" when nothing was.</param>
/// <param name="BeforeSha256">Digest of that; "" likewise.</param>
public sealed record CarriedFile(string From, string To, string Sha256, string Before, string BeforeSha256)
{
    /// <summary>Whether the same was there already.</summary>
    public bool IsSame => Sha256 == BeforeSha256;
}

/// <summary>Carries a company's own files.</summary>
internal sealed class CarryFilesStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.CarryFiles;

    /// <inheritdoc/>
    public override bool CanBeTakenBack => true;

    /// <summary>Whether a company has this stage: office.yaml names files, or did when the run came to it.</summary>
    public static bool IsOf(CompanyRun on) => on.Company.Carry.Count > 0
        || on.Run.Journal.Entries.Any(entry => entry.Company == on.Company.Code && entry.Stage == Stages.CarryFiles);

    /// <inheritdoc/>
    public override IReadOnlyList<string> Obstacles() => [.. On.Company.Carry.Select(carry => carry.WhyNot()).OfType<string>()];

    private string BeforeFolder => Path.Combine(On.ResultFolder, "files-before");

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        // Interrupted, it goes on with what it had seen; what it has written since would be taken for what was there before.
        IReadOnlyList<CarriedFile> files = On.LoadResult<List<CarriedFile>>(Name) ?? (IReadOnlyList<CarriedFile>)Seen();
        foreach (CarriedFile file in files.Where(file => !file.IsSame))
        {
            On.Context.Cancel.ThrowIfCancellationRequested();
            On.Context.Observer.Progress(file.To, 0, 0);
            On.Context.Volume.CreateFolder(Path.GetDirectoryName(file.To)!);
            On.Context.Volume.ReplaceWith(file.To, file.From);
        }
        int over = files.Count(file => file is { Before.Length: > 0, IsSame: false });
        int same = files.Count(file => file.IsSame);
        string summary = string.Create(CultureInfo.InvariantCulture, $"files carried: {files.Count - same}, of which over others: {over}")
            + (over > 0 ? $" (copies of those are in {BeforeFolder})" : "")
            + string.Create(CultureInfo.InvariantCulture, $"; the same already: {same}");
        return new StageOutcome(true, summary, Facts(("files", files.Count), ("over", over), ("what", summary)));
    }

    // What is to be carried, with a copy of all that it will overwrite.
    private List<CarriedFile> Seen()
    {
        var files = new List<CarriedFile>();
        On.Context.Volume.Remove(BeforeFolder);
        On.Context.Volume.CreateFolder(BeforeFolder);
        foreach ((FilesCarried carry, int i) in On.Company.Carry.Select((carry, i) => (carry, i)))
            foreach (string name in carry.Names())
            {
                string from = Path.Combine(carry.From, name), to = Path.Combine(carry.To, name), before = "", was = "";
                if (File.Exists(to))
                {
                    before = Path.Combine(BeforeFolder, i.ToString(CultureInfo.InvariantCulture), name);
                    On.Context.Volume.CreateFolder(Path.GetDirectoryName(before)!);
                    On.Context.Volume.ReplaceWith(before, to);
                    was = StoreDigest.OfPath(before);
                }
                files.Add(new CarriedFile(from, to, StoreDigest.OfPath(from), before, was));
            }
        On.SaveResult(Name, files);
        return files;
    }

    /// <inheritdoc/>
    public override StageOutcome Prove(StageOutcome done)
    {
        foreach (CarriedFile file in On.LoadResult<List<CarriedFile>>(Name) ?? [])
            if (StoreDigest.OfPath(file.To) != file.Sha256)
                return done with
                {
                    IsGood = false,
                    Summary = $"{file.To} is not what was carried there: somebody wrote to it, or to "
                    + $"{file.From}"
                };
        return done;
    }

    /// <inheritdoc/>
    public override TakenBack? TakeBack()
    {
        int back = 0;
        var kept = new List<string>();
        foreach (CarriedFile file in On.LoadResult<List<CarriedFile>>(Name) ?? [])
        {
            string now = File.Exists(file.To) ? StoreDigest.OfPath(file.To) : "";
            if (now == file.BeforeSha256) continue;
            if (now != file.Sha256)
            {
                kept.Add(file.To);
                continue;
            }
            if (file.Before.Length > 0) On.Context.Volume.ReplaceWith(file.To, file.Before);
            else On.Context.Volume.Remove(file.To);
            back++;
        }
        if (back + kept.Count == 0) return null;
        return new TakenBack(string.Create(CultureInfo.InvariantCulture, $"carried files taken back: {back}")
            + (kept.Count > 0 ? $"; changed since, and left as they are: {string.Join(", ", kept)}" : ""), IsWhole: kept.Count == 0);
    }
}
