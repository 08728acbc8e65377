// NameLikeness.cs: how like two names of tables or columns are: by their words, of which one may be the short form of the other.
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

    private static readonly System.Collections.Concurrent.ConcurrentDictionary<string, string[]> KnownWords = new(StringComparer.Ordinal);
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<(string, string), double> Known = new();

    /// <summary>The words of a name, in small letters: of customerNo, CUSTOMER_NO and "Customer No" the same.</summary>
    public static string[] Words(string name)
    {
        if (KnownWords.TryGetValue(name, out string[]? words)) return words;
        if (KnownWords.Count >= MostRemembered) KnownWords.Clear();
        return KnownWords[name] = Split(name);
    }

    private static string[] Split(string name) => [.. Border().Replace(name, "$1 ").Split([' ', '_', '-', '.', '#'],
        StringSplitOptions.RemoveEmptyEntries).Select(word => word.ToLowerInvariant())];

    /// <summary>From 0, nothing in common, to 1, the same words.</summary>
    public static double Of(string a, string b)
    {
        if (Known.TryGetValue((a, b), out double likeness)) return likeness;
        if (Known.Count >= MostRemembered) Known.Clear();
        return Known[(a, b)] = Judge(a, b);
    }

    private static double Judge(string a, string b)
    {
        string[] first = Words(a), second = Words(b);
        string joined = string.Concat(first), other = string.Concat(second);
        if (joined == other) return 1;
        if (first.Length == 0 || second.Length == 0) return 0;
        double words = (Best(first, second) + Best(second, first)) / 2;
        double letters = 1 - ((double)Names.Slips(joined, other) / Math.Max(joined.Length, other.Length));
        // Short forms of whole names: CNAME of customer name, ACODE of code.
        double shortened = IsShortOf(joined, other) || IsShortOf(other, joined) ? 0.6 : 0;
        double end = joined.Length > 2 && other.Length > 2 && (joined.EndsWith(second[^1], StringComparison.Ordinal)
            || other.EndsWith(first[^1], StringComparison.Ordinal)) ? 0.6 : 0;
        return Math.Min(0.95, Math.Max(Math.Max(words, letters), Math.Max(shortened, end)));
    }

    private static double Best(string[] words, string[] among) => words.Average(word => among.Max(other => Alike(word, other)));

    private static double Alike(string a, string b)
    {
        if (a == b || LongForms.GetValueOrDefault(a, a) == LongForms.GetValueOrDefault(b, b)) return 1;
        if (a + "s" == b || b + "s" == a) return 0.95;
        if (a.Length >= 2 && b.Length >= 2 && (IsShortOf(a, b) || IsShortOf(b, a))) return 0.8;
        double letters = 1 - ((double)Names.Slips(a, b) / Math.Max(a.Length, b.Length));
        return letters >= 0.7 ? letters : 0;
    }

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
