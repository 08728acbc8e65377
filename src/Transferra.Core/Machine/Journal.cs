// Journal.cs: the record of each step of a run: one JSON object a line, each with the digest of the line before. Layout: docs/journal.md.
// J1  A line is on the disk before the step it announces begins.
// J2  A "done" line is written only after everything the step changed is on the disk.
// J3  Cut after any line, or within one: a torn last line counts as not written; resume and undo go on from what is left.
//     For the same reason nothing is appended after a line that failed: it may stand there in part.
// J4  A line altered, removed or put in later breaks the chain and is noticed.
// J5  How far the journal reaches is written down in a second place after each line (its head), so that one that was cut short or emptied
// is noticed.
//     The head may be one line behind, never ahead. Who cuts both is noticed by what stands on the disk: see Stage.Disagreement.
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;

namespace Transferra.Core.Machine;

/// <summary>One line of a journal.</summary>
/// <param name="Number">From 1.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Company">The company; "" for the run as a whole.</param>
/// <param name="Stage">Which stage.</param>
/// <param name="State">announced, done, stopped, taking-back, taken-back; begun, ended, undoing, undone for the run.</param>
/// <param name="Facts">What was planned or came out, by name.</param>
/// <param name="Previous">SHA-256 of the line before, in hexadecimal; 64 zeros in the first.</param>
public sealed record JournalEntry(int Number, DateTimeOffset At, string Company, string Stage, string State, IReadOnlyDictionary<string,
    string> Facts, string Previous);

/// <summary>Raised when a journal could not be written: without it, nothing more is done.</summary>
/// <param name="message">What could not be written.</param>
/// <param name="inner">Why.</param>
internal sealed class JournalException(string message, Exception? inner = null) : IOException(message, inner);

/// <summary>Where a journal is kept.</summary>
/// <param name="File">The journal's file.</param>
/// <param name="Head">The file of its head, in another folder.</param>
/// <param name="WhenBroken">What to do when it was altered, in words.</param>
public sealed record JournalPlace(string File, string Head, string WhenBroken);

/// <summary>An append-only journal in a file.</summary>
public sealed class Journal
{
    // How far the journal reached when it was written to last.
    internal sealed record Head(int Lines, string Sha256);

    private readonly IVolume _volume;
    private readonly JournalPlace _place;
    private readonly List<JournalEntry> _entries = [];
    private readonly List<string> _digests = [];
    private bool _failed;

    private Journal(IVolume volume, JournalPlace place) => (_volume, _place) = (volume, place);

    /// <summary>The journal's file.</summary>
    public string FilePath => _place.File;

    /// <summary>All lines, in order.</summary>
    public IReadOnlyList<JournalEntry> Entries => _entries;

    /// <summary>SHA-256 of the last line: who keeps it can prove later that nothing was cut off.</summary>
    public string LastDigest => _digests.Count > 0 ? _digests[^1] : new('0', 64);

    /// <summary>The digest of a line by its number from 1; null when there are fewer.</summary>
    public string? DigestOf(int number) => number >= 1 && number <= _digests.Count ? _digests[number - 1] : null;

    /// <summary>What is wrong with it; null when nothing is. Entries are then those before the wrong place.</summary>
    public TransferraException? Damage { get; private set; }

    /// <summary>Starts a journal in a folder that exists.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="place">Where it is kept.</param>
    public static Journal Create(IVolume volume, JournalPlace place)
    {
        volume.WriteNew(place.File, []);
        volume.FlushFolder(Path.GetDirectoryName(place.File)!);
        volume.CreateFolder(Path.GetDirectoryName(place.Head)!);
        return new Journal(volume, place);
    }

    /// <summary>Reads a journal and checks its chain; a torn last line is cut off when the journal is to be continued.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="place">Where it is kept.</param>
    /// <param name="toContinue">Whether lines will be added.</param>
    /// <exception cref="TransferraException">It was altered or cut short.</exception>
    public static Journal Open(IVolume volume, JournalPlace place, bool toContinue)
    {
        Journal journal = Look(volume, place);
        if (journal.Damage is { } damage) throw damage;
        if (!toContinue) return journal;
        long end = journal._entries.Count == 0 ? 0 : journal._end;
        using FileStream file = new(place.File, FileMode.Open, FileAccess.ReadWrite);
        if (file.Length > end)
        {
            file.SetLength(end);
            file.Flush(flushToDisk: true);
        }
        return journal;
    }

    private long _end;

    /// <summary>Reads a journal as far as it can be believed; <see cref="Damage"/> says what is wrong with it.</summary>
    /// <param name="volume">The disk.</param>
    /// <param name="place">Where it is kept.</param>
    public static Journal Look(IVolume volume, JournalPlace place)
    {
        var journal = new Journal(volume, place);
        byte[] content;
        try { content = File.ReadAllBytes(place.File); }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException) { content = []; }
        while (journal._end < content.Length && journal.Damage is null)
        {
            int end = Array.IndexOf(content, (byte)'\n', (int)journal._end);
            if (end < 0) break; // torn: the machine stopped while it was written, so its step had not begun
            journal.Take(content.AsSpan((int)journal._end, end - (int)journal._end));
            journal._end = end + 1;
        }
        journal.Damage ??= journal.JudgeHead();
        return journal;
    }

    private void Take(ReadOnlySpan<byte> line)
    {
        int number = _entries.Count + 1;
        JournalEntry? entry = null;
        Exception? cause = null;
        try { entry = JsonSerializer.Deserialize(line, JournalJson.Form.JournalEntry); }
        catch (JsonException error) { cause = error; }
        if (entry is null || entry.Number != number || entry.Previous != LastDigest)
        {
            Damage = Broken(FormattableString.Invariant($"was altered at line {number}: its chain of digests is broken"), cause);
            return;
        }
        _entries.Add(entry);
        _digests.Add(Digest(line));
    }

    private TransferraException? JudgeHead()
    {
        Head? head = null;
        try
        {
            if (File.Exists(_place.Head)) head = JsonSerializer.Deserialize(File.ReadAllBytes(_place.Head), JournalJson.Form.Head);
        }
        catch (Exception error) when (error is JsonException or IOException)
        {
            return Broken($"may not be whole: its head {_place.Head} cannot be read", error);
        }
        // The head comes after the line, so that of one line there may be none yet.
        if (head is null) return _entries.Count <= 1 ? null : Broken($"may not be whole: its head {_place.Head} is not there");
        if (head.Lines > _entries.Count) return Broken(string.Create(CultureInfo.InvariantCulture,
            $"was cut short: it has {_entries.Count} lines, and had {head.Lines}"));
        return head.Lines >= 1 && _digests[head.Lines - 1] == head.Sha256 ? null
            : Broken(FormattableString.Invariant($"was altered: line {head.Lines} is not the one that was written"));
    }

    private TransferraException Broken(string what, Exception? error = null) => new($"the journal {FilePath} {what}",
        "Nothing is done on the word of an altered journal. Put back the original file with its head. If that cannot be had: "
            + _place.WhenBroken, error);

    /// <summary>Writes a line and flushes it.</summary>
    /// <exception cref="JournalException">It could not be written, or an earlier one could not; open the journal anew to go on.</exception>
    public JournalEntry Append(string company, string stage, string state, IReadOnlyDictionary<string, string>? facts = null)
    {
        var entry = new JournalEntry(_entries.Count + 1, DateTimeOffset.UtcNow, company, stage, state, facts ?? new Dictionary<string,
            string>(), LastDigest);
        byte[] line = JsonSerializer.SerializeToUtf8Bytes(entry, JournalJson.Form.JournalEntry);
        if (_failed) throw new JournalException($"the journal {FilePath} could not be written a moment ago; "
            + "nothing more is done without it");
        _failed = true;
        try
        {
            _volume.Append(FilePath, [.. line, (byte)'\n']);
            _volume.Replace(_place.Head, JsonSerializer.SerializeToUtf8Bytes(new Head(entry.Number, Digest(line)),
                JournalJson.Form.Head));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new JournalException($"the journal {FilePath} could not be written: {error.Message}", error);
        }
        _failed = false;
        _entries.Add(entry);
        _digests.Add(Digest(line));
        return entry;
    }

    private static string Digest(ReadOnlySpan<byte> line) => Convert.ToHexStringLower(SHA256.HashData(line));

    /// <summary>The last line of a stage of a company; null when there is none.</summary>
    public JournalEntry? Last(string company, string stage) => _entries.LastOrDefault(entry => entry.Company == company
        && entry.Stage == stage);
}
