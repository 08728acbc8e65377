// HopKinds.cs: what a hop file can name as its beginning and as its means. What each of them does is in the folder Means, above kits.
using Transferra.Core.Records;

namespace Transferra.Core.Kits;

/// <summary>What a new store starts as.</summary>
public interface IBeginning
{
    /// <summary>As hop files write it under "beginning".</summary>
    string Name { get; }

    /// <summary>This kind with what a hop file says of it, "beginning: {NAME: {...}}". Mistakes are reported there.</summary>
    internal IBeginning With(DescribedMap details) => this;

    /// <summary>Whether the new store then begins as a copy of the old one.</summary>
    /// <param name="from">The old store.</param>
    /// <param name="to">Where the new one is made.</param>
    bool Copies(StoreAddress from, StoreAddress to) => false;

    /// <summary>Whether the new store begins as the one that the vendor's new program made, which office.yaml then names.</summary>
    bool IsVendorMade => false;
}

/// <summary>Who converts.</summary>
public interface IMeans
{
    /// <summary>As hop files write it under "means".</summary>
    string Name { get; }

    /// <summary>Whether our own maps convert, so that the hop says what becomes of every table. Where others convert, tables and columns of
    /// the same name answer to each other, and the hop says only what differs.</summary>
    bool GoesByMaps => true;

    /// <summary>Whether it works only on the place where the company's store lives.</summary>
    bool NeedsOwnPlace => false;

    /// <summary>Whether it can work there; scripts and maps are told where to.</summary>
    bool MayHaveOwnPlace => NeedsOwnPlace;

    /// <summary>What has to be the case while the old program writes the data out; null where it does not.</summary>
    HopSurroundings? AroundExport => null;

    /// <summary>Services of office.yaml that it turns on.</summary>
    IReadOnlyList<string> Services => [];

    /// <summary>Programs and scripts that it runs, in words; none for maps and for people.</summary>
    IReadOnlyList<string> Runs => [];

    /// <summary>This kind with what a hop file says of it, "means: {NAME: {...}}". Mistakes are reported there.</summary>
    internal IMeans With(DescribedMap details) => this;
}

/// <summary>The kinds there are. The first of each is meant when a hop file names none.</summary>
/// <param name="Beginnings">At least one.</param>
/// <param name="Means">At least one.</param>
public sealed record HopKinds(IReadOnlyList<IBeginning> Beginnings, IReadOnlyList<IMeans> Means)
{
    internal IBeginning? BeginningOf(DescribedMap hop) =>
        Read(hop, "beginning", Beginnings, kind => kind.Name, (kind, details) => kind.With(details));

    internal IMeans? MeansOf(DescribedMap hop) => Read(hop, "means", Means, kind => kind.Name, (kind, details) => kind.With(details));

    private static T? Read<T>(DescribedMap hop, string key, IReadOnlyList<T> kinds, Func<T, string> nameOf, Func<T, DescribedMap, T> with)
        where T : class
    {
        if (!hop.Has(key)) return kinds[0];
        DescribedMap? outer = hop.IsMap(key) ? hop.Map(key, key) : null;
        if (outer is not null && outer.Keys.Count != 1)
        {
            outer.Report($"\"{key}\" names exactly one kind");
            return null;
        }
        PlacedText named = outer is not null ? outer.KeyText(outer.Keys[0]) : hop.Text(key);
        if (kinds.FirstOrDefault(kind => nameOf(kind) == named.Value) is not { } found)
        {
            named.Report(hop.Errors, $"\"{named}\" is not known under \"{key}\"; it can be: {string.Join(", ", kinds.Select(nameOf))}");
            return null;
        }
        if (outer?.Map(outer.Keys[0], $"the {key} {named}") is not { } details) return found;
        T read = with(found, details);
        details.Done();
        return read;
    }
}
