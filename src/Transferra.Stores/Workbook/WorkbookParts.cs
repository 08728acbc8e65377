// WorkbookParts.cs: what all sheets of a workbook share: their names, the shared texts, which styles show a date, and from when days are
// counted.
using System.Globalization;
using System.IO.Compression;
using System.Text;
using System.Xml;

namespace Transferra.Stores.Workbook;

/// <summary>The shared parts of a workbook.</summary>
/// <param name="Sheets">Name and part of each sheet, in order.</param>
/// <param name="Texts">The shared texts.</param>
/// <param name="DateStyles">By a cell's style: whether its number is shown as a date or time.</param>
/// <param name="From1904">Whether days are counted from 1904-01-01, as old workbooks of one maker do.</param>
internal sealed record WorkbookParts(IReadOnlyList<(string Name, string Part)> Sheets, IReadOnlyList<string> Texts,
    IReadOnlyList<bool> DateStyles, bool From1904)
{
    internal static readonly XmlReaderSettings Settings =
        new()
        {
            DtdProcessing = DtdProcessing.Prohibit,
            XmlResolver = null,
            IgnoreComments = true,
            IgnoreProcessingInstructions = true,
            IgnoreWhitespace = false
        };

    private const string Relationships = "http://schemas.openxmlformats.org/officeDocument/2006/relationships", StrictRelationships =
        "http://purl.oclc.org/ooxml/officeDocument/relationships";

    public static WorkbookParts Read(ZipArchive package)
    {
        const string workbook = "xl/workbook.xml";
        Dictionary<string, string> targets = [];
        foreach (XmlReader node in Elements(package, "xl/_rels/workbook.xml.rels"))
            if (node.LocalName == "Relationship") targets[node.GetAttribute("Id") ?? ""] = Resolve(node.GetAttribute("Target") ?? "");
        var sheets = new List<(string, string)>();
        bool from1904 = false;
        foreach (XmlReader node in Elements(package, workbook))
        {
            if (node.LocalName == "workbookPr") from1904 = node.GetAttribute("date1904") is "1" or "true";
            if (node.LocalName != "sheet") continue;
            string id = node.GetAttribute("id", Relationships) ?? node.GetAttribute("id", StrictRelationships) ?? "";
            if (targets.TryGetValue(id, out string? part) && package.GetEntry(part) is not null
                && part.Contains("worksheets/", StringComparison.Ordinal))
                sheets.Add((node.GetAttribute("name") ?? "", part));
        }
        if (sheets.Count == 0) throw new InvalidDataException("there is no sheet in it");
        return new WorkbookParts(sheets, ReadTexts(package), ReadDateStyles(package), from1904);
    }

    private static string Resolve(string target) => target.StartsWith('/') ? target[1..] : "xl/" + target;

    private static IEnumerable<XmlReader> Elements(ZipArchive package, string part)
    {
        if (package.GetEntry(part) is not { } entry) throw new InvalidDataException($"the part {part} is missing");
        using Stream stream = entry.Open();
        using var xml = XmlReader.Create(stream, Settings);
        while (xml.Read())
            if (xml.NodeType == XmlNodeType.Element) yield return xml;
    }

    private static List<string> ReadTexts(ZipArchive package)
    {
        var texts = new List<string>();
        if (package.GetEntry("xl/sharedStrings.xml") is not { } entry) return texts;
        using Stream stream = entry.Open();
        using var xml = XmlReader.Create(stream, Settings);
        while (xml.Read())
            if (xml.NodeType == XmlNodeType.Element && xml.LocalName == "si") texts.Add(TextOf(xml));
        return texts;
    }

    /// <summary>The text of an element that holds runs of text; what is said of its pronunciation does not belong to it.</summary>
    public static string TextOf(XmlReader xml)
    {
        if (xml.IsEmptyElement) return "";
        var text = new StringBuilder();
        int depth = xml.Depth;
        while (xml.Read() && !(xml.NodeType == XmlNodeType.EndElement && xml.Depth == depth))
        {
            if (xml.NodeType != XmlNodeType.Element) continue;
            if (xml.LocalName == "rPh") xml.Skip();
            else if (xml.LocalName == "t" && !xml.IsEmptyElement)
            {
                int inner = xml.Depth;
                while (xml.Read() && !(xml.NodeType == XmlNodeType.EndElement && xml.Depth == inner))
                    if (xml.NodeType is XmlNodeType.Text or XmlNodeType.CDATA or XmlNodeType.SignificantWhitespace
                        or XmlNodeType.Whitespace) text.Append(xml.Value);
            }
        }
        return Unescaped(text.ToString());
    }

    // Characters that XML cannot hold are written _xHHHH_ (part 1, 22.4.2.4).
    private static string Unescaped(string text)
    {
        int at = text.IndexOf("_x", StringComparison.Ordinal);
        if (at < 0) return text;
        var plain = new StringBuilder(text.Length);
        int next = 0;
        for (; at >= 0; at = text.IndexOf("_x", at + 1, StringComparison.Ordinal))
        {
            if (at < next || at + 7 > text.Length || text[at + 6] != '_'
                || !ushort.TryParse(text.AsSpan(at + 2, 4), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out ushort code))
                continue;
            plain.Append(text, next, at - next).Append((char)code);
            next = at + 7;
        }
        return plain.Append(text, next, text.Length - next).ToString();
    }

    private static List<bool> ReadDateStyles(ZipArchive package)
    {
        var styles = new List<bool>();
        if (package.GetEntry("xl/styles.xml") is null) return styles;
        var formats = new Dictionary<int, bool>();
        bool inCells = false;
        foreach (XmlReader node in Elements(package, "xl/styles.xml"))
        {
            switch (node.LocalName)
            {
                case "numFmt" when int.TryParse(node.GetAttribute("numFmtId"), NumberStyles.None, CultureInfo.InvariantCulture, out int id):
                    formats[id] =
                    ShowsDate(node.GetAttribute("formatCode") ?? ""); break;
                case "cellStyleXfs": inCells = false; break;
                case "cellXfs": inCells = true; break;
                case "cellStyles" or "dxfs": inCells = false; break;
                case "xf" when inCells:
                    _ = int.TryParse(node.GetAttribute("numFmtId"), NumberStyles.None, CultureInfo.InvariantCulture, out int format);
                    // 14 to 22, 27 to 36, 45 to 47 and 50 to 58 are the built-in formats of dates and times.
                    styles.Add(formats.TryGetValue(format, out bool isDate) ? isDate
                        : format is (>= 14 and <= 22) or (>= 27 and <= 36) or (>= 45 and <= 47) or (>= 50 and <= 58));
                    break;
            }
        }
        return styles;
    }

    // A format shows a date when a letter of dates stands in it outside of quotes, brackets and escapes.
    private static bool ShowsDate(string format)
    {
        for (int i = 0; i < format.Length; i++)
        {
            switch (format[i])
            {
                case '"': i = End(format, i, '"'); break;
                case '[':
                    int close = End(format, i, ']');
                    // [h]: hours counted on
                    if (close - i > 1 && char.ToLowerInvariant(format[i + 1]) is 'h' or 'm' or 's' && close - i <= 3) return true;
                    i = close;
                    break;
                case '\\' or '_' or '*': i++; break;
                case 'y' or 'Y' or 'd' or 'D' or 'h' or 'H' or 's' or 'S' or 'm' or 'M': return true;
            }
        }
        return false;

        static int End(string format, int from, char mark) => format.IndexOf(mark, from + 1) is >= 0 and int at ? at : format.Length;
    }
}
