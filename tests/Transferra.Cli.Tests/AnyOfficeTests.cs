using System.Globalization;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The office that nobody thought of: made up from a seed, walked through with random commands and faults; see AnyOfficeWalk.cs
/// for what must hold.</summary>
public abstract class AnyOfficeTests
{
    private const int Daily = 14, Soaked = 1000;

    /// <summary>Walks through a third of the offices. Those of a day are always the same; those of a soak run are new, and their seed is
    /// told.</summary>
    /// <param name="third">0, 1 or 2.</param>
    protected static void Walk(int third)
    {
        int first = (Seeds.IsSoak && Environment.GetEnvironmentVariable("TRANSFERRA_SEED") is null ? Random.Shared.Next(1_000_000) * 1000
            : Seeds.Given * 1000) + (third * 100_000);
        int offices = int.TryParse(Environment.GetEnvironmentVariable("TRANSFERRA_OFFICES"), NumberStyles.None,
            CultureInfo.InvariantCulture, out int given) ? given : Seeds.IsSoak ? Soaked : Daily;
        // TRANSFERRA_OFFICE=N: the one office that a failure named, again.
        if (int.TryParse(Environment.GetEnvironmentVariable("TRANSFERRA_OFFICE"), NumberStyles.None, CultureInfo.InvariantCulture,
            out int again)) (first, offices) = (again, 1);
        var broken = new List<string>();
        (int through, int tried, int sets) = (0, 0, 0);
        using var program = new ServedProgram();
        for (int seed = first; seed < first + offices && broken.Count < 10; seed++)
        {
            using var office = new AnyOffice(seed);
            var walk = new AnyOfficeWalk(office, program, new Random(seed + 1));
            try { walk.Go(); }
            catch (BrokenPromiseException error) { broken.Add($"office {seed}: {error.Message}"); }
            // A defect of the walk itself; the others are walked through all the same, and this one can be found again.
            catch (Exception error) when (error is not Xunit.Sdk.XunitException)
            {
                broken.Add($"office {seed}: {error}\n{walk.History()}");
            }
            (through, tried, sets) = (through + walk.Upgrades.Through, tried + walk.Upgrades.Tried, sets + walk.SetsHeldAgainst);
        }
        string told = string.Create(CultureInfo.InvariantCulture,
            $"offices from seed {first}: {offices}, upgrades without a fault {tried}, of which {through} went through; "
                + $"{sets} sets tell of their stores");
        Console.WriteLine(told);
        // Shown by test.sh, which keeps quiet about tests that pass.
        if (Environment.GetEnvironmentVariable("TRANSFERRA_TEST_RESULTS") is { } results)
            File.WriteAllText(Path.Combine(results, FormattableString.Invariant($"offices-{third}.log")), told + "\n");
        Assert.True(broken.Count == 0, string.Join("\n\n", broken));
        // Where hardly anything goes through, the promises above were not tried.
        Assert.True(through * 2 > tried, $"of {tried} upgrades only {through} went through");
        Assert.True(sets > 0 || offices < Daily, "no set was held against its store");
    }
}

public sealed class FirstOfficesTests : AnyOfficeTests
{
    [Fact]
    public void No_office_loses_an_original_or_is_told_what_is_not_so() => Walk(0);
}

public sealed class SecondOfficesTests : AnyOfficeTests
{
    [Fact]
    public void No_office_loses_an_original_or_is_told_what_is_not_so() => Walk(1);
}

public sealed class ThirdOfficesTests : AnyOfficeTests
{
    [Fact]
    public void No_office_loses_an_original_or_is_told_what_is_not_so() => Walk(2);
}
