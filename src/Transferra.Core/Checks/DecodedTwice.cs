// DecodedTwice.cs: tells text that was decoded once too often, and decodes it again.
// How: such text, written in the code page it was wrongly read in, is UTF-8 with at least one character beyond ASCII. A right text is
// that by chance only when it holds, one behind the other, characters that no language has so: a box-drawing character and a registered
// mark, say.
using System.Text;
using System.Text.Unicode;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Text decoded twice.</summary>
internal sealed class DecodedTwice
{
    /// <summary>Lead bytes of the UTF-8 of nearly all letters with accents, of typographic signs and of the letters of Central
    /// Europe.</summary>
    private static readonly byte[] LeadBytes = [0xC2, 0xC3, 0xC4, 0xC5, 0xE2];

    private readonly Dictionary<char, byte>[] _pages;
    private readonly byte[][] _signs;

    /// <summary>Looks for text that was read in a version's code page, or in that of western Windows.</summary>
    /// <param name="textEncoding">The version's code page; null for UTF-8.</param>
    public DecodedTwice(string? textEncoding)
    {
        string[] names = [.. new[] { textEncoding, "windows-1252" }.OfType<string>().Distinct()];
        _pages = [.. names.Select(Page)];
        _signs = [.. _pages.SelectMany(page => LeadBytes.SelectMany(lead => page.Where(entry => entry.Value == lead)
            .Select(entry => Encoding.UTF8.GetBytes([entry.Key]))))];
    }

    private static Dictionary<char, byte> Page(string name)
    {
        Encoding encoding = TextEncodings.ByName(name);
        var page = new Dictionary<char, byte>();
        for (int value = 0; value < 256; value++)
        {
            try { page.TryAdd(encoding.GetString([(byte)value])[0], (byte)value); }
            catch (DecoderFallbackException) { /* no character there */ }
        }
        return page;
    }

    /// <summary>Whether one of the texts, one behind the other, might be such; quick, and never wrong when it says no.</summary>
    public bool MayBeIn(ReadOnlySpan<byte> utf8)
    {
        if (Ascii.IsValid(utf8)) return false;
        foreach (byte[] sign in _signs)
            if (utf8.IndexOf(sign) >= 0) return true;
        return false;
    }

    /// <summary>The text decoded once less.</summary>
    /// <param name="utf8">A text.</param>
    /// <returns>Null when it was not decoded twice.</returns>
    public string? Again(ReadOnlySpan<byte> utf8)
    {
        if (!MayBeIn(utf8)) return null;
        string text = Encoding.UTF8.GetString(utf8);
        byte[] bytes = new byte[text.Length];
        foreach (Dictionary<char, byte> page in _pages)
        {
            int length = 0;
            while (length < text.Length && page.TryGetValue(text[length], out bytes[length])) length++;
            if (length < text.Length || Ascii.IsValid(bytes) || !Utf8.IsValid(bytes)
                || bytes.Any(value => value >= 0xC0 && !LeadBytes.Contains(value))) continue;
            return Encoding.UTF8.GetString(bytes);
        }
        return null;
    }
}
