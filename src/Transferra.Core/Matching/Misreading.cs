// Misreading.cs: whether a text is another one whose bytes were read in a wrong code page.
// Why by tables of our own: it is asked of every text that differs, and the platform's encodings say by an exception that a character is
// not theirs.
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

internal static class Misreading
{
    // A page of one byte a character, both ways; \0 and no entry where it has none.
    private sealed record Page(char[] Characters, Dictionary<char, byte> Bytes);

    private static readonly Page[] Pages = [.. ((string[])["windows-1252", "ibm850", "ibm437", "iso-8859-15", "windows-1250", "ibm852",
        "windows-1251", "ibm866"]).Select(PageOf)];

    private static Page PageOf(string name)
    {
        Encoding encoding = TextEncodings.ByName(name);
        var page = new Page(new char[256], []);
        for (int value = 1; value < 256; value++)
        {
            try { page.Characters[value] = encoding.GetString([(byte)value])[0]; }
            catch (DecoderFallbackException) { continue; }
            page.Bytes.TryAdd(page.Characters[value], (byte)value);
        }
        return page;
    }

    /// <summary>Whether the bytes of one text, written in some page or in UTF-8, are the other text in another.</summary>
    /// <param name="expected">The text that should be there.</param>
    /// <param name="found">The text that is there.</param>
    public static bool Explains(string expected, string found)
    {
        byte[] ofExpected = Encoding.UTF8.GetBytes(expected), ofFound = Encoding.UTF8.GetBytes(found);
        foreach (Page page in Pages)
        {
            if (Reads(page, ofExpected, found) || Reads(page, ofFound, expected)) return true;
            foreach (Page other in Pages)
                if (other != page && Reads(page, other, expected, found)) return true;
        }
        return false;
    }

    // UTF-8 read as a page; the other way round, the same of the other text.
    private static bool Reads(Page page, byte[] utf8, string text)
    {
        if (utf8.Length != text.Length) return false;
        for (int i = 0; i < utf8.Length; i++)
            if (page.Characters[utf8[i]] != text[i]) return false;
        return true;
    }

    private static bool Reads(Page wrote, Page read, string expected, string found)
    {
        if (expected.Length != found.Length) return false;
        for (int i = 0; i < expected.Length; i++)
            if (!wrote.Bytes.TryGetValue(expected[i], out byte value) || read.Characters[value] != found[i]) return false;
        return true;
    }
}
