using System.Globalization;
using System.Text;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>Exact decimals out of doubles: the quick way and the one by the shortest digits come to the same.</summary>
public sealed class RealAmountTests(ITestOutputHelper output)
{
    private static (FaultCode?, Int128) ByDigits(double value, int precision, int scale) => (DecimalText.TryParseScientific(
        Encoding.ASCII.GetBytes(value.ToString("R", CultureInfo.InvariantCulture)), precision, scale, out Int128 units), units);

    private static (FaultCode?, Int128) Read(double value, int precision, int scale) =>
        (RealAmount.TryDecimal(value, precision, scale, out Int128 units), units);

    [Theory]
    [InlineData(12.5, 14, 2, null, 1250)]
    [InlineData(-0.1, 14, 2, null, -10)]
    [InlineData(0.0, 14, 2, null, 0)]
    [InlineData(0.00001, 14, 5, null, 1)] // written out as 1E-05
    [InlineData(1e16, 20, 2, null, 1_000_000_000_000_000_000)] // as 1E+16
    [InlineData(9999999999999.99, 15, 2, null, 999_999_999_999_999)]
    [InlineData(99999999999999.98, 16, 2, null, 9_999_999_999_999_998)] // sixteen digits
    [InlineData(0.1 + 0.2, 14, 2, FaultCode.NeedsRounding, 0)] // 0.30000000000000004
    [InlineData(1.005, 14, 2, FaultCode.NeedsRounding, 0)]
    [InlineData(1000.0, 5, 2, FaultCode.OutOfRange, 0)]
    [InlineData(double.NaN, 14, 2, FaultCode.NotANumber, 0)]
    [InlineData(double.PositiveInfinity, 14, 2, FaultCode.NotANumber, 0)]
    [InlineData(double.Epsilon, 38, 38, FaultCode.NeedsRounding, 0)]
    [InlineData(double.MaxValue, 38, 0, FaultCode.OutOfRange, 0)]
    public void Is_read_exactly_or_not_at_all(double value, int precision, int scale, FaultCode? fault, long units) =>
        Assert.Equal((fault, (Int128)units), Read(value, precision, scale));

    [Fact]
    public void Both_ways_come_to_the_same_whatever_the_double()
    {
        output.WriteLine($"seed {Seeds.Given}");
        var random = new Random(Seeds.Given);
        Assert.Equal((null, 0), Read(-0.0, 14, 2));
        int quick = 0;
        for (int time = 0; time < 400_000; time++)
        {
            int scale = random.Next(0, 24), precision = random.Next(Math.Max(1, scale), 39);
            double power = Math.Pow(10, random.Next(0, 18));
            double value = random.Next(6) switch
            {
                0 => BitConverter.Int64BitsToDouble(random.NextInt64()), // any
                1 => random.NextInt64(-1_000_000_000_000_000, 1_000_000_000_000_000) / Math.Pow(10, scale),
                2 => Math.BitIncrement(random.Next(-1_000_000, 1_000_000) / power), // beside a decimal
                3 => random.NextDouble() * power,
                4 => (random.NextInt64(9) - 4 + 1_000_000_000_000_000) / Math.Pow(10, scale), // around the border of fifteen digits
                _ => random.Next(-100_000_000, 100_000_000) / 100.0
            };
            Assert.Equal(ByDigits(value, precision, scale), Read(value, precision, scale));
            if (RealAmount.TryUnits(value, scale, out _)) quick++;
        }
        Assert.InRange(quick, 80_000, 300_000); // both ways are tried often
    }
}
