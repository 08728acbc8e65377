// RealAmount.cs: exact decimals out of doubles, and back. A double stands for the number that the shortest digits say which name it and no
// other: what was typed in when it came from typing.
// Why two ways: amounts are kept as doubles in many stores, and writing each out as text and reading it again took a tenth of an upgrade.
// Holds: (1) both ways come to the same number, which a property test compares; (2) a double that is not a decimal of the column is a
// fault, never rounded.
using System.Globalization;

namespace Transferra.Core.Records;

/// <summary>Reads exact decimals from doubles.</summary>
public static class RealAmount
{
    // IEEE 754 binary64 tells all decimals of at most 15 digits apart, and holds powers of ten up to 10^22 exactly; the quotient of two
    // numbers that it holds is the double nearest to the true one.
    private const double MostUnits = 1e15;
    private static readonly double[] ExactPowers = [1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
        1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22];

    /// <summary>The number of units, where that can be told without writing the double out.</summary>
    /// <param name="value">Any.</param>
    /// <param name="scale">Digits after the point, 0 to 38.</param>
    /// <param name="units">In units of 10^-scale, at most 15 digits; 0 when it cannot be told so.</param>
    public static bool TryUnits(double value, int scale, out long units)
    {
        units = 0;
        if (scale >= ExactPowers.Length) return false;
        double power = ExactPowers[scale], whole = Math.Round(value * power);
        if (!(Math.Abs(whole) < MostUnits) || whole / power != value) return false; // also of what is no number
        units = (long)whole;
        return true;
    }

    /// <summary>The double nearest to a decimal, which stands for it and no other of as many digits.</summary>
    /// <param name="units">In units of 10^-scale.</param>
    /// <param name="scale">Digits after the point, 0 to 38.</param>
    /// <param name="value">0 when it has more than 15 digits.</param>
    public static bool TryDouble(Int128 units, int scale, out double value)
    {
        value = 0;
        if (scale >= ExactPowers.Length || units >= (long)MostUnits || units <= -(long)MostUnits) return false;
        value = (long)units / ExactPowers[scale];
        return true;
    }

    /// <summary>Reads a double as an exact decimal.</summary>
    /// <param name="value">Any; what is not finite is not a number.</param>
    /// <param name="precision">Most digits allowed in all, 1 to 38.</param>
    /// <param name="scale">Digits after the point that the result has; further ones must be zero.</param>
    /// <param name="units">The value in units of 10^-scale; 0 on failure.</param>
    /// <returns>Null when read; otherwise <see cref="FaultCode.NotANumber"/>, <see cref="FaultCode.OutOfRange"/> or
    /// <see cref="FaultCode.NeedsRounding"/>.</returns>
    public static FaultCode? TryDecimal(double value, int precision, int scale, out Int128 units)
    {
        if (TryUnits(value, scale, out long quick))
        {
            bool fits = DecimalText.Fits(quick, precision);
            units = fits ? quick : 0;
            return fits ? null : FaultCode.OutOfRange;
        }
        Span<byte> shortest = stackalloc byte[32];
        value.TryFormat(shortest, out int length, "R", CultureInfo.InvariantCulture);
        return DecimalText.TryParseScientific(shortest[..length], precision, scale, out units);
    }
}
