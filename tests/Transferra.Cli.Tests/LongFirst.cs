// LongFirst.cs: the classes whose tests take longest begin first, so that none of them is left to run alone when all others are through.
using Transferra.Cli.Tests;
using Xunit.Sdk;
using Xunit.v3;

[assembly: TestCollectionOrderer(typeof(LongFirst))]

namespace Transferra.Cli.Tests;

/// <summary>Orders the classes of tests.</summary>
public sealed class LongFirst : ITestCollectionOrderer
{
    /// <summary>Those that take longest, the longest first; test.sh lists the slowest tests.</summary>
    public static readonly IReadOnlyList<Type> Longest = [typeof(CarriedWholeTests), typeof(SecondOfficesTests), typeof(ScriptsTests),
        typeof(OwnPlaceTests), typeof(RehearseTests), typeof(AnyScriptTests), typeof(CheckCommandTests), typeof(ResumedConversionTests),
        typeof(FirebirdUpgradeTests), typeof(VendorMadeTests), typeof(HardHopTests), typeof(DemoTests), typeof(ScriptChainTests),
        typeof(OriginalsTests), typeof(AnswersTests), typeof(NewerReleaseTests), typeof(MariadbUpgradeTests), typeof(MovedPartsTests),
        typeof(KilledWhileClosingTests)];

    /// <inheritdoc/>
    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections)
        where TTestCollection : ITestCollection =>
        [.. testCollections.OrderBy(collection => PlaceOf(collection.TestCollectionDisplayName))];

    // Each class is a collection, "Test collection for NAMESPACE.CLASS (id: ...)".
    private static int PlaceOf(string collection)
    {
        for (int place = 0; place < Longest.Count; place++)
            if (collection.Split(' ').Contains(Longest[place].FullName)) return place;
        return Longest.Count;
    }
}
