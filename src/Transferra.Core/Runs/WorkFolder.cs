// WorkFolder.cs: the folder that a run works in for one company, beside its store, and in which the original stands aside after the
// change-over.
// Why one for each company and run: two companies may lie in one folder, and two offices may think of one store; what one of them clears
// away must never be what the other set aside.
// W1  The folder is made by this run alone: making it fails when it is there, and a mark in it holds a word that only this run's journal
// knows.
// W2  Only what the journal says this run made is removed, by its full path; never the folder with all that may be in it.
//     A folder is given another name first: what an interrupted removal leaves of it must not look like something that was worked with.
// W3  Nothing is removed in which an original stands.
// W4  The folder itself goes when nothing is left in it but the mark.
using System.Text.Json;
using System.Text.Json.Serialization;
using Transferra.Core.Machine;

namespace Transferra.Core.Runs;

/// <summary>The folder of one company and run.</summary>
/// <param name="volume">The disk.</param>
/// <param name="path">Full path.</param>
/// <param name="token">The word of this run and company, from the journal's first line.</param>
/// <param name="originals">Where originals may stand in it.</param>
public sealed class WorkFolder(IVolume volume, string path, string token, IReadOnlyList<string> originals)
{
    /// <summary>Its mark: who made it.</summary>
    public const string MarkName = "transferra-run.json";

    internal sealed record Mark(string Token, string What);

    /// <summary>Full path.</summary>
    public string FullPath => path;

    private string MarkPath => Path.Combine(path, MarkName);

    // What is being removed.
    private string Going => Path.Combine(path, "going");

    /// <summary>Whether something of its name is there.</summary>
    public bool IsThere => volume.Exists(path);

    /// <summary>Makes it; fine when this run has made it already.</summary>
    /// <exception cref="TransferraException">Somebody else has.</exception>
    public void Make()
    {
        if (volume.Exists(MarkPath))
        {
            RefuseForeign();
            return;
        }
        string above = Path.GetDirectoryName(path)!;
        volume.CreateFolder(above);
        if (!volume.Exists(path)) volume.MakeFolder(path);
        else if (Directory.EnumerateFileSystemEntries(path).Any()) throw Foreign(); // empty, it was left by a stop between the two steps
        volume.WriteNew(MarkPath, JsonSerializer.SerializeToUtf8Bytes(new Mark(token,
            "Made by a run of Transferra. Please move or remove nothing in this folder by hand: "
                + "the original of a company may stand here."), WorkFolderJson.Default.Mark));
        volume.FlushFolder(path);
        volume.FlushFolder(above);
    }

    /// <summary>Makes a folder in it, for its owner alone.</summary>
    public void MakeInside(string folder)
    {
        Make();
        volume.CreateFolder(Inside(folder));
    }

    /// <summary>Removes something that this run made in it; fine when it is not there.</summary>
    /// <param name="made">Full path of a file or folder.</param>
    /// <exception cref="TransferraException">The folder is somebody else's, or an original stands there.</exception>
    public void Remove(string made)
    {
        made = Inside(made);
        if (!IsThere || (!volume.Exists(made)
            && !Records.StoreAddress.EndingsBeside.Any(companion => volume.Exists(made + companion)))) return;
        RefuseForeign();
        if (originals.FirstOrDefault(original => volume.Exists(original) && IsWithin(original, made)) is { } stands)
            throw new TransferraException($"{stands} stands there, the original of this company; it is not removed",
                "See which run it belongs to: transferra signoff");
        volume.Remove(Going);
        if (Directory.Exists(made))
        {
            volume.Rename(made, Going);
            volume.FlushFolder(Path.GetDirectoryName(made)!);
            volume.FlushFolder(path);
            volume.Remove(Going);
        }
        else volume.Remove(made);
        foreach (string companion in Records.StoreAddress.EndingsBeside) volume.Remove(made + companion);
        // The folder that was made for it alone.
        string around = Path.GetDirectoryName(made)!;
        if (around != path && volume.Exists(around)) volume.RemoveEmptyFolder(around);
    }

    /// <summary>Removes the folder itself when nothing is in it but its mark.</summary>
    /// <returns>Whether it is gone.</returns>
    public bool RemoveIfEmpty()
    {
        if (!IsThere) return true;
        if (volume.Exists(Going))
        {
            RefuseForeign();
            volume.Remove(Going);
        }
        foreach (string folder in Directory.EnumerateDirectories(path)) RemoveEmpty(folder);
        if (Directory.EnumerateFileSystemEntries(path).Any(entry => entry != MarkPath)) return false;
        if (volume.Exists(MarkPath))
        {
            RefuseForeign();
            volume.Remove(MarkPath);
        }
        bool gone = volume.RemoveEmptyFolder(path);
        volume.FlushFolder(Path.GetDirectoryName(path)!);
        return gone;
    }

    // Folders that were made for something that has gone from them.
    private void RemoveEmpty(string folder)
    {
        if (File.GetAttributes(folder).HasFlag(FileAttributes.ReparsePoint)) return;
        foreach (string below in Directory.EnumerateDirectories(folder)) RemoveEmpty(below);
        volume.RemoveEmptyFolder(folder);
    }

    private string Inside(string made) => IsWithin(made, path) && made != path ? made
        : throw new ArgumentException($"{made} does not lie in {path}", nameof(made));

    private static bool IsWithin(string inner, string outer) => inner == outer || inner.StartsWith(outer + "/", StringComparison.Ordinal);

    private void RefuseForeign()
    {
        if (!IsOurs()) throw Foreign();
    }

    private bool IsOurs()
    {
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(MarkPath), WorkFolderJson.Default.Mark)?.Token == token;
        }
        catch (Exception error) when (error is JsonException or FileNotFoundException or DirectoryNotFoundException) { return false; }
    }

    private TransferraException Foreign() => new($"the folder {path} was not made by this run, or its mark {MarkName} is gone",
        "Another office may work with the same store. Nothing in the folder was touched. Find out whose it is; to leave everything where "
            + "it lies: transferra undo --give-up");

    /// <summary>A new word for a run's journal, 32 hexadecimal digits that nobody can guess.</summary>
    public static string NewToken() => Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(16));
}

/// <summary>The mark in its file.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(WorkFolder.Mark))]
internal sealed partial class WorkFolderJson : JsonSerializerContext;
