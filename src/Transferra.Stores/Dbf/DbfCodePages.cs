// DbfCodePages.cs: the code page of a table's text: the language-driver byte of its header, or a .cpg file beside it.
// Source: the published tables of language drivers; only those whose code page is a plain one are listed.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Dbf;

internal static class DbfCodePages
{
    /// <summary>Means UTF-8, which needs no decoding; in a .cpg file only.</summary>
    public const string Utf8 = "utf-8";

    private static readonly Dictionary<byte, string> Drivers = new()
    {
        [0x01] = "ibm437",
        [0x02] = "ibm850",
        [0x03] = "windows-1252",
        [0x08] = "ibm850",
        [0x09] = "ibm437",
        [0x0A] = "ibm850",
        [0x0B] = "ibm437",
        [0x0D] = "ibm437",
        [0x0E] = "ibm850",
        [0x0F] = "ibm437",
        [0x10] = "ibm850",
        [0x11] = "ibm437",
        [0x12] = "ibm850",
        [0x14] = "ibm850",
        [0x15] = "ibm437",
        [0x16] = "ibm850",
        [0x18] = "ibm437",
        [0x19] = "ibm437",
        [0x1A] = "ibm850",
        [0x1B] = "ibm437",
        [0x1D] = "ibm850",
        [0x1F] = "ibm852",
        [0x22] = "ibm852",
        [0x23] = "ibm852",
        [0x25] = "ibm850",
        [0x26] = "ibm866",
        [0x37] = "ibm850",
        [0x40] = "ibm852",
        [0x57] = "windows-1252",
        [0x58] = "windows-1252",
        [0x59] = "windows-1252",
        [0x64] = "ibm852",
        [0x65] = "ibm866",
        [0x87] = "ibm852",
        [0xC8] = "windows-1250",
        [0xC9] = "windows-1251",
        [0xCA] = "windows-1254",
        [0xCB] = "windows-1253",
        [0xCC] = "windows-1257",
    };

    private static readonly Dictionary<string, string> Names = new(StringComparer.OrdinalIgnoreCase)
    {
        ["UTF-8"] = Utf8,
        ["UTF8"] = Utf8,
        ["65001"] = Utf8,
        ["437"] = "ibm437",
        ["850"] = "ibm850",
        ["852"] = "ibm852",
        ["866"] = "ibm866",
        ["1250"] = "windows-1250",
        ["1251"] = "windows-1251",
        ["1252"] = "windows-1252",
        ["1253"] = "windows-1253",
        ["1254"] = "windows-1254",
        ["1257"] = "windows-1257",
        ["88591"] = "iso-8859-1",
        ["885915"] = "iso-8859-15",
    };

    private static readonly Dictionary<string, byte> DriversByName = new()
    {
        ["ibm437"] = 0x01,
        ["ibm850"] = 0x02,
        ["windows-1252"] = 0x03,
        ["ibm852"] = 0x64,
        ["ibm866"] = 0x65,
        ["windows-1250"] = 0xC8,
        ["windows-1251"] = 0xC9,
        ["windows-1254"] = 0xCA,
        ["windows-1253"] = 0xCB,
        ["windows-1257"] = 0xCC,
    };

    /// <summary>The byte for a code page.</summary>
    /// <exception cref="TransferraException">The headers have none for it.</exception>
    public static byte DriverOf(string codePage) => DriversByName.TryGetValue(codePage, out byte driver) ? driver
        : throw new TransferraException($"a .dbf table cannot say that its text is in {codePage}",
            $"Use one of {string.Join(", ", DriversByName.Keys)}, or leave text-encoding out for UTF-8.");

    /// <summary>The code page that a header's byte 29 stands for, as <see cref="TextEncodings"/> knows it; null when it tells
    /// nothing.</summary>
    public static string? Of(byte driver) => Drivers.GetValueOrDefault(driver);

    /// <summary>The code page that a .cpg file beside a table names, as <see cref="TextEncodings"/> knows it, or <see cref="Utf8"/>; null
    /// when there is none.</summary>
    /// <param name="path">The .dbf file.</param>
    /// <exception cref="TransferraException">A .cpg file names a code page that is not known here.</exception>
    public static string? Beside(string path)
    {
        string? page = DbfFolder.Beside(path, ".cpg");
        if (page is null) return null;
        string name = PlainFile.ReadText(page).Trim();
        string bare = name.Replace("cp", "", StringComparison.OrdinalIgnoreCase).Replace("ANSI", "", StringComparison.OrdinalIgnoreCase)
            .Replace("OEM", "", StringComparison.OrdinalIgnoreCase).Trim();
        return Names.GetValueOrDefault(name) ?? Names.GetValueOrDefault(bare) ?? (TextEncodings.IsKnown(name) ? name
            : throw new TransferraException($"{page} names the code page {ValueText.Quote(name)}, which is not known here",
                $"Write one of these into it: utf-8, {string.Join(", ", DriversByName.Keys)}. Or take the file away and say the code "
                    + "page in the kit's version file (text-encoding)."));
    }
}
