// OfficeDraft.cs: writes what was found into office.yaml: companies added to one that is there, keeping every other line as it is, or a
// new one drafted from nothing but kits and stores.
using System.Globalization;
using System.Text;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using YamlDotNet.RepresentationModel;

namespace Transferra.Core.Surveys;

/// <summary>Drafts office.yaml.</summary>
public static class OfficeDraft
{
    /// <summary>The text of an office.yaml with companies added.</summary>
    /// <param name="text">As it is.</param>
    /// <param name="folder">Folder of office.yaml.</param>
    /// <param name="office">What the text says.</param>
    /// <param name="found">The stores to add.</param>
    /// <exception cref="TransferraException">The companies are not written as lines of their own.</exception>
    public static string WithCompanies(string text, string folder, OfficeDescription office, IReadOnlyList<UnlistedStore> found)
    {
        var stream = new YamlStream();
        stream.Load(new StringReader(text));
        var packages = (YamlSequenceNode)((YamlMappingNode)stream.Documents[0].RootNode).Children[new YamlScalarNode("packages")];
        List<string> lines = [.. text.Split('\n')];
        // From the last package to the first, so that lines inserted below do not move those above.
        for (int i = packages.Children.Count - 1; i >= 0; i--)
        {
            UnlistedStore[] its = [.. found.Where(store => store.Kit == office.Packages[i].Kit.Id && !office.Packages.Take(i)
                .Any(before => before.Kit.Id == store.Kit))];
            if (its.Length == 0) continue;
            var companies = (YamlSequenceNode)((YamlMappingNode)packages.Children[i]).Children[new YamlScalarNode("companies")];
            if (companies.Style == YamlDotNet.Core.Events.SequenceStyle.Flow || companies.Children.Count == 0)
                throw new TransferraException($"the companies of {office.Packages[i].Kit.Title} are written in one line, and nothing can "
                    + "be added to that safely", "Write each company in lines of its own that begin with \"- code:\".");
            // The item begins behind its "- ".
            int indent = (int)companies.Children[^1].Start.Column - 3, last = LastLineOf(companies.Children[^1]);
            foreach (UnlistedStore store in its.Reverse()) lines.InsertRange(last, CompanyLines(store, folder, indent));
        }
        return string.Join('\n', lines);
    }

    private static int LastLineOf(YamlNode node) => (int)node.AllNodes.OfType<YamlScalarNode>().Max(scalar => scalar.End.Line);

    private static IEnumerable<string> CompanyLines(UnlistedStore store, string folder, int indent)
    {
        string start = new(' ', indent);
        yield return $"{start}- code: {store.Code}";
        yield return $"{start}  name: {Text(store.Code)}";
        yield return $"{start}  store: {StoreText(store.Address, folder)}";
    }

    /// <summary>A new office.yaml.</summary>
    /// <param name="name">The office's name.</param>
    /// <param name="folder">Where it is to lie.</param>
    /// <param name="kits">Kits, of which those with stores are used.</param>
    /// <param name="found">The stores.</param>
    public static string New(string name, string folder, IReadOnlyList<Kit> kits, IReadOnlyList<UnlistedStore> found)
    {
        var text = new StringBuilder("# Drafted from what was found; read it, correct names, and add documents, program, closing and "
            + "backup. Format: docs/office.md\n");
        text.Append(CultureInfo.InvariantCulture, $"office: {Text(name)}\npackages:\n");
        foreach (Kit kit in kits.Where(kit => found.Any(store => store.Kit == kit.Id)))
        {
            text.Append(CultureInfo.InvariantCulture,
                $"  - kit: {Text(Relative(kit.Folder, folder))}\n    wanted-version: \"{kit.Versions[^1].Name}\"\n    companies:\n");
            foreach (string line in found.Where(store => store.Kit == kit.Id)
                .SelectMany(store => CompanyLines(store, folder, 6))) text.Append(line).Append('\n');
        }
        text.Append("backup:\n  to: [sets]\n");
        return text.ToString();
    }

    private static string StoreText(StoreAddress store, string folder)
    {
        if (store.Server is not { } server) return $"{{{store.Engine}: {Text(Relative(store.Path, folder))}}}";
        var parts = new List<string> { $"{store.Engine}: {Text(store.Path)}", $"host: {Text(server.Host)}" };
        if (server.Port > 0) parts.Add(FormattableString.Invariant($"port: {server.Port}"));
        if (server.User.Length > 0) parts.Add($"user: {Text(server.User)}");
        if (server.PasswordFile is { } file) parts.Add($"password-file: {Text(Relative(file, folder))}");
        if (server.PasswordVariable is { } variable) parts.Add($"password-variable: {Text(variable)}");
        if (server.Authority is { } authority) parts.Add($"authority: {Text(Relative(authority, folder))}");
        else if (server.Connection != ConnectionCare.AsOffered) parts.Add(
            $"connection: {(server.Connection == ConnectionCare.Checked ? "checked" : "encrypted")}");
        foreach ((string option, string value) in store.Options) parts.Add($"{option}: {Text(value)}");
        return "{" + string.Join(", ", parts) + "}";
    }

    private static string Relative(string path, string folder)
    {
        string relative = Path.GetRelativePath(folder, path);
        return relative.StartsWith("..", StringComparison.Ordinal) ? path : relative;
    }

    // Plain where that is plainly a text to YAML, quoted otherwise.
    private static string Text(string text) => text.Length > 0 && char.IsAsciiLetter(text[0])
        && text.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.' or '/') || text.StartsWith('/')
        && text.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.' or '/')
        ? text : "'" + text.Replace("'", "''", StringComparison.Ordinal) + "'";
}
