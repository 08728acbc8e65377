// Words.cs: what people have said that no program can find out: who, when, and to which question. File transferra/words.jsonl, in the form
// of a journal (docs/journal.md), so that a word put in or altered later is noticed.
// Holds: a word counts for the question as it was asked; when the kit asks otherwise, it is asked anew.
using Transferra.Core.Machine;

namespace Transferra.Core.Gates;

/// <summary>A word that was given.</summary>
/// <param name="By">Who gave it.</param>
/// <param name="At">When.</param>
public sealed record Word(string By, DateTimeOffset At);

/// <summary>The words given in an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class Words(string officeFolder, IVolume volume)
{
    private const string Stage = "word", Given = "given";
    private Journal? _journal;

    private string FilePath => Path.Combine(officeFolder, "transferra", "words.jsonl");

    private JournalPlace Place => new(FilePath, Path.Combine(officeFolder, "transferra", "heads", "words.json"),
        "move both away; the words are then asked for again.");

    private Journal? Existing => _journal ??= File.Exists(FilePath) ? Journal.Open(volume, Place, toContinue: false) : null;

    /// <summary>The word for a question; null when none was given.</summary>
    /// <param name="name">Name by which it is confirmed.</param>
    /// <param name="question">The question as it is asked now.</param>
    public Word? For(string name, string question) =>
        Existing?.Entries.LastOrDefault(entry => entry is { Stage: Stage, State: Given } && entry.Facts.GetValueOrDefault("name") == name
            && entry.Facts.GetValueOrDefault("question") == question) is { } entry
            ? new Word(entry.Facts.GetValueOrDefault("by") ?? "", entry.At) : null;

    /// <summary>The last word given under a name, or under names that end with it, whatever the question was; null when there is
    /// none.</summary>
    public Word? Under(string name) => Existing?.Entries.LastOrDefault(entry => entry is { Stage: Stage, State: Given }
        && entry.Facts.GetValueOrDefault("name") is { } given && Gate.IsMeant(given, name)) is { } entry
            ? new Word(entry.Facts.GetValueOrDefault("by") ?? "", entry.At) : null;

    /// <summary>Writes a word down.</summary>
    public void Give(string name, string question, string by)
    {
        if (!File.Exists(FilePath))
        {
            volume.CreateFolder(Path.GetDirectoryName(FilePath)!);
            _journal = Journal.Create(volume, Place);
        }
        else _journal = Journal.Open(volume, Place, toContinue: true);
        _journal.Append("", Stage, Given, new Dictionary<string, string> { ["name"] = name, ["question"] = question, ["by"] = by });
    }
}
