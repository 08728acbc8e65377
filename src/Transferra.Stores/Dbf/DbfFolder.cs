// DbfFolder.cs: which files of a folder belong to which table. Old programs spell names in any case, and so do the disks they come from.
namespace Transferra.Stores.Dbf;

internal static class DbfFolder
{
    private static readonly EnumerationOptions AnyCase = new()
    {
        MatchCasing = MatchCasing.CaseInsensitive,
        AttributesToSkip = FileAttributes.None
    };

    /// <summary>The tables' files, by name.</summary>
    public static IReadOnlyList<string> Tables(string folder) => Files.TableFiles.In(folder, ".dbf");

    /// <summary>The file beside a table that has its name and another ending, in any case; null when there is none.</summary>
    public static string? Beside(string dbfPath, string ending) =>
        Directory.EnumerateFiles(Path.GetDirectoryName(dbfPath)!, "*" + ending, AnyCase)
            .FirstOrDefault(path => string.Equals(Path.GetFileNameWithoutExtension(path), Path.GetFileNameWithoutExtension(dbfPath),
                StringComparison.OrdinalIgnoreCase));
}
