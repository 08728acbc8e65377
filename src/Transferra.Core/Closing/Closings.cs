// Closings.cs: the closings of an office: folder transferra/closings/<closing>, each with journal.jsonl in the form of docs/journal.md.
// Needs nothing but the office's folder, so that an office can be opened again when office.yaml is broken.
using System.Globalization;
using Transferra.Core.Machine;

namespace Transferra.Core.Closing;

/// <summary>One closing: its folder and its journal.</summary>
public sealed class OfficeClosed(string folder, Journal journal)
{
    /// <summary>The stage of lines about the closing as a whole.</summary>
    public const string Stage = "closing";

    /// <summary>Name: date and time it began, UTC.</summary>
    public string Id => Path.GetFileName(Folder);

    /// <summary>Full path.</summary>
    public string Folder { get; } = folder;

    /// <summary>What happened.</summary>
    public Journal Journal { get; } = journal;

    private JournalEntry? Begun => Journal.Entries.FirstOrDefault(entry => entry is { Stage: Stage, State: "begun" });

    /// <summary>When it began.</summary>
    public DateTimeOffset? BegunAt => Begun?.At;

    /// <summary>Who closed it.</summary>
    public string By => Begun?.Facts.GetValueOrDefault("by") ?? "";

    /// <summary>Whether an upgrade closed it, which opens it again when it is through; otherwise a person does.</summary>
    public bool IsForUpgrade => Begun?.Facts.GetValueOrDefault("for") == "upgrade";

    /// <summary>begun, closed, reopening or reopened.</summary>
    public string State => Journal.Last("", Stage)?.State ?? "begun";

    /// <summary>Whether nothing of it is left.</summary>
    public bool IsOver => State == "reopened";

    /// <summary>Whether the proof was made that everybody is out.</summary>
    public bool IsClosed => State == "closed";

    /// <summary>Whether it is being taken back.</summary>
    public bool IsReopening => State == "reopening";

    /// <summary>When it came to its state.</summary>
    public DateTimeOffset? StateSince => Journal.Last("", Stage)?.At;

    /// <summary>The steps that changed something, or may have, and are not taken back, in the order they were announced.</summary>
    public IReadOnlyList<ClosingStep> Steps => [.. Journal.Entries.Where(entry => entry is { State: "announced" } && entry.Stage != Stage)
        .DistinctBy(entry => entry.Stage)
        .Where(entry => Journal.Last("", entry.Stage)?.State != "taken-back").Select(entry => ClosingStep.From(entry.Stage, entry.Facts))];

    /// <summary>Whether a step was announced, whatever became of it.</summary>
    public bool Knows(string key) => Journal.Entries.Any(entry => entry.Stage == key && entry.State == "announced");

    /// <summary>Whether a step is done.</summary>
    public bool IsDone(string key) => Journal.Last("", key)?.State == "done";
}

/// <summary>The closings of an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class Closings(string officeFolder, IVolume volume)
{
    private const string JournalName = "journal.jsonl";

    private string Root => Path.Combine(officeFolder, "transferra", "closings");

    private JournalPlace PlaceOf(string folder) => new(Path.Combine(folder, JournalName),
        Path.Combine(officeFolder, "transferra", "heads", "closing-" + Path.GetFileName(folder) + ".json"),
        "see what was closed, put it right by hand, and end the closing: transferra reopen --give-up");

    /// <summary>The newest closing, over or not, also when its journal was altered; null when there never was one.</summary>
    public OfficeClosed? Newest()
    {
        if (!Directory.Exists(Root)) return null;
        string? newest = Directory.EnumerateDirectories(Root).Where(folder => File.Exists(Path.Combine(folder, JournalName)))
            .Max(StringComparer.Ordinal);
        return newest is null ? null : new OfficeClosed(newest, Journal.Look(volume, PlaceOf(newest)));
    }

    /// <summary>Puts a closing away that is given up; nothing that it changed is touched.</summary>
    /// <returns>Where its folder is.</returns>
    public string PutAway(OfficeClosed closed)
    {
        string to = Path.Combine(officeFolder, "transferra", "given-up", "closing-" + closed.Id), head = PlaceOf(closed.Folder).Head;
        volume.CreateFolder(Path.GetDirectoryName(to)!);
        volume.Rename(closed.Folder, to);
        if (volume.Exists(head)) volume.Rename(head, Path.Combine(to, "head.json"));
        volume.FlushFolder(Path.GetDirectoryName(to)!);
        return to;
    }

    /// <summary>The closing that is not over; null when the office is open.</summary>
    /// <exception cref="TransferraException">Its journal was altered.</exception>
    public OfficeClosed? Current()
    {
        if (Newest() is not { } closed) return null;
        if (closed.Journal.Damage is { } damage) throw damage;
        return closed.Journal.Entries.Count == 0 || closed.IsOver ? null : closed;
    }

    /// <summary>A closing by name, over or not; null when there is none.</summary>
    public OfficeClosed? Find(string id) => Path.Combine(Root, id, JournalName) is var path && File.Exists(path)
        ? new OfficeClosed(Path.Combine(Root, id), Journal.Open(volume, PlaceOf(Path.Combine(Root, id)), toContinue: false)) : null;

    /// <summary>Opens a closing's journal for writing on.</summary>
    public OfficeClosed Continue(OfficeClosed closed) => new(closed.Folder, Journal.Open(volume, PlaceOf(closed.Folder), toContinue: true));

    /// <summary>Begins a closing: folder, journal, first line.</summary>
    /// <param name="purpose">What for: upgrade, or "" for a person's own.</param>
    /// <param name="tool">Version of this program.</param>
    public OfficeClosed Begin(string purpose, string tool)
    {
        volume.CreateFolder(Root);
        DateTimeOffset now = DateTimeOffset.UtcNow;
        string folder;
        do
        {
            folder = Path.Combine(Root, now.UtcDateTime.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture));
            now = now.AddSeconds(1);
        }
        while (Directory.Exists(folder));
        volume.CreateFolder(folder);
        volume.FlushFolder(Root);
        Journal journal = Journal.Create(volume, PlaceOf(folder));
        journal.Append("", OfficeClosed.Stage, "begun", new Dictionary<string, string>
        {
            ["by"] = Environment.UserName,
            ["tool"] = tool,
            ["for"] = purpose
        });
        return new OfficeClosed(folder, journal);
    }
}
