// HtmlPage.cs: what all our pages have in common: one self-contained document that prints on paper: no script, no outside resource.
using System.Globalization;
using System.Text;
using System.Xml;
using System.Xml.Linq;

namespace Transferra.Reports;

/// <summary>Parts of pages.</summary>
internal static class HtmlPage
{
    private const string Style = """
        :root { --ink: #1d2733; --soft: #5b6878; --line: #d6dde5; --good: #176639; --bad: #a3231c; --warn: #8a5a00; --wash: #f4f6f8; }
        * { box-sizing: border-box; }
        body { margin: 0; background: #e9edf1; color: var(--ink); font: 15px/1.5 "DejaVu Sans", "Segoe UI", system-ui, sans-serif; }
        main { max-width: 1060px; margin: 0 auto; background: #fff; padding: 36px 48px 48px; }
        h1 { font-size: 25px; margin: 0 0 2px; }
        h2 { font-size: 20px; margin: 38px 0 6px; padding-top: 14px; border-top: 3px solid var(--ink); }
        h3 { font-size: 15px; margin: 22px 0 6px; }
        p { margin: 6px 0; }
        .soft { color: var(--soft); }
        .mono { font: 12.5px "DejaVu Sans Mono", monospace; overflow-wrap: anywhere; }
        table { border-collapse: collapse; width: 100%; margin: 6px 0 10px; font-size: 13.5px; }
        th { text-align: left; font-weight: 600; color: var(--soft); border-bottom: 1.5px solid var(--line); }
        th, td { padding: 4px 10px 4px 0; vertical-align: top; }
        th { vertical-align: bottom; }
        td { border-bottom: 1px solid var(--line); }
        td.n, th.n { text-align: right; font-variant-numeric: tabular-nums; }
        td.n { white-space: nowrap; }
        td.n + td:not(.n), th.n + th:not(.n) { padding-left: 18px; }
        tr.sum td { font-weight: 600; border-top: 1.5px solid var(--ink); }
        .badge { display: inline-block; border-radius: 4px; padding: 1px 9px; font-weight: 600; font-size: 13.5px;
            border: 1px solid currentColor; }
        .good { color: var(--good); }
        .bad { color: var(--bad); }
        .warn { color: var(--warn); }
        .box { background: var(--wash); border-left: 4px solid var(--line); padding: 10px 16px; margin: 10px 0; }
        .box.bad { border-color: var(--bad); color: inherit; }
        .box.good { border-color: var(--good); color: inherit; }
        .sign { display: grid; grid-template-columns: 2fr 1fr; gap: 46px 40px; margin-top: 60px; }
        .sign div { border-top: 1px solid var(--ink); padding-top: 4px; color: var(--soft); font-size: 13px; }
        .sentence { font-size: 21px; line-height: 1.35; margin: 16px 0; }
        .figures { display: grid; grid-template-columns: repeat(3, 1fr); gap: 18px; margin: 14px 0; }
        .figures div { border: 1px solid var(--line); border-top: 4px solid var(--ink); padding: 8px 14px; }
        .figures b { display: block; font-size: 26px; font-variant-numeric: tabular-nums; }
        .figures span { color: var(--soft); font-size: 13px; }
        svg text { font-family: "DejaVu Sans", "Segoe UI", system-ui, sans-serif; }
        dl { display: grid; grid-template-columns: max-content 1fr; gap: 2px 20px; margin: 8px 0; }
        dt { color: var(--soft); }
        dd { margin: 0; overflow-wrap: anywhere; }
        @page { size: A4; margin: 14mm; }
        @media print { .front { break-after: page; } svg { break-inside: avoid; } body { font-size: 12.5px; } table { font-size: 12px; }
            .sentence { font-size: 17px; margin: 10px 0; } .front .sign { gap: 34px 40px; margin-top: 34px; } }
        @media print { body { background: #fff; } main { padding: 0; max-width: none; } h2, tr, .box, .sign { break-inside: avoid; } }
        """;

    /// <summary>A whole page.</summary>
    public static string Page(string title, IEnumerable<object> content)
    {
        var head = new XElement("head",
            new XElement("meta", new XAttribute("charset", "utf-8")),
            new XElement("meta", new XAttribute("name", "viewport"), new XAttribute("content", "width=device-width, initial-scale=1")),
            new XElement("title", title),
            new XElement("style", Style));
        var page = new XElement("html", new XAttribute("lang", "en"), head, new XElement("body", new XElement("main", content)));
        foreach (XText text in page.DescendantNodes().OfType<XText>()) text.Value = Showable(text.Value);
        foreach (XAttribute attribute in page.DescendantsAndSelf().Attributes()) attribute.Value = Showable(attribute.Value);
        return "<!DOCTYPE html>\n" + page.ToString(SaveOptions.DisableFormatting);
    }

    // A value may hold what no page can: control characters, halves of a character. They are shown as a sign that something stands there.
    private static string Showable(string text)
    {
        const char replacement = '\uFFFD';
        int first = 0;
        while (first < text.Length && XmlConvert.IsXmlChar(text[first])) first++;
        if (first == text.Length) return text;
        var shown = new StringBuilder(text, 0, first, text.Length);
        for (int i = first; i < text.Length; i++)
            if (i + 1 < text.Length && XmlConvert.IsXmlSurrogatePair(text[i + 1], text[i])) shown.Append(text, i++, 2);
            else shown.Append(XmlConvert.IsXmlChar(text[i]) ? text[i] : replacement);
        return shown.ToString();
    }

    internal static XElement Table(string[] heads, IEnumerable<object[]> rows, bool sumRow = false)
    {
        object[][] all = [.. rows];
        XAttribute? Side(int column) => heads[column].StartsWith('>') ? Class("n") : null;
        return new XElement("table",
            new XElement("thead", new XElement("tr", heads.Select((head, i) => new XElement("th", Side(i), head.TrimStart('>'))))),
            new XElement("tbody", all.Select((row, r) => new XElement("tr", sumRow && r == all.Length - 1 ? Class("sum") : null,
                row.Select((cell, i) => new XElement("td", Side(i), cell))))));
    }

    internal static XElement Badge(string word) => new("span", Class("badge " + word switch
    {
        "through" or "proved" => "good",
        "stopped" or "fault" or "not proved" => "bad",
        "note" => "soft",
        _ => "warn",
    }), word);

    internal static XElement Proof(bool isProved) => Badge(isProved ? "proved" : "not proved");

    internal static XElement Mono(string text) => new("span", Class("mono"), text);

    internal static XAttribute Class(string name) => new("class", name);

    internal static XElement[] Pair(string name, object value) => [new("dt", name), new("dd", value)];

    internal static string Number(long? value) => value?.ToString("#,0", CultureInfo.InvariantCulture) ?? "";

    internal static string Time(DateTimeOffset at) => at.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture) + " UTC";
}
