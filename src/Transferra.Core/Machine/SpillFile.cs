// SpillFile.cs: files for what does not fit in memory. They have no name, so that a kill leaves nothing of people's records behind.
// Where: the folder for temporary files that TMPDIR names; otherwise /tmp, or /var/tmp where /tmp is kept in memory, as it is on many
// machines: what does not fit in memory must not go back there.
// Holds: (1) nobody but this process can reach such a file, and it is gone when it is closed.
namespace Transferra.Core.Machine;

/// <summary>Nameless files.</summary>
public static class SpillFile
{
    private static readonly Lazy<string> Folder = new(() => FolderFor(Environment.GetEnvironmentVariable("TMPDIR"), IsInMemory));

    /// <summary>A new file that only this process can reach and that is gone when it is closed.</summary>
    /// <param name="bufferBytes">Of the stream.</param>
    public static FileStream Create(int bufferBytes)
    {
        var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.ReadWrite, BufferSize = bufferBytes };
        if (!OperatingSystem.IsWindows()) options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        var file = new FileStream(Path.Combine(Folder.Value, "transferra-" + Guid.NewGuid().ToString("N")), options);
        File.Delete(file.Name);
        return file;
    }

    /// <summary>Where they go.</summary>
    /// <param name="named">What TMPDIR says; null or "" for nothing.</param>
    /// <param name="isInMemory">Whether a folder is kept in memory; null when it is not there.</param>
    internal static string FolderFor(string? named, Func<string, bool?> isInMemory)
    {
        const string usual = "/tmp", onDisk = "/var/tmp";
        if (!string.IsNullOrEmpty(named)) return named;
        return isInMemory(usual) != false && isInMemory(onDisk) == false ? onDisk : usual;
    }

    private static bool? IsInMemory(string folder)
    {
        if (!Directory.Exists(folder)) return null;
        try { return new DriveInfo(folder).DriveFormat is "tmpfs" or "ramfs"; }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return null; }
    }
}
