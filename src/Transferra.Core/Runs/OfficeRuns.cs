// OfficeRuns.cs: the runs of an office: folder transferra/runs/<run>, each with journal.jsonl and a folder for each company.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Runs;

/// <summary>One run: its folder and its journal.</summary>
public sealed class Run(string folder, Journal journal)
{
    /// <summary>Name of the run: date and time it began, UTC.</summary>
    public string Id => Path.GetFileName(Folder);

    /// <summary>Full path.</summary>
    public string Folder { get; } = folder;

    /// <summary>What happened.</summary>
    public Journal Journal { get; } = journal;

    private JournalEntry? Begun => Journal.Entries.FirstOrDefault(entry => entry is { Stage: Stages.Run, State: "begun" });

    /// <summary>upgrade, convert, mend or restore.</summary>
    public string Kind => Begun?.Facts.GetValueOrDefault("kind") ?? "";

    /// <summary>When it began.</summary>
    public DateTimeOffset? BegunAt => Begun?.At;

    /// <summary>Codes of its companies.</summary>
    public IReadOnlyList<string> Companies => Begun?.Facts.GetValueOrDefault("companies")?.Split(',',
        StringSplitOptions.RemoveEmptyEntries) ?? [];

    /// <summary>A fact that was written down of a company when the run began.</summary>
    public string? BegunFact(string company, string fact) => Begun?.Facts.GetValueOrDefault($"{company}.{fact}");

    /// <summary>A fact that was written down when the run began; null when there is none such.</summary>
    public string? BegunWith(string fact) => Begun?.Facts.GetValueOrDefault(fact);

    /// <summary>Whether it was taken back as a whole.</summary>
    public bool IsUndone => Journal.Last("", Stages.Run)?.State == "undone";

    /// <summary>Whether it was taken back, but not to the end.</summary>
    public bool IsUndoing => Journal.Last("", Stages.Run)?.State == "undoing";

    /// <summary>Whether its journal was altered or cut short, so that nothing is done on its word.</summary>
    public bool IsBroken => Journal.Damage is not null;

    /// <summary>Whether it stopped part-way.</summary>
    public bool IsUnfinished => !IsBroken && Journal.Entries.Count > 0
        && Journal.Last("", Stages.Run)?.State is not ("ended" or "undone" or "given-up");

    /// <summary>Whether somebody ended it where it stood.</summary>
    public bool IsGivenUp => Journal.Last("", Stages.Run)?.State == "given-up";

    /// <summary>Whether a stage of a company is done and not taken back.</summary>
    public bool IsDone(string company, string stage) => Journal.Last(company, stage)?.State == "done";
}

/// <summary>The runs of an office.</summary>
public sealed class OfficeRuns(OfficeDescription office, IVolume volume)
{
    private const string JournalName = "journal.jsonl";

    private string Root => Path.Combine(office.Folder, "transferra");

    private string RunsFolder => Path.Combine(Root, "runs");

    private string HeadOf(string id) => Path.Combine(Root, "heads", "run-" + id + ".json");

    private JournalPlace PlaceOf(string folder) => new(Path.Combine(folder, JournalName), HeadOf(Path.GetFileName(folder)),
        $"end the run where it stands, so that everything stays where it lies: transferra undo --run {Path.GetFileName(folder)} --give-up");

    /// <summary>All runs, newest first, also those whose journal was altered: what is wrong with one keeps nobody from the
    /// others.</summary>
    public IReadOnlyList<Run> List()
    {
        string heads = Path.Combine(Root, "heads");
        IEnumerable<string> folders = Directory.Exists(RunsFolder) ? Directory.EnumerateDirectories(RunsFolder) : [];
        // A head without its run tells of one that was removed by hand.
        IEnumerable<string> gone = Directory.Exists(heads) ? Directory.EnumerateFiles(heads, "run-*.json")
            .Select(head => Path.Combine(RunsFolder, Path.GetFileNameWithoutExtension(head)["run-".Length..])) : [];
        return [.. folders.Where(folder => File.Exists(Path.Combine(folder, JournalName))).Union(gone, StringComparer.Ordinal)
            .OrderDescending(StringComparer.Ordinal)
            .Select(folder => new Run(folder, Journal.Look(volume, PlaceOf(folder))))];
    }

    /// <summary>The run that stopped part-way; null when there is none.</summary>
    public Run? Unfinished() => List().FirstOrDefault(run => run.IsUnfinished);

    /// <summary>A run by name.</summary>
    public Run? Find(string id) => List().FirstOrDefault(run => run.Id == id);

    /// <summary>Opens a run's journal for writing on.</summary>
    /// <exception cref="TransferraException">It was altered or cut short.</exception>
    public Run Continue(Run run) => new(run.Folder, Journal.Open(volume, PlaceOf(run.Folder), toContinue: true));

    /// <summary>Puts away a run whose journal was altered: its folder, with the head, goes to transferra/given-up. Nothing else is
    /// touched.</summary>
    /// <returns>Where it is.</returns>
    public string PutAway(Run run)
    {
        string to = Path.Combine(Root, "given-up", run.Id);
        volume.CreateFolder(Path.GetDirectoryName(to)!);
        for (int number = 2; volume.Exists(to); number++) to = Path.Combine(Root, "given-up",
            FormattableString.Invariant($"{run.Id}-{number}"));
        if (volume.Exists(run.Folder)) volume.Rename(run.Folder, to);
        else volume.MakeFolder(to);
        if (volume.Exists(HeadOf(run.Id))) volume.Rename(HeadOf(run.Id), Path.Combine(to, "head.json"));
        volume.FlushFolder(Path.GetDirectoryName(to)!);
        return to;
    }

    /// <summary>Begins a run: folder, journal, first line.</summary>
    public Run Begin(string kind, IReadOnlyList<Company> companies, string tool, IReadOnlyDictionary<string, string> facts)
    {
        volume.CreateFolder(RunsFolder);
        DateTimeOffset now = DateTimeOffset.UtcNow;
        string id, folder;
        while (true)
        {
            id = now.UtcDateTime.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture);
            folder = Path.Combine(RunsFolder, id);
            now = now.AddSeconds(1);
            if (!volume.Exists(folder) && !volume.Exists(HeadOf(id))) break;
        }
        volume.MakeFolder(folder);
        volume.FlushFolder(RunsFolder);
        Journal journal = Journal.Create(volume, PlaceOf(folder));
        var all = new Dictionary<string, string>(facts)
        {
            ["kind"] = kind,
            ["companies"] = string.Join(',', companies.Select(company => company.Code)),
            ["by"] = Environment.UserName,
            ["tool"] = tool,
            ["office"] = office.Name,
        };
        journal.Append("", Stages.Run, "begun", all);
        return new Run(folder, journal);
    }

    /// <summary>Keeps a second program from working on the same office; released when disposed, or when the process ends in any
    /// way.</summary>
    /// <exception cref="TransferraException">Another one is at work, or the folder cannot be written.</exception>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    /// <param name="volume">The disk.</param>
    public static IDisposable Lock(string officeFolder, IVolume volume)
    {
        string root = Path.Combine(officeFolder, "transferra");
        try
        {
            volume.CreateFolder(root);
            return new FileStream(Path.Combine(root, "lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (UnauthorizedAccessException error)
        {
            throw CannotWrite(root, error);
        }
        catch (IOException error)
        {
            if (!File.Exists(Path.Combine(root, "lock"))) throw CannotWrite(root, error);
            throw new TransferraException("another transferra is at work on this office",
                "Wait for it to end; see who it is with: ps aux | grep transferra", error);
        }
    }

    private static TransferraException CannotWrite(string root, Exception error) =>
        new($"the folder {root} cannot be written: {error.Message}",
            "Runs and their journals are kept there. Run as a user who may write in the office's folder.", error);
}

/// <summary>The stages, by the names that stand in journals.</summary>
public static class Stages
{
    /// <summary>The run as a whole.</summary>
    public const string Run = "run";
    /// <summary>Is the old data sound?</summary>
    public const string Check = "check";
    /// <summary>The copy that can be gone back to.</summary>
    public const string Backup = "backup";
    /// <summary>A set's content takes the place of what is there.</summary>
    public const string PutBack = "put-back";
    /// <summary>Old store to mended copy.</summary>
    public const string Mend = "mend";
    /// <summary>Old store to new store.</summary>
    public const string Convert = "convert";
    /// <summary>The proof.</summary>
    public const string Match = "match";
    /// <summary>The new store takes the old one's place.</summary>
    public const string ChangeOver = "change-over";
    /// <summary>Is the new data sound, in its place?</summary>
    public const string CheckAgain = "check-again";

    /// <summary>Files that are the office's own go to the new place.</summary>
    public const string CarryFiles = "files";
}
