// Journal.cs: the record of each step of a run: one JSON object a line, each with the digest of the line before. Layout: docs/journal.md.
// J1  A line is on the disk before the step it announces begins.
// J2  A "done" line is written only after everything the step changed is on the disk.
// J3  Cut after any line, or within one: a torn last line counts as not written; resume and undo go on from what is left.
//     For the same reason nothing is appended after a line that failed: it may stand there in part.
// J4  A line altered, removed or put in later breaks the chain and is noticed.
using System.Security.Cryptography;
using System.Text.Json;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One line of a journal.</summary>
/// <param name="Number">From 1.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Company">The company; "" for the run as a whole.</param>
/// <param name="Stage">Which stage.</param>
/// <param name="State">announced, done, stopped, taking-back, taken-back; begun, ended, undoing, undone for the run.</param>
/// <param name="Facts">What was planned or came out, by name.</param>
/// <param name="Previous">SHA-256 of the line before, in hexadecimal; 64 zeros in the first.</param>
public sealed record JournalEntry(int Number, DateTimeOffset At, string Company, string Stage, string State, IReadOnlyDictionary<string, string> Facts, string Previous);

/// <summary>An append-only journal in a file.</summary>
public sealed class Journal
{
    private static readonly JsonSerializerOptions Options = new(JsonSerializerDefaults.Web)
    {
        RespectRequiredConstructorParameters = true,
        RespectNullableAnnotations = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    private readonly IVolume _volume;
    private readonly List<JournalEntry> _entries = [];
    private string _lastDigest = new('0', 64);
    private bool _failed;

    private Journal(IVolume volume, string path) => (_volume, FilePath) = (volume, path);

    /// <summary>The journal's file.</summary>
    public string FilePath { get; }

    /// <summary>All lines, in order.</summary>
    public IReadOnlyList<JournalEntry> Entries => _entries;

    /// <summary>SHA-256 of the last line: who keeps it can prove later that nothing was cut off.</summary>
    public string LastDigest => _lastDigest;

    /// <summary>Starts a journal in a folder that exists.</summary>
    public static Journal Create(IVolume volume, string path)
    {
        volume.WriteNew(path, []);
        volume.FlushFolder(Path.GetDirectoryName(path)!);
        return new Journal(volume, path);
    }

    /// <summary>Reads a journal and checks its chain; a torn last line is cut off when the journal is to be continued.</summary>
    /// <exception cref="TransferraException">The chain is broken.</exception>
    public static Journal Open(IVolume volume, string path, bool toContinue)
    {
        var journal = new Journal(volume, path);
        byte[] content = File.ReadAllBytes(path);
        int start = 0;
        while (start < content.Length)
        {
            int end = Array.IndexOf(content, (byte)'\n', start);
            if (end < 0) break; // torn: the machine stopped while it was written, so its step had not begun
            journal.Take(content.AsSpan(start, end - start));
            start = end + 1;
        }
        if (start < content.Length && toContinue)
        {
            using FileStream file = new(path, FileMode.Open, FileAccess.ReadWrite);
            file.SetLength(start);
            file.Flush(flushToDisk: true);
        }
        return journal;
    }

    private void Take(ReadOnlySpan<byte> line)
    {
        int number = _entries.Count + 1;
        JournalEntry? entry;
        try { entry = JsonSerializer.Deserialize<JournalEntry>(line, Options); }
        catch (JsonException error) { throw Broken(number, error); }
        if (entry is null || entry.Number != number || entry.Previous != _lastDigest) throw Broken(number, null);
        _entries.Add(entry);
        _lastDigest = Digest(line);
    }

    private TransferraException Broken(int number, Exception? error) => new($"the journal {FilePath} was altered at line {number}: its chain of digests is broken",
        "Nothing is done on the word of an altered journal. Put back the original file, or undo by hand with the set-aside files that its earlier lines name.", error);

    /// <summary>Writes a line and flushes it.</summary>
    /// <exception cref="IOException">It could not be written, or an earlier one could not; open the journal anew to go on.</exception>
    public JournalEntry Append(string company, string stage, string state, IReadOnlyDictionary<string, string>? facts = null)
    {
        var entry = new JournalEntry(_entries.Count + 1, DateTimeOffset.UtcNow, company, stage, state, facts ?? new Dictionary<string, string>(), _lastDigest);
        byte[] line = JsonSerializer.SerializeToUtf8Bytes(entry, Options);
        if (_failed) throw new IOException($"the journal {FilePath} could not be written a moment ago; nothing more is done without it");
        _failed = true;
        _volume.Append(FilePath, [.. line, (byte)'\n']);
        _failed = false;
        _entries.Add(entry);
        _lastDigest = Digest(line);
        return entry;
    }

    private static string Digest(ReadOnlySpan<byte> line) => Convert.ToHexStringLower(SHA256.HashData(line));

    /// <summary>The last line of a stage of a company; null when there is none.</summary>
    public JournalEntry? Last(string company, string stage) => _entries.LastOrDefault(entry => entry.Company == company && entry.Stage == stage);
}
