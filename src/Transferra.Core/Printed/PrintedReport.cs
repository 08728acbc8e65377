// PrintedReport.cs: what a program printed or exported, as pages of lines, whatever file it came in.
namespace Transferra.Core.Printed;

/// <summary>A report.</summary>
/// <param name="Name">Its file, below the folder of its side.</param>
/// <param name="Pages">Its pages; each a list of lines.</param>
public sealed record PrintedReport(string Name, IReadOnlyList<IReadOnlyList<string>> Pages)
{
    /// <summary>How the file was read where that is not a matter of course; "" otherwise.</summary>
    public string ReadAs { get; init; } = "";
}

/// <summary>Two reports that answer to each other, or one that nothing answers to.</summary>
/// <param name="Before">Of the old program; null when only the new one has it.</param>
/// <param name="After">Of the new program; null when only the old one has it.</param>
public sealed record PrintedPair(string? Before, string? After);

/// <summary>Pairs reports by their names.</summary>
public static class PrintedPairs
{
    /// <summary>Pairs them: first those of one name, then those of one name but for its ending, then those of one name but for dates and
    /// numbers in it and its ending, where that leaves no doubt.</summary>
    /// <param name="before">Files of the old program.</param>
    /// <param name="after">Files of the new one.</param>
    public static IReadOnlyList<PrintedPair> Of(IEnumerable<string> before, IEnumerable<string> after)
    {
        List<string> old = [.. before.Order(StringComparer.Ordinal)], renewed = [.. after.Order(StringComparer.Ordinal)];
        var pairs = new List<PrintedPair>();
        foreach (Func<string, string> by in (Func<string, string>[])[name => name, WithoutEnding, WithoutNumbers])
        {
            Dictionary<string, string[]> waiting = renewed.GroupBy(by, StringComparer.OrdinalIgnoreCase)
                .ToDictionary(same => same.Key, same => same.ToArray(), StringComparer.OrdinalIgnoreCase);
            foreach (IGrouping<string, string> same in old.GroupBy(by, StringComparer.OrdinalIgnoreCase).ToArray())
            {
                if (same.Count() > 1 || !waiting.TryGetValue(same.Key, out string[]? found) || found.Length > 1) continue;
                pairs.Add(new PrintedPair(same.Single(), found[0]));
                old.Remove(same.Single());
                renewed.Remove(found[0]);
            }
        }
        return [.. pairs.Concat(old.Select(name => new PrintedPair(name, null))).Concat(renewed.Select(name => new PrintedPair(null, name)))
            .OrderBy(pair => pair.Before ?? pair.After, StringComparer.Ordinal)];
    }

    private static string WithoutEnding(string name) => Path.ChangeExtension(name, null);

    // What is left of "aged debtors 2026-11-28.txt" is "aged debtors".
    private static string WithoutNumbers(string name)
    {
        string kept = string.Concat(WithoutEnding(name).Where(c => !char.IsDigit(c)));
        return kept.Trim(' ', '-', '_', '.', '(', ')').Replace("--", "", StringComparison.Ordinal);
    }
}
