// ByHandMeans.cs: a person converts a copy of the old store, by steps that the vendor says: a conversion at the first login, say. The run
// waits, as long as it takes and through a reboot, and sees from the data whether it was done.
// Holds: (1) the hop is through only when the copy tells the new version; (2) while it waits the copy stays, and nothing else goes on with
// this company.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>A company waits for a person.</summary>
/// <param name="steps">What is to be done, each without its number.</param>
/// <param name="page">File with the steps, to print.</param>
internal sealed class WaitsForHandException(IReadOnlyList<string> steps, string page) : Exception("waiting for a person")
{
    /// <summary>What is to be done.</summary>
    public IReadOnlyList<string> Steps => steps;

    /// <summary>File with the steps.</summary>
    public string Page => page;
}

/// <summary>Converts by hand.</summary>
internal sealed class ByHandMeans : IHopMeans
{
    private IReadOnlyList<string> _steps = [];

    /// <inheritdoc/>
    public string Name => "by-hand";

    /// <inheritdoc/>
    public bool GoesByMaps => false;

    /// <inheritdoc/>
    public bool MayHaveOwnPlace => true;

    /// <inheritdoc/>
    public bool GoesOn => true;

    /// <inheritdoc/>
    IMeans IMeans.With(DescribedMap details)
    {
        IReadOnlyList<PlacedText> steps = details.Texts("steps");
        if (steps.Count == 0) details.Report("\"steps\" says what is to be done, one after the other");
        foreach (PlacedText step in steps) HopPlaceholders.Check(step, HopPlaceholders.Known, details);
        return new ByHandMeans { _steps = [.. steps.Select(step => step.Value)] };
    }

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        Dictionary<string, string> values = HopPlaceholders.Of(work, "");
        string[] steps = [.. _steps.Select(step => HopPlaceholders.Said(step, values))];
        string? missing = work.Missing is { } looks ? looks() : "";
        bool isDone = work.Missing is null ? TellsNew(work) : missing is null;
        // Whoever still has it open may still write to it.
        if (isDone && work.OpenedBy(work.Place) is [var holder, ..]) steps = [$"Close the program that has it open: {holder}"];
        else if (isDone)
            return new ConversionResult([], [], new Dictionary<string, long>()) { Remarks = from.Copy?.NotBrought ?? [], Steps = steps };
        else if (missing is { Length: > 0 }) steps = [.. steps, $"Until now {missing}."];
        work.Keeper.Waits(from);
        string page = Path.Combine(work.OutputFolder, $"by-hand-{work.Part}{work.Hop.From.Name}-{work.Hop.To.Name}.txt");
        File.WriteAllText(page, $"{work.Company}: version {work.Hop.From.Name} to {work.Hop.To.Name}, by hand\n\n"
            + string.Join("\n", steps.Select((step, i) => FormattableString.Invariant($"[ ] {i + 1}. {step}"))) + "\n\nThen: transferra "
            + "upgrade --resume\n");
        throw new WaitsForHandException(steps, page);
    }

    private static bool TellsNew(HopWork work)
    {
        IReadOnlyList<string> told = work.ToldVersions(work.Place);
        return told.Count > 0 && told.All(version => version == work.Hop.To.Name)
            && (!work.Hop.Beginning.IsVendorMade || work.VendorMade is not { } made || HasMore(work, made));
    }

    // A store that the vendor made tells the new version from the beginning; whether anything was taken in, its records tell.
    private static bool HasMore(HopWork work, StoreAddress made)
    {
        using IStore begun = work.Stores.Open(made, work.Hop.To.TextEncoding),
            now = work.Stores.Open(work.Place, work.Hop.To.TextEncoding);
        Dictionary<string, long> counts = begun.ReadShape().ToDictionary(table => table.Name, table => begun.CountRows(table.Name));
        return now.ReadShape().Any(table => !counts.TryGetValue(table.Name, out long count) || now.CountRows(table.Name) != count);
    }
}
