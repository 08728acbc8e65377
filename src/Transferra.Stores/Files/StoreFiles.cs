// StoreFiles.cs: copies stores that are files.
using Transferra.Core.Machine;

namespace Transferra.Stores.Files;

internal static class StoreFiles
{
    /// <summary>Copies a file or folder; the copy is on the disk then.</summary>
    public static void Copy(string from, string to)
    {
        var volume = new DiskVolume();
        if (File.Exists(from))
        {
            File.Copy(from, to, overwrite: false);
            volume.FlushFile(to);
            return;
        }
        FolderCopy.Make(from, to);
        volume.FlushFolder(to);
    }
}
