// Svg.cs: parts of drawings in our pages: inline SVG, readable in black and white on paper.
// Form: Scalable Vector Graphics (SVG) 1.1.
using System.Xml.Linq;

namespace Transferra.Reports;

/// <summary>Parts of drawings.</summary>
internal static class Svg
{
    /// <summary>Dark enough for paper; what is drawn lighter is outlined as well.</summary>
    public const string Ink = "#1d2733", Soft = "#5b6878", Wash = "#d6dde5";

    private static readonly XNamespace Namespace = "http://www.w3.org/2000/svg";

    /// <summary>A drawing.</summary>
    /// <param name="title">What it shows, for those who cannot see it.</param>
    /// <param name="width">Its width in pixels; it shrinks where there is less room.</param>
    /// <param name="height">Its height.</param>
    /// <param name="parts">What is drawn.</param>
    public static XElement Drawing(string title, int width, int height, params object?[] parts) => new(Namespace + "svg",
        new XAttribute("viewBox", FormattableString.Invariant($"0 0 {width} {height}")), new XAttribute("width", width),
        new XAttribute("style", "max-width: 100%; height: auto; margin: 8px 0"), new XAttribute("role", "img"),
        new XElement(Namespace + "title", title), parts);

    /// <summary>A rectangle.</summary>
    public static XElement Box(double x, double y, double width, double height, string fill, int round = 0) => new(Namespace + "rect",
        At("x", x), At("y", y), At("width", width), At("height", height), new XAttribute("rx", round), new XAttribute("fill", fill),
        new XAttribute("stroke", Ink), new XAttribute("stroke-width", "1"));

    /// <summary>A line; with a tip where it leads somewhere.</summary>
    public static XElement Line(double x1, double y1, double x2, double y2, string stroke = Soft, bool hasTip = false) => new(Namespace
        + "path", new XAttribute("d", FormattableString.Invariant($"M{x1:0.#} {y1:0.#}L{x2:0.#} {y2:0.#}")
            + (hasTip ? FormattableString.Invariant($"M{x2 - 7:0.#} {y2 - 4:0.#}L{x2:0.#} {y2:0.#}L{x2 - 7:0.#} {y2 + 4:0.#}") : "")),
        new XAttribute("fill", "none"), new XAttribute("stroke", stroke), new XAttribute("stroke-width", hasTip ? "1.5" : "1"));

    /// <summary>A line that goes round above.</summary>
    public static XElement Arc(double x1, double y1, double x2, double y2, double above) => new(Namespace + "path", new XAttribute("d",
        FormattableString.Invariant($"M{x1:0.#} {y1:0.#}Q{(x1 + x2) / 2:0.#} {above:0.#} {x2:0.#} {y2:0.#}")
            + FormattableString.Invariant($"M{x2 - 6:0.#} {y2 - 7:0.#}L{x2:0.#} {y2:0.#}L{x2 + 3:0.#} {y2 - 8:0.#}")),
        new XAttribute("fill", "none"), new XAttribute("stroke", Ink), new XAttribute("stroke-width", "1.5"));

    /// <summary>Words.</summary>
    /// <param name="x">Where they begin; their middle or end, by <paramref name="anchor"/>.</param>
    /// <param name="y">Their base line.</param>
    /// <param name="words">They.</param>
    /// <param name="size">Height of the letters.</param>
    /// <param name="fill">Their colour.</param>
    /// <param name="anchor">start, middle or end.</param>
    public static XElement Text(double x, double y, string words, int size = 12, string fill = Ink, string anchor = "start") => new(
        Namespace + "text", At("x", x), At("y", y), new XAttribute("font-size", size), new XAttribute("fill", fill),
        new XAttribute("text-anchor", anchor), words);

    /// <summary>Words cut to a number of characters.</summary>
    public static string Short(string words, int most) => words.Length <= most ? words : words[..(most - 1)] + "\u2026";

    private static XAttribute At(string name, double value) => new(name, FormattableString.Invariant($"{value:0.#}"));
}
