using System.Runtime.CompilerServices;
using System.Text.RegularExpressions;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class ArchitectureTests
{
    // From the bottom up (docs/architecture.md): a folder knows those before it and none of those behind it.
    private static readonly string[] Folders = ["Machine", "Records", "Expressions", "Kits", "Conversion", "Means", "Matching", "Checks",
        "Mending",
        "Office", "Backup", "Closing", "Surveys", "Runs", "Gates", "Support"];

    private static string Core([CallerFilePath] string here = "") =>
        Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../../src/Transferra.Core"));

    private static IEnumerable<(string Folder, string File, string Text)> Sources() => Directory
        .EnumerateFiles(Core(), "*.cs", SearchOption.AllDirectories)
        .Select(file => (Folder: Path.GetRelativePath(Core(), file).Split('/')[0], file, File.ReadAllText(file)))
        .Where(source => source.Folder is not ("bin" or "obj"));

    [Fact]
    public void Every_folder_has_its_place_in_the_order() =>
        Assert.Equal(Folders.Order(StringComparer.Ordinal),
            Sources().Select(source => source.Folder).Distinct().Order(StringComparer.Ordinal));

    [Fact]
    public void A_folder_knows_only_those_below_it()
    {
        // By a using line, or by the folder's name before a type's, as namespaces within Transferra.Core see each other without one.
        var named = new Regex(@"^using (?:static )?Transferra\.Core\.(\w+)\b.*;|(?<![\w.])("
            + string.Join('|', Folders) + @")\.(?=([A-Z]\w+))", RegexOptions.Multiline);
        HashSet<(string Folder, string Type)> types = [.. Sources().SelectMany(source => Regex
            .Matches(source.Text, @"^(?:public|internal)\s[^(\n]*?\b(?:class|struct|record|interface|enum)\s+(\w+)", RegexOptions.Multiline)
            .Select(type => (source.Folder, type.Groups[1].Value)))];
        var upward = new List<string>();
        foreach ((string folder, string file, string text) in Sources())
            foreach (Match match in named.Matches(Regex.Replace(text, "//.*", "")))
            {
                string known = match.Groups[1].Success ? match.Groups[1].Value : match.Groups[2].Value;
                // A property may have the name of a folder.
                if (match.Groups[2].Success && !types.Contains((known, match.Groups[3].Value))) continue;
                if (Array.IndexOf(Folders, known) > Array.IndexOf(Folders, folder))
                    upward.Add($"{folder}/{Path.GetFileName(file)}: {known}");
            }
        Assert.Empty(upward);
    }

    [Fact]
    public void A_file_belongs_to_the_namespace_of_its_folder() => Assert.Empty(Sources().Where(source =>
        !source.Text.Contains($"\nnamespace Transferra.Core.{source.Folder};", StringComparison.Ordinal)
        && !source.Text.StartsWith($"namespace Transferra.Core.{source.Folder};", StringComparison.Ordinal)).Select(source => source.File));

    [Fact]
    public void Core_refers_to_neither_our_projects_nor_a_console_nor_a_driver() =>
        Assert.DoesNotContain(typeof(FieldType).Assembly.GetReferencedAssemblies(), name =>
        name.Name is "System.Console" or "Spectre.Console" or "System.CommandLine" || name.Name!.StartsWith("Transferra.",
            StringComparison.Ordinal)
        || name.Name.Contains("Sqlite", StringComparison.OrdinalIgnoreCase) || name.Name == "System.Data.Common");

    [Fact]
    public void Money_never_passes_through_a_double() => Assert.DoesNotContain(typeof(DecimalText).GetMethods()
        .SelectMany(method => method.GetParameters()), parameter =>
        parameter.ParameterType == typeof(double) || parameter.ParameterType == typeof(float));
}
