// ProofLog.cs: when each backup set was proved last, and how: transferra/proofs.jsonl in the office's folder, one JSON object a line,
// append-only.
// Why beside the sets and not in them: a set is never written to again. A line that cannot be read is passed over: a proof that nobody
// knows of is made again.
using System.Text;
using System.Text.Json;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>One proof of a set, or its removal.</summary>
/// <param name="At">When.</param>
/// <param name="Path">The set.</param>
/// <param name="Bytes">Its size then.</param>
/// <param name="Faults">What was wrong; empty when nothing was.</param>
public sealed record SetProof(DateTimeOffset At, string Path, long Bytes, IReadOnlyList<SetFault> Faults)
{
    /// <summary>Digest of the beginning of the set that was proved (docs/backup-sets.md, the seal): another set in its place has
    /// another.</summary>
    public string? Seal { get; init; }

    /// <summary>Mark of the place it was in (<see cref="PlaceBook"/>).</summary>
    public string? Mark { get; init; }

    /// <summary>How far the proof went; null in old lines.</summary>
    public ProofGrade? Grade { get; init; }

    /// <summary>Whether this tells of its removal, by this program.</summary>
    public bool IsRemoval { get; init; }

    /// <summary>Whether nothing was wrong.</summary>
    public bool IsGood => Faults.Count == 0 && !IsRemoval;
}

/// <summary>Proofs of the sets of an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class ProofLog(string officeFolder, IVolume volume)
{
    private string FilePath => Path.Combine(officeFolder, "transferra", "proofs.jsonl");

    /// <summary>Writes a proof down.</summary>
    public void Add(SetProof proof)
    {
        volume.CreateFolder(Path.GetDirectoryName(FilePath)!);
        volume.Append(FilePath, Encoding.UTF8.GetBytes(JsonSerializer.Serialize(proof, BackupJson.Default.SetProof) + "\n"));
    }

    private readonly Dictionary<string, SetProof> _last = new(StringComparer.Ordinal);
    private long _read;

    /// <summary>The last proof of each set, by its path. Asked again, only what was added since is read.</summary>
    public IReadOnlyDictionary<string, SetProof> Last()
    {
        using FileStream? file = File.Exists(FilePath) ? PlainFile.Open(FilePath, 1 << 16) : null;
        if ((file?.Length ?? 0) < _read)
        {
            _last.Clear();
            _read = 0;
        }
        if (file is null || file.Length == _read) return _last;
        file.Position = _read;
        byte[] added = new byte[file.Length - _read];
        file.ReadExactly(added);
        // A line that has no end yet is looked at now and once more.
        _read += Array.LastIndexOf(added, (byte)'\n') + 1;
        foreach (string line in Encoding.UTF8.GetString(added).Split('\n', StringSplitOptions.RemoveEmptyEntries))
        {
            try
            {
                if (JsonSerializer.Deserialize(line, BackupJson.Default.SetProof) is
                    {
                        Path: not null,
                        Faults: not null
                    } proof) _last[proof.Path] = proof;
            }
            catch (JsonException) { /* cut off by a stop */ }
        }
        return _last;
    }
}
