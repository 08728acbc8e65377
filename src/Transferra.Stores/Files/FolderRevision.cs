// FolderRevision.cs: makes a copied folder of table files ready for the new version: the files of tables that are filled anew or gone are
// removed, all others stay. A table's form is its file's, so that one filled anew is made anew.
using Transferra.Core.Records;

namespace Transferra.Stores.Files;

internal static class FolderRevision
{
    /// <summary>Revises a copy.</summary>
    /// <param name="folder">The copy.</param>
    /// <param name="revision">What is to be done.</param>
    /// <param name="endings">Endings of a table's files, with their point, in any case: itself and what belongs to it.</param>
    public static BuildMark Run(string folder, StoreRevision revision, params IReadOnlyList<string> endings)
    {
        var gone = new HashSet<string>(revision.Removed.Concat(revision.Tables.Select(table => table.Was?.Name).OfType<string>()),
            StringComparer.OrdinalIgnoreCase);
        var kept = new List<string>();
        foreach (string file in Directory.GetFiles(folder))
        {
            if (gone.Contains(Path.GetFileNameWithoutExtension(file))
                && endings.Contains(Path.GetExtension(file), StringComparer.OrdinalIgnoreCase)) File.Delete(file);
            else kept.Add(Path.GetFileName(file));
        }
        return BuildMark.Start with { Copy = new CopyRest(kept, []) };
    }
}
