// ReleaseWriting.cs: whether two statements are one, as two releases of an engine write it out. Newer ones leave out the table before a
// column where only one table is meant, and break lines elsewhere.
// Holds: (1) words, texts, numbers and their order are the same in both.
namespace Transferra.Core.Matching;

internal static class ReleaseWriting
{
    /// <summary>Whether they are the same but for blanks and for tables that stand before a column in one of them only.</summary>
    public static bool IsSame(string a, string b)
    {
        string[] first = [.. Words(a)], second = [.. Words(b)];
        int i = 0, j = 0;
        while (i < first.Length && j < second.Length)
        {
            if (IsTableBefore(first, i, second[j])) i += 2;
            else if (IsTableBefore(second, j, first[i])) j += 2;
            else if (first[i++] != second[j++]) return false;
        }
        return i == first.Length && j == second.Length;
    }

    private static bool IsTableBefore(string[] words, int at, string column) => words[at] != column && at + 2 < words.Length
        && words[at + 1] == "." && words[at + 2] == column && words[at][0] != '\'' && !char.IsDigit(words[at][0]);

    private static IEnumerable<string> Words(string statement)
    {
        for (int at = 0; at < statement.Length;)
        {
            int end = EndOfWord(statement, at);
            if (!string.IsNullOrWhiteSpace(statement[at..end])) yield return statement[at..end];
            at = end;
        }
    }

    private static int EndOfWord(string statement, int at)
    {
        char first = statement[at];
        int end = at + 1;
        if (first is '\'' or '"')
        {
            while (end < statement.Length && statement[end] != first) end++;
            return Math.Min(end + 1, statement.Length); // a doubled quote only begins the next word
        }
        if (!IsOfWord(first)) return end;
        while (end < statement.Length && IsOfWord(statement[end])) end++;
        return end;
    }

    private static bool IsOfWord(char c) => char.IsLetterOrDigit(c) || c is '_' or '$';
}
