// Durations.cs: measured times as people read them. What is only expected is put in coarser words (Gates/ClosedTime.cs).
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>Measured times in words.</summary>
public static class Durations
{
    /// <summary>A measured time: "0.4 s", "12 min 5 s", "3 h 2 min".</summary>
    /// <param name="seconds">Seconds, not negative.</param>
    public static string Of(double seconds)
    {
        // Rounded first, so that no time is said to be "1 min 60 s".
        if (seconds < 59.95) return seconds.ToString("0.0 s", CultureInfo.InvariantCulture);
        TimeSpan whole = TimeSpan.FromSeconds(Math.Round(seconds));
        if (whole.TotalHours < 1) return string.Create(CultureInfo.InvariantCulture, $"{whole.Minutes} min {whole.Seconds} s");
        whole = TimeSpan.FromMinutes(Math.Round(seconds / 60));
        return string.Create(CultureInfo.InvariantCulture, $"{(int)whole.TotalHours} h {whole.Minutes} min");
    }
}
