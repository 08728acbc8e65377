// TableFiles.cs: which files of a folder are tables, where each table is a file.
using Transferra.Core.Machine;

namespace Transferra.Stores.Files;

internal static class TableFiles
{
    /// <summary>The files of tables in a folder, in order of their names.</summary>
    /// <param name="folder">The folder.</param>
    /// <param name="endings">Endings with their point, in any case.</param>
    /// <exception cref="TransferraException">One has a name that cannot be opened.</exception>
    public static IReadOnlyList<string> In(string folder, params IReadOnlyList<string> endings)
    {
        string[] files = [.. Directory.EnumerateFiles(folder).Where(path => endings.Contains(Path.GetExtension(path),
            StringComparer.OrdinalIgnoreCase)).Order(StringComparer.OrdinalIgnoreCase)];
        // The platform puts this in place of what is no text, and a file of that name is not there.
        return files.FirstOrDefault(path => path.Contains('\uFFFD', StringComparison.Ordinal) && !File.Exists(path)) is not { } odd ? files
            : throw new TransferraException($"{odd}: the name of this file is not UTF-8 text, so no table can be named after it",
                "It comes from a system with another code page. Give the file a name in plain letters, as the kit has it, while the old "
                    + "program is not at work; or move it out of the folder if it does not belong to the company.");
    }
}
