// StoreFiles.cs: copies stores that are files.
using Transferra.Core.Machine;

namespace Transferra.Stores.Files;

internal static class StoreFiles
{
    /// <summary>Copies a file or folder; the copy is on the disk then, and for its owner alone.</summary>
    public static void Copy(string from, string to)
    {
        var volume = new DiskVolume();
        if (File.Exists(from))
        {
            using Stream source = PlainFile.Open(from, 0);
            using var copy = new FileStream(to, new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                BufferSize = 0,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            });
            source.CopyTo(copy, 1 << 20);
            copy.Flush(flushToDisk: true);
            return;
        }
        FolderCopy.Make(from, to);
        volume.FlushFolder(to);
    }
}
