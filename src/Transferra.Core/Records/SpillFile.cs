// SpillFile.cs: files for what does not fit in memory. They have no name, so that a kill leaves nothing of people's records behind.
namespace Transferra.Core.Records;

/// <summary>Nameless files.</summary>
public static class SpillFile
{
    /// <summary>A new file that only this process can reach and that is gone when it is closed.</summary>
    /// <param name="bufferBytes">Of the stream.</param>
    public static FileStream Create(int bufferBytes)
    {
        var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.ReadWrite, BufferSize = bufferBytes };
        if (!OperatingSystem.IsWindows()) options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        var file = new FileStream(Path.Combine(Path.GetTempPath(), "transferra-" + Guid.NewGuid().ToString("N")), options);
        File.Delete(file.Name);
        return file;
    }
}
