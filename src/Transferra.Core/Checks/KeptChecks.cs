// KeptChecks.cs: the checks of an office: folder transferra/checks/COMPANY/TIME, each with findings.json and the lists of records.
// Holds: (1) a folder that is named for a time is complete: it is filled under another name and renamed; (2) lists may be read by their
// owner alone.
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Machine;

namespace Transferra.Core.Checks;

/// <summary>A check that was kept.</summary>
/// <param name="Folder">Full path.</param>
/// <param name="At">When it was made.</param>
/// <param name="Result">What it turned up.</param>
public sealed record KeptCheck(string Folder, DateTimeOffset At, CheckResult Result)
{
    /// <summary>Why it could not be kept; then there is no folder.</summary>
    public string NotKept { get; init; } = "";
}

/// <summary>The checks of an office.</summary>
/// <param name="officeFolder">Folder of office.yaml.</param>
/// <param name="volume">The disk.</param>
public sealed class KeptChecks(string officeFolder, IVolume volume)
{
    /// <summary>Name of the file with the findings.</summary>
    public const string FileName = "findings.json";

    // So many checks of a company are kept; older ones go when a new one is made.
    private const int MostKept = 50;

    private const string TimeForm = "yyyyMMdd-HHmmss", PartSuffix = ".part";

    private string FolderOf(string company) => Path.Combine(officeFolder, "transferra", "checks", company);

    /// <summary>The newest check of a company that can be read; null when there is none.</summary>
    public KeptCheck? Newest(string company)
    {
        if (!Directory.Exists(FolderOf(company))) return null;
        foreach (string folder in Directory.EnumerateDirectories(FolderOf(company)).OrderDescending(StringComparer.Ordinal))
        {
            string path = Path.Combine(folder, FileName);
            if (!DateTimeOffset.TryParseExact(Path.GetFileName(folder), TimeForm, CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal,
                out DateTimeOffset at) || !File.Exists(path))
                continue;
            try
            {
                if (JsonSerializer.Deserialize(File.ReadAllBytes(path), ChecksJson.Form.CheckResult) is { } result)
                    return new KeptCheck(folder, at, result);
            }
            catch (JsonException) { /* of another version of this program */ }
        }
        return null;
    }

    /// <summary>Makes a check and keeps it.</summary>
    /// <param name="company">Code of the company.</param>
    /// <param name="check">Makes it; gets the folder for its lists.</param>
    public KeptCheck Keep(string company, Func<string, CheckResult> check)
    {
        try
        {
            return KeepIn(FolderOf(company), check);
        }
        // A full disk, or a folder that may not be written, is no reason not to look at the books.
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new KeptCheck("", DateTimeOffset.UtcNow, check("")) { NotKept = error.Message };
        }
    }

    private KeptCheck KeepIn(string parent, Func<string, CheckResult> check)
    {
        volume.CreateFolder(parent);
        foreach (string old in Directory.EnumerateDirectories(parent, "*" + PartSuffix)) volume.Remove(old); // interrupted
        DateTimeOffset at = DateTimeOffset.UtcNow;
        string folder;
        do folder = Path.Combine(parent, at.UtcDateTime.ToString(TimeForm, CultureInfo.InvariantCulture));
        while (Path.Exists(folder) && (at = at.AddSeconds(1)) > default(DateTimeOffset));
        string part = folder + PartSuffix;
        volume.MakeFolder(part);
        try
        {
            CheckResult result = check(part);
            volume.WriteNew(Path.Combine(part, FileName), JsonSerializer.SerializeToUtf8Bytes(result, ChecksJson.Form.CheckResult));
            volume.FlushFolder(part);
            volume.Rename(part, folder);
            volume.FlushFolder(parent);
            foreach (string old in Directory.EnumerateDirectories(parent).OrderDescending(StringComparer.Ordinal)
                .Skip(MostKept)) volume.Remove(old);
            return new KeptCheck(folder, at, result);
        }
        finally
        {
            if (volume.Exists(part)) volume.Remove(part);
        }
    }
}
