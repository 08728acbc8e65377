// FolderCopy.cs: the same files and links in another folder, under the same names whatever their bytes.
namespace Transferra.Core.Machine;

/// <summary>Copies folders.</summary>
public static class FolderCopy
{
    /// <summary>Copies all files and links below a folder, each flushed.</summary>
    /// <param name="from">The folder, or a link to it.</param>
    /// <param name="to">The copy; made when it is not there. Nothing in it is overwritten.</param>
    /// <exception cref="IOException">Something cannot be read, or is there already.</exception>
    public static void Make(string from, string to)
    {
        Directory.CreateDirectory(to);
        using var below = new FolderFiles(from);
        using var target = new FolderTree(PosixFiles.Bytes(to));
        foreach (FoundFile file in below.All())
        {
            if (file.IsLink)
            {
                target.MakeLink(file.Name, below.LinkOf(file));
                continue;
            }
            using Stream source = below.Open(file);
            using var copy = new FileStream(target.CreateNew(file.Name), FileAccess.Write, 0);
            source.CopyTo(copy, 1 << 20);
            copy.Flush(flushToDisk: true);
        }
    }
}
