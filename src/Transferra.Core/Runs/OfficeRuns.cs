// OfficeRuns.cs: the runs of an office: folder transferra/runs/<run>, each with journal.jsonl and a folder for each company.
using System.Globalization;
using Transferra.Core.Office;
using Transferra.Core.Records;

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
    public IReadOnlyList<string> Companies => Begun?.Facts.GetValueOrDefault("companies")?.Split(',', StringSplitOptions.RemoveEmptyEntries) ?? [];

    /// <summary>A fact that was written down of a company when the run began.</summary>
    public string? BegunFact(string company, string fact) => Begun?.Facts.GetValueOrDefault($"{company}.{fact}");

    /// <summary>A fact that was written down when the run began; null when there is none such.</summary>
    public string? BegunWith(string fact) => Begun?.Facts.GetValueOrDefault(fact);

    /// <summary>Whether it was taken back as a whole.</summary>
    public bool IsUndone => Journal.Last("", Stages.Run)?.State == "undone";

    /// <summary>Whether it was taken back, but not to the end.</summary>
    public bool IsUndoing => Journal.Last("", Stages.Run)?.State == "undoing";

    /// <summary>Whether it stopped part-way.</summary>
    public bool IsUnfinished => Journal.Entries.Count > 0 && Journal.Last("", Stages.Run)?.State is not ("ended" or "undone");

    /// <summary>Whether a stage of a company is done and not taken back.</summary>
    public bool IsDone(string company, string stage) => Journal.Last(company, stage)?.State == "done";
}

/// <summary>The runs of an office.</summary>
public sealed class OfficeRuns(OfficeDescription office, IVolume volume)
{
    private const string JournalName = "journal.jsonl";

    private string Root => Path.Combine(office.Folder, "transferra");

    private string RunsFolder => Path.Combine(Root, "runs");

    /// <summary>All runs, newest first.</summary>
    /// <exception cref="TransferraException">A journal was altered.</exception>
    public IReadOnlyList<Run> List()
    {
        if (!Directory.Exists(RunsFolder)) return [];
        return [.. Directory.EnumerateDirectories(RunsFolder).Where(folder => File.Exists(Path.Combine(folder, JournalName)))
            .OrderDescending(StringComparer.Ordinal).Select(folder => new Run(folder, Journal.Open(volume, Path.Combine(folder, JournalName), toContinue: false)))];
    }

    /// <summary>The run that stopped part-way; null when there is none.</summary>
    public Run? Unfinished() => List().FirstOrDefault(run => run.IsUnfinished);

    /// <summary>A run by name.</summary>
    public Run? Find(string id) => List().FirstOrDefault(run => run.Id == id);

    /// <summary>Opens a run's journal for writing on.</summary>
    public Run Continue(Run run) => new(run.Folder, Journal.Open(volume, Path.Combine(run.Folder, JournalName), toContinue: true));

    /// <summary>Begins a run: folder, journal, first line.</summary>
    public Run Begin(string kind, IReadOnlyList<Company> companies, string tool, IReadOnlyDictionary<string, string> facts)
    {
        volume.CreateFolder(RunsFolder);
        DateTimeOffset now = DateTimeOffset.UtcNow;
        string id, folder;
        do
        {
            id = now.UtcDateTime.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture);
            folder = Path.Combine(RunsFolder, id);
            now = now.AddSeconds(1);
        }
        while (Directory.Exists(folder));
        volume.CreateFolder(folder);
        volume.FlushFolder(RunsFolder);
        Journal journal = Journal.Create(volume, Path.Combine(folder, JournalName));
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

    /// <summary>Keeps a second program from working on the same office; released when disposed, or when the process ends in any way.</summary>
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
            throw new TransferraException("another transferra is at work on this office", "Wait for it to end; see who it is with: ps aux | grep transferra", error);
        }
    }

    private static TransferraException CannotWrite(string root, Exception error) =>
        new($"the folder {root} cannot be written: {error.Message}", "Runs and their journals are kept there. Run as a user who may write in the office's folder.", error);
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
}
