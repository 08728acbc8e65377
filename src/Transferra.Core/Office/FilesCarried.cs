// FilesCarried.cs: files that office.yaml has carried from an old place to a new one. Format: docs/office.md.
using Transferra.Core.Kits;
using Transferra.Core.Machine;

namespace Transferra.Core.Office;

/// <summary>Files that are carried.</summary>
/// <param name="From">Full path of the old folder.</param>
/// <param name="To">Full path of the new one.</param>
/// <param name="Files">Which: names with * and ?, matched with a file's name, or with its path below the folder when they contain a
/// "/".</param>
public sealed record FilesCarried(string From, string To, IReadOnlyList<string> Files)
{
    /// <summary>Paths below the old folder, in order of their bytes. Links are not followed.</summary>
    public IReadOnlyList<string> Names()
    {
        using var below = new FolderFiles(From);
        return [.. below.All().Where(file => file.Stat.Kind == FileKind.File).Select(file => file.Shown)
            .Where(name => Files.Any(pattern => IsLike(name, pattern)))];
    }

    /// <summary>Why they cannot be carried now; null when they can.</summary>
    public string? WhyNot()
    {
        if (!Directory.Exists(From)) return $"the folder {From} that files are carried from is not there";
        if (!Directory.Exists(To)) return $"the folder {To} that files are carried to is not there; put the new program's folder beside "
            + $"the "
            + "old one, or carry them by hand later";
        IReadOnlyList<string> names = Names();
        if (Files.FirstOrDefault(pattern => !names.Any(name => IsLike(name, pattern))) is { } none)
            return $"no file in {From} is named like {none}";
        return names.FirstOrDefault(name => !File.Exists(Path.Combine(From, name))) is { } odd
            ? $"the name of {odd} in {From} is not text, and it cannot be carried" : null;
    }

    private static bool IsLike(string name, string pattern) => System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern,
        pattern.Contains('/', StringComparison.Ordinal) ? name : Path.GetFileName(name), ignoreCase: false);

    internal static IReadOnlyList<FilesCarried> Read(DescribedMap company, string folder, DescriptionErrors errors)
    {
        var all = new List<FilesCarried>();
        foreach (DescribedMap map in company.Maps("carry", "files that are carried"))
        {
            PlacedText from = map.Text("from"), to = map.Text("to");
            IReadOnlyList<PlacedText> files = map.Texts("files");
            map.Done();
            if (files.Count == 0) map.Report("\"files\" says which: names with * and ?");
            string old = Path.GetFullPath(Path.Combine(folder, from.Value)), renewed = Path.GetFullPath(Path.Combine(folder, to.Value));
            if (from.Value.Length > 0 && old == renewed) to.Report(errors, "the files are there already; name another folder");
            all.Add(new FilesCarried(old, renewed, [.. files.Select(file => file.Value)]));
        }
        return all;
    }
}
