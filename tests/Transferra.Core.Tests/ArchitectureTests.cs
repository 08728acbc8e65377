using System.Runtime.CompilerServices;
using System.Text.RegularExpressions;
using Transferra.Core.Records;

namespace Transferra.Core.Tests;

public class ArchitectureTests
{
    // From the bottom up (docs/architecture.md): a folder knows those before it and none of those behind it.
    private static readonly string[] Folders = ["Machine", "Printed", "Scripts", "Records", "Expressions", "Kits", "Drafting",
        "Conversion", "Means",
        "Matching", "Checks", "Mending", "Office", "Backup", "Closing", "Surveys", "Runs", "Gates", "Support"];

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

    [Fact]
    public void The_page_on_the_house_shows_every_folder_and_leads_to_files_that_are_there()
    {
        string page = File.ReadAllText(Path.Combine(Repository, "docs/architecture.md"));
        Assert.Equal([.. Folders.Reverse()], Regex.Matches(page, @"^    ([A-Z][a-z]+) {2,}\w", RegexOptions.Multiline)
            .Select(line => line.Groups[1].Value));
        string[] files = [.. Regex.Matches(page, @"`([A-Z][a-z]+/\w+\.cs)`").Select(file => file.Groups[1].Value)];
        Assert.True(files.Length > 20);
        Assert.Equal([], files.Where(file => !File.Exists(Path.Combine(Core(), file))));
    }

    [Fact]
    public void Lines_end_by_column_140() => Assert.Equal([], ((string[])["src", "tests", "demo", "benchmarks"])
        .SelectMany(folder => Directory.EnumerateFiles(Path.Combine(Repository, folder), "*.cs", SearchOption.AllDirectories))
        .Where(file => !file.Contains("/obj/", StringComparison.Ordinal) && !file.Contains("/bin/", StringComparison.Ordinal))
        .SelectMany(file => File.ReadLines(file).Select((line, i) => (Line: line, At: $"{Path.GetRelativePath(Repository, file)}:{i + 1}")))
        .Where(line => line.Line.Length > 140).Select(line => line.At));

    private static string Repository => Path.GetFullPath(Path.Combine(Core(), "../.."));

    // The guarantees in the opening lines of a file, as (file without ending, number).
    private static IEnumerable<(string File, string Number)> Guarantees()
    {
        string root = Path.Combine(Repository, "src");
        foreach (string file in Directory.EnumerateFiles(root, "*.cs", SearchOption.AllDirectories))
        {
            string name = Path.GetRelativePath(root, file)[..^3];
            if (name.Contains("/obj/", StringComparison.Ordinal) || name.Contains("/bin/", StringComparison.Ordinal)) continue;
            string head = string.Join(' ', File.ReadLines(file).TakeWhile(line => line.StartsWith("//", StringComparison.Ordinal))
                .Select(line => line[2..].Trim()));
            int holds = head.IndexOf("Holds: ", StringComparison.Ordinal);
            string prefix = name.EndsWith("/Journal", StringComparison.Ordinal) ? "J"
                : name.EndsWith("/WorkFolder", StringComparison.Ordinal) ? "W" : "";
            if (prefix.Length > 0) head = string.Join(' ',
                Regex.Matches(head, prefix + @"([1-9])\s").Select(found => $"({found.Groups[1].Value}) "));
            else if (holds < 0) continue;
            else head = head[holds..];
            foreach (string number in Regex.Matches(head, @"\(([1-9])\) ").Select(found => found.Groups[1].Value).Distinct())
                yield return (name, prefix + number);
        }
    }

    // The compiler does not mind, and what looks at all else of the form without compiling does not look at this.
    [Fact]
    public void Using_lines_stand_in_order_those_of_the_system_first()
    {
        string[] wrong = [.. ((string[])["src", "demo", "tests", "benchmarks"]).SelectMany(folder => Directory.EnumerateFiles(
            Path.Combine(Repository, folder), "*.cs", SearchOption.AllDirectories)).Where(file => !file.Contains("/obj/",
            StringComparison.Ordinal) && !IsInOrder(File.ReadLines(file)))];
        Assert.Equal([], wrong);
    }

    private static bool IsInOrder(IEnumerable<string> lines)
    {
        (bool, string)[] names = [.. lines.Select(line => Regex.Match(line, @"^using (\w[\w.]*);$").Groups[1].Value)
            .Where(name => name.Length > 0).Select(name => (name != "System" && !name.StartsWith("System.", StringComparison.Ordinal),
            name.Replace('.', '\0')))]; // a part of a name comes before all that is longer
        return names.SequenceEqual(names.OrderBy(name => name.Item1).ThenBy(name => name.Item2, StringComparer.OrdinalIgnoreCase));
    }

    [Fact]
    public void Every_numbered_guarantee_has_its_test()
    {
        string tests = string.Concat(Directory.EnumerateFiles(Path.Combine(Repository, "tests"), "*.cs", SearchOption.AllDirectories)
            .Where(file => !file.Contains("/obj/", StringComparison.Ordinal)).Select(File.ReadAllText));
        var listed = new HashSet<(string, string)>();
        var wrong = new List<string>();
        foreach (string line in File.ReadLines(Path.Combine(Repository, "docs/guarantees.md")).Where(line => line.StartsWith("| ",
            StringComparison.Ordinal)).Skip(1))
        {
            string[] cells = line.Split('|', StringSplitOptions.TrimEntries);
            listed.Add((cells[1], cells[2]));
            MatchCollection named = Regex.Matches(cells[3], @"(\w+Tests)\.(\w+|\*)");
            if (named.Count == 0 && !cells[3].StartsWith("as it runs: ", StringComparison.Ordinal)) wrong.Add($"nothing holds {line}");
            foreach (Match test in named)
                if (!Regex.IsMatch(tests, $@"class {test.Groups[1].Value}\b") || (test.Groups[2].Value != "*"
                    && !tests.Contains($" {test.Groups[2].Value}(", StringComparison.Ordinal))) wrong.Add($"there is no {test.Value}");
        }
        (string, string)[] guaranteed = [.. Guarantees()];
        wrong.AddRange(guaranteed.Except(listed).Select(without => $"no test is named for {without}"));
        wrong.AddRange(listed.Except(guaranteed).Select(extra => $"there is no guarantee {extra}"));
        Assert.Equal([], wrong);
    }
}
