// OpenFiles.cs: which processes hold a file open, from /proc (proc(5)); those of other users are seen only by root.
// Holds: (1) a file reached through links, also of folders above it, is recognised; (2) a file that is not there is held by nobody.
namespace Transferra.Core.Machine;

/// <summary>A process that holds a file open.</summary>
public sealed record FileHolder(int ProcessId, string Program, string File);

/// <summary>Asks the system who holds files open.</summary>
public static class OpenFiles
{
    /// <summary>The other processes that hold any of the files open.</summary>
    /// <param name="files">Full paths.</param>
    public static IReadOnlyList<FileHolder> HoldersOf(IReadOnlyCollection<string> files)
    {
        // Links in /proc name the file itself, so the path asked about must be freed of links first.
        var wanted = new HashSet<string>(files.Select(FileIdentity.RealPath).OfType<string>(), StringComparer.Ordinal);
        var holders = new List<FileHolder>();
        if (!Directory.Exists("/proc")) return holders;
        foreach (string process in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(process), System.Globalization.NumberStyles.None,
                System.Globalization.CultureInfo.InvariantCulture, out int id)
                || id == Environment.ProcessId) continue;
            try
            {
                foreach (string handle in Directory.EnumerateFiles(Path.Combine(process, "fd")))
                {
                    string? target = new FileInfo(handle).LinkTarget;
                    if (target is null || !wanted.Contains(target)) continue;
                    holders.Add(new FileHolder(id, File.ReadAllText(Path.Combine(process, "comm")).Trim(), target));
                    break;
                }
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                // The process ended meanwhile, or belongs to another user; root sees them all.
            }
        }
        return holders;
    }
}
