// TextEncodings.cs: the code pages that old text may be in, and their decoding to UTF-8.
// Why a table of our own names: kits should read the same whatever platform; the pages themselves are the platform's.
using System.Text;

namespace Transferra.Core.Records;

/// <summary>Code pages by name.</summary>
public static class TextEncodings
{
    private static readonly Dictionary<string, int> Pages = new(StringComparer.OrdinalIgnoreCase)
    {
        ["ibm437"] = 437,
        ["ibm850"] = 850,
        ["ibm852"] = 852,
        ["ibm866"] = 866,
        ["windows-1250"] = 1250,
        ["windows-1251"] = 1251,
        ["windows-1252"] = 1252,
        ["windows-1253"] = 1253,
        ["windows-1254"] = 1254,
        ["windows-1257"] = 1257,
        ["iso-8859-1"] = 28591,
        ["iso-8859-15"] = 28605,
    };

    static TextEncodings() => Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);

    /// <summary>The names that kits may use; UTF-8 needs none.</summary>
    public static IReadOnlyList<string> Names => [.. Pages.Keys];

    /// <summary>UTF-8 that refuses what is none.</summary>
    public static readonly Encoding StrictUtf8 = new UTF8Encoding(encoderShouldEmitUTF8Identifier: false, throwOnInvalidBytes: true);

    /// <summary>Whether a kit may use this name.</summary>
    public static bool IsKnown(string name) => Pages.ContainsKey(name);

    /// <summary>The code page's encoding.</summary>
    /// <exception cref="ArgumentException">The name is not known.</exception>
    public static Encoding ByName(string name) =>
        Pages.TryGetValue(name, out int page) ? Encoding.GetEncoding(page, EncoderFallback.ExceptionFallback,
            DecoderFallback.ExceptionFallback)
            : throw new ArgumentException($"no code page {name}", nameof(name));
}

/// <summary>Decodes one-byte code pages to UTF-8 by table.</summary>
public sealed class TextDecoder
{
    private readonly byte[][] _utf8 = new byte[256][];

    /// <summary>A decoder for a code page of <see cref="TextEncodings"/>.</summary>
    public TextDecoder(string name)
    {
        Encoding encoding = TextEncodings.ByName(name);
        for (int value = 0; value < 256; value++)
        {
            try
            {
                string character = encoding.GetString([(byte)value]);
                // The platform fills the gaps of the Windows pages with control or private characters instead of refusing them.
                bool gap = name.StartsWith("windows", StringComparison.OrdinalIgnoreCase)
                    && character[0] is (>= '\u0080' and <= '\u009F') or (>= '\uE000' and <= '\uF8FF');
                _utf8[value] = gap ? [] : Encoding.UTF8.GetBytes(character);
            }
            catch (DecoderFallbackException) { _utf8[value] = []; }
        }
    }

    /// <summary>Appends the decoded text.</summary>
    /// <returns>False, with nothing appended, when a byte has no character in the code page.</returns>
    public bool TryAppend(ReadOnlySpan<byte> text, BytesVector result)
    {
        if (Ascii.IsValid(text))
        {
            result.Append(text);
            return true;
        }
        // In a column of several kinds the byte in front tells that this is a text.
        int length = result.Type.Kind == FieldKind.Any ? 1 : 0;
        Span<byte> room = result.Room(text.Length * 4 + length);
        if (length > 0) room[0] = AnyValue.Text;
        foreach (byte value in text)
        {
            byte[] utf8 = _utf8[value];
            if (utf8.Length == 0) return false;
            utf8.CopyTo(room[length..]);
            length += utf8.Length;
        }
        result.Added(length);
        return true;
    }
}
