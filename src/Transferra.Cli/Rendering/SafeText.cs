// SafeText.cs: what comes from data is shown so that it cannot act: a name of a file or a value may hold an escape sequence that moves
// the cursor or asks the terminal to answer, a line feed that makes up a line of its own, or marks that turn the direction of what follows.
using System.Globalization;
using System.Text;

namespace Transferra.Cli.Rendering;

internal static class SafeText
{
    private const int FirstPicture = 0x2400, DeletePicture = 0x2421; // Unicode block "Control Pictures"

    /// <summary>One line, whatever the text holds: control characters are shown as their pictures, marks of direction as their
    /// numbers.</summary>
    public static string OneLine(string text) => Shown(text, keepsLines: false);

    /// <summary>The same, but line feeds stay, for text that has lines of its own.</summary>
    public static string Lines(string text) => Shown(text, keepsLines: true);

    private static string Shown(string text, bool keepsLines)
    {
        int first = 0;
        while (first < text.Length && !Acts(text[first], keepsLines)) first++;
        if (first == text.Length) return text;
        var shown = new StringBuilder(text, 0, first, text.Length + 16);
        foreach (char character in text.AsSpan(first))
            if (!Acts(character, keepsLines)) shown.Append(character);
            else if (character < ' ') shown.Append((char)(FirstPicture + character));
            else if (character == '\x7f') shown.Append((char)DeletePicture);
            else shown.Append(CultureInfo.InvariantCulture, $"<U+{(int)character:X4}>");
        return shown.ToString();
    }

    // C0 and C1 controls, line and paragraph separators, marks of direction (Unicode Standard Annex 9), characters that show nothing.
    private static bool Acts(char character, bool keepsLines) => character switch
    {
        '\n' => !keepsLines,
        < ' ' or (>= '\x7f' and <= '\x9f') => true,
        '\u061c' or (>= '\u200b' and <= '\u200f') or (>= '\u2028' and <= '\u202e') or (>= '\u2060' and <= '\u206f') or '\ufeff' => true,
        _ => false,
    };
}
