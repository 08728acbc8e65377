using System.Globalization;

namespace Transferra.Tests;

/// <summary>Where random data begins: the same every day, another one with TRANSFERRA_SEED=N, which a failure should tell.</summary>
public static class Seeds
{
    public static int Given { get; } = int.TryParse(Environment.GetEnvironmentVariable("TRANSFERRA_SEED"), NumberStyles.Integer,
        CultureInfo.InvariantCulture,
        out int given) ? given : 2026;

    /// <summary>Whether tests that take samples every day should take all there is: ./test.sh --soak</summary>
    public static bool IsSoak { get; } = Environment.GetEnvironmentVariable("TRANSFERRA_SOAK") == "1";
}
