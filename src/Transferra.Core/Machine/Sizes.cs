// Sizes.cs: sizes as people read them.
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>Sizes in words.</summary>
public static class Sizes
{
    /// <summary>A number of bytes in the largest unit that leaves at least one.</summary>
    public static string Of(long bytes)
    {
        string[] units = ["bytes", "KB", "MB", "GB", "TB"];
        double value = bytes;
        int unit = 0;
        while (value >= 1024 && unit < units.Length - 1)
        {
            value /= 1024;
            unit++;
        }
        return string.Create(CultureInfo.InvariantCulture,
            $"{(unit == 0 ? value.ToString("0", CultureInfo.InvariantCulture) : value.ToString("0.0", CultureInfo.InvariantCulture))} "
                + $"{units[unit]}");
    }
}
