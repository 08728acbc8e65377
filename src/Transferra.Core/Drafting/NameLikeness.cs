// NameLikeness.cs: how like two names of tables or columns are: by their words, of which one may be the short form of the other.
using System.Numerics;
using System.Text.RegularExpressions;
using Transferra.Core.Kits;

namespace Transferra.Core.Drafting;

internal static partial class NameLikeness
{
    // Short forms whose letters do not tell.
    private static readonly Dictionary<string, string> LongForms = new()
    {
        ["no"] = "number",
        ["nr"] = "number",
        ["num"] = "number",
        ["tel"] = "phone",
        ["telephone"] = "phone",
        ["postcode"] = "zip",
        ["pcode"] = "zip",
        ["vat"] = "tax",
        ["dob"] = "born",
        ["birthdate"] = "born",
    };

    // Two hundred tables have few thousand different names, which are compared millions of times.
    private const int MostRemembered = 400_000;

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<string, Name> KnownNames = new(StringComparer.Ordinal);

    // A name taken apart: its words, which letters stand in each, the words joined, and how often each letter stands in them.
    private sealed record Name(string[] Words, uint[] Letters, string Joined, byte[] Counts);

    /// <summary>The words of a name, in small letters: of customerNo, CUSTOMER_NO and "Customer No" the same.</summary>
    public static string[] Words(string name) => Known(name).Words;

    private static Name Known(string name)
    {
        if (KnownNames.TryGetValue(name, out Name? known)) return known;
        if (KnownNames.Count >= MostRemembered) KnownNames.Clear();
        string[] words = [.. Border().Replace(name, "$1 ").Split([' ', '_', '-', '.', '#'], StringSplitOptions.RemoveEmptyEntries)
            .Select(word => word.ToLowerInvariant())];
        string joined = string.Concat(words);
        byte[] counts = new byte[32];
        foreach (char letter in joined)
            if (counts[letter % 32] < byte.MaxValue) counts[letter % 32]++;
        return KnownNames[name] = new Name(words, [.. words.Select(word => word.Aggregate(0u, (known, letter) => known
            | (1u << (letter % 32))))], joined, counts);
    }

    /// <summary>From 0, nothing in common, to 1, the same words.</summary>
    public static double Of(string a, string b)
    {
        Name first = Known(a), second = Known(b);
        if (first.Joined == second.Joined) return 1;
        if (first.Words.Length == 0 || second.Words.Length == 0) return 0;
        double words = (Best(first, second) + Best(second, first)) / 2;
        // Short forms of whole names: CNAME of customer name, ACODE of code.
        double shortened = IsShortOf(first.Joined, second.Joined) || IsShortOf(second.Joined, first.Joined) ? 0.6 : 0;
        double end = first.Joined.Length > 2 && second.Joined.Length > 2 && (first.Joined.EndsWith(second.Words[^1],
            StringComparison.Ordinal) || second.Joined.EndsWith(first.Words[^1], StringComparison.Ordinal)) ? 0.6 : 0;
        double most = Math.Max(words, Math.Max(shortened, end));
        return Math.Min(0.95, Letters(first, second, most));
    }

    // How many letters are the same, where that is more than is known already. Every letter that one has more often than the other is
    // one that must change, which is counted sooner than the changes are.
    private static double Letters(Name a, Name b, double least)
    {
        int longest = Math.Max(a.Joined.Length, b.Joined.Length), onlyA = 0, onlyB = 0;
        for (int i = 0; i < a.Counts.Length; i++)
        {
            int more = a.Counts[i] - b.Counts[i];
            if (more > 0) onlyA += more;
            else onlyB -= more;
        }
        return 1 - ((double)Math.Max(onlyA, onlyB) / longest) <= least ? least
            : Math.Max(least, 1 - ((double)Names.Slips(a.Joined, b.Joined) / longest));
    }

    private static double Best(Name name, Name among)
    {
        double sum = 0;
        for (int i = 0; i < name.Words.Length; i++)
        {
            double best = 0;
            for (int j = 0; j < among.Words.Length && best < 1; j++)
                best = Math.Max(best, Alike(name.Words[i], name.Letters[i], among.Words[j], among.Letters[j]));
            sum += best;
        }
        return sum / name.Words.Length;
    }

    private static double Alike(string a, uint lettersA, string b, uint lettersB)
    {
        if (a == b || LongForms.GetValueOrDefault(a, a) == LongForms.GetValueOrDefault(b, b)) return 1;
        if ((a.Length + 1 == b.Length && b[^1] == 's' && b.StartsWith(a, StringComparison.Ordinal))
            || (b.Length + 1 == a.Length && a[^1] == 's' && a.StartsWith(b, StringComparison.Ordinal))) return 0.95;
        if (a.Length >= 2 && b.Length >= 2 && (IsShortOf(a, b) || IsShortOf(b, a))) return 0.8;
        // Each letter that only one has is one that must change.
        int longest = Math.Max(a.Length, b.Length), least = Math.Max(Math.Abs(a.Length - b.Length),
            Math.Max(BitOperations.PopCount(lettersA & ~lettersB), BitOperations.PopCount(lettersB & ~lettersA)));
        if (1 - ((double)least / longest) < LeastLetters) return 0;
        double letters = 1 - ((double)Names.Slips(a, b) / longest);
        return letters >= LeastLetters ? letters : 0;
    }

    private const double LeastLetters = 0.7;

    // Whether the letters of one stand in the other in this order, beginning with the same: acct of account.
    private static bool IsShortOf(string brief, string full)
    {
        if (brief.Length < 2 || brief.Length >= full.Length || brief[0] != full[0]) return false;
        int at = 0;
        foreach (char letter in full)
            if (at < brief.Length && brief[at] == letter) at++;
        return at == brief.Length;
    }

    [GeneratedRegex("([a-z0-9])(?=[A-Z])", RegexOptions.CultureInvariant)]
    private static partial Regex Border();
}
