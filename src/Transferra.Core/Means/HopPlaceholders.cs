// HopPlaceholders.cs: what stands in curly brackets in a command or step of a hop, for the copy, the company and the versions at hand.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Kits;

namespace Transferra.Core.Means;

internal static partial class HopPlaceholders
{
    /// <summary>Those that may be used anywhere.</summary>
    public static readonly IReadOnlyList<string> Known = ["store", "database", "host", "port", "user", "folder", "results", "company",
        "from", "to", "kit", "export"];

    /// <summary>Reports those that are not known.</summary>
    public static void Check(PlacedText text, IReadOnlyList<string> known, DescribedMap details)
    {
        foreach (Match match in Placeholder().Matches(text.Value))
            if (!known.Contains(match.Groups[1].Value))
                text.Report(details.Errors, $"{match.Value} is not known here; it can be {string.Join(", ", known.Select(name =>
                    $"{{{name}}}"))}");
    }

    /// <summary>What they stand for in a hop.</summary>
    /// <param name="work">The hop.</param>
    /// <param name="kit">The kit's folder.</param>
    public static Dictionary<string, string> Of(HopWork work, string kit) => new()
    {
        ["store"] = work.Place.Path,
        ["database"] = work.Place.Path,
        ["host"] = work.Place.Server?.Host ?? "",
        ["port"] = work.Place.Server is { Port: > 0 } server ? server.Port.ToString(CultureInfo.InvariantCulture) : "",
        ["user"] = work.Place.Server?.User ?? "",
        ["folder"] = work.Place.IsOnServer ? work.OutputFolder : Path.GetDirectoryName(work.Place.Path)!,
        ["results"] = work.OutputFolder,
        ["company"] = work.Company,
        ["from"] = work.Hop.From.Name,
        ["to"] = work.Hop.To.Name,
        ["kit"] = kit,
        ["export"] = work.ExportFolder,
    };

    /// <summary>A text with what they stand for.</summary>
    public static string Said(string text, Dictionary<string, string> values) =>
        Placeholder().Replace(text, match => values.GetValueOrDefault(match.Groups[1].Value) ?? match.Value);

    [GeneratedRegex(@"\{([a-z-]+)\}", RegexOptions.CultureInvariant)]
    private static partial Regex Placeholder();
}
