// CustomFiles.cs: which files of a program, and of a company's documents, are not as the vendor ships them: an upgrade that installs its
// own over them takes an office's work away.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Surveys;

/// <summary>A file that is not as shipped.</summary>
/// <param name="Path">Full path.</param>
/// <param name="State">changed or missing.</param>
public sealed record CustomFile(string Path, string State);

/// <summary>Compares with the vendor's list. Its names begin with "program/" or "documents/".</summary>
internal static class CustomFiles
{
    private const string Program = "program/", Documents = "documents/";

    /// <summary>Files of the program that are changed or missing.</summary>
    public static IReadOnlyList<CustomFile> OfProgram(Package package, KitVersion? version) =>
        package.ProgramFolder is null || version is null ? [] : Compare(version, Program, [package.ProgramFolder]);

    /// <summary>Files of a company's documents that are changed or missing.</summary>
    public static IReadOnlyList<CustomFile> OfCompany(Company company, KitVersion version) => company.DocumentFolders.Count == 0
        ? [] : Compare(version, Documents, company.DocumentFolders);

    private static IReadOnlyList<CustomFile> Compare(KitVersion version, string prefix, IReadOnlyList<string> folders)
    {
        var found = new List<CustomFile>();
        foreach (ShippedFile file in version.ShippedFiles is null ? [] : ShippedFile.ReadList(version.ShippedFiles))
        {
            if (!file.Name.StartsWith(prefix, StringComparison.Ordinal)) continue;
            string name = file.Name[prefix.Length..];
            string? path = folders.Select(folder => Path.Combine(folder, name)).FirstOrDefault(File.Exists);
            if (path is null) found.Add(new CustomFile(Path.Combine(folders[0], name), "missing"));
            else if (PlainFile.DigestOf(path) != file.Sha256) found.Add(new CustomFile(path, "changed"));
        }
        return found;
    }
}
