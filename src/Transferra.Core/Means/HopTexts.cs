// HopTexts.cs: texts that several means read from a hop's file in the same way.
using System.Globalization;
using System.Text.RegularExpressions;
using Transferra.Core.Kits;

namespace Transferra.Core.Means;

internal static class HopTexts
{
    /// <summary>Full path of the kit's folder: that of kit.yaml, where a hop stands in it, otherwise the one around the hop's.</summary>
    public static string KitFolder(DescribedMap details) => File.Exists(Path.Combine(details.Folder, "kit.yaml")) ? details.Folder
        : Path.GetFullPath(Path.Combine(details.Folder, ".."));

    /// <summary>A regular expression; null when it is none, which is reported.</summary>
    public static Regex? Like(PlacedText text, DescribedMap map)
    {
        try { return new Regex(text.Value, RegexOptions.CultureInvariant, TimeSpan.FromSeconds(1)); }
        catch (ArgumentException error)
        {
            text.Report(map.Errors, $"this is not a regular expression: {error.Message}");
            return null;
        }
    }

    /// <summary>A number of minutes.</summary>
    public static TimeSpan Minutes(DescribedMap details, string key, TimeSpan usual)
    {
        if (details.Optional(key) is not { } text) return usual;
        if (double.TryParse(text.Value, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out double minutes) && minutes > 0)
            return TimeSpan.FromMinutes(minutes);
        text.Report(details.Errors, $"\"{text}\" is not a number of minutes");
        return usual;
    }
}
